package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// act applies an operator's action to one job, records it and answers the job
// as it stands then. What is changed may have had another payload before, which is kept
// with the job.
func (e *Engine) act(ctx context.Context, action string, id int64, detail any, change func(tx *txn, r *store.Row) (before json.RawMessage, err error)) (job.Job, error) {
	err := e.record(ctx, action, id, detail, func(tx *txn) (then func(action int64) error, err error) {
		row, err := tx.e.store.Row(id)
		if err == nil && row == nil {
			err = noJob(id)
		}
		if err != nil {
			return nil, err
		}
		before, err := change(tx, row)
		if before == nil {
			return nil, err
		}
		return func(action int64) error { return tx.e.store.KeepEdited(id, action, before) }, err
	})
	if err != nil {
		return job.Job{}, err
	}
	return e.Job(ctx, id)
}

// record applies an action and records it, unless it is the repetition of the
// same call. What needs the action's number follows then.
func (e *Engine) record(ctx context.Context, action string, id int64, detail any, change func(tx *txn) (then func(action int64) error, err error)) error {
	call := callOf(ctx)
	same := identify(call)
	return e.do(ctx, func(tx *txn) error {
		if r, err := tx.replayed(same); r != nil || err != nil {
			return err
		}
		then, err := change(tx)
		if err != nil {
			return err
		}
		words, err := json.Marshal(detail)
		if err != nil {
			return err
		}
		tx.note(same, id)
		number, err := tx.e.store.InsertAction(tx.now, call.Principal, action, id, string(words))
		if err == nil && then != nil {
			err = then(number)
		}
		return err
	})
}

func noJob(id int64) error { return job.Fault(job.NotFound, "there is no job %d", id) }

// Cancel ends a job that is not finished. One that runs is asked to end; it is
// cancelled when its lease ends otherwise than done.
func (e *Engine) Cancel(ctx context.Context, id int64) (job.Job, error) {
	return e.act(ctx, "cancel", id, struct{}{}, unedited((*txn).cancel))
}

// unedited makes a change of one that leaves the payload alone.
func unedited(change func(tx *txn, r *store.Row) error) func(tx *txn, r *store.Row) (json.RawMessage, error) {
	return func(tx *txn, r *store.Row) (json.RawMessage, error) { return nil, change(tx, r) }
}

func (tx *txn) cancel(r *store.Row) error {
	switch {
	case r.State.Finished():
		return job.Fault(job.WrongState, "job %d is %s already; only an unfinished job can be cancelled", r.ID, r.State)
	case r.State == job.Running:
		return tx.askCancel(r)
	}
	return tx.finish(r, job.Cancelled, job.Asked, "", job.ByCancel)
}

func (tx *txn) askCancel(r *store.Row) error {
	if r.CancelAskedAt != 0 {
		return nil
	}
	l := tx.lease(r.ID)
	if l == nil {
		return fmt.Errorf("job %d runs without a lease", r.ID)
	}
	row, asked := *l.row, *l
	row.CancelAskedAt = tx.now
	asked.row = &row
	tx.putLease(r.ID, &asked)
	tx.asked = append(tx.asked, &asked)
	return tx.e.store.AskCancel(&row)
}

// Requeuing is what a requeue may change.
type Requeuing struct {
	// Payload replaces the payload, and PayloadPatch edits it (RFC 7396), where they
	// are not nil; one of the two.
	Payload, PayloadPatch json.RawMessage
	// ForgetSteps makes steps that were done be done again.
	ForgetSteps bool
}

