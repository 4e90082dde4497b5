package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sort"
	"sync/atomic"
	"time"

	"humblemule/internal/core/order"
	"humblemule/internal/core/store"
	"humblemule/job"
)

// What may have become of a take.
const (
	waiting int32 = iota
	claimed       // the committer is dealing to it: its caller waits for the answer
	over          // answered, or its caller has gone
)

// take is a request for jobs. One that finds nothing is parked in the committer
// until there is something for it or its caller has gone.
type take struct {
	ctx    context.Context
	req    *job.LeaseRequest
	worker workerRef
	call   callID
	park   bool
	// replays says that the worker takes no more jobs: a call that is made again
	// brings what it has brought.
	replays bool
	state   atomic.Int32
	leases  []job.Lease
	err     error
	done    chan struct{}
}

// live tells whether somebody still waits for the take.
func (t *take) live() bool { return t.state.Load() != over && t.ctx.Err() == nil }

func (t *take) claim() bool {
	return t.state.Load() == claimed || t.state.CompareAndSwap(waiting, claimed)
}

// leave ends a take from the caller's side; false where the answer is on its
// way.
func (t *take) leave() bool { return t.state.CompareAndSwap(waiting, over) }

func (t *take) answer(err error) {
	t.err = err
	t.state.Store(over)
	close(t.done)
}

// answerIfOver answers a take that was served, that does not wait, or whose caller
// has gone, and tells whether it is no longer to be kept.
func (t *take) answerIfOver() bool {
	if t.state.Load() == over {
		return true
	}
	if len(t.leases) > 0 || (!t.park || t.ctx.Err() != nil) && t.claim() {
		t.answer(nil)
		return true
	}
	return false
}

// sendEmptyHome answers takes with nothing that were being dealt to by a transaction
// which failed, and that the one after it has left out: their callers count on an answer.
func (e *Engine) sendEmptyHome() {
	e.parked = slices.DeleteFunc(e.parked, func(t *take) bool {
		if t.state.Load() != claimed {
			return t.state.Load() == over
		}
		t.answer(nil)
		return true
	})
}

// dropClaimed answers takes that were being dealt to when the transaction
// failed.
func (e *Engine) dropClaimed(err error) {
	kept := e.parked[:0]
	for _, t := range e.parked {
		if t.state.Load() == claimed {
			t.leases = nil
			t.answer(err)
		} else if t.state.Load() == waiting {
			kept = append(kept, t)
		}
	}
	clear(e.parked[len(kept):])
	e.parked = kept
}

func (e *Engine) dropParked() {
	for _, t := range e.parked {
		if t.claim() {
			t.answer(errStopping)
		}
	}
	e.parked = nil
}

// Lease settles what the request brings, then takes jobs for it, in one
// transaction. Where it finds none and settles nothing, it waits for one as long
// as the request says.
func (e *Engine) Lease(ctx context.Context, req job.LeaseRequest) (job.LeaseAnswer, error) {
	if err := job.Wrong("nothing was leased", checkLeaseRequest(&req)); err != nil {
		return job.LeaseAnswer{}, err
	}
	if req.Lease == 0 {
		req.Lease = job.DefaultLease
	}
	settlements, err := e.prepareSettlements(req.Settle)
	if err != nil {
		return job.LeaseAnswer{}, err
	}
	call := callOf(ctx)
	who, err := e.registry.use(job.Worker{ID: req.Worker, Queues: req.Queues, Tasks: req.Tasks, Weights: req.Weights, Settings: req.Settings}, call.Principal, e.now())
	if err != nil {
		return job.LeaseAnswer{}, err
	}
	wait := min(req.Wait, job.LongestPoll)
	t := &take{ctx: ctx, req: &req, call: identify(call), park: wait > 0 && len(req.Settle) == 0 && req.Job == 0, done: make(chan struct{})}
	var results []job.SettleResult
	most, takes := req.Limit+req.Ahead, false
	defer e.renewals.arrived(tokensOf(req.Settle))()
	do := e.doRows
	if len(settlements) > 0 {
		do = e.doFirst
	}
	err = do(ctx, rowsOf(settlements)+most, func(tx *txn) error {
		t.leases = nil
		same, err := tx.replayed(t.call)
		if err != nil {
			return err
		}
		mayTake, err := tx.mayTake(req.Worker)
		if err != nil {
			return err
		}
		t.replays = same != nil && !mayTake
		takes = most > 0 && (t.replays || mayTake)
		if takes && same == nil {
			if err := tx.canTake(&req); err != nil {
				return err
			}
		}
		if results, err = tx.settleAll(settlements); err != nil {
			return err
		}
		if t.worker, err = tx.knowWorker(who); err != nil || !takes {
			return err
		}
		t.park = t.park && !t.replays
		tx.takes = append(tx.takes, t)
		return nil
	})
	if err != nil {
		return job.LeaseAnswer{}, err
	}
	answer := job.LeaseAnswer{Leases: []job.Lease{}, Results: results, Wanted: job.WantRun, Settings: e.view.settings.Load()}
	if !takes && wait > 0 && len(req.Settle) == 0 {
		e.registry.rest(ctx, req.Worker, wait.Go(), e.quit)
	}
	if takes && e.await(t, wait.Go()) {
		if t.err != nil {
			return job.LeaseAnswer{}, t.err
		}
		answer.Leases = append(answer.Leases, t.leases...)
	}
	told := int64(0)
	if len(answer.Leases) > 0 {
		told = answer.Settings
	}
	e.registry.saw(req.Worker, e.now(), told)
	answer.Wanted, _ = e.registry.wants(req.Worker)
	if len(answer.Leases) == most { // else nothing is left for it
		answer.Waiting = e.view.readyFor(req.Queues, req.Tasks)
	}
	return answer, nil
}

