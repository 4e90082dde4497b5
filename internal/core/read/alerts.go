package read

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/alert"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/trend"
	"humblemule.example/job"
)

// NoAlert says that an alert is not there.
func NoAlert(id int64) error { return job.Fault(job.NotFound, "there is no alert %d", id) }

// Alerts lists alerts in one of some states, all where none is named: those that are not over first, the
// critical ones before others.
func (rd *Reader) Alerts(ctx context.Context, states []string) ([]api.Alert, error) {
	if err := scope.Whole(ctx); err != nil {
		return nil, err
	}
	told := []api.Alert{}
	for _, a := range rd.toldAlerts() {
		if len(states) == 0 || slices.Contains(states, a.State) {
			told = append(told, a)
		}
	}
	alert.Order(told)
	return told, nil
}

// Alert tells of one alert.
func (rd *Reader) Alert(ctx context.Context, id int64) (api.Alert, error) {
	if err := scope.Whole(ctx); err != nil {
		return api.Alert{}, err
	}
	for _, a := range rd.toldAlerts() {
		if a.ID == id && id != 0 {
			return a, nil
		}
	}
	return api.Alert{}, NoAlert(id)
}

// keptAlerts are those of the file, as the unkept ones stand that are newer.
func (rd *Reader) keptAlerts() []api.Alert {
	rd.m.RLock()
	kept := rd.m.Alerts.AllKept()
	rd.m.RUnlock()
	return alert.Over(kept, rd.told.Unkept())
}

// toldAlerts are all alerts with what is told of them beside what is kept.
func (rd *Reader) toldAlerts() []api.Alert {
	all, rules, now := rd.keptAlerts(), rd.AlertRules(), rd.clock.Now()
	for i := range all {
		a := &all[i]
		r, there := rules[a.Rule]
		a.State, a.Untold = a.StateAt(now), alert.Untold(a, &r, there, now)
	}
	return all
}

// openAlerts are those that are not over.
func (rd *Reader) openAlerts(now job.Time) (all []api.Alert) {
	for _, a := range rd.keptAlerts() {
		if a.StateAt(now) != api.AlertOver {
			all = append(all, a)
		}
	}
	return all
}

// AlertRules are the rules that hold, by name, with all that is built in.
func (rd *Reader) AlertRules() map[string]api.AlertRule {
	rd.m.RLock()
	defer rd.m.RUnlock()
	return rd.m.Settings.KeptOwned().Alerts.InForce()
}

// AlertSetup tells what holds of alerts: of each rule where it comes from, and how many alerts it has opened
// that are not over.
func (rd *Reader) AlertSetup(ctx context.Context) (told api.AlertSetup, err error) {
	if err := scope.Whole(ctx); err != nil {
		return told, err
	}
	told.Rules, told.Channels = []api.AlertRuleStatus{}, map[string]api.AlertChannel{}
	rd.m.RLock()
	set := rd.m.Settings.KeptOwned().Alerts
	rd.m.RUnlock()
	open := map[string]int{}
	for _, a := range rd.openAlerts(rd.clock.Now()) {
		open[a.Rule]++
	}
	if set != nil {
		told.Off = set.Off
		maps.Copy(told.Channels, set.Channels)
	}
	for name, r := range set.InForce() {
		rule := api.AlertRuleStatus{Name: name, AlertRule: r, Says: alert.Describe(&r), DefinedBy: api.SettingBuiltIn, Open: open[name]}
		if set != nil {
			if _, named := set.Rules[name]; named {
				rule.DefinedBy = api.SettingByFile
			}
		}
		told.Rules = append(told.Rules, rule)
	}
	watched := api.WatchedThings()
	rank := func(r *api.AlertRuleStatus) int {
		return slices.IndexFunc(watched, func(w api.Watched) bool { return w.Watch == r.Watch })
	}
	slices.SortFunc(told.Rules, func(a, b api.AlertRuleStatus) int {
		return cmp.Or(cmp.Compare(rank(&a), rank(&b)), cmp.Compare(a.Name, b.Name))
	})
	return told, nil
}

// TaskEnds is how many attempts of a task have ended since the start of the service, and how many of those
// failed.
type TaskEnds struct{ Failed, Ended uint64 }

// Counted is what is counted since the start of the service, of which alerts need how it grows: the ends of
// attempts by task, and the refusals by hook, with the reason of most.
type Counted struct {
	Tasks map[string]TaskEnds
	Hooks map[string]api.HookCounts
}

