package engine

import (
	"context"
	"errors"
	"slices"
	"time"

	"humblemule/internal/core/order"
	"humblemule/internal/core/store"
	"humblemule/job"
)

var builtInRules = job.Rules{}.Whole()

// rulesOf gives the whole rules of what was set for a queue.
func rulesOf(d *job.Defaults) *job.Rules {
	if d == nil {
		return &builtInRules
	}
	r := d.Rules.Whole()
	return &r
}

func (tx *txn) rules(q *queue) *job.Rules {
	if d, set := tx.queueSet[q]; set {
		return rulesOf(d)
	}
	return q.rules
}

// place moves a row to where it belongs, and gives it its place there: its rank when it
// becomes ready without one, its lane, its owner's turn.
func (tx *txn) place(r *store.Row, by job.By) error {
	if err := tx.leaveTurn(r); err != nil {
		return err
	}
	taken, err := tx.laneTaken(r)
	if err != nil {
		return err
	}
	return tx.placeIn(r, by, taken)
}

// placeIn is place where it is known whether another job has the row's lane.
func (tx *txn) placeIn(r *store.Row, by job.By, taken bool) error {
	q, due := tx.queueOf(r.Queue), tx.dueOf(r)
	heldBack, err := tx.heldByRun(r)
	if err != nil {
		return err
	}
	to := job.Place(job.Waits{HeldBack: heldBack, NextAt: r.NextAt, Now: tx.now, LaneTaken: taken})
	switch {
	case heldBack: // it joins its lane, and the order, when nothing holds it back
		r.Rank, r.Turn = 0, false
	case to != job.Scheduled:
		r.NextAt = 0
		tx.rank(r, q, due)
		r.Turn = to == job.Ready && tx.rules(q).Turns != ""
	}
	if r.ReadyAt = 0; to == job.Ready {
		r.ReadyAt = tx.now
	}
	tx.awaitsStart(r)
	if err := tx.change(r, to, by); err != nil {
		return err
	}
	switch to {
	case job.Held:
		if heldBack {
			return tx.leaveLane(r)
		}
	case job.Scheduled:
		tx.awaits(r.NextAt)
		return tx.leaveLane(r)
	case job.Ready:
		return errors.Join(tx.takeLane(r), tx.enterTurn(r))
	}
	return nil
}

// dueOf is since when a job may run, as ageing reckons it.
func (tx *txn) dueOf(r *store.Row) job.Time {
	switch {
	case r.NextAt != 0:
		return r.NextAt
	case r.ReadyAt != 0 && !r.State.Finished():
		return r.ReadyAt
	}
	return tx.now
}

// leastTime parts the ranks of the two orders: counters stay below it, times above.
const leastTime = 100_000_000_000

// rank gives a row its level, and a rank where it has none by its queue's order.
func (tx *txn) rank(r *store.Row, q *queue, due job.Time) {
	rules := tx.rules(q)
	if rules.Order == job.ByAgeing {
		if r.Level = 0; r.Rank < leastTime {
			r.Rank = order.Ageing(due, r.Priority, rules.Boost.Go())
		}
		return
	}
	if r.Level = r.Priority; r.Rank == 0 || r.Rank >= leastTime {
		r.Rank = tx.nextRank(q)
	}
}

// laneTaken tells whether another job has a row's lane.
func (tx *txn) laneTaken(r *store.Row) (bool, error) {
	if r.Lane == "" {
		return false, nil
	}
	holder, err := tx.e.store.LaneHolder(r.Queue, r.Lane)
	return holder != 0 && holder != r.ID, err
}

func (tx *txn) takeLane(r *store.Row) error {
	if r.Lane == "" {
		return nil
	}
	return tx.e.store.TakeLane(r.Queue, r.Lane, r.ID)
}

// leaveLane gives the lane that a job has to the next one that waits for it.
func (tx *txn) leaveLane(r *store.Row) error {
	if r.Lane == "" {
		return nil
	}
	holder, err := tx.e.store.LaneHolder(r.Queue, r.Lane)
	if err != nil || holder != r.ID {
		return err
	}
	return tx.passLaneOn(r)
}