// canTake tells whether a job that is asked for by its id may be leased.
func (tx *txn) canTake(req *job.LeaseRequest) error {
	id := req.Job
	if id == 0 {
		return nil
	}
	r, err := tx.e.store.Row(id)
	switch {
	case err != nil:
		return err
	case r == nil:
		return noJob(id)
	case r.State != job.Ready:
		return job.Fault(job.WrongState, "job %d is %s; only a ready job can be taken by its id", id, r.State)
	case len(req.Tasks) > 0 && !slices.Contains(req.Tasks, tx.taskName(r.Task)):
		return job.Fault(job.WrongState, "job %d asks for %s, which this worker does not do", id, tx.taskName(r.Task))
	case tx.paused(tx.queueOf(r.Queue)):
		return job.Fault(job.WrongState, "job %d is in queue %s, which is paused; resume the queue first", id, tx.queueOf(r.Queue).name)
	}
	if limit := tx.limitOf(tx.queueOf(r.Queue), r.Task); limit != "" {
		return job.Fault(job.WrongState, "job %d cannot be taken now: %s", id, limit)
	}
	return nil
}

// await waits for a take's answer, at most as long as asked, and tells whether
// there is one.
func (e *Engine) await(t *take, wait time.Duration) (answered bool) {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	var timeout <-chan time.Time
	if t.park {
		timeout = timer.C
	}
	select {
	case <-t.done:
		return true
	case <-timeout:
	case <-t.ctx.Done():
	case <-e.stopped:
	}
	if t.leave() {
		return false
	}
	<-t.done
	return true
}

func checkLeaseRequest(req *job.LeaseRequest) (wrong []job.FieldError) {
	add := func(field, format string, args ...any) {
		wrong = append(wrong, job.FieldError{Field: field, Message: fmt.Sprintf(format, args...)})
	}
	if req.Worker == "" || len(req.Worker) > job.MaxWordBytes {
		add("worker", "is the worker's own id, 1 to %d bytes", job.MaxWordBytes)
	}
	if len(req.Queues) == 0 && req.Job == 0 {
		add("queues", "is empty; name the queues to take from, such as common")
	}
	for i, q := range req.Queues {
		wrong = append(wrong, job.CheckName(fmt.Sprintf("queues[%d]", i), q)...)
	}
	for i, t := range req.Tasks {
		wrong = append(wrong, job.CheckName(fmt.Sprintf("tasks[%d]", i), t)...)
	}
	if req.Limit < 0 || req.Limit > job.MaxLeaseItems {
		add("limit", "%d is outside 0 to %d", req.Limit, job.MaxLeaseItems)
	}
	if req.Ahead < 0 || req.Limit+req.Ahead > job.MaxLeaseItems {
		add("ahead", "%d is outside 0 to %d, limit included", req.Ahead, job.MaxLeaseItems)
	}
	if req.Share != "" && req.Share != job.ByList && req.Share != job.ByWeight {
		add("share", "%q is no way to share; it is by_list or by_weight", req.Share)
	}
	if req.Job < 0 {
		add("job", "%d is no id of a job", req.Job)
	}
	for _, name := range slices.Sorted(maps.Keys(req.Weights)) {
		if !slices.Contains(req.Queues, name) {
			add("weights."+name, "names a queue that is not in queues")
		}
		if w := req.Weights[name]; w < 1 || w > job.MaxWeight {
			add("weights."+name, "%d is outside 1 to %d", w, job.MaxWeight)
		}
	}
	if req.Lease != 0 && (req.Lease < job.ShortestLease || req.Lease > job.LongestLease) {
		add("lease", "%s is outside 1s to 1h", req.Lease)
	}
	return wrong
}

