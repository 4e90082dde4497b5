package deal

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/read"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Lease settles what the request brings, then takes jobs for it, in one
// transaction. Where it finds none and settles nothing, it waits for one as long
// as the request says.
func (de *Dealer) Lease(ctx context.Context, req api.LeaseRequest) (api.LeaseAnswer, error) {
	if err := job.Wrong("nothing was leased", checkLeaseRequest(&req)); err != nil {
		return api.LeaseAnswer{}, err
	}
	if req.Lease == 0 {
		req.Lease = api.DefaultLease
	}
	own := isByService(ctx)
	if own {
		req.Queues, req.Tasks = de.CallsServed()
		if req.Share = api.ShareByWeight; len(req.Tasks) == 0 {
			req.Limit, req.Ahead = 0, 0
		}
	}
	if err := mayServe(scope.Of(ctx), req.Queues, req.Tasks); err != nil {
		return api.LeaseAnswer{}, err
	}
	settlements, err := de.desk.PrepareSettlements(req.Settle)
	if err != nil {
		return api.LeaseAnswer{}, err
	}
	by := commit.CallOf(ctx)
	who, err := de.m.Workers.Presence.Use(api.Worker{ID: req.Worker, Queues: req.Queues, Tasks: req.Tasks, Weights: req.Weights, Settings: req.Settings}, by.Principal, de.c.Now())
	if err != nil {
		return api.LeaseAnswer{}, err
	}
	if own {
		de.m.Workers.Presence.NowServes(who.ID, req.Queues, req.Tasks)
	}
	req.Wait = min(req.Wait, api.MaxWait)
	c := &leaseCall{de: de, who: who, settlements: settlements}
	c.take = &take{ctx: ctx, req: &req, own: own, call: by.ID(), park: req.Wait > 0 && len(req.Settle) == 0 && req.Job == 0, done: make(chan struct{})}
	defer de.renewals.arrived(tokensOf(req.Settle))()
	do := de.c.DoRows
	if len(settlements) > 0 {
		do = de.c.DoFirst
	}
	if err := do(ctx, command.RowsOf(settlements)+c.most(), c.check); err != nil {
		return api.LeaseAnswer{}, err
	}
	return c.answer(ctx)
}

// leaseCall is a call of Lease: its take, and what it settles before.
type leaseCall struct {
	*take
	de          *Dealer
	who         api.Worker
	settlements []command.Settlement
	results     []api.SettleResult
	// takes tells that it may take jobs, or has taken some before.
	takes bool
}

func (c *leaseCall) most() int { return c.req.Limit + c.req.Ahead }

// check tells whether the call may take jobs. What it settles has a result each, and is
// never refused as a whole.
func (c *leaseCall) check(v *commit.View) (commit.Write, error) {
	c.leases = nil
	same, err := v.Receipts.Find(c.call)
	if err != nil {
		return nil, err
	}
	mayTake, err := v.Workers.Takes(c.req.Worker)
	if err != nil {
		return nil, err
	}
	c.replays = same != nil && !mayTake
	c.takes = c.most() > 0 && (c.replays || mayTake)
	if c.takes && same == nil {
		if err := canTake(v, c.req); err != nil {
			return nil, err
		}
	}
	return c.write, nil
}

// write settles, and puts the take among those that are dealt to.
func (c *leaseCall) write(tx *commit.Tx) (err error) {
	if c.results, err = command.SettleAll(tx, c.settlements); err != nil {
		return err
	}
	if c.worker, err = tx.Workers.Know(c.who); err != nil || !c.takes {
		return err
	}
	c.park = c.park && !c.replays
	c.de.parked.add(c.take)
	return nil
}

// answer waits for jobs as long as the call does, and tells what has come.
func (c *leaseCall) answer(ctx context.Context) (api.LeaseAnswer, error) {
	m, req := c.de.m, c.req
	answer := api.LeaseAnswer{Leases: []api.Lease{}, Results: c.results, Wanted: api.WantRun, Settings: m.Settings.Version()}
	if !c.takes && req.Wait > 0 && len(req.Settle) == 0 {
		m.Workers.Presence.Rest(ctx, req.Worker, req.Wait.Go(), c.de.c.Quit)
	}
	if c.takes && c.de.await(c.take, req.Wait.Go()) {
		if c.err != nil {
			return api.LeaseAnswer{}, c.err
		}
		answer.Leases = append(answer.Leases, c.leases...)
	}
	told := int64(0)
	if len(answer.Leases) > 0 {
		told = answer.Settings
	}
	m.Workers.Presence.Saw(req.Worker, c.de.c.Now(), told)
	answer.Wanted, _ = m.Workers.Presence.Wants(req.Worker)
	if len(answer.Leases) == c.most() { // else nothing is left for it
		answer.Waiting = c.de.read.ReadyFor(req.Queues, req.Tasks)
	}
	return answer, nil
}