// passLaneOn gives a lane to the next job that waits for it.
func (tx *txn) passLaneOn(r *store.Row) error {
	next, err := tx.e.store.NextInLane(r.Queue, r.Lane)
	if err != nil {
		return err
	}
	if next == nil {
		return tx.e.store.FreeLane(r.Queue, r.Lane)
	}
	if err := tx.placeIn(next, job.ByUnheld, false); err != nil {
		return err
	}
	return tx.e.store.Wait(next)
}

// leaveLaneFrom lets a job that has come from a state give its lane away where the rules
// of its queue say so. A job that ran had its lane.
func (tx *txn) leaveLaneFrom(was job.State, r *store.Row) error {
	if r.Lane == "" {
		return nil
	}
	rules := tx.rules(tx.queueOf(r.Queue))
	switch {
	case r.State == job.Backoff && rules.LaneOnBackoff == job.LaneWaits, r.State == job.Dead && rules.LaneOnDead == job.LaneStops:
		return nil
	case was == job.Running:
		return tx.passLaneOn(r)
	}
	return tx.leaveLane(r)
}

// level is a level of a queue, with turns of its own.
type level struct {
	queue int64
	level int
}

// served is the tag that was served last at a level. After a start of the service it is
// the lowest of those that wait, or else the highest of those that have waited.
func (tx *txn) served(r *store.Row) (tag int64, err error) {
	at := level{r.Queue, r.Level}
	if tag, known := tx.servedTags[at]; known {
		return tag, nil
	}
	if tag, known := tx.e.lastTags[at]; known {
		return tag, nil
	}
	tag, waits, err := tx.lowestTag(r)
	if err == nil && !waits {
		tag, err = tx.e.store.IdleTag(r.Queue, r.Level)
	}
	tx.setServed(at, tag)
	return tag, err
}

// lowestTag is the lowest tag of those who wait at a level, whatever their tasks.
func (tx *txn) lowestTag(r *store.Row) (tag int64, waits bool, err error) {
	for task := range tx.queueOf(r.Queue).tasks {
		first, found, err := tx.e.store.FirstTag(r.Queue, task, r.Level)
		if err != nil {
			return 0, false, err
		}
		if found && (!waits || first < tag) {
			tag, waits = first, true
		}
	}
	return tag, waits, nil
}

func (tx *txn) setServed(at level, tag int64) {
	if tx.servedTags == nil {
		tx.servedTags = map[level]int64{}
	}
	tx.servedTags[at] = tag
}

// enterTurn makes the owner of a job that has become ready active, beside the first of those
// who wait for the same task: whoever serves the one serves the other. (The tag that was
// served last may be that of a task which other pools serve, faster or more slowly.) Where
// nobody waits for the task it is beside the one who was served last.
func (tx *txn) enterTurn(r *store.Row) error {
	if !r.Turn {
		return nil
	}
	t, err := tx.e.store.TurnOf(r.Queue, r.Task, r.Level, r.Owner)
	if err != nil || t != nil && t.Active {
		return err
	}
	first, waits, err := tx.e.store.FirstTag(r.Queue, r.Task, r.Level)
	if err == nil && !waits {
		first, err = tx.served(r)
	}
	if err != nil {
		return err
	}
	if t == nil {
		t = &store.Turn{Level: r.Level, Owner: r.Owner}
	}
	t.Tag, t.Active = order.Enter(t.Tag, first), true
	return tx.e.store.PutTurn(r.Queue, r.Task, t)
}

// leaveTurn makes the owner of a ready job that goes elsewhere idle, where it was the
// last one.
func (tx *txn) leaveTurn(r *store.Row) error {
	if r.State != job.Ready || !r.Turn {
		return nil
	}
	r.Turn = false
	others, err := tx.e.store.HeadsOf(r, 1)
	if err != nil || len(others) > 0 {
		return err
	}
	t, err := tx.e.store.TurnOf(r.Queue, r.Task, r.Level, r.Owner)
	if err != nil || t == nil {
		return err
	}
	t.Active = false
	return tx.e.store.PutTurn(r.Queue, r.Task, t)
}

// serveTurn lets a ready job start by its owner's turn, of which it is not known whether
// it is the first one.
func (tx *txn) serveTurn(r *store.Row) error {
	if !r.Turn {
		return nil
	}
	others, err := tx.e.store.HeadsOf(r, 1)
	if err != nil {
		return err
	}
	t, err := tx.e.store.TurnOf(r.Queue, r.Task, r.Level, r.Owner)
	if err != nil || t == nil {
		return err
	}
	t.Active = len(others) > 0
	return tx.serve(r, t)
}

