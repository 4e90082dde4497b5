package setup

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/hook"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/notice"
	"humblemule.example/internal/core/plan"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/fields"
	"humblemule.example/job"
)

// Load makes the settings those of a file, in one transaction: it sets what the file
// defines, and takes away what an earlier load has defined and this one no longer names.
// What was set in another way stays; where the file names it too it is refused, unless the
// request adopts it.
func (se *Setter) Load(ctx context.Context, req api.SetupRequest) (diff api.SetupDiff, err error) {
	if err := scope.Whole(ctx); err != nil {
		return diff, err
	}
	if err := job.Wrong("nothing was loaded", se.checkSetup(&req)); err != nil {
		return diff, err
	}
	diff.Changes = []api.SetupChange{}
	detail := &diff
	check := func(v *commit.View) (write commit.Write, err error) {
		diff = api.SetupDiff{Changes: []api.SetupChange{}}
		wrong := differences(v, &req, &diff)
		if req.DryRun {
			return nil, nil
		}
		if removesAll(v, &req) {
			wrong = append(wrong, job.FieldError{Field: "empty", Message: "is not true, and the set-up defines nothing: it would remove everything that an earlier one defined; if you mean that, say empty: true"})
		}
		if err := job.Wrong("nothing was loaded", slices.Concat(wrong, checkRoom(v, &req), callFaults(v, &req, v.Settings.Owned()), alertFaults(v, &req, v.Settings.Owned()))); err != nil {
			return nil, err
		}
		if write, err = load(v, &req, commit.CallOf(ctx).Principal); err == nil {
			diff.Loaded = true
		}
		return write, err
	}
	if req.DryRun {
		if err := se.c.Do(ctx, check); err != nil {
			return diff, err
		}
		gone, err := se.leavingBy(ctx, se.keepingNow(), se.keepingWith(&req))
		diff.Removes = gone.n
		return diff, err
	}
	operation, err := se.shorten(ctx, "a set-up keeps finished jobs for a shorter time", req.MayRemove, se.keepingNow(), se.keepingWith(&req), func(also commit.Write) error {
		return se.c.Record(ctx, "load_setup", 0, detail, func(v *commit.View) (commit.Act, error) {
			write, err := check(v)
			return func(tx *commit.Tx, _ int64) error { return errors.Join(write(tx), also(tx)) }, err
		})
	})
	diff.Operation = operation
	return diff, err
}

