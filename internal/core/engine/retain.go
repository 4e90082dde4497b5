package engine

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// Finished jobs that were kept long enough are removed in slices: each keeps a
// transaction for no longer than that, or removes some more than the transaction itself
// has finished, so that it keeps pace. While there are more the next slice comes soon.
// Between rounds there is a pause, longer where there are more queues to look at; while no
// job finishes it lasts until the first is no longer kept.
const (
	retainFor   = 2 * time.Millisecond
	retainJobs  = 100
	retainSoon  = 2 * time.Millisecond
	retainEvery = 2 * time.Second
	retainEach  = time.Millisecond
	retainIdle  = 10 * time.Minute
)

// Retention rests for a while when it may go by a wrong clock: the wall clock has jumped,
// or the service starts long after it has last written.
const (
	retainRests   = 30 * time.Minute
	jumpTooFar    = time.Hour
	awayTooLong   = 24 * time.Hour
	retainResting = "finished jobs are kept longer until %s: %s"
)

// watchClock notes a jump of the wall clock.
func (e *Engine) watchClock() {
	drift := e.opts.Wall().Round(0).Sub(e.openedWall) - time.Since(e.opened)
	if jump := drift - e.drift; jump.Abs() > jumpTooFar {
		e.restRetention("the wall clock has jumped by " + job.Roughly(jump.Abs()))
	}
	e.drift = drift
}

// restRetention lets nothing be removed for a while.
func (e *Engine) restRetention(why string) {
	e.retainAfter = time.Now().Add(retainRests)
	note := fmt.Sprintf(retainResting, e.now().Add(retainRests), why)
	e.log.Warn(note)
	e.resting.Store(&note)
}

// Resting says why finished jobs are not removed for now; empty where they are.
func (e *Engine) Resting() string {
	if note := e.resting.Load(); note != nil {
		return *note
	}
	return ""
}

// retain removes finished jobs that were kept long enough, in the order in which they
// have finished, as far as a slice reaches; the next one goes on with the same queue.
func (tx *txn) retain() error {
	e := tx.e
	began := time.Now()
	switch {
	case began.Before(e.nextRetain):
		return nil
	case e.shortenings.Load() > 0:
		tx.nextRetain, tx.retained = began.Add(retainEvery), 0
		return nil
	case began.Before(e.retainAfter):
		tx.nextRetain, tx.retained = e.retainAfter, 0
		return nil
	case e.resting.Load() != nil:
		e.resting.Store(nil)
	}
	most := retainJobs + tx.finishes()*3/2
	if tx.firstGoes = e.firstGoes; e.retained == 0 {
		tx.firstGoes = 0 // a new round
	}
	for _, q := range tx.queuesFrom(e.retained) {
		for _, s := range job.States() {
			if !s.Finished() {
				continue
			}
			more, err := tx.retainState(q, s, most)
			if err != nil {
				return err
			}
			if more || time.Since(began) > retainFor {
				tx.nextRetain, tx.retained = time.Now().Add(retainSoon), q.id
				if !more {
					tx.retained++ // others of its states can wait for the next round
				}
				return nil
			}
		}
	}
	pause := retainIdle
	if tx.firstGoes != 0 {
		pause = min(pause, tx.firstGoes.Sub(tx.now))
	}
	tx.nextRetain, tx.retained = time.Now().Add(max(pause, e.betweenRounds())), 0
	return nil
}

// betweenRounds is how long retention pauses while jobs finish.
func (e *Engine) betweenRounds() time.Duration {
	return max(retainEvery, retainEach*time.Duration(len(e.view.queueOf)))
}

// finishes is how many jobs the transaction has finished.
func (tx *txn) finishes() (n int) {
	for _, d := range tx.counts {
		for state, change := range d {
			if job.State(state).Finished() {
				n += int(max(change, 0))
			}
		}
	}
	return n
}

// queuesFrom are the queues from an id on, in order of their ids.
func (tx *txn) queuesFrom(id int64) (all []*queue) {
	for _, q := range tx.e.view.queueOf {
		if q.id >= id {
			all = append(all, q)
		}
	}
	slices.SortFunc(all, func(a, b *queue) int { return int(a.id - b.id) })
	return all
}