// heads are the first ready jobs of a queue and task that a deal has read and
// not yet dealt.
type heads struct {
	rows []*store.Row
	// turns are, instead of rows, those of owners, the first one first. Some may follow
	// that were not read, none of which goes before last.
	turns []*store.Head
	last  *store.Turn
	left  int64 // ready jobs that were not read yet
}

// deal serves the parked takes: one job at a time round the takes, in order of
// their arrival.
func (tx *txn) deal() error {
	var takes []*take
	wanted := 0
	for _, t := range append(tx.e.parked[:len(tx.e.parked):len(tx.e.parked)], tx.takes...) {
		if t.live() {
			t.leases = nil
			if t.req.Job != 0 {
				if err := tx.dealNamed(t); err != nil {
					return err
				}
				continue
			}
			takes = append(takes, t)
			wanted += t.req.Limit + t.req.Ahead
		}
	}
	read := map[groupID]*heads{}
	for len(takes) > 0 {
		open := takes[:0]
		for _, t := range takes {
			more, err := tx.dealOne(t, read, wanted)
			if err != nil {
				return err
			}
			if more {
				open = append(open, t)
				wanted--
			}
		}
		takes = open
	}
	return tx.noteLeases()
}

// dealOne leases one job to a take and tells whether it may have another.
func (tx *txn) dealOne(t *take, read map[groupID]*heads, wanted int) (more bool, err error) {
	if len(t.leases) == 0 {
		replayed, err := tx.replayLeases(t)
		if err != nil || replayed || t.replays {
			return false, err
		}
	}
	h, err := tx.best(t, read, wanted)
	for err == nil && h != nil && tx.isLate(h.first()) {
		if err = tx.skipLate(h.first()); err == nil {
			clear(read) // other jobs may have come into its place
			h, err = tx.best(t, read, wanted)
		}
	}
	if err != nil || h == nil || !t.claim() {
		return false, err
	}
	row, err := tx.next(h)
	if err != nil {
		return false, err
	}
	if err := tx.startFor(t, row); err != nil {
		return false, err
	}
	return len(t.leases) < t.req.Limit+t.req.Ahead, nil
}

// dealNamed leases the job that a take names, if it is still ready. It comes
// before any heads are read, so that none of them is this job.
func (tx *txn) dealNamed(t *take) error {
	replayed, err := tx.replayLeases(t)
	if err != nil || replayed || t.replays {
		return err
	}
	row, err := tx.e.store.Row(t.req.Job)
	if err != nil || row == nil || row.State != job.Ready || !t.claim() {
		return err
	}
	if err := tx.serveTurn(row); err != nil {
		return err
	}
	return tx.startFor(t, row)
}

// startFor leases a row to a take. A row that cannot be leased is set aside, and the
// take gets another.
func (tx *txn) startFor(t *take, row *store.Row) error {
	tx.passes(thingStart, row.ID)
	l, err := tx.leaseTo(t, row)
	if err != nil {
		return err
	}
	tx.doing = thing{}
	t.leases = append(t.leases, l)
	return nil
}

// startable leaves out rows whose start has failed and is set aside.
func (tx *txn) startable(rows []*store.Row) []*store.Row {
	if !tx.hasAside {
		return rows
	}
	return slices.DeleteFunc(rows, func(r *store.Row) bool {
		s := tx.e.aside.get(thing{thingStart, r.ID})
		return s != nil && time.Now().Before(s.until)
	})
}

