// Package alert says when somebody is to be told that something is wrong. It is functions of what is seen,
// without state: [Read] holds the rules against it, [Step] opens and ends alerts, and [Say] gathers what is to
// be told to whom.
package alert

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/status"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Seen is what the rules are held against.
type Seen struct {
	status.Standing
	// UsualWait is within how long 95 of 100 jobs of a queue are started, where that is known.
	UsualWait map[string]time.Duration
	Tasks     []Failing
	Refusing  []Refusing
	// Backup is what is wrong with the backups that the service makes by itself; empty where nothing is.
	Backup string
	// Marks are the latest moments that may have to do with what goes wrong, the first one first.
	Marks []api.Mark
}

// Failing is how many of the attempts of a task that ended within the last ten minutes have failed, and how
// many usually do: of those started, as far as enough are known, else 0.
type Failing struct {
	Task                       string
	Failed, Ended              int64
	UsuallyFailed, UsuallyDone int64
}

// Refusing is how many deliveries a hook has refused within the last ten minutes, and the reason of most.
type Refusing struct {
	Hook    string
	Refused int64
	Why     string
}

// Reading is something that a rule finds wrong, or that is still to be told of.
type Reading struct {
	Rule, About string
	Severity    string
	For         time.Duration
	Fact        api.Fact
	Likely      string
	// Since is since when it is wrong, where that is known.
	Since job.Time
	// Opens tells that it opens an alert; else it only keeps open what is.
	Opens bool
	// Once tells that an alert of it is never opened again.
	Once bool
}

// What a share of failures must come from to be told, and how long a job must have been ready, however short
// that usually is.
const (
	fewestEnded  = 20
	leastShare   = 0.1
	shortestWait = time.Minute
	// markWithin is how long before something went wrong a mark may have to do with it.
	markWithin = 30 * time.Minute
)

// thing is what a rule may find wrong: what it is about, by which names rules pick it, and how it stands.
type thing struct {
	about  string
	names  []string
	values *values
	// tell says what is wrong, where something is.
	tell   func() api.Fact
	likely string
	since  job.Time
	// stays tells that it opens no alert, and keeps an open one open.
	stays, once bool
}

// values are how something stands, by the kind of bound that they are held against; not a number where that
// is not known. A thing without any is wrong as it is.
type values struct{ number, duration, times, share float64 }

// pass tells whether they are over a bound.
func (v *values) pass(bound float64, kind string) bool {
	if v == nil {
		return true
	}
	switch kind {
	case api.BoundDuration:
		return v.duration > bound
	case api.BoundTimes:
		return v.times > bound
	case api.BoundShare:
		return v.share > bound
	}
	return v.number > bound
}