// canTake tells whether a job that is asked for by its id may be leased.
func canTake(v *commit.View, req *api.LeaseRequest) error {
	id := req.Job
	if id == 0 {
		return nil
	}
	r, err := v.Store.Row(id)
	switch {
	case err != nil:
		return err
	case r == nil || !v.Sees(r):
		return read.NoJob(id)
	case r.State != job.Ready:
		return job.Fault(job.WrongState, "job %d is %s; only a ready job can be taken by its id", id, r.State)
	case r.Host != 0:
		return job.Fault(job.WrongState, "job %d is a call, which the service makes itself", id)
	case len(req.Tasks) > 0 && !slices.Contains(req.Tasks, v.Tasks.Name(r.Task)):
		return job.Fault(job.WrongState, "job %d is of task %s, which this worker does not do", id, v.Tasks.Name(r.Task))
	case v.Settings.Paused(v.Queues.Get(r.Queue)):
		return job.Fault(job.WrongState, "job %d is in queue %s, which is paused; resume the queue first", id, v.Queues.Name(r.Queue))
	}
	if limit := limitOf(v, v.Queues.Get(r.Queue), r.Task); limit != "" {
		return job.Fault(job.WrongState, "job %d cannot be taken now: %s", id, limit)
	}
	return nil
}

// mayServe refuses queues and tasks that are not in a scope. A lease once given is held by its
// token: whoever has that may renew and settle it.
func mayServe(in scope.Scope, queues, tasks []string) error {
	if len(tasks) == 0 {
		tasks = []string{""}
	}
	for _, q := range queues {
		for _, t := range tasks {
			if err := in.Refuses(q, t); err != nil {
				return err
			}
		}
	}
	return nil
}

// checkLeaseRequest answers what is wrong with a request.
func checkLeaseRequest(req *api.LeaseRequest) (wrong []job.FieldError) {
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
		wrong = append(wrong, check.Name(fmt.Sprintf("queues[%d]", i), q)...)
	}
	for i, t := range req.Tasks {
		wrong = append(wrong, check.Name(fmt.Sprintf("tasks[%d]", i), t)...)
	}
	if req.Limit < 0 || req.Limit > api.MaxLeaseItems {
		add("limit", "%d is outside 0 to %d", req.Limit, api.MaxLeaseItems)
	}
	if req.Ahead < 0 || req.Limit+req.Ahead > api.MaxLeaseItems {
		add("ahead", "%d is outside 0 to %d, limit included", req.Ahead, api.MaxLeaseItems)
	}
	if req.Share != "" && req.Share != api.ShareInOrder && req.Share != api.ShareByWeight {
		add("share", "%q is not a way to share; it is by_list or by_weight", req.Share)
	}
	if req.Job < 0 {
		add("job", "%d is not a valid id of a job", req.Job)
	}
	for _, name := range slices.Sorted(maps.Keys(req.Weights)) {
		if !slices.Contains(req.Queues, name) {
			add("weights."+name, "names a queue that is not in queues")
		}
		if w := req.Weights[name]; w < 1 || w > api.MaxWeight {
			add("weights."+name, "%d is outside 1 to %d", w, api.MaxWeight)
		}
	}
	if req.Lease != 0 && (req.Lease < api.MinLease || req.Lease > api.MaxLease) {
		add("lease", "%s is outside 1s to 1h", req.Lease)
	}
	return wrong
}

// Settle ends leases. Each item has its own result; one that is wrong spoils no
// other.
func (de *Dealer) Settle(ctx context.Context, items []api.Settlement) ([]api.SettleResult, error) {
	all, err := de.desk.PrepareSettlements(items)
	if err != nil {
		return nil, err
	}
	var results []api.SettleResult
	defer de.renewals.arrived(tokensOf(items))()
	err = de.c.DoFirst(ctx, command.RowsOf(all), commit.Unchecked(func(tx *commit.Tx) (err error) {
		results, err = command.SettleAll(tx, all)
		return err
	}))
	return results, err
}

// tokensOf are the tokens of settlements.
func tokensOf(items []api.Settlement) []string {
	tokens := make([]string, len(items))
	for i := range items {
		tokens[i] = items[i].Token
	}
	return tokens
}

// leaseTo writes the lease of a row to a take's worker.
func leaseTo(tx *commit.Tx, t *take, r *store.Row) (api.Lease, error) {
	policy, err := tx.Policies.Of(r.Policy)
	if err != nil {
		return api.Lease{}, err
	}
	if err := tx.Store.LoadPayload(r); err != nil {
		return api.Lease{}, err
	}
	r.Attempt++
	r.Tries++
	r.LeasedAt = tx.Now
	if r.StartedAt == 0 {
		r.StartedAt = tx.Now
	}
	tx.Limits.Start(tx.Queues.Get(r.Queue), api.Start{Job: r.ID, Task: tx.Tasks.Name(r.Task), Priority: r.Priority, Owner: r.Owner, Lane: r.Lane, ReadyAt: r.ReadyAt, StartedAt: tx.Now})
	r.Worker, r.Token, r.LeaseMS = t.worker.Number, memory.NewTokenBits(), t.req.Lease.Go().Milliseconds()
	if err := place.Change(tx, r, job.Running, lifecycle.ByLease); err != nil {
		return api.Lease{}, err
	}
	l := (&memory.Lease{Row: r, Policy: policy, Worker: t.worker.UID, Begun: time.Now()}).Renewed()
	tx.Leases.Put(l)
	answer := tellLease(tx, l)
	if err := tellBeside(tx, r, &answer.Job); err != nil {
		return answer, err
	}
	r.Payload = nil
	return answer, tx.Store.Lease(r)
}

