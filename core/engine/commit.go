package engine

import (
	"context"
	"slices"
	"time"

	"humblemule/core/job"
	"humblemule/core/store"
	"humblemule/core/trend"
)

// command is a function on a transaction, and where its answer goes. It checks
// first and writes after; a *job.Problem says that it has written nothing. It
// may be applied twice, when the first transaction failed.
type command struct {
	apply func(*txn) error
	done  chan error
}

// mostTogether bounds the commands of one transaction.
const mostTogether = 1024

// do applies a command and answers after it is on disk.
func (e *Engine) do(ctx context.Context, apply func(*txn) error) error {
	c := &command{apply: apply, done: make(chan error, 1)}
	select {
	case <-e.quit:
		return errStopping
	default:
	}
	select {
	case e.commands <- c:
	default:
		return job.Fault(job.Busy, "the service has more to write than it can at once; try again in a second, nothing was changed")
	}
	// A command that was taken is always answered, unless the committer stopped
	// before it took it; ctx cannot call it back.
	select {
	case err := <-c.done:
		return err
	case <-e.stopped:
		select {
		case err := <-c.done:
			return err
		default:
			return errStopping
		}
	}
}

var errStopping = job.Fault(job.Busy, "the service is stopping; try again when it is back, nothing was changed")

// commit is the committer's loop.
func (e *Engine) commit() {
	defer close(e.stopped)
	timer := time.NewTimer(0)
	defer timer.Stop()
	idle := false
	for {
		select {
		case c := <-e.commands:
			e.apply(e.gather(c))
		case <-timer.C:
			e.apply(nil)
			if idle {
				e.checkpoint(true)
			}
		case <-e.quit:
			for len(e.commands) > 0 {
				e.apply(e.gather(<-e.commands))
			}
			e.dropParked()
			return
		}
		e.checkpoint(false)
		sleep := e.untilNext()
		const whenIdle = 2 * time.Second
		idle = sleep >= whenIdle
		timer.Reset(min(sleep, whenIdle))
	}
}

// gather takes the commands that wait. A command that is alone waits for nobody.
func (e *Engine) gather(first *command) []*command {
	batch := []*command{first}
	for range min(len(e.commands), mostTogether-1) {
		batch = append(batch, <-e.commands)
	}
	return batch
}

func (e *Engine) checkpoint(idle bool) {
	if err := e.store.Checkpoint(idle); err != nil {
		e.log.Warn("the log could not be moved into the data file; it is tried again", "error", err)
	}
}

// untilNext tells how long nothing is to be done: until the next lease end or
// due job. While anything is due by the wall clock, which may jump, that is at
// most a second.
func (e *Engine) untilNext() time.Duration {
	const longest = time.Minute
	sleep := longest
	if e.nextDue != 0 {
		sleep = min(time.Second, e.nextDue.Sub(e.now()))
	}
	if len(e.ends) > 0 {
		sleep = min(sleep, time.Until(e.ends[0].ends))
	}
	return max(sleep, time.Until(e.retryAt), 0)
}

// apply runs commands and whatever is due in one transaction, commits it and
// answers. Where that fails, each command is tried again by itself, and timed
// work a second later.
func (e *Engine) apply(batch []*command) {
	err := e.transact(batch, true)
	if err == nil {
		return
	}
	if store.IsDiskFault(err) {
		e.refuse(batch, err)
		e.reopen(err)
		return
	}
	e.log.Error("a transaction failed; its commands are tried one by one", "commands", len(batch), "error", err)
	e.retryAt = time.Now().Add(time.Second)
	for _, c := range batch {
		if err := e.transact([]*command{c}, false); err != nil {
			e.refuse([]*command{c}, err)
		}
	}
	e.dropClaimed(refusal(err))
}

