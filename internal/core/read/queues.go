package read

import (
	"cmp"
	"context"
	"iter"
	"math"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/trend"
	"humblemule.example/job"
)

// Queues lists the queues with their counts.
func (rd *Reader) Queues(ctx context.Context) ([]api.Queue, error) {
	rd.m.RLock()
	named := slices.Collect(values(rd.m.Queues.AllKept()))
	rd.m.RUnlock()
	return rd.tellQueues(ctx, named)
}

// Queue tells about one queue.
func (rd *Reader) Queue(ctx context.Context, name string) (api.Queue, error) {
	q, err := rd.keptQueue(scope.Of(ctx), name)
	if err != nil {
		return api.Queue{}, err
	}
	told, err := rd.tellQueues(ctx, []*memory.Named{q})
	if err != nil {
		return api.Queue{}, err
	}
	return told[0], nil
}

// values are the second ones of pairs.
func values[K, V any](pairs iter.Seq2[K, V]) iter.Seq[V] {
	return func(yield func(V) bool) {
		for _, v := range pairs {
			if !yield(v) {
				return
			}
		}
	}
}

// tellQueues tells of queues, in the order of their names. For each task with ready jobs in
// them it asks the file which has waited longest, of one row.
func (rd *Reader) tellQueues(ctx context.Context, named []*memory.Named) ([]api.Queue, error) {
	in := scope.Of(ctx)
	now := rd.clock.Now()
	service := rd.m.Workers.Presence.Service(now)
	a := rd.perMinute(now)
	lately, err := rd.recentOf(ctx)
	if err != nil {
		return nil, err
	}
	rd.m.RLock()
	flows, own := rd.m.Trends.KeptFlows(now), rd.m.Settings.KeptOwned()
	all := make([]api.Queue, 0, len(named))
	ready := map[string][]memory.Group{}
	for _, n := range named {
		if !in.Sees(n.Name, "") {
			continue
		}
		q := rd.tellQueue(n, &own)
		q.InPerMinute, q.OutPerMinute = round(a*float64(flows[n.ID].In)), round(a*float64(flows[n.ID].Out))
		o := rd.outlookOf(n, lately, service)
		q.Pace = o.pace(now, o.Slots)
		all = append(all, q)
		for _, task := range rd.m.Counts.KeptTasksOf(n.ID) {
			if at := (memory.Group{Queue: n.ID, Task: task}); rd.m.Counts.KeptGroup(at)[job.Ready] > 0 {
				ready[q.Name] = append(ready[q.Name], at)
			}
		}
	}
	rd.m.RUnlock()
	slices.SortFunc(all, func(a, b api.Queue) int { return cmp.Compare(a.Name, b.Name) })
	for i := range all {
		q := &all[i]
		q.Workers, _ = service.Serves(q.Name, "")
		for _, at := range ready[q.Name] {
			since, err := rd.store.OldestReady(ctx, at.Queue, at.Task)
			if err != nil {
				return nil, err
			}
			if since != 0 {
				q.OldestReadyMS = max(q.OldestReadyMS, int64(now-since))
			}
		}
	}
	return all, nil
}

// tellQueue tells of a queue what is kept in memory. The caller holds the read lock.
func (rd *Reader) tellQueue(q *memory.Named, own *memory.Owned) api.Queue {
	m := rd.m
	set, pause, counts := m.Settings.KeptQueue(q.ID), m.Settings.KeptPause(q.ID), m.Counts.KeptQueue(q.ID)
	told := api.Queue{
		Name: q.Name, Rules: *set.Rules, Summary: set.Rules.Describe(), Version: set.Version, Defaults: set.Defaults, FromFile: slices.Contains(own.Queues, q.Name),
		NewPlaces: m.Places.KeptWalking(q.ID), Running: counts[job.Running], Counts: tellStates(counts),
		Paused: pause.At != 0, PausedAt: pause.At, PausedBy: pause.By, Keep: map[job.State]job.Duration{},
	}
	past := m.Counts.KeptPast(q.ID)
	for _, s := range job.FinishedStates() {
		told.Keep[s] = own.Retention.For(set.Defaults, s)
		if past[s] > 0 {
			if told.Past == nil {
				told.Past = map[job.State]int64{}
			}
			told.Past[s] = past[s]
		}
	}
	return told
}

// tellStates gives counts by the states of stored jobs.
func tellStates(n *memory.ByState) map[job.State]int64 {
	counts := everyState()
	for s := range counts {
		counts[s] = n[s]
	}
	return counts
}

// perMinute is what a count of moves has to be multiplied by to become a rate a minute.
func (rd *Reader) perMinute(now job.Time) float64 {
	return float64(time.Minute) / float64(rd.window(now))
}

// window is the span over which moves are counted.
func (rd *Reader) window(now job.Time) time.Duration {
	return trend.Window(now, time.Since(rd.clock.Opened))
}

