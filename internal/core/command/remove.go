package command

import (
	"context"
	"errors"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Discard removes a finished job by an action.
func Discard(_ *commit.View, r *store.Row) (commit.Act, error) {
	if !r.State.Finished() {
		return nil, job.Fault(job.WrongState, "job %d is %s; only a finished job can be discarded: cancel it first", r.ID, r.State)
	}
	return removing(r), nil
}

// Purge removes a job that waits by an action.
func Purge(_ *commit.View, r *store.Row) (commit.Act, error) {
	if r.State.Finished() || r.State == job.Running {
		return nil, job.Fault(job.WrongState, "job %d is %s; only waiting jobs are purged", r.ID, r.State)
	}
	return removing(r), nil
}

func removing(r *store.Row) commit.Act {
	return func(tx *commit.Tx, action int64) error { return remove(tx, r, action) }
}

// remove takes a job out of every list and count. It keeps its state, so that it can be
// brought back.
func remove(tx *commit.Tx, r *store.Row, action int64) error {
	removed := tx.Served()
	if _, byOperation := tx.Removals.Of(action); byOperation {
		removed = store.HeldByOperation
	} else {
		tx.Times.Sweep.By(removed + memory.RestorableFor.Milliseconds())
	}
	if err := waitsNoMore(tx, r); err != nil {
		return err
	}
	return errors.Join(place.Recount(tx, r, -1), tx.Store.Remove(r.ID, action, removed), place.LeaveLane(tx, r))
}

// BringBack takes back a removal. A job that waited finds its old place again.
func BringBack(tx *commit.Tx, r *store.Row) error {
	tx.Times.Sweep.Reread()
	if err := errors.Join(place.Recount(tx, r, +1), tx.Store.Restore(r.ID)); err != nil || r.State.Finished() {
		return err
	}
	if r.State == job.Backoff {
		tx.Times.Due.By(r.NextAt)
		return nil
	}
	if err := waitsAgain(tx, r); err != nil {
		return err
	}
	if err := place.Put(tx, r, lifecycle.ByUndo); err != nil {
		return err
	}
	return tx.Store.Wait(r)
}

// Discard removes a finished job, and tells until when it can be restored.
func (dk *Desk) Discard(ctx context.Context, id int64) (until job.Time, err error) {
	err = dk.c.Record(ctx, "discard", id, struct{}{}, func(v *commit.View) (commit.Act, error) {
		r, err := rowOf(v, id)
		if err != nil {
			return nil, err
		}
		if !r.State.Finished() {
			return nil, job.Fault(job.WrongState, "job %d is %s; only a finished job can be discarded: cancel it first", id, r.State)
		}
		until = v.Now.Add(memory.RestorableFor)
		return removing(r), nil
	})
	if err == nil && until == 0 { // the same call again
		until = dk.c.Now().Add(memory.RestorableFor)
	}
	return until, err
}

// Undiscard takes back the removal of a job.
func (dk *Desk) Undiscard(ctx context.Context, id int64) (job.Job, error) {
	err := dk.c.Record(ctx, "undiscard", id, struct{}{}, func(v *commit.View) (commit.Act, error) {
		r, err := v.Store.Removed(id)
		if err != nil {
			return nil, err
		}
		if r == nil || !v.Sees(r) {
			return nil, job.Fault(job.NotFound, "job %d is not among the removed jobs that can be restored; a removal can be undone for %s", id, sentence.Roughly(memory.RestorableFor))
		}
		return func(tx *commit.Tx, _ int64) error { return BringBack(tx, r) }, nil
	})
	if err != nil {
		return job.Job{}, err
	}
	return dk.read.Job(ctx, id)
}
