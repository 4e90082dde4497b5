package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// endRefused ends a lease whose handler is done and whose follow-ups can never be
// enqueued: the job is dead, and keeps its result and the follow-ups as they came.
func (tx *txn) endRefused(l *lease, s *settlement, bad []job.FieldError) (*store.Row, error) {
	failed := *s
	failed.Error = &job.Failure{Type: string(job.OutcomeRefused), Message: fmt.Sprintf("the job was done, and its follow-ups were refused: %s %s", bad[0].Field, bad[0].Message)}
	ended, err := tx.endAttempt(l, &failed)
	if err != nil {
		return nil, err
	}
	row := ended.row
	if err := tx.sawCause(row, tx.e.causer.of(failed.Error), failed.Error.Message); err != nil {
		return nil, err
	}
	if err := tx.keepResult(ended, s.Result); err != nil {
		return nil, err
	}
	kept := job.RefusedOutcome{Enqueue: s.RawEnqueue, Errors: bad}
	if kept.Enqueue == nil {
		for i := range s.Enqueue {
			raw, err := json.Marshal(&s.Enqueue[i])
			if err != nil {
				return nil, err
			}
			kept.Enqueue = append(kept.Enqueue, raw)
		}
	}
	body, err := json.Marshal(kept)
	if err != nil {
		return nil, err
	}
	if err := tx.e.store.KeepRefused(row.ID, body); err != nil {
		return nil, err
	}
	return row, tx.finish(row, job.Dead, job.OutcomeRefused, "", job.BySettle)
}

// Accept makes a job done that is dead because its outcome was refused, without running
// it again; its follow-ups are those given, or none.
func (e *Engine) Accept(ctx context.Context, id int64, followUps []job.Spec) (job.Job, error) {
	s := job.Settlement{Enqueue: followUps}
	if err := job.Wrong("the job stays dead", s.CheckEnqueue(e.opts.MaxPayload)); err != nil {
		return job.Job{}, err
	}
	news := make([]*newJob, len(followUps))
	for i := range followUps {
		n, err := prepare(&followUps[i])
		if err != nil {
			return job.Job{}, err
		}
		news[i] = n
	}
	return e.act(ctx, "accept", id, map[string]int{"enqueued": len(news)}, unedited(func(tx *txn, r *store.Row) error {
		if r.State != job.Dead || r.Reason != string(job.OutcomeRefused) {
			return job.Fault(job.WrongState, "job %d is %s; only a job that is dead because its outcome was refused can be accepted", id, r.State)
		}
		if err := tx.canName(news...); err != nil {
			return err
		}
		if err := tx.e.store.DropRefused(id); err != nil {
			return err
		}
		if err := tx.finish(r, job.Done, "", "", job.ByAccept); err != nil {
			return err
		}
		for _, n := range news {
			if err := tx.insert(n); err != nil {
				return err
			}
		}
		return nil
	}))
}

// tellRefused tells what the handler of a job brought that was refused.
func (e *Engine) tellRefused(ctx context.Context, r *store.Row) (*job.RefusedOutcome, error) {
	if r.State != job.Dead || r.Reason != string(job.OutcomeRefused) {
		return nil, nil
	}
	body, err := e.store.Body(ctx, r.ID, store.RefusedBody, 0)
	if err != nil || body == nil {
		return nil, err
	}
	told := new(job.RefusedOutcome)
	return told, json.Unmarshal(body, told)
}

// EndLease ends the lease of a running job: it is placed again with its rank, and the
// attempt is not counted. Its handler may still run, though its word no longer counts;
// so a job in a lane waits until the lease would have ended, unless freeLane is true.
func (e *Engine) EndLease(ctx context.Context, id int64, freeLane bool) (job.Job, error) {
	by := callOf(ctx).Principal
	return e.act(ctx, "end_lease", id, map[string]bool{"free_lane": freeLane}, unedited(func(tx *txn, r *store.Row) error {
		l := tx.lease(id)
		if r.State != job.Running || l == nil {
			return job.Fault(job.WrongState, "job %d is %s; only a running job has a lease to end", id, r.State)
		}
		return tx.takeBack(l, "the lease was ended by "+by, freeLane)
	}))
}

// leaseEnded is the error type of an attempt whose lease was ended by an operator, or by
// the good-bye of its worker.
const leaseEnded = "lease_ended"

// takeBack ends a lease, uncounted, and places its job again.
func (tx *txn) takeBack(l *lease, why string, freeLane bool) error {
	left := time.Until(l.ends)
	ended, err := tx.endAttempt(l, &settlement{Settlement: job.Settlement{Outcome: job.OutcomeReleased, Error: &job.Failure{Type: leaseEnded, Message: why}}})
	if err != nil {
		return err
	}
	tx.asked = append(tx.asked, l) // its handler is told to end
	r := ended.row
	r.Tries--
	if r.CancelAskedAt != 0 {
		return tx.finish(r, job.Cancelled, job.Asked, r.ReasonText, job.ByEndLease)
	}
	if r.Lane != "" && !freeLane && left > 0 { // it keeps its lane
		return tx.wait(r, job.Scheduled, left, job.ByEndLease)
	}
	r.NextAt = 0
	if err := tx.place(r, job.ByEndLease); err != nil {
		return err
	}
	return tx.e.store.Wait(r)
}
