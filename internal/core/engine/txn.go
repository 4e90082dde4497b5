package engine

import (
	"errors"
	"slices"
	"time"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// txn is one transaction: what the commands have changed so far, over what the
// engine keeps in memory. It becomes the engine's memory when it is published.
type txn struct {
	e   *Engine
	now job.Time

	nextJob   int64
	ranks     map[*queue]int64
	newQueues map[string]*queue
	lastQueue int64
	lastTask  int64
	// schedules are those that were changed, by id; nil for one that was removed. ended
	// are jobs of schedules that have ended, or failed.
	schedules     map[int64]*schedule
	scheduleIDs   map[string]int64 // of those, by name; 0 for one that was removed
	moreSchedules int              // than in memory
	lastSchedule  int64
	ended         []endedRun
	newTasks      map[string]int64
	taskMadeBy    map[int64]string
	policies      map[string]int64
	counts        map[groupID]*stateCounts // deltas
	moves         []move
	leases        map[int64]*lease // nil: ended
	released      map[int64]release
	receipts      []receipt
	takes         []*take // new in this transaction
	nextDue       job.Time
	nextSweep     int64
	nextDrop      job.Time
	// Which of the next times are to be read again, because what was next is no more.
	staleDue, staleSweep, staleDrop, staleLate bool
	again                                      bool
	doing                                      thing
	hasAside                                   bool
	retried                                    []thing
	touched                                    []int64  // jobs that changed otherwise than by a move
	asked                                      []*lease // cancelling was asked
	newWorkers                                 map[string]int64
	wants                                      map[string]job.Want
	pauses                                     map[*queue]pause
	queueSet                                   map[*queue]*job.Defaults
	taskSet                                    map[int64]*job.Defaults
	runs                                       []taskRun
	causes                                     map[causeKey]int64 // deltas
	past                                       map[store.Group]int64
	became                                     map[became]int64
	removals                                   map[int64]removal // by action; the zero one is over
	nextRetain                                 time.Time
	retained                                   int64
	firstGoes                                  job.Time
	swept                                      []int64 // jobs whose rows are still to be deleted
	nextForget                                 time.Time
	policyWalk                                 *policyWalk
	gonePolicies                               map[int64]bool
	goneWorkers                                map[string]int64
	idleQueues                                 map[*queue]job.Time
	idleTasks                                  map[int64]job.Time
	unmadeTasks                                map[int64]string
	lessPast                                   map[*queue]stateCounts
	by                                         string // who gave the command that is applied; empty for timed work
	seen                                       map[int64]*store.Seen
	dropped                                    []int64 // causes that are forgotten
	owns                                       *owned
	unmade                                     map[*queue]bool // queues that are no more
	servedTags                                 map[level]int64
	walks                                      map[*queue]*walk // nil: ended
	nextLate                                   job.Time
	runningOf                                  map[groupID]int64 // deltas, by queue and by task
	starts                                     map[*queue]int
	startLog                                   map[*queue][]job.Start
	nextStart                                  time.Time // when a rate lets a job start that a take waits for; zero for none
}

type groupID struct{ queue, task int64 }

// move is a job that changed its state.
type move struct {
	job, queue, task int64
	from, to         job.State
}

func (e *Engine) begin() *txn {
	return &txn{
		e: e, now: e.now(), lastQueue: e.view.lastQueue, lastTask: e.view.lastTask, lastSchedule: e.view.lastSchedule, nextJob: e.nextJob, nextDue: e.nextDue, nextSweep: e.nextSweep, nextDrop: e.nextDrop, nextLate: e.nextLate,
		counts: map[groupID]*stateCounts{}, hasAside: e.aside.any(),
	}
}

// change moves a row to a state by a cause, counting it.
func (tx *txn) change(r *store.Row, to job.State, by job.By) error {
	if err := job.Move(r.State, to, by); err != nil {
		return err
	}
	if r.State != job.New {
		tx.delta(r)[r.State]--
		tx.unplanned(r)
	}
	tx.delta(r)[to]++
	if r.State == job.Running {
		tx.countRunning(r.Queue, r.Task, -1)
	}
	if to == job.Running {
		tx.countRunning(r.Queue, r.Task, +1)
	}
	if r.Cause != 0 {
		if err := errors.Join(tx.countCause(r, r.State, -1), tx.countCause(r, to, +1)); err != nil {
			return err
		}
	}
	if r.Operation != 0 {
		tx.countBecame(r, to, by)
	}
	tx.moves = append(tx.moves, move{job: r.ID, queue: r.Queue, task: r.Task, from: r.State, to: to})
	r.State = to
	if to == job.Backoff || to.Finished() {
		tx.freed(r, false)
	}
	return nil
}

// unplanned notes that a row leaves a state in which a time was planned for it.
func (tx *txn) unplanned(r *store.Row) {
	tx.staleDue = tx.staleDue || r.State == job.Scheduled || r.State == job.Backoff
	tx.staleLate = tx.staleLate || r.StartBy != 0 && !r.State.Finished()
}

// delta gives the changes of the counts of a row's queue and task.
func (tx *txn) delta(r *store.Row) *stateCounts {
	g := groupID{r.Queue, r.Task}
	if tx.counts[g] == nil {
		tx.counts[g] = new(stateCounts)
	}
	return tx.counts[g]
}

// recount takes a job out of the counts, or back into them.
func (tx *txn) recount(r *store.Row, by int64) error {
	tx.delta(r)[r.State] += by
	tx.touched = append(tx.touched, r.ID)
	turn := tx.enterTurn
	if by < 0 {
		turn = tx.leaveTurn
		tx.unplanned(r)
		if !r.State.Finished() {
			tx.freed(r, true)
		}
	}
	if r.State == job.Ready {
		if err := turn(r); err != nil {
			return err
		}
	}
	return tx.countCause(r, r.State, by)
}

// nextRank draws the queue's next rank.
func (tx *txn) nextRank(q *queue) int64 {
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
	if q := tx.e.view.queues[name]; q != nil && !tx.unmade[q] {
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

// sweeps notes that something is to be swept when the file was served so long.
func (tx *txn) sweeps(at int64) {
	if tx.nextSweep == 0 || at < tx.nextSweep {
		tx.nextSweep = at
	}
}

// ranksReserved is how many ranks are drawn for one write of a queue's counter. After a
// start of the service some are left out, which changes no order.
const ranksReserved = 1000

// flush writes the counters that the commands have moved.
func (tx *txn) flush() error {
	s := tx.e.store
	if err := tx.readNext(); err != nil {
		return err
	}
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
		if next <= q.reserved {
			continue
		}
		if err := s.PutRank(q.id, next+ranksReserved); err != nil {
			return err
		}
	}
	if tx.nextJob != tx.e.nextJob {
		if err := s.PutNextJob(tx.nextJob); err != nil {
			return err
		}
	}
	if err := errors.Join(tx.flushCauses(), tx.flushPast(), tx.flushBecame()); err != nil {
		return err
	}
	return tx.e.receipts.write(tx)
}

// readNext reads what is next of what was planned, where that has changed.
func (tx *txn) readNext() (err error) {
	if tx.staleDue {
		tx.nextDue, err = tx.e.store.NextDue()
	}
	if tx.staleLate && err == nil {
		tx.nextLate, err = tx.e.store.NextTooLate()
	}
	if tx.staleDrop && err == nil {
		tx.nextDrop, err = tx.e.store.NextResult()
	}
	if tx.staleSweep && err == nil {
		tx.nextSweep, err = tx.e.nextToSweepBeside(tx.removalsNow())
	}
	return err
}

func (tx *txn) kept(g groupID) (c stateCounts) {
	if q := tx.e.view.queueOf[g.queue]; q != nil && q.tasks[g.task] != nil {
		c = *q.tasks[g.task]
	}
	return c
}

// publish makes the transaction the engine's memory. It runs after the commit; wrote
// tells whether there was one.
func (tx *txn) publish(wrote bool) {
	e := tx.e
	e.again = tx.again
	for _, t := range tx.retried {
		e.aside.forget(t)
	}
	e.nextJob, e.nextDue, e.nextSweep, e.nextDrop = tx.nextJob, tx.nextDue, tx.nextSweep, tx.nextDrop
	e.nextLate, e.nextStart = tx.nextLate, tx.nextStart
	tx.publishRemovals()
	tx.publishPlaces()
	tx.publishSchedules()
	if tx.owns != nil {
		e.view.own(*tx.owns)
		e.causer.use(tx.owns.Triage)
	}
	e.receipts.publish(tx)
	tx.publishCauses()
	tx.publishView(wrote)
	tx.publishLeases()
	for id, r := range tx.released {
		e.released[id] = r
	}
	tx.forgetReleases()
	e.parked = append(e.parked, tx.takes...)
	tx.publishWorkers()
	e.parked = slices.DeleteFunc(e.parked, func(t *take) bool { return t.answerIfOver() })
	for _, l := range tx.asked {
		e.registry.tellCancelled(l.worker, l.token())
	}
	if len(tx.moves)+len(tx.asked)+len(tx.touched)+len(tx.pauses) > 0 {
		e.watchers.publish(tx)
	}
}

func (tx *txn) publishView(wrote bool) {
	v := &tx.e.view
	if !wrote { // so that nothing in it has changed, and no reader is disturbed
		tx.publishPast()
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	for q := range tx.unmade {
		if v.queueOf[q.id] == q {
			v.madeBy[madeBy{q.madeBy, false}]--
		}
		delete(v.queues, q.name)
		delete(v.queueOf, q.id)
	}
	for id := range tx.unmadeTasks {
		v.madeBy[madeBy{v.taskMadeBy[id], true}]--
	}
	for _, q := range tx.newQueues {
		v.addQueue(q)
	}
	for name, id := range tx.newTasks {
		v.addTask(id, name, tx.taskMadeBy[id])
	}
	tx.publishPolicies()
	for q, next := range tx.ranks {
		if q.nextRank = next; next > q.reserved {
			q.reserved = next + ranksReserved
		}
	}
	for g, d := range tx.counts {
		kept := v.group(g.queue, g.task)
		for state, n := range d {
			kept[state] += n
		}
	}
	for q, p := range tx.pauses {
		q.pause = p
	}
	for q, d := range tx.queueSet {
		q.defaults, q.rules = d, rulesOf(d)
		q.fill()
		q.version++
	}
	for task, d := range tx.taskSet {
		v.taskDefaults[task] = d
		v.taskVersion[task]++
	}
	v.settings.Add(int64(len(tx.queueSet) + len(tx.taskSet)))
	tx.publishStarts()
	tx.publishPast()
	tx.publishLeftovers()
	tx.publishTrends()
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