// best finds the head that goes first of those that a take may have: that of the
// first of its queues that has any or, by weight, of the queue whose turn it is.
func (tx *txn) best(t *take, read map[groupID]*heads, wanted int) (*heads, error) {
	byWeight, ahead := t.req.Share == job.ByWeight, len(t.leases) >= t.req.Limit
	var open []string
	firsts := map[string]*heads{}
	for _, name := range t.req.Queues {
		q := tx.queue(name)
		if q == nil || tx.paused(q) || ahead && limited(tx.rules(q)) || !tx.mayStart(q) {
			continue
		}
		first, err := tx.firstOf(q, t.req.Tasks, read, wanted)
		if err != nil || first != nil && !byWeight {
			return first, err
		}
		if first != nil && firsts[name] == nil {
			open, firsts[name] = append(open, name), first
		}
	}
	if len(open) == 0 {
		return nil, nil
	}
	return firsts[tx.e.turnsOf(t.worker.uid).Next(open, t.weight)], nil
}

func (t *take) weight(queue string) int { return max(t.req.Weights[queue], 1) }

// turnsOf are the turns of a worker's queues. They are only a fair order: where a
// transaction fails after a turn was taken nothing is lost but that turn.
func (e *Engine) turnsOf(uid string) order.Turns {
	const most = 10_000
	if len(e.turns) > most {
		clear(e.turns)
	}
	if e.turns[uid] == nil {
		e.turns[uid] = order.Turns{}
	}
	return e.turns[uid]
}

// firstOf finds the head of a queue that goes first: the highest level, then the
// owner whose turn it is, then the lowest rank.
func (tx *txn) firstOf(q *queue, tasks []string, read map[groupID]*heads, wanted int) (first *heads, err error) {
	tx.eachTask(q, tasks, func(task int64) {
		if err != nil {
			return
		}
		var h *heads
		if h, err = tx.head(q, task, read, wanted); h != nil && (first == nil || goesFirst(h, first)) {
			first = h
		}
	})
	return first, err
}

func goesFirst(a, b *heads) bool {
	x, y := a.first(), b.first()
	if x.Level != y.Level {
		return x.Level > y.Level
	}
	if len(a.turns) > 0 && len(b.turns) > 0 && a.turns[0].Tag != b.turns[0].Tag {
		return a.turns[0].Tag < b.turns[0].Tag
	}
	return cmp.Or(cmp.Compare(x.Rank, y.Rank), cmp.Compare(x.ID, y.ID)) < 0
}

// first is the job that goes first of those read; there is one.
func (h *heads) first() *store.Row {
	if len(h.turns) > 0 {
		return h.turns[0].Rows[0]
	}
	return h.rows[0]
}

// next takes the job that goes first out of the heads.
func (tx *txn) next(h *heads) (*store.Row, error) {
	if len(h.turns) == 0 {
		row := h.rows[0]
		h.rows = h.rows[1:]
		return row, nil
	}
	o := h.turns[0]
	row := o.Rows[0]
	o.Rows = o.Rows[1:]
	o.Active = len(o.Rows) > 0 || o.More
	if err := tx.serve(row, &o.Turn); err != nil {
		return nil, err
	}
	h.reorder()
	return row, nil
}

// reorder puts the owner that was served to its new place, or leaves it out where
// others, that were not read, may go before it.
func (h *heads) reorder() {
	o := h.turns[0]
	h.turns = h.turns[1:]
	if !o.Active || h.last != nil && before(h.last, &o.Turn) {
		return
	}
	at := sort.Search(len(h.turns), func(i int) bool { return before(&o.Turn, &h.turns[i].Turn) })
	h.turns = slices.Insert(h.turns, at, o)
}

// before tells which of two turns of a queue and task comes first.
func before(a, b *store.Turn) bool {
	if a.Level != b.Level {
		return a.Level > b.Level
	}
	if a.Tag != b.Tag {
		return a.Tag < b.Tag
	}
	return a.Owner < b.Owner
}

// eachTask visits the tasks that a request may have of a queue: those it names,
// or every task of the queue.
func (tx *txn) eachTask(q *queue, names []string, visit func(task int64)) {
	if len(names) > 0 {
		for _, name := range names {
			if id := tx.task(name); id != 0 {
				visit(id)
			}
		}
		return
	}
	for id := range q.tasks {
		visit(id)
	}
	for g := range tx.counts {
		if g.queue == q.id && q.tasks[g.task] == nil {
			visit(g.task)
		}
	}
}

