package plan

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/cron"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/read"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/veil"
	"humblemule.example/job"
)

// CheckSchedule answers what is wrong with a schedule of a name.
func (pl *Planner) CheckSchedule(name string, s *api.Schedule, now job.Time) []job.FieldError {
	return append(check.Name("name", name), cron.Check(s, pl.c.MaxPayload, now)...)
}

// SetSchedule makes a schedule what is given, new or not. The same again changes nothing.
func (pl *Planner) SetSchedule(ctx context.Context, name string, given api.Schedule) (api.ScheduleStatus, error) {
	if err := job.Wrong("the schedule stays as it was", pl.CheckSchedule(name, &given, pl.c.Now())); err != nil {
		return api.ScheduleStatus{}, err
	}
	detail := map[string]any{"schedule": name, "after": given}
	err := pl.c.Record(ctx, "set_schedule", 0, detail, func(v *commit.View) (commit.Act, error) {
		if err := cmp.Or(mayPlan(v, &given), holds(ctx, v, name)); err != nil {
			return nil, err
		}
		if err := job.Wrong("the schedule stays as it was", CallFaults(v, &given, func(task string) bool { return v.Settings.MakesCalls(v.Tasks.ID(task)) }, v.Endpoints.Has)); err != nil {
			return nil, err
		}
		if s := v.Schedules.Find(name); s != nil {
			if err := mayPlan(v, &s.Is); err != nil {
				return nil, err
			}
			detail["before"] = s.Is
			given = unveiled(v, given, &s.Is)
			detail["after"] = given
		} else if v.Schedules.Len() >= api.MaxSchedules {
			return nil, job.Fault(job.Invalid, "there are %d schedules, the most that are kept; delete one first", api.MaxSchedules)
		}
		write, err := SetSchedule(v, name, given, commit.CallOf(ctx).Principal)
		if err == nil && write == nil {
			err = errSame
		}
		return func(tx *commit.Tx, _ int64) error { return write(tx) }, err
	})
	if err != nil && !errors.Is(err, errSame) {
		return api.ScheduleStatus{}, err
	}
	told, err := pl.read.Schedule(ctx, name)
	told.Warnings = given.Warnings()
	return told, err
}

// CallFaults answers what is wrong with the calls of a schedule's jobs, and with whom they tell of their ends,
// where makes tells which tasks make calls, and has which endpoints there are.
func CallFaults(v *commit.View, s *api.Schedule, makes, has func(name string) bool) (wrong []job.FieldError) {
	if s.Batch != nil {
		wrong = command.NotifyFaults(v, "batch.notify", s.Batch.Notify, has)
	}
	for i, spec := range s.Specs() {
		at := "job."
		switch {
		case s.Batch != nil && i == len(s.Batch.Jobs):
			at = "batch.last."
		case s.Batch != nil:
			at = fmt.Sprintf("batch.jobs[%d].", i)
		}
		wrong = append(wrong, command.NotifyFaults(v, at+"notify", spec.Notify, has)...)
		for _, w := range command.CallFaults(v, spec, makes(spec.Task)) {
			wrong = append(wrong, job.FieldError{Field: at + w.Field, Message: w.Message})
		}
	}
	return wrong
}

// unveiled puts back what was hidden of the payloads that a schedule has, where it is given them so.
func unveiled(v *commit.View, given api.Schedule, is *api.Schedule) api.Schedule {
	given = given.Own()
	specs, were := given.Specs(), is.Specs()
	for i := range min(len(specs), len(were)) {
		s, was := specs[i], were[i]
		if d := v.Settings.Task(v.Tasks.ID(s.Task)); d != nil && s.Task == was.Task && s.Payload != nil && was.Payload != nil {
			s.Payload = veil.Restore(s.Payload, was.Payload, d.Hide...)
		}
	}
	return given
}

// errSame ends a command that changes nothing, and leaves no action behind.
var errSame = job.Fault(job.Invalid, "nothing differs")

