package read

import (
	"cmp"
	"context"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Metered is how many queues, tasks and schedules have figures of their own; those of all others
// are one.
const Metered = 200

// Meter is what a service tells of itself to whoever gathers figures of many: how things stand, and
// what has happened since its start.
type Meter struct {
	// Queues, Tasks and Schedules are told in the order in which they were made, at most
	// [Metered] of each; the last one stands for all others where it has no name. Folded is how
	// many queues, tasks and schedules those are.
	Queues, Tasks []MeteredJobs
	Schedules     []MeteredSchedule
	Folded        struct{ Queues, Tasks, Schedules int }
	// Causes are how many causes have dead jobs, and how many have jobs in backoff.
	Causes map[job.State]int
	// Batches are how many have not ended, by whether they are idle: none of their jobs goes on by itself.
	Batches map[bool]int64
	// Hooks and Endpoints are the first [Metered] of them by name, and SilentHosts how many hosts give no answer
	// to calls.
	Hooks       []api.HookStatus
	Endpoints   []api.EndpointStatus
	SilentHosts int
	// Alerts count those that are not over, by severity and state.
	Alerts map[[2]string]int
	// Workers and Slots count the living workers by what they do, and Taken the slots that run
	// something.
	Workers, Slots map[string]int
	Taken          int
	// Refusing tells that the disk takes no writes, and SetAside is how much timed work is set
	// aside.
	Refusing bool
	SetAside int
	File     store.Pages
	LogBytes int64
	// DiskFree is how much is free on the file's disk; -1 where that is not known.
	DiskFree int64
}

// MeteredJobs are the figures of a queue or of a task.
type MeteredJobs struct {
	Name   string
	Counts memory.ByState
	memory.Tally
	// Of queues: whether it is paused, how many workers serve it, and how long its first job has
	// been ready.
	Paused      bool
	Workers     int
	OldestReady time.Duration
}

// MeteredSchedule are the figures of a schedule.
type MeteredSchedule struct {
	Name string
	// Late is by how much its next planned time is overdue, and Failed how many of its latest runs
	// have died, one after the other.
	Late   time.Duration
	Failed int64
}

// Meter reads the figures.
func (rd *Reader) Meter(ctx context.Context) (m Meter, err error) {
	if err := scope.Whole(ctx); err != nil {
		return m, err
	}
	now := rd.clock.Now()
	ready := rd.meterMemory(&m, now)
	var groups []store.Group
	of := map[store.Group]int{}
	for i, some := range ready {
		for _, at := range some {
			g := store.Group{Queue: at.Queue, Task: at.Task, State: job.Ready}
			groups, of[g] = append(groups, g), i
		}
	}
	err = rd.store.OldestReadyOf(ctx, groups, func(g store.Group, since job.Time) {
		q := &m.Queues[of[g]]
		q.OldestReady = max(q.OldestReady, now.Sub(since))
	})
	if err != nil {
		return m, err
	}
	rd.meterWorkers(&m, now)
	if m.Hooks, err = rd.Hooks(ctx); err != nil {
		return m, err
	}
	if m.Endpoints, err = rd.Endpoints(ctx); err != nil {
		return m, err
	}
	m.Hooks, m.Endpoints, m.SilentHosts = m.Hooks[:min(len(m.Hooks), Metered)], m.Endpoints[:min(len(m.Endpoints), Metered)], len(rd.silentHosts())
	m.Alerts = map[[2]string]int{}
	for _, a := range rd.openAlerts(now) {
		m.Alerts[[2]string{a.Severity, a.StateAt(now)}]++
	}
	if m.Causes, err = rd.store.CausesWithJobs(ctx); err != nil {
		return m, err
	}
	if m.Batches, err = rd.store.RunningBatches(ctx); err != nil {
		return m, err
	}
	m.Refusing, m.SetAside, m.LogBytes = rd.told.RefusingSince() != 0, len(rd.setAside()), rd.store.LogBytes()
	if m.DiskFree, _, err = store.Room(rd.store.Path()); err != nil {
		m.DiskFree = -1
	}
	m.File, err = rd.store.ReadPages(ctx)
	return m, err
}

// meterMemory reads what the memory knows, and answers the groups of each of the queues that have
// ready jobs.
func (rd *Reader) meterMemory(m *Meter, now job.Time) (ready [][]memory.Group) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	mem := rd.m
	m.Queues, m.Folded.Queues = meterNames(&mem.Queues.NamesView, &mem.Tallies, memory.OfQueue, func(n *memory.Named, into *MeteredJobs, i int) {
		addUp(&into.Counts, mem.Counts.KeptQueue(n.ID))
		into.Paused = into.Paused || mem.Settings.KeptPause(n.ID).At != 0
		for len(ready) <= i {
			ready = append(ready, nil)
		}
		for _, task := range mem.Counts.KeptTasksOf(n.ID) {
			if at := (memory.Group{Queue: n.ID, Task: task}); mem.Counts.KeptGroup(at)[job.Ready] > 0 {
				ready[i] = append(ready[i], at)
			}
		}
	})
	m.Tasks, m.Folded.Tasks = meterNames(&mem.Tasks.NamesView, &mem.Tallies, memory.OfTask, func(n *memory.Named, into *MeteredJobs, _ int) {
		addUp(&into.Counts, mem.Counts.KeptTask(n.ID))
	})
	m.Schedules, m.Folded.Schedules = meterSchedules(&mem.Schedules.SchedulesView, now)
	return ready
}