// head gives the heads of a queue and task, reading more where all were dealt;
// nil where there is none.
func (tx *txn) head(q *queue, task int64, read map[groupID]*heads, wanted int) (*heads, error) {
	if !tx.taskMayStart(task) {
		return nil, nil
	}
	g := groupID{q.id, task}
	h := read[g]
	if h == nil {
		ready := tx.ready(q, task)
		if ready == 0 {
			return nil, nil
		}
		h = &heads{left: ready}
		read[g] = h
	}
	if len(h.turns) > 0 {
		if err := tx.readOwner(h, g, wanted); err != nil || len(h.turns) > 0 {
			return h, err
		}
	}
	if len(h.rows) > 0 {
		return h, nil
	}
	if h.left <= 0 {
		return nil, nil
	}
	// Rows dealt before are running by now, so that the same statement reads on.
	most, err := int(min(h.left, int64(max(wanted, 1)), mostHeads)), error(nil)
	if tx.rules(q).Turns != "" && tx.walkOf(q) == nil {
		err = tx.readTurns(h, g, most)
	} else {
		h.rows, err = tx.e.store.Heads(q.id, task, most+tx.room(thingStart))
		h.left -= int64(len(h.rows))
		h.rows = tx.startable(h.rows)
	}
	if err != nil {
		return nil, err
	}
	if len(h.rows)+len(h.turns) == 0 {
		h.left = 0
		return nil, nil
	}
	return h, nil
}

// mostHeads is how many jobs of a queue and task are read at once.
const mostHeads = 256

// readTurns reads the owners whose turns come first, each with its first job.
func (tx *txn) readTurns(h *heads, g groupID, most int) (err error) {
	h.turns, err = tx.e.store.NextTurns(g.queue, g.task, most)
	if h.last = nil; err == nil && len(h.turns) == most {
		last := h.turns[most-1].Turn
		h.last = &last
	}
	h.turns = slices.DeleteFunc(h.turns, func(o *store.Head) bool { return len(tx.startable(o.Rows[:1:1])) == 0 })
	return err
}

// readOwner reads more jobs of the owner that comes first, where those read were dealt.
func (tx *txn) readOwner(h *heads, g groupID, wanted int) error {
	o := h.turns[0]
	if len(o.Rows) > 0 {
		return nil
	}
	most := min(wanted, mostHeads)/len(h.turns) + 1
	rows, err := tx.e.store.HeadsOf(&store.Row{Queue: g.queue, Task: g.task, Level: o.Level, Owner: o.Owner}, most+1)
	if err == nil && len(rows) == 0 { // a turn without a job would hold up all others
		o.Active = false
		h.turns = h.turns[:0]
		return tx.e.store.PutTurn(g.queue, g.task, &o.Turn)
	}
	o.More = len(rows) > most
	o.Rows = rows[:min(most, len(rows))]
	return err
}

// leaseTo writes the lease of a row to a take's worker.
func (tx *txn) leaseTo(t *take, r *store.Row) (job.Lease, error) {
	policy, err := tx.policyOf(r.Policy)
	if err != nil {
		return job.Lease{}, err
	}
	if err := tx.e.store.LoadPayload(r); err != nil {
		return job.Lease{}, err
	}
	r.Attempt++
	r.Tries++
	r.LeasedAt = tx.now
	if r.StartedAt == 0 {
		r.StartedAt = tx.now
	}
	tx.started(tx.queueOf(r.Queue), job.Start{Job: r.ID, Task: tx.taskName(r.Task), Priority: r.Priority, Owner: r.Owner, Lane: r.Lane, ReadyAt: r.ReadyAt, StartedAt: tx.now})
	r.Worker, r.Token, r.LeaseMS = t.worker.number, newTokenBits(), t.req.Lease.Go().Milliseconds()
	if err := tx.change(r, job.Running, job.ByLease); err != nil {
		return job.Lease{}, err
	}
	l := &lease{row: r, policy: policy, worker: t.worker.uid, begun: time.Now()}
	l.renew()
	tx.putLease(r.ID, l)
	answer := tx.tellLease(l)
	if answer.Job.Steps, err = tx.knownSteps(r); err == nil {
		answer.Job.Schedule, err = tx.scheduledBy(r)
	}
	if err != nil {
		return answer, err
	}
	r.Payload = nil
	return answer, tx.e.store.Lease(r)
}

// scheduledBy tells which run of which schedule a job is; nil where it is none.
func (tx *txn) scheduledBy(r *store.Row) (*job.ScheduledBy, error) {
	s := tx.schedule(r.Schedule)
	if s == nil {
		return nil, nil
	}
	number, planned, err := tx.e.store.RunOf(r.ID)
	return &job.ScheduledBy{Name: s.row.Name, Run: number, PlannedAt: planned}, err
}

