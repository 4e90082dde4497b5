package engine

import (
	"bytes"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// dedupe finds the earlier job that answers for a new one.
func (tx *txn) dedupe(n *newJob) error {
	task := tx.task(n.task)
	if task == 0 {
		return nil // no job of it yet
	}
	earlier, err := tx.earlierOf(&n.row, task)
	if err != nil || earlier == nil {
		return err
	}
	n.earlier = earlier
	if earlier.Queue == 0 {
		return nil // it was removed since; how it was asked for is not known any more
	}
	if err := tx.e.store.LoadPayload(earlier); err != nil {
		return err
	}
	policy, err := tx.policyOf(earlier.Policy)
	if err != nil {
		return err
	}
	q := tx.queue(tx.queueFor(n))
	body, priority := tx.resolve(n, q)
	e, r := earlier, &n.row
	n.sameSpec = q != nil && e.Queue == q.id && e.Priority == priority && policyBody(policy) == body && e.Owner == r.Owner && e.Lane == r.Lane &&
		e.Labels == r.Labels && bytes.Equal(e.Payload, r.Payload) && e.StartBy == r.StartBy && e.RunAt == runAtOf(n, e.EnqueuedAt)
	return nil
}

// runAtOf is the time before which a new job would not start, had it been enqueued at a
// time.
func runAtOf(n *newJob, enqueuedAt job.Time) job.Time {
	if n.delay > 0 {
		return enqueuedAt.Add(n.delay.Go())
	}
	return n.row.RunAt
}

// earlierOf finds another job of a task that has a row's key and that its dedupe lets
// answer for it; nil for none.
func (tx *txn) earlierOf(r *store.Row, task int64) (*store.Row, error) {
	switch r.Dedupe {
	case "":
		return nil, nil
	case job.Unstarted, job.Unfinished:
		return tx.e.store.OpenByKey(r.Key, task, r.ID, r.Dedupe == job.Unstarted)
	}
	d, err := job.ParseDuration(r.Dedupe)
	if err != nil {
		return nil, err
	}
	after := tx.now.Add(-d.Go())
	other, err := tx.e.store.RecentByKey(r.Key, task, r.ID, after)
	if err != nil || other != nil {
		return other, err
	}
	return tx.e.store.KeptKey(r.Key, task, after)
}

// stillAlone refuses to give a finished job a new round, or to edit one, where its own
// dedupe then finds another job.
func (tx *txn) stillAlone(r *store.Row) error {
	other, err := tx.earlierOf(r, r.Task)
	if err == nil && other != nil {
		err = job.Fault(job.WrongState, "job %d has the key %q and may not stand beside job %d, which is %s (dedupe %s)", r.ID, r.Key, other.ID, other.State, r.Dedupe)
	}
	return err
}