func addUp(to, from *memory.ByState) {
	for s, n := range from {
		to[s] += n
	}
}

// meterNames gathers the figures of queues or of tasks: each of the first ones by itself, and all
// others, with those that are gone, in a last one without a name.
func meterNames(names *memory.NamesView, tallies *memory.Tallies, of memory.TallyOf, tell func(n *memory.Named, into *MeteredJobs, i int)) (all []MeteredJobs, folded int) {
	var there []*memory.Named
	known := map[int64]bool{}
	for _, n := range names.AllKept() {
		there = append(there, n)
		known[n.ID] = true
	}
	slices.SortFunc(there, func(a, b *memory.Named) int { return cmp.Compare(a.ID, b.ID) })
	own := min(len(there), Metered)
	all = make([]MeteredJobs, own, own+1)
	for i, n := range there[:own] {
		all[i].Name, all[i].Tally = n.Name, tallies.KeptTally(of, n.ID)
		tell(n, &all[i], i)
	}
	gone := tallies.KeptGone(of, func(id int64) bool { return known[id] })
	folded = len(there) - own
	if folded == 0 && gone.Enqueued+gone.Started == 0 {
		return all, 0
	}
	all = append(all, MeteredJobs{Tally: gone})
	for _, n := range there[own:] {
		t := tallies.KeptTally(of, n.ID)
		all[own].Merge(&t)
		tell(n, &all[own], own)
	}
	return all, folded
}

func meterSchedules(schedules *memory.SchedulesView, now job.Time) (all []MeteredSchedule, folded int) {
	var there []*memory.Schedule
	for _, s := range schedules.AllKept() {
		if !s.Gone() {
			there = append(there, s)
		}
	}
	slices.SortFunc(there, func(a, b *memory.Schedule) int { return cmp.Compare(a.Row.ID, b.Row.ID) })
	own := min(len(there), Metered)
	rest := MeteredSchedule{}
	for i, s := range there {
		one := MeteredSchedule{Name: s.Row.Name, Failed: s.Row.Failed}
		if at := s.FiresAt(); at != 0 {
			one.Late = max(now.Sub(at), 0)
		}
		if i < own {
			all = append(all, one)
		} else {
			rest.Late, rest.Failed = max(rest.Late, one.Late), max(rest.Failed, one.Failed)
		}
	}
	if folded = len(there) - own; folded > 0 {
		all = append(all, rest)
	}
	return all, folded
}

// What a worker does, as it is metered.
const (
	WorkerActive   = "active"
	WorkerDraining = "draining"
	WorkerSilent   = "silent"
)

func (rd *Reader) meterWorkers(m *Meter, now job.Time) {
	m.Workers, m.Slots = map[string]int{}, map[string]int{}
	presence := &rd.m.Workers.Presence
	for _, w := range presence.List(now) {
		does := WorkerActive
		if w.Silent {
			does = WorkerSilent
		} else if w.Draining || w.Wanted != "" && w.Wanted != api.WantRun {
			does = WorkerDraining
		}
		m.Workers[does]++
		m.Slots[does] += w.Slots
	}
	rd.m.RLock()
	m.Taken = rd.m.Leases.NumKept()
	rd.m.RUnlock()
	service := presence.Service(now)
	for i := range m.Queues {
		if q := &m.Queues[i]; q.Name != "" {
			q.Workers, _ = service.Serves(q.Name, "")
		}
	}
}