// holds refuses a change of a schedule for which the condition of the call does not hold.
func holds(ctx context.Context, v *commit.View, name string) error {
	s, version := v.Schedules.Find(name), int64(0)
	if s != nil {
		version = s.Row.Version
	}
	return commit.CallOf(ctx).If.Check("schedule "+name, s != nil, version)
}

// mayPlan refuses a schedule whose jobs are not in the scope of whoever gives the command.
func mayPlan(v *commit.View, s *api.Schedule) error {
	for _, spec := range s.Specs() {
		if err := v.Scope.Refuses(command.QueueFor(v, spec.Queue, spec.Task), spec.Task); err != nil {
			return err
		}
	}
	return nil
}

// scheduleOf finds a schedule by its name; an error where it is not there, or its jobs are not
// in the scope.
func scheduleOf(v *commit.View, name string) (*memory.Schedule, error) {
	s := v.Schedules.Find(name)
	if s == nil || mayPlan(v, &s.Is) != nil {
		return nil, read.NoSchedule(name)
	}
	return s, nil
}

// SetSchedule makes a schedule what is given; what it gives is nil where that is what it is.
// Whether there is room for one more is for the caller to see.
func SetSchedule(v *commit.View, name string, given api.Schedule, by string) (commit.Write, error) {
	given.Name = ""
	paused := given.Paused
	given.Paused = nil
	body, err := json.Marshal(given)
	if err != nil {
		return nil, err
	}
	row, rule := store.Schedule{Name: name, MadeAt: v.Now}, ""
	if old := v.Schedules.Find(name); old != nil {
		row, rule = old.Row, timesOf(&old.Is)
		if row.Body == string(body) && (paused == nil || *paused == (row.PausedAt != 0)) {
			return nil, nil
		}
	}
	row.Body, row.Version = string(body), row.Version+1
	s, err := memory.NewSchedule(row)
	if err != nil {
		return nil, err
	}
	if paused != nil {
		setPause(s, *paused, by, v.Now)
	}
	if rule != timesOf(&s.Is) {
		s.Row.NextAt = s.After(v.Now)
	}
	return func(tx *commit.Tx) error {
		if s.Row.ID == 0 {
			s.Row.ID = tx.Schedules.DrawID()
		}
		return tx.Schedules.Put(s)
	}, nil
}

// timesOf is what of a schedule decides when its times are.
func timesOf(s *api.Schedule) string {
	return fmt.Sprintf("%s %d %d %s %d", s.Cron, s.Every, s.From, s.Zone, s.Until)
}

// setPause pauses or resumes a schedule. Times inside a pause are not missed.
func setPause(s *memory.Schedule, pause bool, by string, now job.Time) {
	switch {
	case pause == (s.Row.PausedAt != 0):
	case pause:
		s.Row.PausedAt, s.Row.PausedBy = now, by
	default:
		s.Row.PausedAt, s.Row.PausedBy = 0, ""
		s.Row.NextAt = s.After(now)
	}
}

// PauseSchedule stops a schedule from being enqueued.
func (pl *Planner) PauseSchedule(ctx context.Context, name string) (api.ScheduleStatus, error) {
	return pl.changeSchedule(ctx, "pause_schedule", name, func(v *commit.View, s *memory.Schedule) (commit.Write, error) {
		setPause(s, true, commit.CallOf(ctx).Principal, v.Now)
		return nil, nil
	})
}

// ResumeSchedule lets a schedule go on.
func (pl *Planner) ResumeSchedule(ctx context.Context, name string) (api.ScheduleStatus, error) {
	return pl.changeSchedule(ctx, "resume_schedule", name, func(v *commit.View, s *memory.Schedule) (commit.Write, error) {
		setPause(s, false, "", v.Now)
		return nil, nil
	})
}

