package command

import (
	"bytes"
	"humblemule/internal/core/commit"
	"humblemule/internal/core/store"
	"humblemule/job"
)

// dedupe finds the earlier job that answers for a new one.
func dedupe(tx *commit.Tx, n *NewJob) error {
	task := tx.Tasks.ID(n.task)
	if task == 0 {
		return nil // no job of it yet
	}
	earlier, err := earlierOf(tx, &n.Row, task)
	if err != nil || earlier == nil {
		return err
	}
	n.Earlier = earlier
	if earlier.Queue == 0 {
		return nil // it was removed since; how it was asked for is not known any more
	}
	if err := tx.Store.LoadPayload(earlier); err != nil {
		return err
	}
	policy, err := tx.Policies.Of(earlier.Policy)
	if err != nil {
		return err
	}
	q := tx.Queues.Find(queueFor(tx, n))
	body, priority := resolve(tx, n, q)
	e, r := earlier, &n.Row
	n.sameSpec = q != nil && e.Queue == q.ID && e.Priority == priority && policyBody(policy) == body && e.Owner == r.Owner && e.Lane == r.Lane &&
		e.Labels == r.Labels && bytes.Equal(e.Payload, r.Payload) && e.StartBy == r.StartBy && e.RunAt == runAtOf(n, e.EnqueuedAt)
	return nil
}

// runAtOf is the time before which a new job would not start, had it been enqueued at a
// time.
func runAtOf(n *NewJob, enqueuedAt job.Time) job.Time {
	if n.delay > 0 {
		return enqueuedAt.Add(n.delay.Go())
	}
	return n.Row.RunAt
}

// earlierOf finds another job of a task that has a row's key and that its dedupe lets
// answer for it; nil for none.
func earlierOf(tx *commit.Tx, r *store.Row, task int64) (*store.Row, error) {
	switch r.Dedupe {
	case "":
		return nil, nil
	case job.Unstarted, job.Unfinished:
		return tx.Store.OpenByKey(r.Key, task, r.ID, r.Dedupe == job.Unstarted)
	}
	d, err := job.ParseDuration(r.Dedupe)
	if err != nil {
		return nil, err
	}
	after := tx.Now.Add(-d.Go())
	other, err := tx.Store.RecentByKey(r.Key, task, r.ID, after)
	if err != nil || other != nil {
		return other, err
	}
	return tx.Store.KeptKey(r.Key, task, after)
}

// stillAlone refuses to give a finished job a new round, or to edit one, where its own
// dedupe then finds another job.
func stillAlone(tx *commit.Tx, r *store.Row) error {
	other, err := earlierOf(tx, r, r.Task)
	if err == nil && other != nil {
		err = job.Fault(job.WrongState, "job %d has the key %q and may not stand beside job %d, which is %s (dedupe %s)", r.ID, r.Key, other.ID, other.State, r.Dedupe)
	}
	return err
}