// Read holds rules against what is seen, and gives what is wrong. What needs to know what is usual is right
// while nobody knows that.
func Read(seen *Seen, rules map[string]api.AlertRule) (all []Reading) {
	things, taken := map[string][]thing{}, map[string]map[string]bool{}
	for _, r := range rules {
		if taken[r.Watch] == nil {
			things[r.Watch], taken[r.Watch] = seen.things(r.Watch), map[string]bool{}
		}
		for _, name := range r.Of {
			taken[r.Watch][name] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(rules)) {
		r := rules[name]
		if r.Off {
			continue
		}
		bound, kind, _ := r.Over.Read()
		for i := range things[r.Watch] {
			t := &things[r.Watch][i]
			if !picks(&r, t, taken[r.Watch]) || !t.values.pass(bound, kind) {
				continue
			}
			all = append(all, Reading{Rule: name, About: t.about, Severity: r.Severity, For: r.For.Go(), Fact: t.tell(), Likely: cmp.Or(t.likely, seen.lately(t)), Since: t.since, Opens: !t.stays, Once: t.once})
		}
	}
	return all
}

// picks tells whether a rule watches a thing: it names it, or it names none, and no other does.
func picks(r *api.AlertRule, t *thing, taken map[string]bool) bool {
	if len(r.Of) > 0 {
		return slices.ContainsFunc(t.names, func(name string) bool { return slices.Contains(r.Of, name) })
	}
	return !slices.ContainsFunc(t.names, func(name string) bool { return taken[name] })
}

// lately is what happened shortly before something went wrong: what may be the reason.
func (s *Seen) lately(t *thing) string {
	since := cmp.Or(t.since, s.Now)
	for _, m := range slices.Backward(s.Marks) {
		if m.At <= since && since.Sub(m.At) <= markWithin {
			return fmt.Sprintf("Shortly before, at %s, %s.", m.At, happened(&m))
		}
	}
	return ""
}

// happened says what a mark tells of.
func happened(m *api.Mark) string {
	switch m.Kind {
	case api.MarkDeploy:
		return m.Text + " was deployed"
	case api.MarkRestart:
		return "the service was started"
	}
	return m.By + " noted: " + m.Text
}

// things are what can be found wrong of what is watched.
func (s *Seen) things(watch string) (all []thing) {
	switch watch {
	case api.FactRefused:
		if s.RefusingSince != 0 {
			all = append(all, thing{tell: func() api.Fact { return status.OfRefused(s.RefusingSince) }, since: s.RefusingSince})
		}
	case api.FactDisk:
		if s.Disk != "" {
			all = append(all, thing{tell: func() api.Fact { return status.OfDisk(s.Disk) }})
		}
	case api.FactNoWorker:
		for _, u := range s.Untaken {
			about := u.Queue
			if u.Served {
				about += ", " + u.Task
			}
			all = append(all, thing{about: about, names: []string{u.Queue}, values: &values{number: float64(u.Ready)}, tell: func() api.Fact { return status.OfUntaken(u) }})
		}
	case api.FactNewCause, api.WatchDead:
		return s.deaths(watch)
	case api.WatchOldest, api.FactBehind:
		return s.queues(watch)
	case api.WatchFailing:
		return s.failing()
	case api.FactSchedule, api.WatchLate:
		return s.schedules(watch)
	case api.FactStuck:
		for i := range s.Stuck {
			all = append(all, thing{about: fmt.Sprint(s.Stuck[i].ID), tell: func() api.Fact { return status.OfStuck(s.Stuck[i]) }})
		}
	case api.FactInDoubt:
		all = append(all, thing{values: &values{number: float64(s.InDoubt)}, tell: func() api.Fact { return status.OfDoubt(s.InDoubt, s.More) }})
	case api.WatchBackup:
		if s.Backup != "" {
			all = append(all, thing{tell: func() api.Fact {
				return api.Fact{Kind: watch, Wrong: true, Text: s.Backup, Act: "Look at the backups", Command: "hmule backup list"}
			}})
		}
	default:
		return s.outside(watch)
	}
	return all
}

// deaths are causes of dead letters, and queues with dead letters.
func (s *Seen) deaths(watch string) (all []thing) {
	dead, worst := map[string]int64{}, map[string]*api.Cause{}
	of := map[string]map[int64]int64{}
	for i := range s.Causes {
		c := &s.Causes[i]
		t := thing{about: fmt.Sprint(c.ID), tell: func() api.Fact { return status.OfCause(c) }, since: c.FirstAt, stays: !status.IsNew(c, s.Now), once: true}
		for _, by := range c.By {
			t.names = append(t.names, by.Task)
			dead[by.Queue] += by.Count
			if of[by.Queue] == nil {
				of[by.Queue] = map[int64]int64{}
			}
			of[by.Queue][c.ID] += by.Count
			if w := worst[by.Queue]; w == nil || of[by.Queue][c.ID] > of[by.Queue][w.ID] {
				worst[by.Queue] = c
			}
		}
		if watch == api.FactNewCause {
			all = append(all, t)
		}
	}
	if watch == api.FactNewCause {
		return all
	}
	for _, queue := range slices.Sorted(maps.Keys(dead)) {
		n, w := dead[queue], worst[queue]
		tell := func() api.Fact {
			return api.Fact{
				Kind: watch, Wrong: true, Number: n, State: job.Dead, Queue: queue, Text: fmt.Sprintf("Queue %s has %s.", queue, sentence.Count(n, "dead letter", "dead letters")),
				Act: "Open dead letters", Command: "hmule dead list --queue " + queue,
			}
		}
		all = append(all, thing{
			about: queue, names: []string{queue}, values: &values{number: float64(n)}, tell: tell,
			likely: fmt.Sprintf("%s of %s died of cause %d: %s.", sentence.Grouped(of[queue][w.ID]), sentence.Grouped(n), w.ID, status.TitleOf(w)),
		})
	}
	return all
}

// queues are those with ready jobs, and those to which more jobs come than finish.
func (s *Seen) queues(watch string) (all []thing) {
	for i := range s.Queues {
		q := &s.Queues[i]
		t := thing{about: q.Name, names: []string{q.Name}, likely: binds(q)}
		if watch == api.FactBehind {
			if status.Falls(q, s.Now) {
				t.tell = func() api.Fact { return status.OfBehind(q) }
				all = append(all, t)
			}
			continue
		}
		waited, usual := time.Duration(q.OldestReadyMS)*time.Millisecond, s.UsualWait[q.Name]
		if waited < shortestWait {
			continue
		}
		t.values = &values{duration: float64(q.OldestReadyMS), times: math.NaN()}
		if usual > 0 {
			t.values.times = float64(waited) / float64(usual)
		}
		t.tell = func() api.Fact {
			f := api.Fact{
				Kind: watch, Wrong: true, Number: q.Counts[job.Ready], State: job.Ready, Queue: q.Name, Text: fmt.Sprintf("The oldest ready job of queue %s has waited %s.", q.Name, sentence.Roughly(waited)),
				Act: "Open queue", Command: "hmule queue show " + q.Name,
			}
			if usual > 0 {
				f.Detail = fmt.Sprintf("95 of 100 jobs there usually wait no longer than %s.", sentence.Roughly(usual))
			}
			return f
		}
		all = append(all, t)
	}
	return all
}

// binds says what keeps the jobs of a queue waiting; empty where nothing is known.
func binds(q *api.Queue) string {
	switch {
	case q.Paused:
		return fmt.Sprintf("The queue was paused by %s at %s.", q.PausedBy, q.PausedAt)
	case q.Workers == 0:
		return "No worker serves the queue."
	}
	switch q.Pace.Binds {
	case api.BoundBySlots:
		return "All slots that serve the queue are used."
	case api.BoundByMaxRunning:
		return "The queue's limit of running jobs is reached."
	case api.BoundByRate:
		return "The queue starts no more jobs than its rate allows."
	case api.BoundByLane:
		return "The jobs wait for one another in their lanes."
	}
	return ""
}

// failing are tasks, attempts of which have failed.
func (s *Seen) failing() (all []thing) {
	for _, f := range s.Tasks {
		if f.Ended < fewestEnded || f.Failed == 0 {
			continue
		}
		share := float64(f.Failed) / float64(f.Ended)
		t := thing{about: f.Task, names: []string{f.Task}, values: &values{share: share, times: math.NaN()}}
		usual := float64(f.UsuallyFailed) / float64(f.UsuallyDone) // not a number where nothing is known
		if f.UsuallyDone > 0 && share >= leastShare {
			t.values.times = share / usual // infinite where none fails
		}
		t.tell = func() api.Fact {
			said := api.Fact{
				Kind: api.WatchFailing, Wrong: true, Number: f.Failed, Task: f.Task, Text: fmt.Sprintf("%s of the attempts of task %s failed within ten minutes: %s of %s.", percent(share), f.Task, sentence.Grouped(f.Failed), sentence.Grouped(f.Ended)),
				Act: "Open task", Command: "hmule task show " + f.Task,
			}
			if f.UsuallyDone > 0 {
				said.Detail = fmt.Sprintf("Usually %s of them fail.", percent(usual))
			}
			return said
		}
		all = append(all, t)
	}
	return all
}

func percent(share float64) string {
	if share > 0 && share < 0.1 {
		return fmt.Sprintf("%.1f %%", share*100)
	}
	return fmt.Sprintf("%.0f %%", share*100)
}

// schedules are those whose latest runs have died, or that are late.
func (s *Seen) schedules(watch string) (all []thing) {
	for _, x := range s.Schedules {
		t := thing{about: x.Name, names: []string{x.Name}}
		said := status.Schedule{Name: x.Name, Failed: max(x.Failed, 1), LastDone: x.LastDone}
		t.values = &values{number: float64(x.Failed)}
		if watch == api.WatchLate {
			said = status.Schedule{Name: x.Name, LateBy: x.LateBy}
			t.values = &values{duration: float64(x.LateBy.Milliseconds())}
		}
		t.tell = func() api.Fact {
			f := status.OfSchedule(said)
			f.Kind = watch
			return f
		}
		all = append(all, t)
	}
	return all
}

// outside are hooks, endpoints and hosts.
func (s *Seen) outside(watch string) (all []thing) {
	switch watch {
	case api.WatchHook:
		for _, h := range s.Hooks {
			all = append(all, thing{about: h.Name, names: []string{h.Name}, tell: func() api.Fact { return status.OfHook(h) }})
		}
		for _, r := range s.Refusing {
			if slices.ContainsFunc(s.Hooks, func(h status.Hook) bool { return h.Name == r.Hook }) {
				continue
			}
			tell := func() api.Fact {
				f := api.Fact{
					Kind: watch, Wrong: true, Number: r.Refused, Hook: r.Hook, Text: fmt.Sprintf("Hook %s refused %s within ten minutes.", r.Hook, sentence.Count(r.Refused, "delivery", "deliveries")),
					Act: "Open hook", Command: "hmule hook show " + r.Hook,
				}
				if r.Why != "" {
					f.Detail = "The reason of most: " + r.Why + "."
				}
				return f
			}
			all = append(all, thing{about: r.Hook, names: []string{r.Hook}, values: &values{number: float64(r.Refused)}, tell: tell})
		}
	case api.FactEndpoint:
		for _, e := range s.Endpoints {
			all = append(all, thing{about: e.Name, names: []string{e.Name}, tell: func() api.Fact { return status.OfEndpoint(e) }})
		}
	case api.FactSilent:
		for _, h := range s.Silent {
			all = append(all, thing{about: h.Host, names: []string{h.Host}, tell: func() api.Fact { return status.OfSilent(h) }, since: h.Since})
		}
	}
	return all
}
