package setup

import (
	"fmt"
	"maps"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/plan"
	"humblemule.example/job"
)

// A task makes calls, or workers do it: its jobs, and those of schedules and hooks, are all of one kind.

// callsAgree refuses to set a task where what there is does not go with whether it then makes calls.
func callsAgree(v *commit.View, name string, d *api.Defaults) error {
	if err := command.CanMakeCalls(v, name, d.MakesCalls()); err != nil {
		return err
	}
	makes := func(task string) bool {
		if task == name {
			return d.MakesCalls()
		}
		return v.Settings.MakesCalls(v.Tasks.ID(task))
	}
	wrong := append(signFaults(v, "calls.sign", name, d), command.NotifyFaults(v, "notify", d.Notify, v.Endpoints.Has)...)
	for _, s := range v.Schedules.All() {
		if s.Gone() {
			continue
		}
		for _, spec := range s.Is.Specs() {
			if spec.Task == name && makes(name) != (spec.Call != nil) {
				wrong = append(wrong, job.FieldError{Field: "calls", Message: fmt.Sprintf("does not go with schedule %s, which enqueues jobs of the task that %s; change the schedule first", s.Row.Name, map[bool]string{true: "workers do", false: "are calls"}[makes(name)])})
			}
		}
	}
	for hook, h := range v.Hooks.All() {
		if h.Is.Task == name && makes(name) {
			wrong = append(wrong, job.FieldError{Field: "calls", Message: fmt.Sprintf("does not go with hook %s, whose jobs workers do; give the hook another task first", hook)})
		}
	}
	return job.Wrong("the defaults stay as they were", wrong)
}

// signFaults answers why calls of a task cannot be signed as its defaults say.
func signFaults(v *commit.View, field, name string, d *api.Defaults) []job.FieldError {
	if !d.MakesCalls() || d.Calls.Sign == "" {
		return nil
	}
	if err := v.Options().Secrets.ForTask(d.Calls.Sign, name); err != nil {
		return []job.FieldError{{Field: field, Message: err.Error()}}
	}
	return nil
}

// callFaults answers what of a set-up does not go together: tasks that make calls, and schedules and hooks
// whose jobs are none; and tasks whose unfinished jobs are of the other kind. What own names is taken away
// where the set-up does not name it.
func callFaults(v *commit.View, req *api.SetupRequest, own memory.Owned) (wrong []job.FieldError) {
	makes := func(task string) bool {
		if d, named := req.Tasks[task]; named {
			return d.MakesCalls()
		}
		return !slices.Contains(own.Tasks, task) && v.Settings.MakesCalls(v.Tasks.ID(task))
	}
	has := func(endpoint string) bool {
		_, named := req.Endpoints[endpoint]
		return named || v.Endpoints.Has(endpoint) && !slices.Contains(own.Endpoints, endpoint)
	}
	for _, name := range slices.Sorted(maps.Keys(req.Tasks)) {
		d := req.Tasks[name]
		wrong = append(wrong, signFaults(v, "tasks."+name+".calls.sign", name, &d)...)
		wrong = append(wrong, command.NotifyFaults(v, "tasks."+name+".notify", d.Notify, has)...)
	}
	for id, t := range v.Tasks.All() {
		if now := makes(t.Name); now != v.Settings.MakesCalls(id) {
			if err := command.CanMakeCalls(v, t.Name, now); err != nil {
				wrong = append(wrong, job.FieldError{Field: "tasks." + t.Name + ".calls", Message: err.Error()})
			}
		}
	}
	for _, s := range v.Schedules.All() {
		if _, named := req.Schedules[s.Row.Name]; named || s.Gone() || slices.Contains(own.Schedules, s.Row.Name) {
			continue
		}
		for _, spec := range s.Is.Specs() {
			if makes(spec.Task) != (spec.Call != nil) {
				wrong = append(wrong, job.FieldError{Field: "tasks." + spec.Task + ".calls", Message: fmt.Sprintf("does not go with schedule %s, which enqueues jobs of the task", s.Row.Name)})
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(req.Schedules)) {
		s := req.Schedules[name]
		for _, w := range plan.CallFaults(v, &s, makes, has) {
			wrong = append(wrong, job.FieldError{Field: "schedules." + name + "." + w.Field, Message: w.Message})
		}
	}
	for _, name := range own.Endpoints {
		replaced := func(kind, of string) bool {
			_, task := req.Tasks[of]
			_, schedule := req.Schedules[of]
			return kind == "alerts" || kind == "task" && (task || slices.Contains(own.Tasks, of)) || kind == "schedule" && (schedule || slices.Contains(own.Schedules, of))
		}
		if by := command.TellsAt(v, name, replaced); by != "" && !has(name) {
			wrong = append(wrong, job.FieldError{Field: "endpoints." + name, Message: fmt.Sprintf("is left out, and %s names it; change that first", by)})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(req.Hooks)) {
		if task := req.Hooks[name].Task; makes(task) {
			wrong = append(wrong, job.FieldError{Field: "hooks." + name + ".task", Message: fmt.Sprintf("task %s makes calls, which the jobs of a hook are not; give another task, whose handler calls", task)})
		}
	}
	return wrong
}
