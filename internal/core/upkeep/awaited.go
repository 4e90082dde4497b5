package upkeep

import (
	"errors"
	"time"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// A finished job, and its result, is kept while an unfinished one waits for it. Which jobs these are is
// found by a walk over those that others wait for, or did: to look with each end would cost every
// job for what is rarely wanted.
const (
	awaitedEvery = 10 * time.Minute
	awaitedSoon  = 5 * time.Millisecond
	awaitedJobs  = 200
	awaitedFor   = 2 * time.Millisecond
)

// walkAwaited goes on with the walk, or begins it again when it is time.
func walkAwaited(tx *commit.Tx) error {
	began, w := time.Now(), tx.Ties.Walk.Get()
	if began.Before(w.Next) || tx.Passes(commit.ThingAwaited, 0) {
		return nil
	}
	if began.Before(tx.Retention.RestsUntil()) {
		w.Next = tx.Retention.RestsUntil()
		tx.Ties.Walk.Set(w)
		return nil
	}
	for n := 0; n < awaitedJobs && time.Since(began) < awaitedFor; n++ {
		id, err := tx.Store.NextNeeded(w.After)
		if err != nil {
			return err
		}
		if id == 0 {
			w.After, w.Next = 0, began.Add(awaitedEvery)
			tx.Ties.Walk.Set(w)
			return errors.Join(endVain(tx), forgetEmpty(tx))
		}
		if err := lookAfter(tx, id); err != nil {
			return err
		}
		w.After = id
	}
	w.Next = began.Add(awaitedSoon)
	tx.Ties.Walk.Set(w)
	return nil
}

// lookAfter lets a finished job go that was kept long enough, once nothing waits for it any more.
// What waits in vain for as long as dead letters are kept is cancelled.
func lookAfter(tx *commit.Tx, id int64) error {
	r, err := tx.Store.Row(id)
	if err != nil || r == nil || !r.State.Finished() || r.Awaited == 0 || r.FinishedAt.Add(keptFor(tx, r.Queue, r.State)) > tx.Now {
		return err
	}
	awaited, err := tx.Store.IsAwaited(id)
	switch {
	case err != nil:
		return err
	case awaited && lifecycle.HowEnded(r.State, job.Reason(r.Reason)) == lifecycle.EndedOtherwise:
		tx.Ties.End(id, lifecycle.EndedLongAgo)
		return nil
	case awaited:
		return nil
	}
	tx.Retention.Next.Set(time.Now())
	return tx.Store.Unawait(id, store.AwaitedByJobs)
}

// keptFor is how long finished jobs of a queue are kept.
func keptFor(tx *commit.Tx, queue int64, s job.State) time.Duration {
	return tx.Settings.Owned().Retention.For(tx.Settings.Queue(tx.Queues.Get(queue)), s).Go()
}

// forgetEmpty deletes batches without a job that is kept: those that were closed so, and open ones to which
// nothing was added for as long as dead letters are kept.
func forgetEmpty(tx *commit.Tx) error {
	closed, err := tx.Store.EmptyBatches(false, tx.Now, awaitedJobs)
	if err != nil {
		return err
	}
	open, err := tx.Store.EmptyBatches(true, tx.Now.Add(-tx.Settings.Owned().Retention.For(nil, job.Dead).Go()), awaitedJobs)
	for _, id := range append(closed, open...) {
		err = errors.Join(err, tx.Ties.DropBatch(id))
	}
	return err
}

// endVain cancels jobs that have waited long enough for ones that were deleted.
func endVain(tx *commit.Tx) error {
	edges, err := tx.Store.GoneBefore(tx.Now, awaitedJobs)
	for _, e := range edges {
		if err := endVainly(tx, e); err != nil {
			return err
		}
	}
	return err
}

// endVainly cancels a job that waits for one which was deleted, if that was long ago.
func endVainly(tx *commit.Tx, e store.Edge) error {
	r, err := tx.Store.Row(e.Job)
	if err != nil || r == nil || r.State != job.Held || e.Gone.Add(keptFor(tx, r.Queue, job.Dead)) > tx.Now {
		return err
	}
	return place.Finish(tx, r, job.Cancelled, job.DependencyDead, "", lifecycle.ByDependency)
}

// isAwaited tells whether an unfinished job waits for one, or has waited.
func isAwaited(tx *commit.Tx, r *store.Row) (bool, error) {
	if r.Awaited&store.AwaitedByLast != 0 {
		return true, nil
	}
	return tx.Store.IsAwaited(r.ID)
}

// swept notes what it means to others that a removed job is deleted.
func swept(tx *commit.Tx, r *store.Row) {
	how := lifecycle.SweptFinished
	if !r.State.Finished() {
		how = lifecycle.SweptUnfinished
	}
	if r.Awaited&store.AwaitedByJobs != 0 {
		tx.Ties.End(r.ID, how)
	}
	if r.Batch == 0 {
		return
	}
	c := tx.Ties.Change(r.Batch)
	if c.Gone++; how == lifecycle.SweptUnfinished {
		c.By[r.State]--
		c.By[job.Cancelled]++
	}
}