// checkSetup answers what is wrong with a set-up as it stands.
func (se *Setter) checkSetup(req *api.SetupRequest) (wrong []job.FieldError) {
	check := func(kind string, all map[string]api.Defaults, checkOne func(*api.Defaults) []job.FieldError) {
		for _, name := range slices.Sorted(maps.Keys(all)) {
			at := kind + "." + name
			d := all[name]
			for _, w := range append(check.Name(at, name), checkOne(&d)...) {
				if w.Field != at {
					w.Field = at + "." + w.Field
				}
				wrong = append(wrong, w)
			}
		}
	}
	check("queues", req.Queues, (*api.Defaults).CheckQueue)
	check("tasks", req.Tasks, (*api.Defaults).CheckTask)
	for _, name := range slices.Sorted(maps.Keys(req.Schedules)) {
		s := req.Schedules[name]
		for _, w := range se.plan.CheckSchedule(name, &s, se.c.Now()) {
			w.Field = "schedules." + name + "." + w.Field
			wrong = append(wrong, w)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(req.Hooks)) {
		h := req.Hooks[name]
		for _, w := range hook.CheckHook(name, &h, se.c.Secrets) {
			w.Field = "hooks." + name + "." + w.Field
			wrong = append(wrong, w)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(req.Endpoints)) {
		e := req.Endpoints[name]
		for _, w := range notice.CheckEndpoint(name, &e, &se.c.Options) {
			w.Field = "endpoints." + name + "." + w.Field
			wrong = append(wrong, w)
		}
	}
	if req.Retention != nil {
		for _, w := range req.Retention.Check() {
			w.Field = "retention." + w.Field
			wrong = append(wrong, w)
		}
	}
	if req.Alerts != nil {
		for _, w := range req.Alerts.Check() {
			w.Field = "alerts." + w.Field
			wrong = append(wrong, w)
		}
	}
	return append(wrong, api.CheckTriage(req.Triage)...)
}

// removesAll tells whether a setup that defines nothing, without saying so, would take away
// what is defined.
func removesAll(v *commit.View, req *api.SetupRequest) bool {
	own := v.Settings.Owned()
	defines := len(req.Queues)+len(req.Tasks)+len(req.Schedules)+len(req.Hooks)+len(req.Endpoints)+len(req.Triage) > 0 || req.Retention != nil || req.Alerts != nil
	owns := len(own.Queues)+len(own.Tasks)+len(own.Schedules)+len(own.Hooks)+len(own.Endpoints)+len(own.Triage) > 0 || own.Retention != nil || own.Alerts != nil
	return !req.Empty && !defines && owns
}

// checkRoom refuses a setup that would make more names than a service has room for.
func checkRoom(v *commit.View, req *api.SetupRequest) (wrong []job.FieldError) {
	var problem *job.Problem
	if errors.As(command.CanMake(v, slices.Collect(maps.Keys(req.Queues)), slices.Collect(maps.Keys(req.Tasks))), &problem) {
		for _, f := range problem.Fields {
			wrong = append(wrong, job.FieldError{Field: f.Field + "s", Message: fmt.Sprintf("would be more than %d in all, with those that are there already", command.MostNames)})
		}
	}
	more := func(field string, wanted, own []string, there int, find func(name string) bool, most int) {
		n := there
		for _, name := range wanted {
			if !find(name) {
				n++
			}
		}
		for _, name := range own {
			if !slices.Contains(wanted, name) && find(name) {
				n--
			}
		}
		if n > most {
			wrong = append(wrong, job.FieldError{Field: field, Message: fmt.Sprintf("would be %d in all; at most %d are kept", n, most)})
		}
	}
	own := v.Settings.Owned()
	more("schedules", slices.Sorted(maps.Keys(req.Schedules)), own.Schedules, v.Schedules.Len(), func(name string) bool { return v.Schedules.Find(name) != nil }, api.MaxSchedules)
	more("hooks", slices.Sorted(maps.Keys(req.Hooks)), own.Hooks, v.Hooks.Len(), func(name string) bool { return v.Hooks.Find(name) != nil }, api.MaxHooks)
	more("endpoints", slices.Sorted(maps.Keys(req.Endpoints)), own.Endpoints, v.Endpoints.Len(), v.Endpoints.Has, api.MaxEndpoints)
	return wrong
}

// load sets what a setup defines and takes away what it no longer names.
func load(v *commit.View, req *api.SetupRequest, by string) (commit.Write, error) {
	set, err := setAll(v, req, by)
	return func(tx *commit.Tx) error {
		if err := unload(tx, tx.Settings.Owned(), req); err != nil {
			return err
		}
		if err := set(tx); err != nil {
			return err
		}
		return setOwned(tx, req)
	}, err
}

// setAll sets what a setup defines. Which schedules, hooks and endpoints it changes is found out beforehand, since they
// may be wrong.
func setAll(v *commit.View, req *api.SetupRequest, by string) (commit.Write, error) {
	var writes []commit.Write
	for _, name := range slices.Sorted(maps.Keys(req.Schedules)) {
		write, err := plan.SetSchedule(v, name, req.Schedules[name], by)
		if err != nil {
			return nil, err
		}
		if write != nil {
			writes = append(writes, write)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(req.Hooks)) {
		write, err := hook.SetHook(v, name, req.Hooks[name])
		if err != nil {
			return nil, err
		}
		if write != nil {
			writes = append(writes, write)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(req.Endpoints)) {
		write, err := notice.SetEndpoint(v, name, req.Endpoints[name], by)
		if err != nil {
			return nil, err
		}
		if write != nil {
			writes = append(writes, write)
		}
	}
	return func(tx *commit.Tx) error {
		for _, name := range slices.Sorted(maps.Keys(req.Tasks)) {
			if err := setTask(tx, name, req.Tasks[name]); err != nil {
				return err
			}
		}
		for _, name := range slices.Sorted(maps.Keys(req.Queues)) {
			if err := setQueue(tx, name, req.Queues[name]); err != nil {
				return err
			}
		}
		for _, write := range writes {
			if err := write(tx); err != nil {
				return err
			}
		}
		return nil
	}, nil
}

// setOwned notes what a set-up defines.
func setOwned(tx *commit.Tx, req *api.SetupRequest) error {
	return tx.Settings.SetOwned(memory.Owned{
		Schedules: slices.Sorted(maps.Keys(req.Schedules)), Hooks: slices.Sorted(maps.Keys(req.Hooks)), Endpoints: slices.Sorted(maps.Keys(req.Endpoints)), Queues: slices.Sorted(maps.Keys(req.Queues)), Tasks: slices.Sorted(maps.Keys(req.Tasks)),
		Retention: req.Retention, Triage: req.Triage, Alerts: req.Alerts,
	})
}

// unload takes away what an earlier load has defined and this one no longer names. A
// queue that never had a job goes whole.
func unload(tx *commit.Tx, before memory.Owned, req *api.SetupRequest) error {
	for _, name := range before.Schedules {
		if _, named := req.Schedules[name]; !named {
			if err := plan.DeleteSchedule(tx, name); err != nil {
				return err
			}
		}
	}
	for _, name := range before.Hooks {
		if _, named := req.Hooks[name]; !named && tx.Hooks.Find(name) != nil {
			if err := tx.Hooks.Delete(name); err != nil {
				return err
			}
		}
	}
	for _, name := range before.Endpoints {
		if _, named := req.Endpoints[name]; !named && tx.Endpoints.Has(name) {
			if err := tx.Endpoints.Delete(name); err != nil {
				return err
			}
		}
	}
	for _, name := range before.Tasks {
		if _, named := req.Tasks[name]; !named {
			if err := setTask(tx, name, api.Defaults{}); err != nil {
				return err
			}
		}
	}
	for _, name := range before.Queues {
		if _, named := req.Queues[name]; named {
			continue
		}
		if err := setQueue(tx, name, api.Defaults{}); err != nil {
			return err
		}
		if q := tx.Queues.Find(name); unused(tx, q) {
			if err := tx.RemoveQueue(q); err != nil {
				return err
			}
		}
	}
	return nil
}

// unused tells whether a queue never had a job and nobody has paused it.
func unused(tx *commit.Tx, q *memory.Named) bool {
	return !tx.Counts.Used(q.ID) && !tx.Settings.Paused(q)
}

// noteHand notes which settings of a queue or a task that a file defines were changed by
// hand.
func noteHand(tx *commit.Tx, of string, defined bool, before *api.Defaults, after api.Defaults) error {
	if !defined {
		return nil
	}
	was := map[string]string{}
	for _, s := range fields.SettingsOf(of, before, "", "") {
		was[s.Name] = string(s.Value)
	}
	own := tx.Settings.Owned()
	changed := slices.Clone(own.ByHand[of])
	for _, s := range fields.SettingsOf(of, &after, "", "") {
		if was[s.Name] != string(s.Value) && !slices.Contains(changed, s.Name) {
			changed = append(changed, s.Name)
		}
	}
	if len(changed) == len(own.ByHand[of]) {
		return nil
	}
	own.ByHand = maps.Clone(own.ByHand)
	if own.ByHand == nil {
		own.ByHand = map[string][]string{}
	}
	own.ByHand[of] = changed
	return tx.Settings.SetOwned(own)
}
