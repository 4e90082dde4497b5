package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// readDefaults reads stored defaults; nil where there are none.
func readDefaults(settings string) (*job.Defaults, error) {
	if settings == "" || settings == "{}" {
		return nil, nil
	}
	d := new(job.Defaults)
	return d, json.Unmarshal([]byte(settings), d)
}

func (tx *txn) taskDefaults(id int64) *job.Defaults {
	if d, set := tx.taskSet[id]; set {
		return d
	}
	return tx.e.view.taskDefaults[id]
}

func (tx *txn) queueDefaults(q *queue) *job.Defaults {
	if d, set := tx.queueSet[q]; set || q == nil {
		return d
	}
	return q.defaults
}

// queueFor is the queue in which a new job waits: its own, or its task's.
func (tx *txn) queueFor(n *newJob) string {
	task := ""
	if d := tx.taskDefaults(tx.task(n.task)); d != nil {
		task = d.Queue
	}
	return cmp.Or(n.spec.Queue, task, job.DefaultQueue)
}

// resolve gives the stored policy and the priority of a spec, with what its task and
// its queue have as defaults.
func (tx *txn) resolve(n *newJob, q *queue) (policy string, priority int) {
	task, of := tx.taskDefaults(tx.task(n.task)), tx.queueDefaults(q)
	if policy = n.policy; task != nil || of != nil {
		policy = policyBody(n.spec.Resolve(task, of))
	}
	priority = job.DefaultPriority
	for _, d := range []*job.Defaults{of, task, {Priority: n.spec.Priority}} {
		if d != nil && d.Priority != nil {
			priority = *d.Priority
		}
	}
	return policy, priority
}

// resolveAgain gives a row that begins a new round the policy of today: what the job
// has set itself stays, the rest is what task and queue have as defaults now.
func (tx *txn) resolveAgain(r *store.Row) error {
	old, err := tx.policyOf(r.Policy)
	if err != nil {
		return err
	}
	var own job.Spec
	old.Own(&own)
	r.Policy, err = tx.usePolicy(policyBody(own.Resolve(tx.taskDefaults(r.Task), tx.queueDefaults(tx.queueOf(r.Queue)))))
	return err
}

// SetTask sets the defaults of a task's jobs; empty ones take them away. The task
// need not have had a job yet.
func (e *Engine) SetTask(ctx context.Context, name string, d job.Defaults) error {
	if wrong := append(job.CheckName("name", name), d.Check(false)...); wrong != nil {
		return job.Wrong("the defaults stay as they were", wrong)
	}
	detail := map[string]any{"task": name, "after": d}
	return e.record(ctx, "set_task", 0, detail, func(tx *txn) (func(int64) error, error) {
		before, err := tx.setTask(name, d)
		detail["before"] = before
		if err != nil {
			return nil, err
		}
		return nil, tx.noteHand("task "+name, slices.Contains(tx.owned().Tasks, name), before, d)
	})
}

// setTask sets a task and answers what was set before.
func (tx *txn) setTask(name string, d job.Defaults) (before *job.Defaults, err error) {
	body, kept, err := writeDefaults(d)
	if err != nil {
		return nil, err
	}
	if err := tx.canMake(nil, []string{name}); err != nil {
		return nil, err
	}
	id, err := tx.useTask(name)
	if err != nil {
		return nil, err
	}
	before = tx.taskDefaults(id)
	if tx.taskSet == nil {
		tx.taskSet = map[int64]*job.Defaults{}
	}
	tx.taskSet[id] = kept
	return before, tx.e.store.SetTask(id, body)
}

// SetQueue sets the order and the limits of a queue, and the defaults of its jobs; what
// is empty is taken away. The queue need not have had a job yet. Where finished jobs are
// kept no longer then it is refused.
func (e *Engine) SetQueue(ctx context.Context, name string, d job.Defaults) error {
	_, err := e.SetQueueRemoving(ctx, name, d, false)
	return err
}

// SetQueueRemoving is SetQueue which may also remove finished jobs, where removes is true;
// then it tells the operation that does so, 0 for none.
func (e *Engine) SetQueueRemoving(ctx context.Context, name string, d job.Defaults, removes bool) (operation int64, err error) {
	if wrong := append(job.CheckName("name", name), d.Check(true)...); wrong != nil {
		return 0, job.Wrong("the queue stays as it was", wrong)
	}
	detail := map[string]any{"queue": name, "after": d}
	before := e.keepingNow()
	after := keeping{before.retention, func(q *queue) *job.Defaults {
		if q.name == name {
			return &d
		}
		return q.defaults
	}}
	return e.shorten(ctx, "queue "+name+" keeps its finished jobs for a shorter time", removes, before, after, func(also func(tx *txn) error) error {
		return e.record(ctx, "set_queue", 0, detail, func(tx *txn) (func(int64) error, error) {
			before, err := tx.setQueue(name, d)
			detail["before"] = before
			if err != nil {
				return nil, err
			}
			return nil, errors.Join(tx.noteHand("queue "+name, slices.Contains(tx.owned().Queues, name), before, d), also(tx))
		})
	})
}

// setQueue sets a queue and answers what was set before. Where the order is another, its
// waiting jobs are given new places.
func (tx *txn) setQueue(name string, d job.Defaults) (before *job.Defaults, err error) {
	body, kept, err := writeDefaults(d)
	if err != nil {
		return nil, err
	}
	if err := tx.canMake([]string{name}, nil); err != nil {
		return nil, err
	}
	q, err := tx.useQueue(name)
	if err != nil {
		return nil, err
	}
	before = tx.queueDefaults(q)
	if tx.queueSet == nil {
		tx.queueSet = map[*queue]*job.Defaults{}
	}
	rules := tx.rules(q)
	q.fill() // until now by the rate of before
	tx.queueSet[q] = kept
	if err := tx.e.store.SetQueue(q.id, body); err != nil || rules.SameOrder(tx.rules(q)) {
		return before, err
	}
	return before, tx.startWalk(q)
}

// writeDefaults gives defaults as they are stored, and as they are kept: nil for none.
func writeDefaults(d job.Defaults) (body string, kept *job.Defaults, err error) {
	raw, err := json.Marshal(d)
	if err != nil {
		return "", nil, err
	}
	kept, err = readDefaults(string(raw))
	return string(raw), kept, err
}