// serve moves an owner's turn on by the start of a job.
func (tx *txn) serve(r *store.Row, t *store.Turn) error {
	r.Turn = false
	served := t.Tag
	tx.setServed(level{r.Queue, r.Level}, served)
	t.Tag = order.Served(t.Tag, tx.rules(tx.queueOf(r.Queue)).Weight(r.Owner))
	err := tx.e.store.PutTurn(r.Queue, r.Task, t)
	if tx.e.serves++; err != nil || tx.e.serves%dropEvery != 0 {
		return err
	}
	lowest, waits, err := tx.lowestTag(r)
	if err != nil {
		return err
	}
	if waits { // nobody will enter with a lower one
		served = min(served, lowest)
	}
	return tx.e.store.DropTurns(r.Queue, r.Level, served, 2*dropEvery)
}

// dropEvery is after how many starts owners are forgotten that have been away for long.
const dropEvery = 32

// walk is a way through the waiting jobs of a queue whose order was changed, to give
// them new places, in slices. Meanwhile jobs are taken by level and rank.
type walk struct {
	groups []store.Group
	after  int64 // the last id that was looked at in the first of the groups
}

const (
	walkFor  = time.Millisecond
	walkJobs = 200
	walkSoon = 2 * time.Millisecond
)

// startWalk begins a walk through the jobs that wait in a queue.
func (tx *txn) startWalk(q *queue) error {
	tx.setWalk(q, &walk{groups: tx.waitingGroups(q)})
	return tx.e.store.PutWalked(q.id, 0)
}

func (tx *txn) setWalk(q *queue, w *walk) {
	if tx.walks == nil {
		tx.walks = map[*queue]*walk{}
	}
	tx.walks[q] = w
}

func (tx *txn) walkOf(q *queue) *walk {
	if w, set := tx.walks[q]; set {
		return w
	}
	return q.walk
}

func (tx *txn) waitingGroups(q *queue) (all []store.Group) {
	tx.eachTask(q, nil, func(task int64) { all = append(all, waitingIn(q, task)...) })
	return all
}

func waitingIn(q *queue, task int64) []store.Group {
	return []store.Group{{Queue: q.id, Task: task, State: job.Ready}, {Queue: q.id, Task: task, State: job.Held}}
}

// recoverWalks begins those walks again that were under way.
func (e *Engine) recoverWalks() {
	for _, q := range e.view.queues {
		if !q.walked {
			continue
		}
		q.walk = new(walk)
		for task := range q.tasks {
			q.walk.groups = append(q.walk.groups, waitingIn(q, task)...)
		}
		e.walking[q], q.walking = true, true
	}
}

// walkOn goes on with the walks, a slice of one.
func (tx *txn) walkOn() error {
	for q := range tx.e.walking {
		if !tx.passes(thingPlaces, q.id) {
			return tx.walkSlice(q)
		}
	}
	return nil
}

func (tx *txn) walkSlice(q *queue) error {
	w := tx.walkOf(q)
	if w == nil {
		return nil
	}
	next := *w
	began := time.Now()
	for len(next.groups) > 0 && time.Since(began) < walkFor {
		g := next.groups[0]
		rows, err := tx.e.store.Waiting(g.Queue, g.Task, g.State, next.after, walkJobs)
		if err != nil {
			return err
		}
		for _, r := range rows {
			if err := tx.replace(r, q); err != nil {
				return err
			}
			next.after = r.ID
		}
		if len(rows) < walkJobs {
			next = walk{groups: next.groups[1:]}
		}
	}
	if len(next.groups) > 0 {
		tx.setWalk(q, &next)
		return nil
	}
	tx.setWalk(q, nil)
	return errors.Join(tx.e.store.PutWalked(q.id, -1), tx.e.store.ForgetTurns(q.id))
}

