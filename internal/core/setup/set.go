package setup

import (
	"context"
	"errors"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/upkeep"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// SetTask sets the defaults of a task's jobs; empty ones take them away. The task
// need not have had a job yet.
func (se *Setter) SetTask(ctx context.Context, name string, d api.Defaults) error {
	if wrong := append(check.Name("name", name), d.CheckTask()...); wrong != nil {
		return job.Wrong("the defaults stay as they were", wrong)
	}
	detail := map[string]any{"task": name, "after": d}
	return se.c.Record(ctx, "set_task", 0, detail, func(v *commit.View) (commit.Act, error) {
		if err := v.Scope.Refuses("", name); err != nil {
			return nil, err
		}
		if err := command.CanMake(v, nil, []string{name}); err != nil {
			return nil, err
		}
		if err := heldByTask(ctx, v, name); err != nil {
			return nil, err
		}
		if err := callsAgree(v, name, &d); err != nil {
			return nil, err
		}
		before := v.Settings.Task(v.Tasks.ID(name))
		detail["before"] = before
		return func(tx *commit.Tx, _ int64) error {
			if err := setTask(tx, name, d); err != nil {
				return err
			}
			return noteHand(tx, "task "+name, slices.Contains(tx.Settings.Owned().Tasks, name), before, d)
		}, nil
	})
}

// heldByTask refuses a change of a task for which the condition of the call does not hold,
// and heldByQueue one of a queue.
func heldByTask(ctx context.Context, v *commit.View, name string) error {
	t := v.Tasks.Find(name)
	return commit.CallOf(ctx).If.Check("task "+name, t != nil, v.Settings.TaskVersion(t))
}

func heldByQueue(ctx context.Context, v *commit.View, name string) error {
	q := v.Queues.Find(name)
	return commit.CallOf(ctx).If.Check("queue "+name, q != nil, v.Settings.QueueVersion(q))
}

// setTask sets a task.
func setTask(tx *commit.Tx, name string, d api.Defaults) error {
	t, err := tx.Tasks.Use(name, tx.By)
	if err != nil {
		return err
	}
	return tx.Settings.SetTask(t, d)
}

// SetQueue sets the order and the limits of a queue, and the defaults of its jobs; what
// is empty is taken away. The queue need not have had a job yet. Where finished jobs are
// kept no longer then it is refused.
func (se *Setter) SetQueue(ctx context.Context, name string, d api.Defaults) error {
	_, err := se.SetQueueRemoving(ctx, name, d, false)
	return err
}

// SetQueueRemoving is SetQueue which may also remove finished jobs, where removes is true;
// then it tells the operation that does so, 0 for none.
func (se *Setter) SetQueueRemoving(ctx context.Context, name string, d api.Defaults, removes bool) (operation int64, err error) {
	if wrong := append(check.Name("name", name), d.CheckQueue()...); wrong != nil {
		return 0, job.Wrong("the queue stays as it was", wrong)
	}
	detail := map[string]any{"queue": name, "after": d}
	before := se.keepingNow()
	after := keeping{before.retention, func(q *memory.Named) *api.Defaults {
		if q.Name == name {
			return &d
		}
		return before.of(q)
	}}
	return se.shorten(ctx, "queue "+name+" keeps its finished jobs for a shorter time", removes, before, after, func(also commit.Write) error {
		return se.c.Record(ctx, "set_queue", 0, detail, func(v *commit.View) (commit.Act, error) {
			if err := v.Scope.Refuses(name, ""); err != nil {
				return nil, err
			}
			if err := command.CanMake(v, []string{name}, nil); err != nil {
				return nil, err
			}
			if err := heldByQueue(ctx, v, name); err != nil {
				return nil, err
			}
			before := v.Settings.Queue(v.Queues.Find(name))
			detail["before"] = before
			return func(tx *commit.Tx, _ int64) error {
				if err := setQueue(tx, name, d); err != nil {
					return err
				}
				return errors.Join(noteHand(tx, "queue "+name, slices.Contains(tx.Settings.Owned().Queues, name), before, d), also(tx))
			}, nil
		})
	})
}

// setQueue sets a queue. Where the order is another, its waiting jobs are given new places.
func setQueue(tx *commit.Tx, name string, d api.Defaults) error {
	q, err := tx.Queues.Use(name, tx.By)
	if err != nil {
		return err
	}
	rules := tx.Settings.Rules(q)
	tx.Limits.Fill(q) // until now by the rate of before
	if err := tx.Settings.SetQueue(q, d); err != nil {
		return err
	}
	tx.Limits.Fill(q)
	if rules.SameOrder(tx.Settings.Rules(q)) {
		return nil
	}
	return tx.Places.StartWalk(q)
}

// PauseQueue stops a queue from being leased from. All else goes on.
func (se *Setter) PauseQueue(ctx context.Context, name string) error {
	by := commit.CallOf(ctx).Principal
	return se.setPause(ctx, "pause", name, func(now job.Time) memory.Pause { return memory.Pause{At: now, By: by} })
}

// ResumeQueue lets a queue be leased from again.
func (se *Setter) ResumeQueue(ctx context.Context, name string) error {
	return se.setPause(ctx, "resume", name, func(job.Time) memory.Pause { return memory.Pause{} })
}

// setPause pauses a queue, or lets it go on, and records who did it.
func (se *Setter) setPause(ctx context.Context, action, name string, to func(now job.Time) memory.Pause) error {
	return se.c.Record(ctx, action, 0, map[string]string{"queue": name}, func(v *commit.View) (commit.Act, error) {
		q, err := command.QueueOf(v, name)
		if err != nil {
			return nil, err
		}
		p := to(v.Now)
		if (p.At != 0) == v.Settings.Paused(q) {
			return nil, nil // by whom and since when stay as they are
		}
		return func(tx *commit.Tx, _ int64) error { return tx.Settings.SetPause(q, p) }, nil
	})
}

// DeleteQueue removes a queue that has neither jobs nor settings, with what is counted of
// the jobs it had. It comes back with its next job.
func (se *Setter) DeleteQueue(ctx context.Context, name string) error {
	return se.c.Record(ctx, "delete_queue", 0, map[string]string{"queue": name}, func(v *commit.View) (commit.Act, error) {
		q, err := command.QueueOf(v, name)
		if err != nil {
			return nil, err
		}
		if err := heldByQueue(ctx, v, name); err != nil {
			return nil, err
		}
		removed, err := v.Store.HasRemoved(q.ID, 0)
		switch {
		case err != nil:
			return nil, err
		case removed:
			return nil, job.Fault(job.WrongState, "queue %s has jobs that were removed and can still be brought back; delete it when they are gone, in %s at most", name, sentence.Roughly(memory.RestorableFor))
		case !upkeep.Idle(v, q):
			return nil, job.Fault(job.WrongState, "queue %s has jobs or settings, or is paused; only a queue without any can be deleted: cancel and discard its jobs, remove its settings, and resume it first", name)
		}
		return func(tx *commit.Tx, _ int64) error { return tx.RemoveQueue(q) }, nil
	})
}

// DeleteTask removes a task that has neither jobs nor settings, with what is counted of
// the jobs it had. It comes back with its next job.
func (se *Setter) DeleteTask(ctx context.Context, name string) error {
	return se.c.Record(ctx, "delete_task", 0, map[string]string{"task": name}, func(v *commit.View) (commit.Act, error) {
		t := v.Tasks.Find(name)
		if t == nil || !v.Scope.Sees("", name) {
			return nil, job.Fault(job.NotFound, "there is no task %q; a task exists from its first job", name)
		}
		if err := heldByTask(ctx, v, name); err != nil {
			return nil, err
		}
		removed, err := v.Store.HasRemoved(0, t.ID)
		switch {
		case err != nil:
			return nil, err
		case removed:
			return nil, job.Fault(job.WrongState, "task %s has jobs that were removed and can still be brought back; delete it when they are gone, in %s at most", name, sentence.Roughly(memory.RestorableFor))
		case !upkeep.IdleTask(v, t):
			return nil, job.Fault(job.WrongState, "task %s has jobs or settings; only a task without any can be deleted: cancel and discard its jobs and remove its settings first", name)
		}
		return func(tx *commit.Tx, _ int64) error { return tx.RemoveTask(t) }, nil
	})
}