// transact applies the batch. It answers every command where it succeeds, and
// changes nothing where it does not.
func (e *Engine) transact(batch []*command, timed bool) error {
	tx := e.begin()
	answers := make([]error, len(batch))
	err := tx.run(batch, answers, timed)
	if err == nil {
		err = tx.flush()
	}
	if err == nil && e.store.Writing() {
		err = e.store.Commit()
	}
	if err != nil {
		if e.store.Writing() {
			if undo := e.store.Rollback(); undo != nil {
				e.log.Error("a transaction could not be undone", "error", undo)
			}
		}
		return err
	}
	tx.publish()
	for i, c := range batch {
		c.done <- answers[i]
	}
	return nil
}

func (tx *txn) run(batch []*command, answers []error, timed bool) error {
	for i, c := range batch {
		if answers[i] = c.apply(tx); answers[i] != nil && !isProblem(answers[i]) {
			return answers[i]
		}
	}
	if timed && time.Until(tx.e.retryAt) <= 0 {
		if err := tx.endLeases(); err != nil {
			return err
		}
		if err := tx.due(); err != nil {
			return err
		}
	}
	return tx.deal()
}

// refuse answers commands whose transaction failed.
func (e *Engine) refuse(batch []*command, err error) {
	for _, c := range batch {
		c.done <- refusal(err)
	}
}

func refusal(err error) error {
	if store.IsFull(err) {
		return job.Fault(job.Broken, "the disk is full: nothing of this was kept, and what was acknowledged before is safe; free some space and try again")
	}
	return job.Fault(job.Broken, "the write failed (%v); nothing of it was kept", err)
}

// reopen closes the connection after a fault of the disk and reads everything
// from the file again. An fsync is never tried twice: after a failed one, what
// the system shows is not what the disk holds.
func (e *Engine) reopen(cause error) {
	e.log.Error("the disk failed; the data file is opened again", "error", cause)
	e.dropClaimed(refusal(cause))
	for {
		err := e.store.Reopen()
		if err == nil {
			err = e.recover()
		}
		if err == nil {
			e.watchers.reset()
			return
		}
		e.log.Error("the data file cannot be opened; no command is taken until it can", "error", err)
		if e.refuseFor(time.Second, cause) {
			return
		}
	}
}

// refuseFor answers commands with a refusal for a while; true when the engine
// is closed meanwhile.
func (e *Engine) refuseFor(d time.Duration, cause error) (closed bool) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	for {
		select {
		case c := <-e.commands:
			e.refuse([]*command{c}, cause)
		case <-timer.C:
			return false
		case <-e.quit:
			return true
		}
	}
}

// txn is one transaction: what the commands have changed so far, over what the
// engine keeps in memory. It becomes the engine's memory when it is published.
type txn struct {
	e   *Engine
	now job.Time

	nextJob    int64
	ranks      map[*queue]int64
	newQueues  map[string]*queue
	newTasks   map[string]int64
	policies   map[string]int64
	counts     map[groupID]*stateCounts // deltas
	moves      []move
	leases     map[int64]*lease // nil: ended
	released   map[int64]release
	receipts   []receipt
	takes      []*take // new in this transaction
	nextDue    job.Time
	asked      []*lease // cancelling was asked
	newWorkers map[string]int64
}

type groupID struct{ queue, task int64 }

// move is a job that changed its state.
type move struct {
	job, queue, task int64
	from, to         job.State
}

func (e *Engine) begin() *txn {
	return &txn{
		e: e, now: e.now(), nextJob: e.nextJob, nextDue: e.nextDue,
		counts: map[groupID]*stateCounts{},
	}
}

// change moves a row to a state by a cause, counting it.
func (tx *txn) change(r *store.Row, to job.State, by job.Cause) error {
	if err := job.Move(r.State, to, by); err != nil {
		return err
	}
	g := groupID{r.Queue, r.Task}
	d := tx.counts[g]
	if d == nil {
		d = new(stateCounts)
		tx.counts[g] = d
	}
	if r.State != job.New {
		d[r.State]--
	}
	d[to]++
	tx.moves = append(tx.moves, move{job: r.ID, queue: r.Queue, task: r.Task, from: r.State, to: to})
	r.State = to
	return nil
}

