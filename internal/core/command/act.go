package command

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/after"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/read"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/mergepatch"
	"humblemule.example/job"
)

// act applies an operator's action to one job, records it and answers the job as it stands
// then.
func (dk *Desk) act(ctx context.Context, action string, id int64, detail any, check func(v *commit.View, r *store.Row) (commit.Act, error)) (job.Job, error) {
	err := dk.c.Record(ctx, action, id, detail, func(v *commit.View) (commit.Act, error) {
		r, err := rowOf(v, id)
		if err != nil {
			return nil, err
		}
		return check(v, r)
	})
	if err != nil {
		return job.Job{}, err
	}
	return dk.read.Job(ctx, id)
}

// rowOf reads the row of a job that is there.
func rowOf(v *commit.View, id int64) (*store.Row, error) {
	r, err := v.Store.Row(id)
	if err == nil && (r == nil || !v.Sees(r)) {
		err = read.NoJob(id)
	}
	return r, err
}

// QueueOf finds a queue by its name; an error where it is not there, or not in the scope of
// whoever gives the command.
func QueueOf(v *commit.View, name string) (*memory.Named, error) {
	if q := v.Queues.Find(name); q != nil && v.Scope.Sees(name, "") {
		return q, nil
	}
	return nil, read.NoQueue(name)
}

// Cancel ends a job that is not finished. One that runs is asked to end; it is
// cancelled when its lease ends and it is not done.
func (dk *Desk) Cancel(ctx context.Context, id int64) (job.Job, error) {
	return dk.act(ctx, "cancel", id, struct{}{}, Cancel)
}

// Cancel ends a job that is not finished, or asks one that runs to end.
func Cancel(_ *commit.View, r *store.Row) (commit.Act, error) {
	if r.State == job.Cancelled {
		return nil, nil // it is what was asked for
	}
	if r.State.Finished() {
		return nil, job.Fault(job.WrongState, "job %d is already %s; only an unfinished job can be cancelled", r.ID, r.State)
	}
	return func(tx *commit.Tx, _ int64) error {
		if r.State == job.Running {
			return askCancel(tx, r)
		}
		return place.Finish(tx, r, job.Cancelled, job.Asked, "", lifecycle.ByCancel)
	}, nil
}

// askCancel tells the handler of a running job to end.
func askCancel(tx *commit.Tx, r *store.Row) error {
	if r.CancelAskedAt != 0 {
		return nil
	}
	l := tx.Leases.Get(r.ID)
	if l == nil {
		return fmt.Errorf("job %d runs without a lease", r.ID)
	}
	row, asked := *l.Row, *l
	row.CancelAskedAt = tx.Now
	asked.Row = &row
	tx.Leases.Put(&asked)
	tx.News.Asked = append(tx.News.Asked, &asked)
	return tx.Store.AskCancel(&row)
}

// Requeue gives a finished job a new round; its history stays.
func (dk *Desk) Requeue(ctx context.Context, id int64, how api.Requeue) (job.Job, error) {
	if how.Payload != nil && how.PayloadPatch != nil {
		return job.Job{}, job.Wrong("the job was not requeued", []job.FieldError{{Field: "payload_patch", Message: "cannot be combined with payload; give one of the two"}})
	}
	detail := map[string]any{}
	var wasDone bool
	j, err := dk.act(ctx, "requeue", id, detail, func(v *commit.View, r *store.Row) (commit.Act, error) {
		wasDone = r.Reason == string(job.OutcomeRefused)
		if how.Payload != nil || how.PayloadPatch != nil {
			detail["payload"] = "edited"
		}
		return Requeue(v, r, how, 0)
	})
	if err == nil && wasDone {
		j.Warnings = append(j.Warnings, job.Warning{Code: job.WarnWorkDone, Message: "The work of this job was already done, and only its follow-ups were refused: a requeue does the work again. To avoid that, accept the job instead."})
	}
	return j, err
}

// Requeue gives a finished job a new round by an operation, 0 for none. Where its payload is
// changed the one before is kept with the action.
func Requeue(v *commit.View, r *store.Row, how api.Requeue, operation int64) (commit.Act, error) {
	if !r.State.Finished() {
		return nil, job.Fault(job.WrongState, "job %d is %s; only a finished job can be requeued", r.ID, r.State)
	}
	if err := v.Store.LoadPayload(r); err != nil {
		return nil, err
	}
	edited, err := editedPayload(v, r, how)
	if err != nil {
		return nil, err
	}
	if err := cmp.Or(canCallAgain(v, r, edited), stillAlone(v, r)); err != nil {
		return nil, err
	}
	if !how.IgnoreAfter {
		if err := canWaitAgain(v, r); err != nil {
			return nil, err
		}
	}
	return func(tx *commit.Tx, action int64) error {
		if how.IgnoreAfter && r.Unmet > 0 {
			if err := after.Drop(tx, r); err != nil {
				return err
			}
		}
		if edited != nil && r.Payload != nil {
			if err := tx.Store.KeepEdited(r.ID, action, r.Payload); err != nil {
				return err
			}
		}
		if edited != nil {
			if r.Payload, r.PayloadBytes = edited, len(edited); r.Host != 0 {
				r.Host = store.HostHash(store.CalledBy(edited))
			}
		}
		return requeue(tx, r, how.ForgetSteps, operation)
	}, nil
}

