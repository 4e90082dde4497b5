package engine

import (
	"context"
	"encoding/json"
	"fmt"

	"humblemule/core/job"
	"humblemule/core/store"
)

// act applies an operator's action to one job, records it and answers the job
// as it stands then.
func (e *Engine) act(ctx context.Context, action string, id int64, detail any, change func(tx *txn, r *store.Row) error) (job.Job, error) {
	call := callOf(ctx)
	same := identify(call)
	words, err := json.Marshal(detail)
	if err != nil {
		return job.Job{}, err
	}
	err = e.do(ctx, func(tx *txn) error {
		if r, err := tx.replayed(same); r != nil || err != nil {
			return err
		}
		row, err := tx.e.store.Row(id)
		if err != nil {
			return err
		}
		if row == nil {
			return noJob(id)
		}
		if err := change(tx, row); err != nil {
			return err
		}
		tx.note(same, id)
		return tx.e.store.InsertAction(tx.now, call.Principal, action, id, string(words))
	})
	if err != nil {
		return job.Job{}, err
	}
	return e.Job(ctx, id)
}

func noJob(id int64) error { return job.Fault(job.NotFound, "there is no job %d", id) }

// Cancel ends a job that is not finished. One that runs is asked to end; it is
// cancelled when its lease ends otherwise than done.
func (e *Engine) Cancel(ctx context.Context, id int64) (job.Job, error) {
	return e.act(ctx, "cancel", id, struct{}{}, func(tx *txn, r *store.Row) error {
		switch {
		case r.State.Finished():
			return job.Fault(job.WrongState, "job %d is %s already; only an unfinished job can be cancelled", id, r.State)
		case r.State == job.Running:
			return tx.askCancel(r)
		}
		return tx.finish(r, job.Cancelled, job.Asked, "", job.ByCancel)
	})
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
	// Payload replaces the payload where it is not nil.
	Payload json.RawMessage
}

// Requeue gives a finished job a new round; its history stays.
func (e *Engine) Requeue(ctx context.Context, id int64, how Requeuing) (job.Job, error) {
	if len(how.Payload) > e.opts.MaxPayload {
		return job.Job{}, job.Wrong("the job was not requeued", (&job.Spec{Task: "x", Payload: how.Payload}).Check(e.opts.MaxPayload))
	}
	detail := map[string]any{}
	if how.Payload != nil {
		detail["payload"] = how.Payload
	}
	return e.act(ctx, "requeue", id, detail, func(tx *txn, r *store.Row) error {
		if !r.State.Finished() {
			return job.Fault(job.WrongState, "job %d is %s; only a finished job can be requeued", id, r.State)
		}
		if err := tx.e.store.LoadPayload(r); err != nil {
			return err
		}
		if how.Payload != nil {
			detail["before"] = json.RawMessage(r.Payload)
			r.Payload, r.PayloadBytes = how.Payload, len(how.Payload)
		}
		r.Round++
		r.Rank, r.NextAt = 0, 0
		if err := tx.place(r, job.ByRequeue); err != nil {
			return err
		}
		return tx.e.store.Requeue(r)
	})
}