// rank draws the queue's next rank.
func (tx *txn) rank(q *queue) int64 {
	if tx.ranks == nil {
		tx.ranks = map[*queue]int64{}
	}
	next, drawn := tx.ranks[q]
	if !drawn {
		next = q.nextRank
	}
	tx.ranks[q] = next + 1
	return next
}

// queueOf finds a queue by its id, in the transaction or in memory.
func (tx *txn) queueOf(id int64) *queue {
	if q := tx.e.view.queueOf[id]; q != nil {
		return q
	}
	for _, q := range tx.newQueues {
		if q.id == id {
			return q
		}
	}
	return nil
}

func (tx *txn) queue(name string) *queue {
	if q := tx.e.view.queues[name]; q != nil {
		return q
	}
	return tx.newQueues[name]
}

// ready counts the ready jobs of a queue and task as the transaction sees them.
func (tx *txn) ready(q *queue, task int64) (n int64) {
	if c := q.tasks[task]; c != nil {
		n = c[job.Ready]
	}
	if d := tx.counts[groupID{q.id, task}]; d != nil {
		n += d[job.Ready]
	}
	return n
}

// awaits notes that something is due at a time.
func (tx *txn) awaits(at job.Time) {
	if tx.nextDue == 0 || at < tx.nextDue {
		tx.nextDue = at
	}
}

// flush writes the counters that the commands have moved.
func (tx *txn) flush() error {
	s := tx.e.store
	for g, d := range tx.counts {
		kept := tx.kept(g)
		for state, n := range d {
			if n == 0 {
				continue
			}
			if err := s.PutCount(g.queue, g.task, job.State(state), kept[state]+n); err != nil {
				return err
			}
		}
	}
	for q, next := range tx.ranks {
		if err := s.PutRank(q.id, next); err != nil {
			return err
		}
	}
	if tx.nextJob != tx.e.nextJob {
		if err := s.PutNextJob(tx.nextJob); err != nil {
			return err
		}
	}
	return tx.e.receipts.write(tx)
}

func (tx *txn) kept(g groupID) (c stateCounts) {
	if q := tx.e.view.queueOf[g.queue]; q != nil && q.tasks[g.task] != nil {
		c = *q.tasks[g.task]
	}
	return c
}

// publish makes the transaction the engine's memory. It runs after the commit.
func (tx *txn) publish() {
	e := tx.e
	e.nextJob, e.nextDue = tx.nextJob, tx.nextDue
	e.receipts.publish(tx)
	tx.publishWorkers()
	tx.publishView()
	tx.publishLeases()
	for id, r := range tx.released {
		e.released[id] = r
	}
	tx.forgetReleases()
	e.parked = append(e.parked, tx.takes...)
	e.parked = slices.DeleteFunc(e.parked, func(t *take) bool { return t.answerIfOver() })
	for _, l := range tx.asked {
		e.registry.tellCancelled(l.worker, l.token())
	}
	if len(tx.moves) > 0 || len(tx.asked) > 0 {
		e.watchers.publish(tx)
	}
}

func (tx *txn) publishView() {
	v := &tx.e.view
	if len(tx.moves) == 0 && len(tx.policies) == 0 {
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, q := range tx.newQueues {
		v.addQueue(q)
	}
	for name, id := range tx.newTasks {
		v.tasks[name], v.taskName[id] = id, name
	}
	if len(tx.e.policies)+len(tx.policies) > mostPolicies {
		clear(tx.e.policies)
	}
	for body, id := range tx.policies {
		tx.e.policies[body] = id
	}
	for q, next := range tx.ranks {
		q.nextRank = next
	}
	for g, d := range tx.counts {
		kept := v.group(g.queue, g.task)
		for state, n := range d {
			kept[state] += n
		}
	}
	for _, m := range tx.moves {
		v.moves.Add(tx.now, trend.Move{Queue: m.queue, From: m.from, To: m.to})
	}
}

func (tx *txn) publishLeases() {
	for id, l := range tx.leases {
		if old := tx.e.leases[id]; old != nil {
			tx.e.ends.remove(old)
			delete(tx.e.leases, id)
		}
		if l != nil {
			tx.e.leases[id] = l
			tx.e.ends.add(l)
		}
	}
}