// RunSchedule enqueues a run of a schedule now, beside its planned times.
func (pl *Planner) RunSchedule(ctx context.Context, name string) (api.ScheduleStatus, error) {
	return pl.changeSchedule(ctx, "run_schedule", name, func(v *commit.View, s *memory.Schedule) (commit.Write, error) {
		at, err := timeForAsked(v, s)
		if err != nil {
			return nil, err
		}
		last, err := lastRun(v, s)
		if err != nil {
			return nil, err
		}
		if last.blocks {
			return nil, job.Fault(job.WrongState, "the last run of %s, job %d, is unfinished; cancel it, or let runs wait or come also (if_still_running)", name, s.Row.Last)
		}
		if s.Is.Batch == nil {
			n, err := command.Prepare(&s.Is.Job)
			if err != nil {
				return nil, err
			}
			if err := command.Dedupe(v, n, last.givesWay); err != nil {
				return nil, err
			}
			if n.Earlier != nil {
				return nil, job.Fault(job.WrongState, "job %d has the same key and answers for the run", n.Earlier.ID)
			}
		}
		return func(tx *commit.Tx) error { return enqueueRun(tx, s, &api.Run{PlannedAt: at, Asked: true}) }, nil
	})
}

// timeForAsked is the time under which a run that somebody asks for now stands in the
// history: the first from now on, to the millisecond, that no other run has and that is not
// planned.
func timeForAsked(v *commit.View, s *memory.Schedule) (job.Time, error) {
	for at := v.Now; ; at++ {
		taken, err := v.Store.HasRun(s.Row.ID, at)
		if err != nil || !taken && s.After(at-1) != at {
			return at, err
		}
	}
}

// changeSchedule changes a schedule that is there, and records who did it. change alters the
// copy it is given, and may give what is to be done with it before it is put.
func (pl *Planner) changeSchedule(ctx context.Context, action, name string, change func(v *commit.View, s *memory.Schedule) (commit.Write, error)) (api.ScheduleStatus, error) {
	err := pl.c.Record(ctx, action, 0, map[string]string{"schedule": name}, func(v *commit.View) (commit.Act, error) {
		s, err := scheduleOf(v, name)
		if err != nil {
			return nil, err
		}
		s = s.Copy()
		write, err := change(v, s)
		if err != nil {
			return nil, err
		}
		return func(tx *commit.Tx, _ int64) error {
			if write != nil {
				if err := write(tx); err != nil {
					return err
				}
			}
			return tx.Schedules.Put(s)
		}, nil
	})
	if err != nil {
		return api.ScheduleStatus{}, err
	}
	return pl.read.Schedule(ctx, name)
}

// DeleteSchedule removes a schedule and its history. Its jobs stay.
func (pl *Planner) DeleteSchedule(ctx context.Context, name string) error {
	return pl.c.Record(ctx, "delete_schedule", 0, map[string]string{"schedule": name}, func(v *commit.View) (commit.Act, error) {
		if _, err := scheduleOf(v, name); err != nil {
			return nil, err
		}
		if err := holds(ctx, v, name); err != nil {
			return nil, err
		}
		if slices.Contains(v.Settings.Owned().Schedules, name) {
			return nil, job.Fault(job.WrongState, "schedule %s comes from a set-up file, whose next load would bring it back; take it out there and load the file, or pause it", name)
		}
		return func(tx *commit.Tx, _ int64) error { return DeleteSchedule(tx, name) }, nil
	})
}

// DeleteSchedule removes a schedule, where it is there; a run that waits goes on.
func DeleteSchedule(tx *commit.Tx, name string) error {
	if s := tx.Schedules.Find(name); s != nil {
		return tx.Schedules.Delete(s)
	}
	return nil
}

// keepOrDrop keeps a schedule, or drops one that was deleted and for which nothing waits
// any more.
func keepOrDrop(tx *commit.Tx, s *memory.Schedule) error {
	if s.Gone() && s.Row.Waiting == 0 {
		return tx.Schedules.Delete(s)
	}
	return tx.Schedules.Put(s)
}