func everyState() map[job.State]int64 {
	counts := make(map[job.State]int64, job.NumStates)
	for _, s := range job.States() {
		counts[s] = 0
	}
	return counts
}

// Counts gives every queue's jobs by state.
func (rd *Reader) Counts(ctx context.Context) map[string]map[job.State]int64 {
	in := scope.Of(ctx)
	rd.m.RLock()
	defer rd.m.RUnlock()
	all := make(map[string]map[job.State]int64, rd.m.Queues.NumKept())
	for id, q := range rd.m.Queues.AllKept() {
		if !in.Sees(q.Name, "") {
			continue
		}
		all[q.Name] = tellStates(rd.m.Counts.KeptQueue(id))
	}
	return all
}

// Tasks lists the tasks with their counts and usual run times.
func (rd *Reader) Tasks(ctx context.Context) []api.Task {
	in, service := scope.Of(ctx), rd.m.Workers.Presence.Service(rd.clock.Now())
	rd.m.RLock()
	defer rd.m.RUnlock()
	own := rd.m.Settings.KeptOwned()
	all := make([]api.Task, 0, rd.m.Tasks.NumKept())
	for _, t := range rd.m.Tasks.AllKept() {
		if in.Sees("", t.Name) {
			all = append(all, rd.tellTask(t, &own, service))
		}
	}
	slices.SortFunc(all, func(a, b api.Task) int { return cmp.Compare(a.Name, b.Name) })
	return all
}

// Task tells about one task.
func (rd *Reader) Task(ctx context.Context, name string) (api.Task, error) {
	in, service := scope.Of(ctx), rd.m.Workers.Presence.Service(rd.clock.Now())
	rd.m.RLock()
	defer rd.m.RUnlock()
	t := rd.m.Tasks.KeptNamed(name)
	if t == nil || !in.Sees("", name) {
		return api.Task{}, job.Fault(job.NotFound, "there is no task %q; a task exists from its first job or its first defaults", name)
	}
	own := rd.m.Settings.KeptOwned()
	return rd.tellTask(t, &own, service), nil
}

// tellTask tells of a task what is kept in memory. The caller holds the read lock.
func (rd *Reader) tellTask(t *memory.Named, own *memory.Owned, service memory.Service) api.Task {
	set := rd.m.Settings.KeptTask(t.ID)
	wait, failing := rd.m.History.KeptWaits(t.Name)
	return api.Task{
		Wait: wait, Failing: failing,
		Name: t.Name, Counts: tellStates(rd.m.Counts.KeptTask(t.ID)), Run: rd.m.History.KeptSpans(t.Name), Workers: service.Do(t.Name),
		Defaults: set.Defaults, Summary: set.Defaults.Describe(), Version: set.Version, FromFile: slices.Contains(own.Tasks, t.Name),
	}
}

// ReadyFor counts the ready jobs of queues that are not paused or full; of some tasks, or of
// all where none are named.
func (rd *Reader) ReadyFor(queues, tasks []string) (n int64) {
	m := rd.m
	m.RLock()
	defer m.RUnlock()
	for _, name := range queues {
		q := m.Queues.KeptNamed(name)
		if q == nil || m.Settings.KeptPause(q.ID).At != 0 || m.Settings.KeptQueue(q.ID).Rules.Full(m.Counts.KeptQueue(q.ID)[job.Running]) {
			continue
		}
		for _, task := range tasks {
			n += m.Counts.KeptGroup(memory.Group{Queue: q.ID, Task: m.Tasks.KeptID(task)})[job.Ready]
		}
		if len(tasks) == 0 {
			n += m.Counts.KeptQueue(q.ID)[job.Ready] - rd.callsReady(q.ID)
		}
	}
	return n
}

// callsReady is how many jobs of a queue are ready that the service does itself; the caller holds the read
// lock.
func (rd *Reader) callsReady(queue int64) (n int64) {
	if !rd.m.Settings.KeptAnyCalls() {
		return 0
	}
	for _, task := range rd.m.Counts.KeptTasksOf(queue) {
		if rd.m.Settings.KeptMakesCalls(task) {
			n += rd.m.Counts.KeptGroup(memory.Group{Queue: queue, Task: task})[job.Ready]
		}
	}
	return n
}

// usuals gives what tells a task's usual and long run time; each task is looked at
// once.
func (rd *Reader) usuals() func(task string) (usual, long int64) {
	known := map[string]*api.Spans{}
	return func(task string) (int64, int64) {
		s, seen := known[task]
		if !seen {
			rd.m.RLock()
			s = rd.m.History.KeptSpans(task)
			rd.m.RUnlock()
			known[task] = s
		}
		if s == nil {
			return 0, 0
		}
		return s.P50MS, s.P95MS
	}
}

// round gives a rate to a hundredth.
func round(x float64) float64 { return math.Round(x*100) / 100 }