// editedPayload gives the payload that a job is to have; nil where it keeps its own.
func editedPayload(v *commit.View, r *store.Row, how api.Requeue) (edited json.RawMessage, err error) {
	switch {
	case how.Payload != nil:
		edited = unveiled(v, r, how.Payload)
	case how.PayloadPatch != nil:
		if edited, err = mergepatch.Apply(r.Payload, how.PayloadPatch); err != nil {
			return nil, job.Fault(job.Invalid, "the payload of job %d cannot be patched: %v", r.ID, err)
		}
		edited = unveiled(v, r, edited)
	default:
		return nil, nil
	}
	return edited, job.Wrong("the job was not requeued", (&job.Spec{Task: "any", Payload: job.JSON(edited)}).Check(v.Options().MaxPayload))
}

// requeue begins the new round.
func requeue(tx *commit.Tx, r *store.Row, forgetSteps bool, operation int64) error {
	if forgetSteps {
		if err := tx.Store.ForgetSteps(r.ID); err != nil {
			return err
		}
	}
	if err := resolveAgain(tx, r); err != nil {
		return err
	}
	if r.Reason == string(job.OutcomeRefused) {
		if err := tx.Store.DropRefused(r.ID); err != nil {
			return err
		}
	}
	if err := tx.Store.KeepAttempt(r); err != nil {
		return err
	}
	r.Round++
	r.Operation = operation
	tx.Times.Results.RereadAny() // its result goes
	r.Rank, r.NextAt, r.RunAt, r.StartBy = 0, 0, 0, 0
	if err := place.Put(tx, r, lifecycle.ByRequeue); err != nil {
		return err
	}
	return tx.Store.Requeue(r)
}

// StartNow makes a job that waits for its time, for its next attempt, or for other jobs, ready at
// once.
func (dk *Desk) StartNow(ctx context.Context, id int64) (job.Job, error) {
	detail := map[string]any{}
	return dk.act(ctx, "start_now", id, detail, func(v *commit.View, r *store.Row) (commit.Act, error) {
		if r.Unmet > 0 {
			detail["without"] = r.Unmet
		}
		return StartNow(v, r)
	})
}

// StartNow makes a job that waits for its time, for its next attempt, or for other jobs, ready.
func StartNow(v *commit.View, r *store.Row) (commit.Act, error) {
	silent := r.Host != 0 && v.Hosts.Get(r.Host) != nil
	if r.State != job.Scheduled && r.State != job.Backoff && (r.State != job.Held || r.Unmet == 0 && !silent) {
		return nil, job.Fault(job.WrongState, "job %d is %s; only a job that is scheduled, in backoff, or waits for other jobs can be started now", r.ID, r.State)
	}
	return func(tx *commit.Tx, _ int64) error {
		if r.Unmet > 0 {
			if err := after.Drop(tx, r); err != nil {
				return err
			}
		}
		if tx.Hosts.Holds(r) {
			tx.Hosts.SetProbe(r.Host, r.ID, time.Now().Add(memory.ProbeLooked))
		}
		r.Rank, r.NextAt = 0, 0
		if err := place.Put(tx, r, lifecycle.ByStartNow); err != nil {
			return err
		}
		return tx.Store.Wait(r)
	}, nil
}

// PassLane lets the jobs behind a dead letter, or behind a job that waits for its next
// attempt, go on.
func (dk *Desk) PassLane(ctx context.Context, queue, lane string) error {
	return dk.c.Record(ctx, "pass_lane", 0, map[string]string{"queue": queue, "lane": lane}, func(v *commit.View) (commit.Act, error) {
		q, err := QueueOf(v, queue)
		if err != nil {
			return nil, err
		}
		return passLane(v, q, lane)
	})
}

// passLane frees a lane whose holder does not go on by itself.
func passLane(v *commit.View, q *memory.Named, lane string) (commit.Act, error) {
	id, err := v.Store.LaneHolder(q.ID, lane)
	if err != nil {
		return nil, err
	}
	if id == 0 {
		return nil, job.Fault(job.NotFound, "nothing waits in lane %q of queue %s", lane, q.Name)
	}
	r, err := v.Store.Row(id)
	if err != nil {
		return nil, err
	}
	if r != nil && r.State != job.Dead && r.State != job.Backoff {
		return nil, job.Fault(job.WrongState, "lane %q of queue %s goes on by itself: job %d is %s", lane, q.Name, id, r.State)
	}
	return func(tx *commit.Tx, _ int64) error {
		return place.LeaveLane(tx, &store.Row{ID: id, Queue: q.ID, Lane: lane})
	}, nil
}