// tellBeside tells a worker of a job what does not stand in its row: what earlier attempts have left,
// of which schedule and batch it is, and what has become of those that it waited for.
func tellBeside(tx *commit.Tx, r *store.Row, j *api.LeasedJob) (err error) {
	if j.Steps, err = command.KnownSteps(tx, r); err != nil {
		return err
	}
	if j.Schedule, err = scheduledBy(tx, r); err != nil {
		return err
	}
	if j.Batch, err = inBatch(tx, r); err != nil {
		return err
	}
	j.Inputs, err = inputs(tx, r)
	return err
}

// scheduledBy tells which run of which schedule a job is; nil where it is none.
func scheduledBy(tx *commit.Tx, r *store.Row) (*job.ScheduledBy, error) {
	s := tx.Schedules.Get(r.Schedule)
	if s == nil {
		return nil, nil
	}
	number, planned, err := tx.Store.RunOf(r.ID)
	return &job.ScheduledBy{Name: s.Row.Name, Run: number, PlannedAt: planned}, err
}

// tellLease is a lease as its worker reads it.
func tellLease(tx *commit.Tx, l *memory.Lease) api.Lease {
	r := l.Row
	return api.Lease{
		Token: l.Token(), ExpiresAt: tx.Now.Add(time.Until(l.Ends)),
		Job: api.LeasedJob{
			ID: r.ID, Task: tx.Tasks.Name(r.Task), Payload: r.Payload, Queue: tx.Queues.Name(r.Queue), Priority: r.Priority,
			Round: r.Round, Attempt: r.Attempt, Tries: r.Tries, MaxAttempts: l.Policy.MaxAttempts,
			Owner: r.Owner, Lane: r.Lane, Labels: r.LabelMap(), TimeoutMS: l.Policy.Timeout.Go().Milliseconds(), EnqueuedAt: r.EnqueuedAt, Traceparent: tx.Spans.OfAttempt(r),
		},
	}
}

// noteLeases keeps a receipt for every take that was served and carries an
// Idempotency-Key.
func noteLeases(tx *commit.Tx, takes []*take) {
	for _, t := range takes {
		if t.call.None() || len(t.leases) == 0 || t.state.Load() == over {
			continue
		}
		ids := make([]int64, 0, 2*len(t.leases))
		for _, l := range t.leases {
			ids = append(ids, l.Job.ID, int64(l.Job.Attempt))
		}
		tx.Receipts.Note(t.call, ids...)
	}
}

// retell is a live lease as its worker was told it before.
func retell(tx *commit.Tx, l *memory.Lease) (told api.Lease, err error) {
	row, err := tx.Store.Row(l.Row.ID)
	if err == nil && row == nil {
		err = fmt.Errorf("job %d runs without a row", l.Row.ID)
	}
	if err == nil {
		err = tx.Store.LoadPayload(row)
	}
	if err != nil {
		return told, err
	}
	again := *l
	again.Row = row
	told = tellLease(tx, &again)
	return told, tellBeside(tx, row, &told.Job)
}

// unknownTo tells leases of a worker beside those whose tokens it knows, the oldest
// first: the answer that brought them was lost.
func unknownTo(tx *commit.Tx, uid string, knows []string) (all []api.Lease, err error) {
	known := make(map[string]bool, len(knows))
	for _, t := range knows {
		known[t] = true
	}
	var unknown []*memory.Lease
	for _, l := range tx.Leases.Of(uid) {
		if !known[l.Token()] {
			unknown = append(unknown, l)
		}
	}
	slices.SortFunc(unknown, func(a, b *memory.Lease) int { return cmp.Compare(a.Row.ID, b.Row.ID) })
	for _, l := range unknown[:min(len(unknown), mostRetold)] {
		told, err := retell(tx, l)
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
func replayLeases(tx *commit.Tx, t *take) (replayed bool, err error) {
	r, err := tx.Receipts.Find(t.call)
	if r == nil {
		return false, err
	}
	for i := 0; i+1 < len(r.IDs); i += 2 {
		l := tx.Leases.Get(r.IDs[i])
		if l == nil || int64(l.Row.Attempt) != r.IDs[i+1] {
			continue
		}
		if !t.claim() {
			return false, nil
		}
		told, err := retell(tx, l)
		if err != nil {
			return false, err
		}
		t.leases = append(t.leases, told)
	}
	return len(t.leases) > 0, nil
}
