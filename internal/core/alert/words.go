package alert

import (
	"fmt"
	"strings"

	"humblemule.example/api"
	"humblemule.example/internal/sentence"
)

// Describe says in words when a rule alerts.
func Describe(r *api.AlertRule) string {
	w := api.WatchedAs(r.Watch)
	if w == nil {
		return ""
	}
	says := w.Says
	if r.Over != "" {
		_, kind, _ := r.Over.Read()
		says = strings.NewReplacer(
			"more than so many", "more than "+string(r.Over), "late by more", "late by more than "+string(r.Over),
			"longer, or for so many times as long as 95 of 100 wait there", map[string]string{api.BoundDuration: "longer than " + string(r.Over), api.BoundTimes: "more than " + times(r.Over) + " times as long as 95 of 100 wait there"}[kind],
			"more of the attempts of a task fail, or so many times the share that is usual", map[string]string{api.BoundShare: "more than " + string(r.Over) + " of the attempts of a task fail", api.BoundTimes: "more than " + times(r.Over) + " times as many attempts of a task fail as usual"}[kind],
		).Replace(says)
	}
	if len(r.Of) > 0 {
		says += ": " + w.Of + " " + sentence.Or(r.Of)
	}
	if r.For != nil && *r.For > 0 {
		says += fmt.Sprintf(", for %s", *r.For)
	}
	return strings.ToUpper(says[:1]) + says[1:] + "."
}

func times(b api.Bound) string { return strings.TrimSuffix(string(b), "x") }

// Over gives alerts as they stand with those that are newer: of the same number, or without one.
func Over(kept, newer []api.Alert) []api.Alert {
	if len(newer) == 0 {
		return kept
	}
	at := map[int64]int{}
	for i := range kept {
		at[kept[i].ID] = i
	}
	for _, a := range newer {
		if i, there := at[a.ID]; there && a.ID != 0 {
			kept[i] = a
		} else {
			kept = append(kept, a)
		}
	}
	return kept
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
	if n := len(t.Opened) + len(t.Still) + len(t.Over); n == 1 {
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
	return "Alerts: " + strings.Join(all, ", ")
}

func title(a *api.Alert) string { return strings.TrimSuffix(a.Text, ".") }
