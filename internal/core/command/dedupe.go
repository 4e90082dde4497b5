package command

import (
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// dedupeAll finds, for the new jobs of one call, those that answer for them: earlier ones, or
// others of the call that come before them.
func dedupeAll(v *commit.View, news []*NewJob) error {
	planned := map[[2]string]*NewJob{} // by task and key
	for _, n := range news {
		n.Earlier, n.twin = nil, nil
		if n.Row.Key == "" {
			continue
		}
		at := [2]string{n.task, n.Row.Key}
		if n.Row.Dedupe != "" {
			if n.twin = planned[at]; n.twin != nil {
				continue // it is unstarted, unfinished, and enqueued just now
			}
			if err := Dedupe(v, n, nil); err != nil {
				return err
			}
		}
		if n.Earlier == nil {
			planned[at] = n
		}
	}
	return nil
}

// Dedupe finds the earlier job that answers for a new one, as though another, nil for none,
// were not there.
func Dedupe(v *commit.View, n *NewJob, another *store.Row) error {
	n.Earlier = nil
	task := v.Tasks.ID(n.task)
	if task == 0 || n.Row.Dedupe == "" {
		return nil // no job of it yet, or none that could answer
	}
	asked := store.Row{Key: n.Row.Key, Dedupe: n.Row.Dedupe}
	if another != nil {
		asked.ID = another.ID
	}
	earlier, err := earlierOf(v, &asked, task)
	if err != nil || earlier == nil {
		return err
	}
	n.Earlier = earlier
	if earlier.Queue == 0 {
		return nil // it was removed since; how it was asked for is not known any more
	}
	if err := v.Store.LoadPayload(earlier); err != nil {
		return err
	}
	n.sameSpec, err = asksAlike(v, n, earlier)
	return err
}

// asksAlike tells whether an earlier job was asked for as a new one is, with what is a
// default of its task and its queue by now.
func asksAlike(v *commit.View, n *NewJob, earlier *store.Row) (bool, error) {
	was, err := specOf(v, earlier)
	if err != nil {
		return false, err
	}
	policy, err := v.Policies.Of(earlier.Policy)
	if err != nil {
		return false, err
	}
	body, priority := resolve(v, n, v.Queues.Find(queueFor(v, n)))
	if was.After, err = afterOf(v.Store, earlier); err != nil {
		return false, err
	}
	is := *n.spec
	is.Queue, is.Priority, is.RunAt, is.Delay = queueFor(v, n), &priority, runAtOf(n, earlier.EnqueuedAt), 0
	is.Dedupe, is.Traceparent = was.Dedupe, was.Traceparent // how, not what, was asked for
	for _, f := range job.Fields() {
		if f.Column != job.PolicyColumn && !f.Same(&is, &was) {
			return false, nil
		}
	}
	return policyBody(policy) == body, nil
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
func earlierOf(v *commit.View, r *store.Row, task int64) (*store.Row, error) {
	switch r.Dedupe {
	case "":
		return nil, nil
	case job.Unstarted, job.Unfinished:
		return v.Store.OpenByKey(r.Key, task, r.ID, r.Dedupe == job.Unstarted)
	}
	d, err := job.ParseDuration(r.Dedupe)
	if err != nil {
		return nil, err
	}
	after := v.Now.Add(-d.Go())
	other, err := v.Store.RecentByKey(r.Key, task, r.ID, after)
	if err != nil || other != nil {
		return other, err
	}
	return v.Store.KeptKey(r.Key, task, after)
}

// stillAlone refuses to give a finished job a new round, or to edit one, where its own
// dedupe then finds another job.
func stillAlone(v *commit.View, r *store.Row) error {
	other, err := earlierOf(v, r, r.Task)
	if err == nil && other != nil {
		err = job.Fault(job.WrongState, "job %d has the key %q and cannot exist beside job %d, which is %s (dedupe %s)", r.ID, r.Key, other.ID, other.State, r.Dedupe)
	}
	return err
}
