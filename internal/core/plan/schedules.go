package plan

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"humblemule/internal/core/commit"
	"humblemule/internal/core/cron"
	"humblemule/internal/core/memory"
	"humblemule/internal/core/read"
	"humblemule/internal/core/store"
	"humblemule/job"
	"slices"
)

// CheckSchedule answers what is wrong with a schedule of a name.
func (pl *Planner) CheckSchedule(name string, s *job.Schedule, now job.Time) []job.FieldError {
	return append(job.CheckName("name", name), cron.Check(s, pl.c.MaxPayload, now)...)
}

// SetSchedule makes a schedule what is given, new or not. The same again changes nothing.
// version, where it is not 0, must be the present one.
func (pl *Planner) SetSchedule(ctx context.Context, name string, given job.Schedule, version int64) (job.ScheduleTold, error) {
	if err := job.Wrong("the schedule stays as it was", pl.CheckSchedule(name, &given, pl.c.Now())); err != nil {
		return job.ScheduleTold{}, err
	}
	detail := map[string]any{"schedule": name, "after": given}
	err := pl.c.Record(ctx, "set_schedule", 0, detail, func(tx *commit.Tx) (_ func(int64) error, err error) {
		if err := isVersion(tx, name, version); err != nil {
			return nil, err
		}
		if s := tx.Schedules.Find(name); s != nil {
			detail["before"] = s.Is
		}
		changed, err := SetSchedule(tx, name, given, commit.CallOf(ctx).Principal)
		if err == nil && !changed {
			err = errSame
		}
		return nil, err
	})
	if err != nil && !errors.Is(err, errSame) {
		return job.ScheduleTold{}, err
	}
	told, err := pl.read.Schedule(ctx, name)
	told.Warnings = given.Warnings()
	return told, err
}

// errSame ends a command that changes nothing, and leaves no action behind.
var errSame = job.Fault(job.Invalid, "nothing differs")

// isVersion refuses a change that was meant for another version; 0 stands for any.
func isVersion(tx *commit.Tx, name string, version int64) error {
	if version == 0 {
		return nil
	}
	s := tx.Schedules.Find(name)
	if s == nil || s.Row.Version != version {
		return job.Fault(job.Outdated, "schedule %s was changed since: it is not of version %d any more; read it again, nothing was changed", name, version)
	}
	return nil
}

// SetSchedule makes a schedule what is given, and tells whether that changed anything.
func SetSchedule(tx *commit.Tx, name string, given job.Schedule, by string) (changed bool, err error) {
	given.Name = ""
	paused := given.Paused
	given.Paused = nil
	body, err := json.Marshal(given)
	if err != nil {
		return false, err
	}
	row, rule := store.Schedule{Name: name, MadeAt: tx.Now}, ""
	if old := tx.Schedules.Find(name); old != nil {
		row, rule = old.Row, timesOf(&old.Is)
		if row.Body == string(body) && (paused == nil || *paused == (row.PausedAt != 0)) {
			return false, nil
		}
	} else if tx.Schedules.Len() >= job.MostSchedules {
		return false, job.Fault(job.Invalid, "there are %d schedules, the most that are kept; delete one first", job.MostSchedules)
	} else {
		row.ID = tx.Schedules.DrawID()
	}
	row.Body, row.Version = string(body), row.Version+1
	s, err := memory.NewSchedule(row)
	if err != nil {
		return false, err
	}
	if paused != nil {
		setPause(s, *paused, by, tx.Now)
	}
	if rule != timesOf(&s.Is) {
		s.Row.NextAt = s.After(tx.Now)
	}
	return true, tx.Schedules.Put(s)
}

// timesOf is what of a schedule decides when its times are.
func timesOf(s *job.Schedule) string {
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

// PauseSchedule stops a schedule from being enqueued, or lets it go on.
func (pl *Planner) PauseSchedule(ctx context.Context, name string, pause bool) (job.ScheduleTold, error) {
	action := map[bool]string{true: "pause_schedule", false: "resume_schedule"}[pause]
	return pl.changeSchedule(ctx, action, name, func(tx *commit.Tx, s *memory.Schedule) error {
		setPause(s, pause, commit.CallOf(ctx).Principal, tx.Now)
		return nil
	})
}

// RunSchedule enqueues a run of a schedule now, beside its planned times.
func (pl *Planner) RunSchedule(ctx context.Context, name string) (job.ScheduleTold, error) {
	return pl.changeSchedule(ctx, "run_schedule", name, func(tx *commit.Tx, s *memory.Schedule) error {
		at, err := timeForAsked(tx, s)
		if err != nil {
			return err
		}
		r := job.Run{PlannedAt: at, Asked: true}
		if err := enqueueRun(tx, s, &r); err != nil {
			return err
		}
		if r.Reason == job.RunStillRunning {
			return job.Fault(job.WrongState, "the last run of %s, job %d, is not over; cancel it, or let runs wait or come also (if_still_running)", name, s.Row.Last)
		}
		if r.Reason != "" {
			return job.Fault(job.WrongState, "job %d has the same key and answers for the run", r.Job)
		}
		return nil
	})
}

// timeForAsked is the time under which a run that somebody asks for now stands in the
// history: the first from now on, to the millisecond, that no other run has and that is not
// planned.
func timeForAsked(tx *commit.Tx, s *memory.Schedule) (job.Time, error) {
	for at := tx.Now; ; at++ {
		taken, err := tx.Store.HasRun(s.Row.ID, at)
		if err != nil || !taken && s.After(at-1) != at {
			return at, err
		}
	}
}

// changeSchedule changes a schedule that is there, and records who did it.
func (pl *Planner) changeSchedule(ctx context.Context, action, name string, change func(tx *commit.Tx, s *memory.Schedule) error) (job.ScheduleTold, error) {
	err := pl.c.Record(ctx, action, 0, map[string]string{"schedule": name}, func(tx *commit.Tx) (func(int64) error, error) {
		s := tx.Schedules.Find(name)
		if s == nil {
			return nil, read.NoSchedule(name)
		}
		s = s.Copy()
		if err := change(tx, s); err != nil {
			return nil, err
		}
		return nil, tx.Schedules.Put(s)
	})
	if err != nil {
		return job.ScheduleTold{}, err
	}
	return pl.read.Schedule(ctx, name)
}

// DeleteSchedule removes a schedule and its history. Its jobs stay.
func (pl *Planner) DeleteSchedule(ctx context.Context, name string, version int64) error {
	return pl.c.Record(ctx, "delete_schedule", 0, map[string]string{"schedule": name}, func(tx *commit.Tx) (func(int64) error, error) {
		if tx.Schedules.Find(name) == nil {
			return nil, read.NoSchedule(name)
		}
		if err := isVersion(tx, name, version); err != nil {
			return nil, err
		}
		if slices.Contains(tx.Settings.Owned().Schedules, name) {
			return nil, job.Fault(job.WrongState, "schedule %s comes from a set-up file, whose next load would bring it back; take it out there and load the file, or pause it", name)
		}
		return nil, DeleteSchedule(tx, name)
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