// tellLease is a lease as its worker reads it.
func (tx *txn) tellLease(l *lease) job.Lease {
	r := l.row
	return job.Lease{
		Token: l.token(), ExpiresAt: tx.now.Add(time.Until(l.ends)),
		Job: job.LeasedJob{
			ID: r.ID, Task: tx.taskName(r.Task), Payload: r.Payload, Queue: tx.queueOf(r.Queue).name, Priority: r.Priority,
			Round: r.Round, Attempt: r.Attempt, Tries: r.Tries, MaxAttempts: l.policy.MaxAttempts,
			Owner: r.Owner, Lane: r.Lane, Labels: labelsOf(r), TimeoutMS: l.policy.Timeout.Go().Milliseconds(), EnqueuedAt: r.EnqueuedAt, Traceparent: r.Traceparent,
		},
	}
}

func labelsOf(r *store.Row) (labels map[string]string) {
	if r.Labels != "" {
		json.Unmarshal([]byte(r.Labels), &labels) // written by prepare
	}
	return labels
}

func (tx *txn) taskName(id int64) string {
	if name := tx.e.view.taskName[id]; name != "" {
		return name
	}
	for name, new := range tx.newTasks {
		if new == id {
			return name
		}
	}
	return ""
}

// policyOf finds a policy, in the transaction or in memory.
func (tx *txn) policyOf(id int64) (p job.Policy, err error) {
	for body, new := range tx.policies {
		if new == id {
			err = json.Unmarshal([]byte(body), &p)
			return p, err
		}
	}
	return tx.e.view.policy(tx.e.store, id)
}

// noteLeases keeps a receipt for every take that was served and carries an
// Idempotency-Key.
func (tx *txn) noteLeases() error {
	for _, t := range append(tx.e.parked[:len(tx.e.parked):len(tx.e.parked)], tx.takes...) {
		if t.call.none() || len(t.leases) == 0 || t.state.Load() == over {
			continue
		}
		ids := make([]int64, 0, 2*len(t.leases))
		for _, l := range t.leases {
			ids = append(ids, l.Job.ID, int64(l.Job.Attempt))
		}
		tx.note(t.call, ids...)
	}
	return nil
}

// retell is a live lease as its worker was told it before.
func (tx *txn) retell(l *lease) (told job.Lease, err error) {
	row, err := tx.e.store.Row(l.row.ID)
	if err == nil && row == nil {
		err = fmt.Errorf("job %d runs without a row", l.row.ID)
	}
	if err == nil {
		err = tx.e.store.LoadPayload(row)
	}
	if err != nil {
		return told, err
	}
	again := *l
	again.row = row
	told = tx.tellLease(&again)
	if told.Job.Steps, err = tx.knownSteps(row); err == nil {
		told.Job.Schedule, err = tx.scheduledBy(row)
	}
	return told, err
}

// unknownTo tells leases of a worker beside those whose tokens it knows, the oldest
// first: the answer that brought them was lost.
func (tx *txn) unknownTo(uid string, knows []string) (all []job.Lease, err error) {
	known := make(map[string]bool, len(knows))
	for _, t := range knows {
		known[t] = true
	}
	var unknown []*lease
	for _, l := range tx.e.leases {
		if l.worker == uid && tx.lease(l.row.ID) == l && !known[l.token()] {
			unknown = append(unknown, l)
		}
	}
	slices.SortFunc(unknown, func(a, b *lease) int { return cmp.Compare(a.row.ID, b.row.ID) })
	for _, l := range unknown[:min(len(unknown), mostRetold)] {
		told, err := tx.retell(l)
		if err != nil {
			return nil, err
		}
		all = append(all, told)
	}
	return all, nil
}

// mostRetold bounds the leases that are told again in one answer.
const mostRetold = 100

// replayLeases answers a take whose call has taken effect before with the leases
// of then that still live. Where none lives the take runs afresh.
func (tx *txn) replayLeases(t *take) (replayed bool, err error) {
	r, err := tx.replayed(t.call)
	if r == nil {
		return false, err
	}
	for i := 0; i+1 < len(r.ids); i += 2 {
		l := tx.lease(r.ids[i])
		if l == nil || int64(l.row.Attempt) != r.ids[i+1] {
			continue
		}
		if !t.claim() {
			return false, nil
		}
		told, err := tx.retell(l)
		if err != nil {
			return false, err
		}
		t.leases = append(t.leases, told)
	}
	return len(t.leases) > 0, nil
}
