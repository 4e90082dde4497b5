package setup

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/nearest"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// alertFaults answers what the alerts of a set-up name that is not there: what rules watch, and the ways of
// their channels. What own names is taken away where the set-up does not name it.
func alertFaults(v *commit.View, req *api.SetupRequest, own memory.Owned) (wrong []job.FieldError) {
	if req.Alerts == nil {
		return nil
	}
	there := namesThere(v, req, own)
	for _, name := range slices.Sorted(maps.Keys(req.Alerts.Rules)) {
		r := req.Alerts.Rules[name]
		watched := api.WatchedAs(r.WatchedAs(name))
		if watched == nil || there[watched.Of] == nil {
			continue
		}
		for i, of := range r.Of {
			if !slices.Contains(there[watched.Of], of) {
				wrong = append(wrong, job.FieldError{Field: fmt.Sprintf("alerts.rules.%s.of[%d]", name, i), Message: fmt.Sprintf("there is no %s %q%s", watched.Of, of, sentence.Perhaps(nearest.To(of, there[watched.Of])))})
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(req.Alerts.Channels)) {
		ch, at := req.Alerts.Channels[name], "alerts.channels."+name
		if ch.Command != "" {
			if err := v.Options().MayRun(ch.Command); err != nil {
				wrong = append(wrong, job.FieldError{Field: at + ".command", Message: err.Error()})
			}
			continue
		}
		for _, w := range command.NotifyFaults(v, at, []job.Notify{ch.Notify()}, func(name string) bool { return slices.Contains(there["endpoint"], name) }) {
			wrong = append(wrong, job.FieldError{Field: strings.Replace(w.Field, at+"[0]", at, 1), Message: w.Message})
		}
	}
	return wrong
}

// namesThere are the names that there are when a set-up is loaded, by the words of [api.Watched].
func namesThere(v *commit.View, req *api.SetupRequest, own memory.Owned) map[string][]string {
	all := map[string]map[string]bool{"queue": {}, "task": {}, "schedule": {}, "hook": {}, "endpoint": {}}
	for _, q := range v.Queues.All() {
		all["queue"][q.Name] = true
	}
	for _, t := range v.Tasks.All() {
		all["task"][t.Name] = true
	}
	for _, s := range v.Schedules.All() {
		all["schedule"][s.Row.Name] = !s.Gone()
	}
	for name := range v.Hooks.All() {
		all["hook"][name] = true
	}
	for name := range v.Endpoints.All() {
		all["endpoint"][name] = true
	}
	for of, names := range map[string][]string{"schedule": own.Schedules, "hook": own.Hooks, "endpoint": own.Endpoints} {
		for _, name := range names {
			delete(all[of], name)
		}
	}
	for of, names := range map[string][]string{
		"queue": keys(req.Queues), "task": keys(req.Tasks), "schedule": keys(req.Schedules), "hook": keys(req.Hooks), "endpoint": keys(req.Endpoints),
	} {
		for _, name := range names {
			all[of][name] = true
		}
	}
	for _, s := range req.Schedules {
		for _, spec := range s.Specs() {
			all["task"][spec.Task] = true
			all["queue"][spec.Queue] = true
		}
	}
	there := map[string][]string{}
	for of, names := range all {
		maps.DeleteFunc(names, func(name string, is bool) bool { return name == "" || !is })
		there[of] = append([]string{}, slices.Sorted(maps.Keys(names))...)
	}
	return there
}

func keys[V any](m map[string]V) []string { return slices.Collect(maps.Keys(m)) }