// Requeue gives a finished job a new round; its history stays.
func (e *Engine) Requeue(ctx context.Context, id int64, how Requeuing) (job.Job, error) {
	if how.Payload != nil && how.PayloadPatch != nil {
		return job.Job{}, job.Wrong("the job was not requeued", []job.FieldError{{Field: "payload_patch", Message: "stands beside payload; give one of the two"}})
	}
	detail := map[string]any{}
	var wasDone bool
	j, err := e.act(ctx, "requeue", id, detail, func(tx *txn, r *store.Row) (json.RawMessage, error) {
		wasDone = r.Reason == string(job.OutcomeRefused)
		before, err := tx.requeue(r, how, 0)
		if before != nil {
			detail["payload"] = "edited"
		}
		return before, err
	})
	if err == nil && wasDone {
		j.Warnings = append(j.Warnings, job.Warning{Code: job.WarnWorkDone, Message: "The work of this job was done already, and only its follow-ups were refused: it is done again now. Accept such a job instead where that must not be."})
	}
	return j, err
}

// requeue gives a finished job a new round by an operation, 0 for none, and answers its
// payload as it was where that was changed.
func (tx *txn) requeue(r *store.Row, how Requeuing, operation int64) (before json.RawMessage, err error) {
	if !r.State.Finished() {
		return nil, job.Fault(job.WrongState, "job %d is %s; only a finished job can be requeued", r.ID, r.State)
	}
	if err := tx.e.store.LoadPayload(r); err != nil {
		return nil, err
	}
	if how.Payload != nil || how.PayloadPatch != nil {
		before = json.RawMessage(r.Payload)
		edited := how.Payload
		if edited == nil {
			if edited, err = job.MergePatch(before, how.PayloadPatch); err != nil {
				return nil, job.Fault(job.Invalid, "the payload of job %d cannot be patched: %v", r.ID, err)
			}
		}
		if err := job.Wrong("the job was not requeued", (&job.Spec{Task: "any", Payload: edited}).Check(tx.e.opts.MaxPayload)); err != nil {
			return nil, err
		}
		r.Payload, r.PayloadBytes = edited, len(edited)
	}
	if err := tx.stillAlone(r); err != nil {
		return nil, err
	}
	if how.ForgetSteps {
		if err := tx.e.store.ForgetSteps(r.ID); err != nil {
			return nil, err
		}
	}
	if err := tx.resolveAgain(r); err != nil {
		return nil, err
	}
	if r.Reason == string(job.OutcomeRefused) {
		if err := tx.e.store.DropRefused(r.ID); err != nil {
			return nil, err
		}
	}
	r.Round++
	r.Operation = operation
	tx.staleDrop = tx.nextDrop != 0 // its result goes
	r.Rank, r.NextAt, r.RunAt, r.StartBy = 0, 0, 0, 0
	if err := tx.place(r, job.ByRequeue); err != nil {
		return nil, err
	}
	return before, tx.e.store.Requeue(r)
}

// StartNow makes a job that waits for its time, or for its next attempt, ready at
// once.
func (e *Engine) StartNow(ctx context.Context, id int64) (job.Job, error) {
	return e.act(ctx, "start_now", id, struct{}{}, unedited((*txn).startNow))
}

func (tx *txn) startNow(r *store.Row) error {
	if r.State != job.Scheduled && r.State != job.Backoff {
		return job.Fault(job.WrongState, "job %d is %s; only a scheduled job, or one in backoff, can be started now", r.ID, r.State)
	}
	r.Rank, r.NextAt = 0, 0
	if err := tx.place(r, job.ByStartNow); err != nil {
		return err
	}
	return tx.e.store.Wait(r)
}

// discard removes a finished job by an action.
func (tx *txn) discard(r *store.Row, action int64) error {
	if !r.State.Finished() {
		return job.Fault(job.WrongState, "job %d is %s; only a finished job can be discarded: cancel it first", r.ID, r.State)
	}
	return tx.remove(r, action)
}

// purge removes a job that waits by an action.
func (tx *txn) purge(r *store.Row, action int64) error {
	if r.State.Finished() || r.State == job.Running {
		return job.Fault(job.WrongState, "job %d is %s; only what waits is purged", r.ID, r.State)
	}
	return tx.remove(r, action)
}

