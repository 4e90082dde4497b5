package command

import (
	"cmp"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// queueFor is the queue in which a new job waits.
func queueFor(v *commit.View, n *NewJob) string { return QueueFor(v, n.spec.Queue, n.task) }

// QueueFor is the queue in which a job waits: the one that is named, or its task's.
func QueueFor(v *commit.View, named, task string) string {
	of := ""
	if d := v.Settings.Task(v.Tasks.ID(task)); d != nil {
		of = d.Queue
	}
	return cmp.Or(named, of, job.DefaultQueue)
}

// resolve gives the stored policy and the priority of a spec, with what its task and
// its queue have as defaults.
func resolve(v *commit.View, n *NewJob, q *memory.Named) (policy string, priority int) {
	task, of := v.Settings.Task(v.Tasks.ID(n.task)), v.Settings.Queue(q)
	if policy = n.policy; task != nil || of != nil {
		policy = policyBody(policyOf(n.spec, task, of))
	}
	priority = job.DefaultPriority
	for _, d := range []*api.Defaults{of, task, {Priority: n.spec.Priority}} {
		if d != nil && d.Priority != nil {
			priority = *d.Priority
		}
	}
	return policy, priority
}

// resolveAgain gives a row that begins a new round the policy of today: what the job
// has set itself stays, the rest is what task and queue have as defaults now.
func resolveAgain(tx *commit.Tx, r *store.Row) error {
	old, err := tx.Policies.Of(r.Policy)
	if err != nil {
		return err
	}
	var own job.Spec
	old.Own(&own)
	r.Policy, err = tx.Policies.Use(policyBody(policyOf(&own, tx.Settings.Task(r.Task), tx.Settings.Queue(tx.Queues.Get(r.Queue)))))
	return err
}

// policyOf gives the policy of a spec, with the defaults of its task and of its queue,
// which may be nil, and where each part comes from.
func policyOf(s *job.Spec, task, queue *api.Defaults) job.Policy {
	var layers []job.Layer
	if queue != nil {
		layers = append(layers, job.Layer{From: job.FromQueue, MaxAttempts: queue.MaxAttempts, Retry: queue.Retry, Timeout: queue.Timeout, KeepResult: queue.KeepResult})
	}
	if task != nil {
		layers = append(layers, job.Layer{From: job.FromTask, MaxAttempts: task.MaxAttempts, Retry: task.Retry, Timeout: task.Timeout, KeepResult: task.KeepResult, Notify: task.Notify})
	}
	return job.PolicyOf(append(layers, s.Layer())...)
}
