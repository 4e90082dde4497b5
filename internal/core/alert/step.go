package alert

import (
	"fmt"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// How alerts begin and end.
const (
	// leastRight is for how long what was wrong must be right again, at least, for an alert to be over.
	leastRight = time.Minute
	// flapsWithin is within what time an alert that was over is the same one when it is wrong again; each time it
	// must be right twice as long, up to longestRight.
	flapsWithin  = time.Hour
	longestRight = 30 * time.Minute
	// renewed is how often what an open alert says is brought up to date.
	renewed = time.Minute
	// Window is the span within which it is counted how many attempts fail and how many deliveries are refused.
	Window = 10 * time.Minute
	// Kept is how long alerts are kept that are over.
	Kept = 30 * 24 * time.Hour
)

// key is what an alert is of: at most one that is not over.
type key struct{ rule, about string }

// Book is what is remembered between two steps, by how long the service is up: since when something is wrong
// that no alert is of yet, since when alerts are right, and when what they say was renewed. It is lost when
// the service ends: what is wrong then must be so for as long again.
type Book struct {
	wrong          map[key]time.Duration
	right, renewed map[key]time.Duration
}

// Step holds what is wrong now against the alerts there are, and gives those that are new, are over, or say
// something else; new ones have no number. up is for how long the service is up, by a clock that does not
// jump.
func Step(book Book, alerts []api.Alert, readings []Reading, up time.Duration, now job.Time) (next Book, changed []api.Alert) {
	next = Book{map[key]time.Duration{}, map[key]time.Duration{}, map[key]time.Duration{}}
	latest := map[key]*api.Alert{}
	for i := range alerts {
		a := &alerts[i]
		at := key{a.Rule, a.About}
		if was := latest[at]; was == nil || was.OverAt != 0 && (a.OverAt == 0 || a.OpenedAt > was.OpenedAt) {
			latest[at] = a
		}
	}
	wrong := map[key]bool{}
	readings = bounded(readings, latest)
	for i := range readings {
		r := &readings[i]
		at := key{r.Rule, r.About}
		wrong[at] = true
		was := latest[at]
		if was != nil && was.OverAt == 0 {
			if a, differs := renew(*was, r); differs && (since(book.renewed, at, up-renewed) <= up-renewed || a.Severity != was.Severity) {
				changed, next.renewed[at] = append(changed, a), up
			} else {
				next.renewed[at] = since(book.renewed, at, up-renewed)
			}
			continue
		}
		if !r.Opens || r.Once && was != nil {
			continue
		}
		began := since(book.wrong, at, up)
		if up-began < r.For {
			next.wrong[at] = began
			continue
		}
		changed, next.renewed[at] = append(changed, open(was, r, up-began, now)), up
	}
	for at, was := range latest {
		if was.OverAt != 0 || wrong[at] || (was.Kind == api.WatchFailing || was.Kind == api.WatchHook) && up < Window {
			continue // the last is not known yet
		}
		began := since(book.right, at, up)
		if up-began < rightFor(was) {
			next.right[at] = began
			continue
		}
		a := *was
		a.OverAt = now
		changed = append(changed, a)
	}
	slices.SortStableFunc(changed, func(a, b api.Alert) int { return worse(&a, &b) })
	return next, changed
}

// Others is what an alert is about that stands for all that a rule finds wrong beyond [MostOfRule].
const (
	Others     = "(others)"
	MostOfRule = 100
)

// bounded gives readings of which each rule opens no more alerts than [MostOfRule]; the rest is one.
func bounded(readings []Reading, latest map[key]*api.Alert) (all []Reading) {
	isOpen := func(r *Reading) bool {
		was := latest[key{r.Rule, r.About}]
		return was != nil && was.OverAt == 0
	}
	open := map[string]int{}
	for i := range readings {
		if isOpen(&readings[i]) {
			open[readings[i].Rule]++
		}
	}
	rest := map[string]*Reading{}
	var rules []string
	for i := range readings {
		r := &readings[i]
		if isOpen(r) || !r.Opens || r.Once && latest[key{r.Rule, r.About}] != nil {
			all = append(all, *r)
			continue
		}
		if open[r.Rule] < MostOfRule {
			open[r.Rule]++
			all = append(all, *r)
			continue
		}
		if rest[r.Rule] == nil {
			rules = append(rules, r.Rule)
			rest[r.Rule] = &Reading{Rule: r.Rule, About: Others, Severity: r.Severity, For: r.For, Opens: true, Fact: api.Fact{Kind: r.Fact.Kind, Wrong: true, Act: r.Fact.Act, Command: "hmule check"}}
		}
		rest[r.Rule].Fact.Number++
	}
	for _, rule := range rules {
		r := rest[rule]
		r.Fact.Text = fmt.Sprintf("Rule %s finds %s wrong.", rule, sentence.Count(r.Fact.Number, "more thing", "more things"))
		all = append(all, *r)
	}
	return all
}

func since(all map[key]time.Duration, at key, otherwise time.Duration) time.Duration {
	if began, known := all[at]; known {
		return began
	}
	return otherwise
}

// open gives the alert of what has been wrong for long enough: the one that was over shortly before, or a new
// one.
func open(was *api.Alert, r *Reading, lasted time.Duration, now job.Time) (a api.Alert) {
	a = api.Alert{Rule: r.Rule, About: r.About, Since: now.Add(-lasted), OpenedAt: now}
	if was != nil && now.Sub(was.OverAt) < flapsWithin {
		a.ID, a.Reopened = was.ID, was.Reopened+1
		a.MutedUntil, a.MutedBy = was.MutedUntil, was.MutedBy
	}
	if r.Since != 0 && r.Since < a.Since {
		a.Since = r.Since
	}
	a, _ = renew(a, r)
	a.RightFor = job.Duration(min(max(r.For, leastRight)<<min(a.Reopened, 10), longestRight))
	a.RightFor = max(a.RightFor, job.Duration(r.For))
	return a
}

// rightFor is for how long what an alert is of must be right for it to be over.
func rightFor(a *api.Alert) time.Duration { return max(a.RightFor.Go(), leastRight) }

// renew brings what an alert says up to date.
func renew(a api.Alert, r *Reading) (api.Alert, bool) {
	differs := a.Severity != r.Severity || a.Fact != r.Fact || a.Likely == "" && r.Likely != ""
	a.Severity, a.Fact = r.Severity, r.Fact
	if a.Likely == "" {
		a.Likely = r.Likely
	}
	if w := api.WatchedAs(a.Kind); w != nil {
		a.Mend = w.Mend
	}
	return a, differs
}

// worse puts alerts in order: the critical ones first, then those that have opened first.
func worse(a, b *api.Alert) int {
	rank := func(x *api.Alert) int {
		if x.Severity == api.SeverityCritical {
			return 0
		}
		return 1
	}
	if rank(a) != rank(b) {
		return rank(a) - rank(b)
	}
	if a.OpenedAt != b.OpenedAt {
		return int(min(max(a.OpenedAt-b.OpenedAt, -1), 1))
	}
	return int(min(max(a.ID-b.ID, -1), 1))
}

// Order puts alerts in order: what is not over first, the critical ones before others; of those that are over,
// the latest first.
func Order(alerts []api.Alert) {
	slices.SortStableFunc(alerts, func(a, b api.Alert) int {
		switch over := [2]bool{a.OverAt != 0, b.OverAt != 0}; over {
		case [2]bool{true, false}:
			return 1
		case [2]bool{false, true}:
			return -1
		case [2]bool{true, true}:
			return int(min(max(b.OverAt-a.OverAt, -1), 1))
		}
		return worse(&a, &b)
	})
}
