package setup

import (
	"maps"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/fields"
	"humblemule.example/job"
)

// differences tells what a setup would do, and what of it is refused.
func differences(v *commit.View, req *api.SetupRequest, diff *api.SetupDiff) (wrong []job.FieldError) {
	own := v.Settings.Owned()
	queues, tasks := map[string]*api.Defaults{}, map[string]*api.Defaults{}
	for _, q := range v.Queues.All() {
		queues[q.Name] = v.Settings.Queue(q)
	}
	for id, t := range v.Tasks.All() {
		tasks[t.Name] = v.Settings.Task(id)
	}
	wrong = append(diffNamed(req, diff, "queue", queues, req.Queues, own.Queues), diffNamed(req, diff, "task", tasks, req.Tasks, own.Tasks)...)
	wrong = append(wrong, diffNamed(req, diff, "schedule", schedulesBeside(v, req.Schedules), req.Schedules, own.Schedules)...)
	wrong = append(wrong, diffNamed(req, diff, "hook", hooksOf(v), req.Hooks, own.Hooks)...)
	wrong = append(wrong, diffNamed(req, diff, "endpoint", endpointsBeside(v, req.Endpoints), req.Endpoints, own.Endpoints)...)
	diffWhole(diff, "retention", own.Retention, req.Retention)
	diffWhole(diff, "alerts", own.Alerts, req.Alerts)
	diffWhole(diff, "triage", rulesOrNone(own.Triage), rulesOrNone(req.Triage))
	return wrong
}

// schedulesBeside are the schedules as they can be compared with others: whether one is
// paused counts only where the other says it.
func schedulesBeside(v *commit.View, others map[string]api.Schedule) map[string]*api.Schedule {
	all := map[string]*api.Schedule{}
	for _, s := range v.Schedules.All() {
		if s.Gone() {
			continue
		}
		is, paused := s.Is, s.Row.PausedAt != 0
		if others[s.Row.Name].Paused != nil {
			is.Paused = &paused
		}
		all[s.Row.Name] = &is
	}
	return all
}

// hooksOf are the hooks as they were set.
func hooksOf(v *commit.View) map[string]*api.Hook {
	all := map[string]*api.Hook{}
	for name, h := range v.Hooks.All() {
		all[name] = &h.Is
	}
	return all
}

// endpointsBeside are the endpoints as they can be compared with others: whether one is paused counts only
// where the other says it.
func endpointsBeside(v *commit.View, others map[string]api.Endpoint) map[string]*api.Endpoint {
	all := map[string]*api.Endpoint{}
	for name, e := range v.Endpoints.All() {
		is, paused := e.Is, e.Row.PausedAt != 0
		if others[name].Paused != nil {
			is.Paused = &paused
		}
		all[name] = &is
	}
	return all
}

// diffNamed tells what a setup does to all of a kind, of which some are its own.
func diffNamed[T any](req *api.SetupRequest, diff *api.SetupDiff, kind string, is map[string]*T, wanted map[string]T, own []string) (wrong []job.FieldError) {
	for _, name := range slices.Sorted(maps.Keys(wanted)) {
		d := wanted[name]
		c := api.SetupChange{Kind: kind, Name: name, Change: api.SetupChanges, Fields: fields.Differ(is[name], &d)}
		switch mine := slices.Contains(own, name); {
		case !mine && is[name] == nil:
			c.Change = api.SetupAdds
		case !mine:
			c.Change = api.SetupAdopts
			if !req.Adopt {
				wrong = append(wrong, job.FieldError{Field: kind + "s." + name, Message: "was not set by a file; take it out of the file, or load with adopt"})
			}
		case len(c.Fields) == 0:
			diff.Same++
			continue
		}
		diff.Changes = append(diff.Changes, c)
	}
	for _, name := range own {
		if _, named := wanted[name]; !named {
			diff.Changes = append(diff.Changes, api.SetupChange{Kind: kind, Name: name, Change: api.SetupRemoves, Fields: fields.Differ(is[name], nil)})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(is)) {
		if _, named := wanted[name]; !named && is[name] != nil && !slices.Contains(own, name) {
			diff.Others = append(diff.Others, kind+" "+name)
		}
	}
	return wrong
}

// diffWhole tells what a setup does to what only a file defines.
func diffWhole[T any](diff *api.SetupDiff, kind string, is, wanted *T) {
	c := api.SetupChange{Kind: kind, Change: api.SetupChanges, Fields: fields.Differ(is, wanted)}
	switch {
	case is == nil && wanted == nil:
		return
	case is == nil:
		c.Change = api.SetupAdds
	case wanted == nil:
		c.Change = api.SetupRemoves
	case len(c.Fields) == 0:
		diff.Same++
		return
	}
	diff.Changes = append(diff.Changes, c)
}

// triageRules are rules as an object, so that they can be compared as others are.
type triageRules struct {
	Rules []api.TriageRule `json:"rules"`
}

// rulesOrNone is nil for no rules.
func rulesOrNone(rules []api.TriageRule) *triageRules {
	if len(rules) == 0 {
		return nil
	}
	return &triageRules{rules}
}
