package alert

import (
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/job"
)

const (
	// gathered is for how long messages are gathered, so that what begins at once is one message. A critical
	// alert goes at once, with all that was gathered.
	gathered = time.Minute
	// reminds is after what time it is said again that something is wrong.
	reminds = 24 * time.Hour
	// tellable is for how long it is told that something is over: longer than quiet hours last.
	tellable = 24 * time.Hour
	// mostTold is how many alerts a message names.
	mostTold = 50
)

// Said is what is told to whom: for each channel what its message says, and the alerts as they are when that
// is sent.
type Said struct {
	To     map[string]*api.AlertsTold
	Alerts []api.Alert
}

// due is what of an alert is to be told, and since when.
type due int

const (
	nothing due = iota
	opened
	still
	over
)

// dueOf tells what of an alert is to be told.
func dueOf(a *api.Alert, r *api.AlertRule, now job.Time) (what due, since job.Time) {
	switch {
	case a.OverAt == 0 && a.MutedUntil > now || r.Quiet.Holds(now):
		return nothing, 0
	case a.OverAt != 0:
		if a.OverToldAt != 0 || a.MutedUntil > a.OverAt || now.Sub(a.OverAt) > tellable {
			return nothing, 0
		}
		return over, a.OverAt
	case a.ToldAt == 0:
		return opened, a.OpenedAt
	}
	if last := max(a.ToldAt, a.RemindedAt); now.Sub(last) >= reminds {
		return still, last.Add(reminds)
	}
	return nothing, 0
}

// Say gathers what is to be told of alerts, by rules, and to whom. What is wrong shortly after something else
// waits for a minute, so that both are one message.
func Say(alerts []api.Alert, rules map[string]api.AlertRule, now job.Time) (said Said) {
	said.To = map[string]*api.AlertsTold{}
	var waiting []item
	ready := map[string]bool{}
	for i := range alerts {
		a := &alerts[i]
		r, there := rules[a.Rule]
		if !there || len(r.Tell) == 0 {
			continue
		}
		what, since := dueOf(a, &r, now)
		if what == nothing {
			continue
		}
		waiting = append(waiting, item{a, what, r.Tell})
		waited := now.Sub(since)
		if waited >= gathered || waited < 0 || a.Severity == api.SeverityCritical && what == opened {
			for _, channel := range r.Tell {
				ready[channel] = true
			}
		}
	}
	for _, i := range goes(waiting, ready) {
		for _, channel := range i.to {
			if said.To[channel] == nil {
				said.To[channel] = new(api.AlertsTold)
			}
			i.put(said.To[channel])
		}
		said.Alerts = append(said.Alerts, i.told(now))
	}
	return said
}

// item is what is to be told of an alert, and by which channels.
type item struct {
	*api.Alert
	what due
	to   []string
}

// goes are those items that go now, the worst first: all that a channel has which says anything, and what goes
// by one channel goes by all of its own.
func goes(waiting []item, ready map[string]bool) (all []item) {
	slices.SortStableFunc(waiting, func(a, b item) int { return worse(a.Alert, b.Alert) })
	for more := true; more; {
		more = false
		for _, i := range waiting {
			if !slices.ContainsFunc(i.to, func(channel string) bool { return ready[channel] }) {
				continue
			}
			for _, channel := range i.to {
				more = more || !ready[channel]
				ready[channel] = true
			}
		}
	}
	for _, i := range waiting {
		if ready[i.to[0]] {
			all = append(all, i)
		}
	}
	return all
}

// put writes an item into a message.
func (i *item) put(m *api.AlertsTold) {
	if len(m.Opened)+len(m.Still)+len(m.Over) >= mostTold {
		m.More++
		return
	}
	list := map[due]*[]api.Alert{opened: &m.Opened, still: &m.Still, over: &m.Over}[i.what]
	*list = append(*list, *i.Alert)
}

// told is the alert when it was told.
func (i *item) told(now job.Time) api.Alert {
	a := *i.Alert
	*map[due]*job.Time{opened: &a.ToldAt, still: &a.RemindedAt, over: &a.OverToldAt}[i.what] = now
	return a
}
