package upkeep

import (
	"cmp"
	"errors"
	"slices"
	"time"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
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
	retainEvery = 500 * time.Millisecond
	retainEach  = time.Millisecond
	retainIdle  = 10 * time.Minute
)

// Retention rests for a while when it may go by a wrong clock: the wall clock has jumped,
// or the service starts long after it has last written.
const (
	jumpTooFar  = time.Hour
	awayTooLong = 24 * time.Hour
)

// watchClock notes a jump of the wall clock.
func watchClock(tx *commit.Tx) error {
	if jump := tx.Retention.Jumped(); jump > jumpTooFar {
		tx.Options().Log.Warn(tx.Retention.Rest("the wall clock has jumped by " + sentence.Roughly(jump)))
	}
	return nil
}

// retain removes finished jobs that were kept long enough, in the order in which they
// have finished, as far as a slice reaches; the next one goes on with the same queue.
func retain(tx *commit.Tx) error {
	r := &tx.Retention
	began := time.Now()
	switch {
	case began.Before(r.Next.Get()):
		return nil
	case r.Held():
		goOn(tx, began.Add(retainEvery), 0)
		return nil
	case began.Before(r.RestsUntil()):
		goOn(tx, r.RestsUntil(), 0)
		return nil
	}
	r.EndRest()
	most := retainJobs + tx.Counts.Finishes()*5/4
	if r.From.Get() == 0 {
		r.FirstGoes.Set(0) // a new round
	}
	for _, q := range queuesFrom(tx, r.From.Get()) {
		for _, s := range job.FinishedStates() {
			more, err := retainState(tx, q, s, most)
			if err != nil {
				return err
			}
			if more {
				goOn(tx, time.Now().Add(retainSoon), q.ID)
				return nil
			}
			if time.Since(began) > retainFor { // others of its states can wait for the next round
				goOn(tx, time.Now().Add(retainSoon), q.ID+1)
				return nil
			}
		}
	}
	pause := retainIdle
	if first := r.FirstGoes.Get(); first != 0 {
		pause = min(pause, first.Sub(tx.Now))
	}
	goOn(tx, time.Now().Add(max(pause, betweenRounds(tx))), 0)
	return nil
}

// goOn says when retention goes on, and with which queue; 0 for a new round.
func goOn(tx *commit.Tx, at time.Time, from int64) {
	tx.Retention.Next.Set(at)
	tx.Retention.From.Set(from)
}

// Hasten lets retention look again soon where jobs have finished, or are kept otherwise.
func Hasten(tx *commit.Tx) error {
	if tx.Counts.Finishes() == 0 && !tx.Settings.Changed() {
		return nil
	}
	if soon := time.Now().Add(betweenRounds(tx)); tx.Retention.Next.Get().After(soon) {
		tx.Retention.Next.Set(soon)
	}
	return nil
}

// betweenRounds is how long retention pauses while jobs finish.
func betweenRounds(tx *commit.Tx) time.Duration {
	return max(retainEvery, retainEach*time.Duration(tx.Queues.Len()))
}

// queuesFrom are the queues from an id on, in order of their ids.
func queuesFrom(tx *commit.Tx, id int64) (all []*memory.Named) {
	for _, q := range tx.Queues.All() {
		if q.ID >= id {
			all = append(all, q)
		}
	}
	slices.SortFunc(all, func(a, b *memory.Named) int { return cmp.Compare(a.ID, b.ID) })
	return all
}

// retainState removes jobs of a queue in a state, so many at most, and tells whether more
// may follow.
func retainState(tx *commit.Tx, q *memory.Named, s job.State, most int) (again bool, err error) {
	have := tx.Counts.Queue(q.ID)[s]
	if have == 0 {
		return false, nil
	}
	keep := tx.Settings.Owned().Retention.For(tx.Settings.Queue(q), s).Go()
	before := tx.Now.Add(-keep)
	over := int64(0)
	if s == job.Done {
		over = have - tx.Settings.Owned().Retention.MaxDoneJobs()
	}
	limit := most + tx.Room(commit.ThingRetain)
	rows, err := tx.Store.FirstFinished(q.ID, s, limit)
	if err != nil {
		return false, err
	}
	removed := int64(0)
	var gone going
	for _, r := range rows {
		if tx.Passes(commit.ThingRetain, r.ID) {
			continue
		}
		if r.FinishedAt > before && removed >= over {
			if goes, first := r.FinishedAt.Add(keep), tx.Retention.FirstGoes.Get(); first == 0 || goes < first {
				tx.Retention.FirstGoes.Set(goes)
			}
			break
		}
		if err := retire(tx, r, &gone); err != nil {
			return false, err
		}
		removed++
	}
	if err := gone.sweepAll(tx); err != nil {
		return false, err
	}
	if removed > 0 {
		tx.Times.Results.RereadAny()
	}
	return len(rows) == limit && removed > 0, nil
}

// retire takes a finished job out for good, all but its rows, which are deleted with those of others. It
// is counted on; its key answers on for as long as a dedupe may ask for it.
func retire(tx *commit.Tx, r *store.Row, gone *going) error {
	if err := place.Recount(tx, r, -1); err != nil {
		return err
	}
	if r.Key != "" && (r.State == job.Done || r.State == job.Skipped) && r.EnqueuedAt.Add(job.MaxDedupe.Go()) > tx.Now {
		if err := tx.Store.KeepKey(r); err != nil {
			return err
		}
	}
	tx.Counts.Retire(store.Group{Queue: r.Queue, Task: r.Task, State: r.State}, 1)
	if r.Batch != 0 {
		tx.Ties.Change(r.Batch).Gone++
	}
	return errors.Join(gone.sweep(tx, r.ID), place.LeaveLane(tx, r))
}

// going are jobs whose rows are to be deleted together.
type going []int64

// sweep deletes a job's rows, together with others unless some work is set aside: then each
// by itself, so that the one which fails is known.
func (g *going) sweep(tx *commit.Tx, id int64) error {
	if tx.HasAside() {
		return tx.Store.Sweep(id)
	}
	*g = append(*g, id)
	return nil
}

// sweepAll deletes the rows of the jobs that are gone.
func (g *going) sweepAll(tx *commit.Tx) error {
	return tx.Store.Sweep(*g...)
}
