package command

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/veil"
	"humblemule.example/job"
)

// Patch edits a job that does not run; of a finished one labels and payload only.
func (dk *Desk) Patch(ctx context.Context, id int64, p job.Patch) (job.Job, error) {
	if len(p.Named) == 0 {
		return job.Job{}, job.Fault(job.Invalid, "the patch names no field; job %d stays as it is", id)
	}
	before := map[string]any{}
	return dk.act(ctx, "patch", id, map[string]any{"named": p.Named, "before": before}, func(v *commit.View, r *store.Row) (commit.Act, error) {
		if err := v.Store.LoadPayload(r); err != nil {
			return nil, err
		}
		if err := commit.CallOf(ctx).If.Check(fmt.Sprintf("job %d", id), true, r.Version()); err != nil {
			return nil, err
		}
		act, was, err := Edit(v, r, p)
		if err != nil {
			return nil, err
		}
		for _, name := range p.Named {
			if f, found := job.FieldOf(name); found && name != "payload" && name != "call" { // which are kept by themselves
				before[name] = f.Get(&was)
			}
		}
		return act, nil
	})
}

// Edit lays a patch over a row, and tells the spec as it was. A payload as it was is kept
// with the action.
func Edit(v *commit.View, r *store.Row, p job.Patch) (_ commit.Act, was job.Spec, err error) {
	if r.State == job.Running {
		return nil, was, job.Fault(job.WrongState, "job %d is running; it can be changed when its attempt has ended", r.ID)
	}
	if err := job.Wrong(fmt.Sprintf("job %d stays as it is", r.ID), p.CheckNames(r.State)); err != nil {
		return nil, was, err
	}
	if err := v.Store.LoadPayload(r); err != nil {
		return nil, was, err
	}
	if was, err = specOf(v, r); err != nil {
		return nil, was, err
	}
	edited := p.Apply(was)
	edited.Payload = unveiled(v, r, edited.Payload)
	if err := job.Wrong(fmt.Sprintf("job %d stays as it is", r.ID), edited.Check(v.Options().MaxPayload)); err != nil {
		return nil, was, err
	}
	n, err := Prepare(&edited)
	if err != nil {
		return nil, was, err
	}
	if err := job.Wrong(fmt.Sprintf("job %d stays as it is", r.ID), canCall(v, nowhere, n)); err != nil {
		return nil, was, err
	}
	if err := canName(v, n); err != nil {
		return nil, was, err
	}
	return func(tx *commit.Tx, action int64) error {
		if slices.Contains(p.Named, "payload") || slices.Contains(p.Named, "call") {
			if err := tx.Store.KeepEdited(r.ID, action, orNull(r.Payload)); err != nil {
				return err
			}
		}
		return patch(tx, r, n)
	}, was, nil
}

// unveiled is an edited payload in which what was shown hidden is as it was.
func unveiled(v *commit.View, r *store.Row, edited json.RawMessage) json.RawMessage {
	if d := v.Settings.Task(r.Task); d != nil && edited != nil && r.Payload != nil {
		return veil.Restore(edited, r.Payload, d.Hide...)
	}
	return edited
}

// orNull is a payload, or null where there is none.
func orNull(payload json.RawMessage) json.RawMessage {
	if payload == nil {
		return json.RawMessage("null")
	}
	return payload
}

// specOf is the spec of a row as the transaction sees it.
func specOf(v *commit.View, r *store.Row) (job.Spec, error) {
	policy, err := v.Policies.Of(r.Policy)
	j := job.Job{
		Task: v.Tasks.Name(r.Task), Queue: v.Queues.Name(r.Queue), Priority: r.Priority, RunAt: r.RunAt, StartBy: r.StartBy, Payload: r.Payload, Owner: r.Owner, Lane: r.Lane, Key: r.Key, Dedupe: r.Dedupe,
		Labels: r.LabelMap(), Traceparent: r.Traceparent,
	}
	if r.Host != 0 {
		j.Calls = store.CalledBy(r.Payload)
	}
	s := j.SpecOf()
	policy.Own(&s)
	return s, err
}

// patch gives a row the values of an edited job and moves it to where it belongs
// then.
func patch(tx *commit.Tx, r *store.Row, n *NewJob) error {
	tx.Follows.Count(r, r.State, -1)
	r.Labels, r.Payload, r.PayloadBytes, r.Host = n.Row.Labels, n.Row.Payload, n.Row.PayloadBytes, n.Row.Host
	tx.Follows.Count(r, r.State, +1)
	if r.State.Finished() {
		tx.News.Touched = append(tx.News.Touched, r.ID)
		return tx.Store.PatchFinished(r)
	}
	if err := place.LeaveTurn(tx, r); err != nil {
		return err
	}
	if n.Row.Lane != r.Lane || queueFor(tx.View(), n) != tx.Queues.Name(r.Queue) {
		if err := place.LeaveLane(tx, r); err != nil {
			return err
		}
		r.Rank = 0
	}
	if n.Row.StartBy != r.StartBy {
		tx.Times.Late.Reread()
	}
	tx.Finding.Count(r, r.State, -1)
	r.Owner, r.Lane, r.StartBy = n.Row.Owner, n.Row.Lane, n.Row.StartBy
	tx.Finding.Count(r, r.State, +1)
	if err := moveTo(tx, r, queueFor(tx.View(), n)); err != nil {
		return err
	}
	body, priority := resolve(tx.View(), n, tx.Queues.Get(r.Queue))
	var err error
	if r.Policy, err = tx.Policies.Use(body); err != nil {
		return err
	}
	if priority != r.Priority && tx.Settings.Rules(tx.Queues.Get(r.Queue)).Order == api.OrderAgeing {
		r.Rank = 0
	}
	r.Priority = priority
	if r.State == job.Backoff {
		if err := place.Change(tx, r, job.Backoff, lifecycle.ByPatch); err != nil {
			return err
		}
		policy, err := tx.Policies.Of(r.Policy)
		if err != nil {
			return err
		}
		if after := policy.Retry.GiveUpAfter; after > 0 && r.NextAt > r.StartedAt.Add(after.Go()) {
			if err := tx.Store.Patch(r); err != nil {
				return err
			}
			return place.Finish(tx, r, job.Dead, job.TooOld, "", lifecycle.ByAge)
		}
		return tx.Store.Patch(r)
	}
	r.RunAt, r.NextAt = n.Row.RunAt, n.Row.RunAt
	if err := place.Put(tx, r, lifecycle.ByPatch); err != nil {
		return err
	}
	return tx.Store.Patch(r)
}

// moveTo moves a row to another queue, where it gets a new rank.
func moveTo(tx *commit.Tx, r *store.Row, name string) error {
	q, err := tx.Queues.Use(name, tx.By)
	if err != nil || q.ID == r.Queue {
		return err
	}
	tx.Counts.Add(memory.Group{Queue: r.Queue, Task: r.Task}, r.State, -1)
	if err := tx.Causes.Count(r, r.State, -1); err != nil {
		return err
	}
	r.Queue, r.Rank = q.ID, 0
	tx.Counts.Add(memory.Group{Queue: r.Queue, Task: r.Task}, r.State, +1)
	return tx.Causes.Count(r, r.State, +1)
}
