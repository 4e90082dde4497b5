package engine

import (
	"context"

	"humblemule/job"
)

// paused tells whether a queue is paused as the transaction sees it.
func (tx *txn) paused(q *queue) bool {
	if p, changed := tx.pauses[q]; changed {
		return p.at != 0
	}
	return q.pause.at != 0
}

// PauseQueue stops a queue from being leased from. All else goes on.
func (e *Engine) PauseQueue(ctx context.Context, name string) error {
	by := callOf(ctx).Principal
	return e.setPause(ctx, "pause", name, func(now job.Time) pause { return pause{now, by} })
}

// ResumeQueue lets a queue be leased from again.
func (e *Engine) ResumeQueue(ctx context.Context, name string) error {
	return e.setPause(ctx, "resume", name, func(job.Time) pause { return pause{} })
}

func (e *Engine) setPause(ctx context.Context, action, name string, to func(now job.Time) pause) error {
	return e.record(ctx, action, 0, map[string]string{"queue": name}, func(tx *txn) (func(int64) error, error) {
		q := tx.queue(name)
		if q == nil {
			return nil, noQueue(name)
		}
		p := to(tx.now)
		if (p.at != 0) == tx.paused(q) {
			return nil, nil // by whom and since when stay as they are
		}
		if tx.pauses == nil {
			tx.pauses = map[*queue]pause{}
		}
		tx.pauses[q] = p
		return nil, tx.e.store.PauseQueue(q.id, p.at, p.by)
	})
}

func noQueue(name string) error {
	return job.Fault(job.NotFound, "there is no queue %q; a queue exists from its first job", name)
}

func (v *view) pauseOf(name string) pause {
	v.mu.RLock()
	defer v.mu.RUnlock()
	if q := v.queues[name]; q != nil {
		return q.pause
	}
	return pause{}
}

// readyFor counts the ready jobs of queues that are not paused; of some tasks, or
// of all where none are named.
func (v *view) readyFor(queues, tasks []string) (n int64) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	for _, name := range queues {
		q := v.queues[name]
		if q == nil || q.pause.at != 0 || q.rules.Full(q.running) {
			continue
		}
		for _, task := range tasks {
			if c := q.tasks[v.tasks[task]]; c != nil {
				n += c[job.Ready]
			}
		}
		if len(tasks) == 0 {
			for _, c := range q.tasks {
				n += c[job.Ready]
			}
		}
	}
	return n
}

// typos finds queues that a living worker serves and that are not there, where
// one that is there is perhaps meant.
func (e *Engine) typos(now job.Time) (all []typo) {
	e.view.mu.RLock()
	defer e.view.mu.RUnlock()
	names := make([]string, 0, len(e.view.queues))
	for name := range e.view.queues {
		names = append(names, name)
	}
	for _, w := range e.registry.service(now) {
		for _, name := range unique(w.queues()) {
			if e.view.queues[name] != nil {
				continue
			}
			if nearest := job.Nearest(name, names); nearest != "" {
				all = append(all, typo{w.name, name, nearest})
			}
		}
	}
	return all
}

func workerName(w job.Worker) string {
	if w.Name == "" {
		return w.ID
	}
	return w.Name
}