// retainState removes jobs of a queue in a state, so many at most, and tells whether more
// may follow.
func (tx *txn) retainState(q *queue, s job.State, most int) (again bool, err error) {
	have := int64(0)
	for _, counts := range q.tasks {
		have += counts[s]
	}
	if have == 0 {
		return false, nil
	}
	keep := tx.owned().Retention.For(tx.queueDefaults(q), s).Go()
	before := tx.now.Add(-keep)
	over := int64(0)
	if s == job.Done {
		over = have - tx.owned().Retention.Most()
	}
	limit := most + tx.room(thingRetain)
	rows, err := tx.e.store.FirstFinished(q.id, s, limit)
	if err != nil {
		return false, err
	}
	removed := int64(0)
	for _, r := range rows {
		if tx.passes(thingRetain, r.ID) {
			continue
		}
		if r.FinishedAt > before && removed >= over {
			if goes := r.FinishedAt.Add(keep); tx.firstGoes == 0 || goes < tx.firstGoes {
				tx.firstGoes = goes
			}
			break
		}
		if err := tx.retire(r); err != nil {
			return false, err
		}
		removed++
	}
	if err := tx.sweepAll(); err != nil {
		return false, err
	}
	tx.staleDrop = tx.staleDrop || removed > 0 && tx.nextDrop != 0
	return len(rows) == limit && removed > 0, nil
}

// retire takes a finished job out for good, all but its rows, which sweepAll deletes. It
// is counted on; its key answers on for as long as a dedupe may ask for it.
func (tx *txn) retire(r *store.Row) error {
	if err := tx.recount(r, -1); err != nil {
		return err
	}
	if r.Key != "" && (r.State == job.Done || r.State == job.Skipped) && r.EnqueuedAt.Add(job.LongestDedupe.Go()) > tx.now {
		if err := tx.e.store.KeepKey(r); err != nil {
			return err
		}
	}
	tx.countPast(store.Group{Queue: r.Queue, Task: r.Task, State: r.State}, 1)
	return errors.Join(tx.sweepLater(r.ID), tx.leaveLane(r))
}

// sweepLater deletes a job's rows, together with others unless some work is set aside:
// then each by itself, so that the one which fails is known.
func (tx *txn) sweepLater(id int64) error {
	if tx.hasAside {
		return tx.e.store.Sweep(id)
	}
	tx.swept = append(tx.swept, id)
	return nil
}

// sweepAll deletes the rows of the jobs that are gone.
func (tx *txn) sweepAll() error {
	ids := tx.swept
	tx.swept = nil
	return tx.e.store.Sweep(ids...)
}

// countPast counts jobs whose rows are gone.
func (tx *txn) countPast(g store.Group, n int64) {
	if tx.past == nil {
		tx.past = map[store.Group]int64{}
	}
	tx.past[g] += n
}

// flushPast writes what was counted.
func (tx *txn) flushPast() error {
	for g, n := range tx.past {
		if err := tx.e.store.CountPast(g.Queue, g.Task, g.State, n); err != nil {
			return err
		}
	}
	return nil
}

// publishPast keeps what was removed, and where the next slice goes on.
func (tx *txn) publishPast() {
	if !tx.nextRetain.IsZero() {
		tx.e.nextRetain, tx.e.retained, tx.e.firstGoes = tx.nextRetain, tx.retained, tx.firstGoes
	}
	changed := tx.finishes() > 0 || len(tx.queueSet) > 0 || tx.owns != nil
	if soon := time.Now().Add(tx.e.betweenRounds()); changed && tx.e.nextRetain.After(soon) {
		tx.e.nextRetain = soon
	}
	if !tx.nextForget.IsZero() {
		tx.e.nextForget = tx.nextForget
	}
	if tx.policyWalk != nil {
		tx.e.policyWalk = *tx.policyWalk
	}
	for g, n := range tx.past {
		if q := tx.e.view.queueOf[g.Queue]; q != nil {
			q.past[g.State] += n
		}
	}
}

// keeps tells how long finished jobs of a queue are kept, by state.
func (q *queue) keeps(r *job.Retention) map[job.State]job.Duration {
	all := map[job.State]job.Duration{}
	for _, s := range job.States() {
		if s.Finished() {
			all[s] = r.For(q.defaults, s)
		}
	}
	return all
}

// pastByState tells how many jobs of a queue were removed; nil where none were.
func (q *queue) pastByState() map[job.State]int64 {
	var all map[job.State]int64
	for _, s := range job.States() {
		if q.past[s] > 0 {
			if all == nil {
				all = map[job.State]int64{}
			}
			all[s] = q.past[s]
		}
	}
	return all
}
