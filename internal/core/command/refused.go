package command

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// endRefused ends a lease whose handler is done and whose follow-ups can never be
// enqueued: the job is dead, and keeps its result and the follow-ups as they came.
func endRefused(tx *commit.Tx, l *memory.Lease, s *Settlement, bad []job.FieldError) (*store.Row, error) {
	failed := *s
	failed.Error = &job.Failure{Type: string(job.OutcomeRefused), Message: fmt.Sprintf("the job was done, and its follow-ups were refused: %s %s", bad[0].Field, bad[0].Message)}
	ended, err := endAttempt(tx, l, &failed)
	if err != nil {
		return nil, err
	}
	row := ended.Row
	if err := tx.Causes.Saw(row, tx.Causes.Rules.Of(failed.Error), failed.Error.Message); err != nil {
		return nil, err
	}
	if err := keepResult(tx, ended, s.Result); err != nil {
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
	if err := tx.Store.KeepRefused(row.ID, body); err != nil {
		return nil, err
	}
	return row, place.Finish(tx, row, job.Dead, job.OutcomeRefused, "", lifecycle.BySettle)
}

// Accept makes a job done that is dead because its outcome was refused, without running
// it again; its follow-ups are those given, or none.
func (dk *Desk) Accept(ctx context.Context, id int64, enqueue []api.FollowUp) (job.Job, error) {
	s := api.Settlement{Enqueue: enqueue}
	if err := job.Wrong("the job stays dead", s.CheckEnqueue(dk.c.MaxPayload)); err != nil {
		return job.Job{}, err
	}
	f, err := prepareFollowUps(enqueue)
	if err != nil {
		return job.Job{}, err
	}
	return dk.act(ctx, "accept", id, map[string]int{"enqueued": f.num()}, func(v *commit.View, r *store.Row) (commit.Act, error) {
		if r.State != job.Dead || r.Reason != string(job.OutcomeRefused) {
			return nil, job.Fault(job.WrongState, "job %d is %s; only a job that is dead because its outcome was refused can be accepted", id, r.State)
		}
		wrong, err := canFollowUp(v, r, f)
		if err != nil || wrong != nil {
			return nil, cmp.Or(err, job.Wrong("the job stays dead", wrong))
		}
		if f != nil {
			news, at := f.all()
			if err := inScope(v, "the job was not accepted", at, news...); err != nil {
				return nil, err
			}
		}
		return func(tx *commit.Tx, _ int64) error { return accept(tx, r, f) }, nil
	})
}

// accept makes a job done, and enqueues its follow-ups.
func accept(tx *commit.Tx, r *store.Row, f *followUps) error {
	if err := tx.Store.DropRefused(r.ID); err != nil {
		return err
	}
	if err := place.Finish(tx, r, job.Done, "", "", lifecycle.ByAccept); err != nil {
		return err
	}
	return f.insert(tx, r)
}

// EndLease ends the lease of a running job: it is placed again with its rank, and the
// attempt is not counted. Its handler may still run, though its word no longer counts;
// so a job in a lane waits until the lease would have ended, unless freeLane is true.
func (dk *Desk) EndLease(ctx context.Context, id int64, freeLane bool) (job.Job, error) {
	by := commit.CallOf(ctx).Principal
	return dk.act(ctx, "end_lease", id, map[string]bool{"free_lane": freeLane}, func(v *commit.View, r *store.Row) (commit.Act, error) {
		l := v.Leases.Get(id)
		if r.State != job.Running || l == nil {
			return nil, job.Fault(job.WrongState, "job %d is %s; only a running job has a lease to end", id, r.State)
		}
		return func(tx *commit.Tx, _ int64) error { return TakeBack(tx, l, "the lease was ended by "+by, freeLane) }, nil
	})
}

// leaseEnded is the error type of an attempt whose lease was ended by an operator, or by
// the good-bye of its worker.
const leaseEnded = "lease_ended"

// TakeBack ends a lease, uncounted, and places its job again.
func TakeBack(tx *commit.Tx, l *memory.Lease, why string, freeLane bool) error {
	left := time.Until(l.Ends)
	ended, err := endAttempt(tx, l, &Settlement{Settlement: api.Settlement{Outcome: job.OutcomeReleased, Error: &job.Failure{Type: leaseEnded, Message: why}}})
	if err != nil {
		return err
	}
	tx.News.Asked = append(tx.News.Asked, l) // its handler is told to end
	r := ended.Row
	r.Tries--
	if r.CancelAskedAt != 0 {
		return place.Finish(tx, r, job.Cancelled, job.Asked, r.ReasonText, lifecycle.ByEndLease)
	}
	if r.Lane != "" && !freeLane && left > 0 { // it keeps its lane
		return place.Wait(tx, r, job.Scheduled, left, lifecycle.ByEndLease)
	}
	r.NextAt = 0
	if err := place.Put(tx, r, lifecycle.ByEndLease); err != nil {
		return err
	}
	return tx.Store.Wait(r)
}