// replace gives a waiting job its place by the rules of now.
func (tx *txn) replace(r *store.Row, q *queue) error {
	if r.State == job.Held && r.Rank == 0 {
		return nil // it has no place before it is let go
	}
	if err := tx.leaveTurn(r); err != nil {
		return err
	}
	if tx.rules(q).Order == job.ByAgeing {
		r.Rank = 0 // the boost may have changed
	}
	due := r.ReadyAt
	if due == 0 {
		due = max(r.EnqueuedAt, r.RunAt)
	}
	tx.rank(r, q, due)
	r.Turn = r.State == job.Ready && tx.rules(q).Turns != ""
	return errors.Join(tx.enterTurn(r), tx.e.store.PutPlace(r))
}

func (tx *txn) publishPlaces() {
	for at, tag := range tx.servedTags {
		tx.e.lastTags[at] = tag
	}
	for q, w := range tx.walks {
		q.walk = w
		if q.walking != (w != nil) {
			tx.e.view.mu.Lock()
			q.walking = w != nil
			tx.e.view.mu.Unlock()
		}
		if w == nil {
			delete(tx.e.walking, q)
		} else {
			tx.e.walking[q] = true
		}
	}
}

// awaitsStart notes until when a job must have been started.
func (tx *txn) awaitsStart(r *store.Row) {
	if r.StartBy != 0 && r.StartedAt == 0 && (tx.nextLate == 0 || r.StartBy < tx.nextLate) {
		tx.nextLate = r.StartBy
	}
}

// late skips jobs that have not been started in time.
func (tx *txn) late() error {
	if tx.nextLate == 0 || tx.nextLate > tx.now {
		return nil
	}
	const most = 500
	rows, err := tx.e.store.TooLate(tx.now, most+tx.room(thingLate))
	if err != nil {
		return err
	}
	tx.staleLate = true
	for _, r := range rows {
		if tx.passes(thingLate, r.ID) {
			continue
		}
		if err := tx.skipLate(r); err != nil {
			return err
		}
	}
	return nil
}

func (tx *txn) skipLate(r *store.Row) error {
	return tx.finish(r, job.Skipped, job.TooLate, "", job.ByStartBy)
}

// isLate tells whether a ready job may no longer be started.
func (tx *txn) isLate(r *store.Row) bool {
	return r.StartBy != 0 && r.StartedAt == 0 && r.StartBy <= tx.now
}

// PassLane lets the jobs behind a dead letter, or behind a job that waits for its next
// attempt, go on.
func (e *Engine) PassLane(ctx context.Context, queue, lane string) error {
	return e.record(ctx, "pass_lane", 0, map[string]string{"queue": queue, "lane": lane}, func(tx *txn) (func(int64) error, error) {
		q := tx.queue(queue)
		if q == nil {
			return nil, noQueue(queue)
		}
		return nil, tx.passLane(q, lane)
	})
}

// Starts tells the latest starts of a queue, the latest first, and what each overtook, of
// jobs that were started later and of the oldest that still wait.
func (e *Engine) Starts(ctx context.Context, queue string, most int) ([]job.Start, error) {
	e.view.mu.RLock()
	q := e.view.queues[queue]
	if q == nil {
		e.view.mu.RUnlock()
		return nil, noQueue(queue)
	}
	all := slices.Clone(q.starts[max(len(q.starts)-startsKept, 0):])
	e.view.mu.RUnlock()
	started := len(all)
	for _, g := range e.groups(func(g store.Group) bool { return g.Queue == q.id && g.State == job.Ready }) {
		waiting, err := e.store.OldestWaiting(ctx, g.Queue, g.Task, 2*startsKept-len(all))
		if err != nil {
			return nil, err
		}
		all = append(all, waiting...)
	}
	job.Overtakings(all[:started], all[started:])
	all = all[:started]
	slices.Reverse(all)
	return all[:min(most, len(all))], nil
}

func (tx *txn) passLane(q *queue, lane string) error {
	id, err := tx.e.store.LaneHolder(q.id, lane)
	if err != nil {
		return err
	}
	if id == 0 {
		return job.Fault(job.NotFound, "nothing waits in lane %q of queue %s", lane, q.name)
	}
	r, err := tx.e.store.Row(id)
	switch {
	case err != nil:
		return err
	case r == nil || r.State == job.Dead || r.State == job.Backoff:
		return tx.leaveLane(&store.Row{ID: id, Queue: q.id, Lane: lane})
	}
	return job.Fault(job.WrongState, "lane %q of queue %s goes on by itself: job %d is %s", lane, q.name, id, r.State)
}