// remove takes a job out of every list and count. It keeps its state, so that it can be
// brought back.
func (tx *txn) remove(r *store.Row, action int64) error {
	removed := tx.e.served()
	if _, byOperation := tx.removal(action); byOperation {
		removed = store.HeldByOperation
	} else {
		tx.sweeps(removed + restorableFor.Milliseconds())
	}
	return errors.Join(tx.recount(r, -1), tx.e.store.Remove(r.ID, action, removed), tx.leaveLane(r))
}

// bringBack takes back a removal. A job that waited finds its old place again.
func (tx *txn) bringBack(r *store.Row) error {
	tx.staleSweep = true
	if err := errors.Join(tx.recount(r, +1), tx.e.store.Restore(r.ID)); err != nil || r.State.Finished() {
		return err
	}
	if r.State == job.Backoff {
		tx.awaits(r.NextAt)
		return nil
	}
	if err := tx.place(r, job.ByUndo); err != nil {
		return err
	}
	return tx.e.store.Wait(r)
}

// restorableFor is how long a removed job can be restored, in time in which the file is
// served; then it is swept.
const restorableFor = 10 * time.Minute

// Delete removes a finished job, and tells until when it can be restored.
func (e *Engine) Delete(ctx context.Context, id int64) (until job.Time, err error) {
	err = e.record(ctx, "delete", id, struct{}{}, func(tx *txn) (func(int64) error, error) {
		r, err := tx.e.store.Row(id)
		switch {
		case err != nil:
			return nil, err
		case r == nil:
			return nil, noJob(id)
		case !r.State.Finished():
			return nil, job.Fault(job.WrongState, "job %d is %s; only a finished job can be deleted: cancel it first", id, r.State)
		}
		until = tx.now.Add(restorableFor)
		return func(action int64) error { return tx.remove(r, action) }, nil
	})
	if err == nil && until == 0 { // the same call again
		until = e.now().Add(restorableFor)
	}
	return until, err
}

// Restore takes back the removal of a job.
func (e *Engine) Restore(ctx context.Context, id int64) (job.Job, error) {
	err := e.record(ctx, "restore", id, struct{}{}, func(tx *txn) (func(int64) error, error) {
		r, err := tx.e.store.Removed(id)
		if err != nil {
			return nil, err
		}
		if r == nil {
			return nil, job.Fault(job.NotFound, "no removed job %d is there to be restored; a removal can be taken back for %s", id, job.Roughly(restorableFor))
		}
		return nil, tx.bringBack(r)
	})
	if err != nil {
		return job.Job{}, err
	}
	return e.Job(ctx, id)
}

// sweep deletes what can no longer be restored; it is counted on, what never finished as
// cancelled.
func (tx *txn) sweep() error {
	if tx.nextSweep == 0 || tx.nextSweep > tx.e.served() {
		return nil
	}
	const most = 200
	old, err := tx.e.store.Sweepable(tx.e.served()-restorableFor.Milliseconds(), most+tx.room(thingSweep))
	if err == nil && len(old) == 0 {
		old, err = tx.sweepableOf(most + tx.room(thingSweep))
	}
	if err != nil {
		return err
	}
	tx.staleSweep = true
	tx.staleDrop = tx.nextDrop != 0
	for _, r := range old {
		if tx.passes(thingSweep, r.ID) {
			continue
		}
		g := store.Group{Queue: r.Queue, Task: r.Task, State: r.State}
		if !r.State.Finished() {
			g.State = job.Cancelled
		}
		tx.countPast(g, 1)
		if err := tx.sweepLater(r.ID); err != nil {
			return err
		}
	}
	return tx.sweepAll()
}

// nextToSweep is how long the file must have been served before something is to be
// swept; 0 for nothing.
func (e *Engine) nextToSweep() (int64, error) {
	return e.nextToSweepBeside(e.removals)
}

func (e *Engine) nextToSweepBeside(removals map[int64]removal) (next int64, err error) {
	first, found, err := e.store.FirstRemoved()
	if found {
		next = first + restorableFor.Milliseconds()
	}
	for _, r := range removals {
		if at := r.last + restorableFor.Milliseconds(); !r.underWay && (next == 0 || at < next) {
			next = at
		}
	}
	return next, err
}