// Counted reads what is counted.
func (rd *Reader) Counted() Counted {
	c := Counted{map[string]TaskEnds{}, map[string]api.HookCounts{}}
	rd.m.RLock()
	defer rd.m.RUnlock()
	for id, t := range rd.m.Tasks.AllKept() {
		tally := rd.m.Tallies.KeptTally(memory.OfTask, id)
		var ends TaskEnds
		for outcome, n := range tally.Attempts {
			if outcome.Counts() {
				ends.Ended += n
			}
			if outcome == job.OutcomeFailed || outcome == job.OutcomeGiveUp {
				ends.Failed += n
			}
		}
		if ends.Ended > 0 {
			c.Tasks[t.Name] = ends
		}
	}
	for name := range rd.m.Hooks.AllKept() {
		_, n := rd.m.Hooks.Kept(name)
		c.Hooks[name] = *n
	}
	return c
}

// Seen gathers what alerts are held against, but for what grows.
func (rd *Reader) Seen(ctx context.Context) (seen alert.Seen, err error) {
	now := rd.clock.Now()
	in := scope.Of(ctx)
	if seen.Queues, err = rd.Queues(ctx); err != nil {
		return seen, err
	}
	seen.Now, seen.Untaken, seen.Schedules = now, rd.untaken(in, "", now), rd.failing(in, now, 1, 0)
	if seen.Causes, err = rd.causes(ctx, api.CauseFilter{}, 0); err != nil {
		return seen, err
	}
	if err := rd.ofService(ctx, &seen.Standing); err != nil {
		return seen, err
	}
	seen.Backup = rd.told.BackupsWrong()
	marks, err := rd.store.Marks(ctx, now.Add(-markedWithin), now+1, mostMarked)
	if err != nil {
		return seen, err
	}
	for _, m := range marks {
		seen.Marks = append(seen.Marks, api.Mark{ID: m.ID, At: m.At, Kind: m.Kind, Text: m.Text, By: m.Principal})
	}
	seen.UsualWait = map[string]time.Duration{}
	rd.m.RLock()
	defer rd.m.RUnlock()
	for i := range seen.Queues {
		f, _ := rd.m.History.KeptUsual(trend.OfQueue, seen.Queues[i].Name)
		if f.Waits.Count() >= fewestWaits {
			seen.UsualWait[seen.Queues[i].Name] = time.Duration(f.Waits.Quantile(0.95)) * time.Millisecond
		}
	}
	return seen, nil
}

const (
	// markedWithin and mostMarked bound the marks that may have to do with what goes wrong, and fewestWaits is
	// from how many jobs on it is known how long they usually wait.
	markedWithin = 24 * time.Hour
	mostMarked   = 100
	fewestWaits  = 30
)

// UsualFailing is how many attempts of a task usually fail; nil where too few are known.
func (rd *Reader) UsualFailing(task string) *api.Failing {
	rd.m.RLock()
	defer rd.m.RUnlock()
	_, failing := rd.m.History.KeptWaits(task)
	return failing
}

// alertsWrong lists what alerts name that is no longer there: what rules watch, and the ways of channels.
func (rd *Reader) alertsWrong() (all []string) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	set := rd.m.Settings.KeptOwned().Alerts
	if set == nil {
		return nil
	}
	there := map[string]func(name string) bool{
		"queue": func(name string) bool { return rd.m.Queues.KeptNamed(name) != nil }, "task": func(name string) bool { return rd.m.Tasks.KeptNamed(name) != nil },
		"schedule": func(name string) bool { s := rd.m.Schedules.KeptNamed(name); return s != nil && !s.Gone() },
		"hook":     func(name string) bool { h, _ := rd.m.Hooks.Kept(name); return h != nil }, "endpoint": func(name string) bool { return rd.m.Endpoints.Kept(name) != nil },
	}
	for _, name := range slices.Sorted(maps.Keys(set.Rules)) {
		r := set.Rules[name]
		w := api.WatchedAs(r.WatchedAs(name))
		if w == nil || r.Off || there[w.Of] == nil {
			continue
		}
		for _, of := range r.Of {
			if !there[w.Of](of) {
				all = append(all, fmt.Sprintf("Rule %s of the alerts names %s %s, which does not exist.", name, w.Of, of))
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(set.Channels)) {
		ch := set.Channels[name]
		switch e := rd.m.Endpoints.Kept(ch.Endpoint); {
		case ch.Command != "" && rd.told.MayRun(ch.Command) != nil:
			all = append(all, fmt.Sprintf("Channel %s of the alerts reaches nobody: %s.", name, rd.told.MayRun(ch.Command)))
		case ch.Mail != nil && !rd.told.Mails():
			all = append(all, fmt.Sprintf("Channel %s of the alerts reaches nobody: the service knows no mail server.", name))
		case e != nil && e.Row.PausedAt != 0:
			all = append(all, fmt.Sprintf("Channel %s of the alerts reaches nobody: endpoint %s is paused.", name, ch.Endpoint))
		}
	}
	return all
}
