package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// Patch edits a job that does not run; of a finished one labels and payload only.
func (e *Engine) Patch(ctx context.Context, id int64, p job.Patch) (job.Job, error) {
	if len(p.Named) == 0 {
		return job.Job{}, job.Fault(job.Invalid, "the patch names no field; job %d stays as it is", id)
	}
	before := map[string]any{}
	return e.act(ctx, "patch", id, map[string]any{"named": p.Named, "before": before}, func(tx *txn, r *store.Row) (json.RawMessage, error) {
		was, err := tx.edit(r, p)
		if err != nil {
			return nil, err
		}
		all := map[string]any{
			"queue": was.Queue, "priority": was.Priority, "run_at": was.RunAt, "max_attempts": was.MaxAttempts, "retry": was.Retry, "timeout": was.Timeout,
			"keep_result": was.KeepResult, "labels": was.Labels, "owner": was.Owner, "lane": was.Lane, "start_by": was.StartBy,
		}
		for _, name := range p.Named {
			if old, told := all[name]; told {
				before[name] = old
			}
		}
		if slices.Contains(p.Named, "payload") {
			return payloadOf(was), nil
		}
		return nil, nil
	})
}

// payloadOf is the payload of a spec that was read from a row.
func payloadOf(s job.Spec) json.RawMessage {
	if raw, given := s.Payload.(json.RawMessage); given {
		return raw
	}
	return json.RawMessage("null")
}

// edit lays a patch over a row and answers the spec as it was.
func (tx *txn) edit(r *store.Row, p job.Patch) (was job.Spec, err error) {
	if r.State == job.Running {
		return was, job.Fault(job.WrongState, "job %d is running; it can be changed when its attempt has ended", r.ID)
	}
	if err := job.Wrong(fmt.Sprintf("job %d stays as it is", r.ID), p.CheckNames(r.State)); err != nil {
		return was, err
	}
	if err := tx.e.store.LoadPayload(r); err != nil {
		return was, err
	}
	if was, err = tx.specOf(r); err != nil {
		return was, err
	}
	edited := p.Apply(was)
	if err := job.Wrong(fmt.Sprintf("job %d stays as it is", r.ID), edited.Check(tx.e.opts.MaxPayload)); err != nil {
		return was, err
	}
	n, err := prepare(&edited)
	if err != nil {
		return was, err
	}
	return was, tx.patch(r, n)
}

// specOf is the spec of a row as the transaction sees it.
func (tx *txn) specOf(r *store.Row) (job.Spec, error) {
	policy, err := tx.policyOf(r.Policy)
	j := job.Job{
		Task: tx.taskName(r.Task), Queue: tx.queueOf(r.Queue).name, Priority: r.Priority, RunAt: r.RunAt, StartBy: r.StartBy, Payload: r.Payload, Owner: r.Owner, Lane: r.Lane, Key: r.Key, Dedupe: r.Dedupe,
		Labels: labelsOf(r), Traceparent: r.Traceparent,
	}
	s := j.SpecOf()
	policy.Own(&s)
	return s, err
}

// patch gives a row the values of an edited job and moves it to where it belongs
// then.
func (tx *txn) patch(r *store.Row, n *newJob) error {
	if err := tx.canName(n); err != nil {
		return err
	}
	r.Labels, r.Payload, r.PayloadBytes = n.row.Labels, n.row.Payload, n.row.PayloadBytes
	if r.State.Finished() {
		tx.touched = append(tx.touched, r.ID)
		return tx.e.store.PatchFinished(r)
	}
	if err := tx.leaveTurn(r); err != nil {
		return err
	}
	if n.row.Lane != r.Lane || tx.queueFor(n) != tx.queueOf(r.Queue).name {
		if err := tx.leaveLane(r); err != nil {
			return err
		}
		r.Rank = 0
	}
	tx.staleLate = tx.staleLate || n.row.StartBy != r.StartBy
	r.Owner, r.Lane, r.StartBy = n.row.Owner, n.row.Lane, n.row.StartBy
	if err := tx.moveTo(r, tx.queueFor(n)); err != nil {
		return err
	}
	body, priority := tx.resolve(n, tx.queueOf(r.Queue))
	var err error
	if r.Policy, err = tx.usePolicy(body); err != nil {
		return err
	}
	if priority != r.Priority && tx.rules(tx.queueOf(r.Queue)).Order == job.ByAgeing {
		r.Rank = 0
	}
	r.Priority = priority
	if r.State == job.Backoff {
		if err := tx.change(r, job.Backoff, job.ByPatch); err != nil {
			return err
		}
		policy, err := tx.policyOf(r.Policy)
		if err != nil {
			return err
		}
		if after := policy.Retry.GiveUpAfter; after > 0 && r.NextAt > r.StartedAt.Add(after.Go()) {
			if err := tx.e.store.Patch(r); err != nil {
				return err
			}
			return tx.finish(r, job.Dead, job.TooOld, "", job.ByAge)
		}
		return tx.e.store.Patch(r)
	}
	r.RunAt, r.NextAt = n.row.RunAt, n.row.RunAt
	if err := tx.place(r, job.ByPatch); err != nil {
		return err
	}
	return tx.e.store.Patch(r)
}

// moveTo moves a row to another queue, where it gets a new rank.
func (tx *txn) moveTo(r *store.Row, name string) error {
	q, err := tx.useQueue(name)
	if err != nil || q.id == r.Queue {
		return err
	}
	tx.delta(r)[r.State]--
	if err := tx.countCause(r, r.State, -1); err != nil {
		return err
	}
	r.Queue, r.Rank = q.id, 0
	tx.delta(r)[r.State]++
	return tx.countCause(r, r.State, +1)
}
