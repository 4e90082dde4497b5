package alert

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"humblemule.example/api"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Describe says in words when a rule alerts.
func Describe(r *api.AlertRule) string {
	w := api.WatchedAs(r.Watch)
	if w == nil {
		return ""
	}
	_, kind, _ := r.Over.Read()
	says := w.Says
	switch {
	case r.Over == "0":
		says = strings.Replace(says, "more than OVER ", "", 1)
	case kind == api.BoundTimes && r.Watch == api.WatchFailing:
		says = strings.Replace(says, "OVER of the attempts of a task fail", strings.TrimSuffix(string(r.Over), "x")+" times the usual share of a task's attempts fail", 1)
	case kind == api.BoundTimes:
		says = strings.Replace(says, "OVER", strings.TrimSuffix(string(r.Over), "x")+" times the usual", 1)
	}
	says = strings.Replace(says, "OVER", string(r.Over), 1)
	if len(r.Of) > 0 {
		says += ": " + w.Of + " " + sentence.Or(r.Of)
	}
	if r.For != nil && *r.For > 0 {
		says += fmt.Sprintf(", for %s", *r.For)
	}
	return strings.ToUpper(says[:1]) + says[1:] + "."
}

// Untold is why nobody was told of an alert yet; empty where somebody was, or will be soon. there tells that
// its rule still holds.
func Untold(a *api.Alert, r *api.AlertRule, there bool, now job.Time) string {
	switch {
	case a.ToldAt != 0 || a.OverAt != 0:
		return ""
	case !there:
		return "Its rule is gone."
	case len(r.Tell) == 0:
		return "Its rule names no channel."
	case a.MutedUntil > now:
		return "It is muted."
	case r.Quiet.Holds(now):
		return fmt.Sprintf("Quiet hours are until %s (%s).", r.Quiet.To, cmp.Or(r.Quiet.Zone, "UTC"))
	}
	return ""
}

// Over gives alerts as they stand with those that are newer in their places: of the same number or, of those
// without one, of the same rule and thing. Others are added.
func Over(kept, newer []api.Alert) []api.Alert {
	type one struct {
		id int64
		of key
	}
	oneOf := func(a *api.Alert) one {
		if a.ID != 0 {
			return one{id: a.ID}
		}
		return one{of: key{a.Rule, a.About}}
	}
	all, at := slices.Clone(kept), map[one]int{}
	for i := range all {
		at[oneOf(&all[i])] = i
	}
	for i := range newer {
		if place, there := at[oneOf(&newer[i])]; there {
			all[place] = newer[i]
		} else {
			all = append(all, newer[i])
		}
	}
	return all
}

// Subject is what a message says in a line.
func Subject(t *api.AlertsTold) string {
	if t.Test != "" {
		return "Test of the alerts"
	}
	var all []string
	add := func(list []api.Alert, what string) {
		if len(list) > 0 {
			all = append(all, fmt.Sprintf("%d %s", len(list), what))
		}
	}
	if n := len(t.Opened) + len(t.Still) + len(t.Over) + t.More; n == 1 {
		for _, a := range t.Opened {
			return title(&a)
		}
		for _, a := range t.Still {
			return "Still: " + title(&a)
		}
		return "Over: " + title(&t.Over[0])
	}
	add(t.Opened, "new")
	add(t.Still, "not over yet")
	add(t.Over, "over")
	if t.More > 0 {
		all = append(all, fmt.Sprintf("%d more", t.More))
	}
	return "Alerts: " + strings.Join(all, ", ")
}

func title(a *api.Alert) string { return strings.TrimSuffix(a.Text, ".") }
