package setup

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/fields"
	"humblemule.example/job"
)

// ImportSetup sets what a set-up of another service says and nothing here says: what is set here in
// another way stays so, and is told. Queues of which nothing was set here are paused where they are
// paused there. A dry run tells the same, and changes nothing.
func (se *Setter) ImportSetup(ctx context.Context, given api.Setup, paused []string, dry bool) (told api.ImportedSetup, err error) {
	if err := scope.Whole(ctx); err != nil {
		return told, err
	}
	req := api.SetupRequest{Setup: given}
	wrong := se.checkSetup(&req)
	for i, name := range paused {
		wrong = append(wrong, check.Name(fmt.Sprintf("paused[%d]", i), name)...)
	}
	if err := job.Wrong("the set-up was not imported", wrong); err != nil {
		return told, err
	}
	defer se.m.Retention.Hold()()
	var add api.SetupRequest
	look := func(v *commit.View) error {
		told = api.ImportedSetup{Set: []string{}, Differs: []string{}}
		add = missing(v, &req, &told)
		return job.Wrong("the set-up was not imported", slices.Concat(checkRoom(v, &add), callFaults(v, &add, memory.Owned{}), alertFaults(v, &add, memory.Owned{})))
	}
	if err := se.c.Do(ctx, func(v *commit.View) (commit.Write, error) { return nil, look(v) }); err != nil {
		return told, err
	}
	gone, err := se.leavingBy(ctx, se.keepingNow(), se.keepingAlso(&add))
	switch {
	case err != nil:
		return told, err
	case gone.n > 0:
		return told, job.Fault(job.WouldRemove, "%d finished jobs here would be kept no longer with the set-up of the export; set here how long they are kept, or import jobs alone", gone.n)
	case dry, len(told.Set) == 0:
		return told, nil
	}
	return told, se.c.Record(ctx, "import_setup", 0, &told, func(v *commit.View) (commit.Act, error) {
		if err := look(v); err != nil {
			return nil, err
		}
		write, err := addSetup(v, add, paused)
		return func(tx *commit.Tx, _ int64) error { return write(tx) }, err
	})
}

// missing is what of a set-up nothing here says, and tells what becomes of all of it.
func missing(v *commit.View, req *api.SetupRequest, told *api.ImportedSetup) (add api.SetupRequest) {
	schedules, hooks, endpoints := schedulesBeside(v, req.Schedules), hooksOf(v), endpointsBeside(v, req.Endpoints)
	add.Queues = missingOf("queue", req.Queues, told, func(name string) *api.Defaults {
		if q := v.Queues.Find(name); q != nil {
			return v.Settings.Queue(q)
		}
		return nil
	})
	add.Tasks = missingOf("task", req.Tasks, told, func(name string) *api.Defaults { return v.Settings.Task(v.Tasks.ID(name)) })
	add.Schedules = missingOf("schedule", req.Schedules, told, func(name string) *api.Schedule { return schedules[name] })
	add.Hooks = missingOf("hook", req.Hooks, told, func(name string) *api.Hook { return hooks[name] })
	add.Endpoints = missingOf("endpoint", req.Endpoints, told, func(name string) *api.Endpoint { return endpoints[name] })
	own := v.Settings.Owned()
	if missingOne("retention", own.Retention, req.Retention, told) {
		add.Retention = req.Retention
	}
	if missingOne("alerts", own.Alerts, req.Alerts, told) {
		add.Alerts = req.Alerts
	}
	if missingOne("triage", rulesOrNone(own.Triage), rulesOrNone(req.Triage), told) {
		add.Triage = req.Triage
	}
	return add
}

// missingOf is what of a kind is not set here.
func missingOf[T any](kind string, wanted map[string]T, told *api.ImportedSetup, here func(name string) *T) map[string]T {
	add := map[string]T{}
	for _, name := range slices.Sorted(maps.Keys(wanted)) {
		is := wanted[name]
		if missingOne(kind+" "+name, here(name), &is, told) {
			add[name] = is
		}
	}
	return add
}

// missingOne tells whether one thing is not set here.
func missingOne[T any](name string, here, wanted *T, told *api.ImportedSetup) bool {
	switch {
	case wanted == nil:
		return false
	case here == nil:
		told.Set = append(told.Set, name)
		return true
	case len(fields.Differ(here, wanted)) > 0:
		told.Differs = append(told.Differs, name)
	default:
		told.Same++
	}
	return false
}

// keepingAlso is what will hold when what is missing is added.
func (se *Setter) keepingAlso(add *api.SetupRequest) keeping {
	now := se.keepingNow()
	return keeping{cmp.Or(add.Retention, now.retention), func(q *memory.Named) *api.Defaults {
		if d, adds := add.Queues[q.Name]; adds {
			return &d
		}
		return now.of(q)
	}}
}

// addSetup sets what is missing.
func addSetup(v *commit.View, add api.SetupRequest, paused []string) (commit.Write, error) {
	var pause []string
	for _, name := range paused {
		if q := v.Queues.Find(name); q == nil || v.Settings.Queue(q) == nil && !v.Settings.Paused(q) {
			pause = append(pause, name)
		}
	}
	own := v.Settings.Owned()
	own.Retention, own.Alerts = cmp.Or(add.Retention, own.Retention), cmp.Or(add.Alerts, own.Alerts)
	if len(add.Triage) > 0 {
		own.Triage = add.Triage
	}
	set, err := setAll(v, &add, v.By)
	return func(tx *commit.Tx) error {
		if err := set(tx); err != nil {
			return err
		}
		for _, name := range pause {
			q, err := tx.Queues.Use(name, tx.By)
			if err == nil {
				err = tx.Settings.SetPause(q, memory.Pause{At: tx.Now, By: tx.By})
			}
			if err != nil {
				return err
			}
		}
		return tx.Settings.SetOwned(own)
	}, err
}
