package read

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/order"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/veil"
	"humblemule.example/job"
)

// Schedule tells a schedule as it stands.
func (rd *Reader) Schedule(ctx context.Context, name string) (api.ScheduleStatus, error) {
	s, err := rd.keptSchedule(ctx, name)
	if err != nil {
		return api.ScheduleStatus{}, err
	}
	rd.m.RLock()
	own := rd.m.Settings.KeptOwned().Schedules
	rd.m.RUnlock()
	return rd.tellSchedule(ctx, s, slices.Contains(own, name), timesTold)
}

// ScheduleAsSet gives a schedule as it was set, with its version; there is false where it is
// not there.
func (rd *Reader) ScheduleAsSet(ctx context.Context, name string) (is api.Schedule, version int64, there bool) {
	s, err := rd.keptSchedule(ctx, name)
	if err != nil {
		return is, 0, false
	}
	return s.Is, s.Row.Version, true
}

// keptSchedule finds a schedule by its name; an error where it is not there, or its jobs are
// not in the scope.
func (rd *Reader) keptSchedule(ctx context.Context, name string) (*memory.Schedule, error) {
	in := scope.Of(ctx)
	rd.m.RLock()
	defer rd.m.RUnlock()
	s := rd.m.Schedules.KeptNamed(name)
	if s == nil || !in.Sees(rd.keptGoesTo(s)) {
		return nil, NoSchedule(name)
	}
	return s, nil
}

// timesTold is how many times to come are told of one schedule, and fewTold of each in a
// list.
const (
	timesTold = 10
	fewTold   = 3
)

// Schedules tells schedules by name, those beyond a name, to at most most.
func (rd *Reader) Schedules(ctx context.Context, after string, most int) (all []api.ScheduleStatus, more bool, err error) {
	rd.m.RLock()
	own := rd.m.Settings.KeptOwned().Schedules
	var some []*memory.Schedule
	for name, s := range rd.m.Schedules.AllKept() {
		if name > after && !s.Gone() {
			some = append(some, s)
		}
	}
	rd.m.RUnlock()
	in := scope.Of(ctx)
	some = slices.DeleteFunc(some, func(s *memory.Schedule) bool { return !in.Sees(rd.goesTo(s)) })
	slices.SortFunc(some, func(a, b *memory.Schedule) int { return cmp.Compare(a.Row.Name, b.Row.Name) })
	all = []api.ScheduleStatus{}
	for _, s := range some[:min(len(some), most)] {
		_, fromFile := slices.BinarySearch(own, s.Row.Name)
		told, err := rd.tellSchedule(ctx, s, fromFile, fewTold)
		if err != nil {
			return nil, false, err
		}
		all = append(all, told)
	}
	return all, len(some) > most, nil
}

func (rd *Reader) tellSchedule(ctx context.Context, s *memory.Schedule, fromFile bool, times int) (api.ScheduleStatus, error) {
	told := api.ScheduleStatus{Schedule: s.Is.WithDefaults(), Version: s.Row.Version, DefinedBy: api.SettingByHand, Waiting: s.Row.Waiting, SpreadMS: s.Spread.Milliseconds(), PausedAt: s.Row.PausedAt, PausedBy: s.Row.PausedBy}
	told.Name = s.Row.Name
	told.Schedule = told.Own()
	for _, spec := range told.Specs() {
		if hidden := rd.hides(ctx, spec.Task); len(hidden) > 0 && spec.Payload != nil {
			spec.Payload = veil.Over(spec.Payload, hidden...)
		}
	}
	paused := s.Row.PausedAt != 0
	told.Paused = &paused
	if fromFile {
		told.DefinedBy = api.SettingByFile
	}
	if s.Is.Every != 0 && s.Is.From == 0 {
		told.From = s.Row.MadeAt
	}
	told.Summary, told.Next = s.Rule.Describe(), []api.Instant{}
	if !paused {
		from := rd.clock.Now()
		if s.Row.NextAt != 0 {
			from = min(from, s.Row.NextAt-1)
		}
		t := s.Rule.Tell(from.Go(), times, s.Is.Until)
		told.Next = t.Next
		if times == timesTold {
			told.Notes = t.Notes
		}
	}
	runs, err := rd.store.Runs(ctx, s.Row.ID, always, true, 1)
	tellRuns(s, runs)
	if len(runs) > 0 {
		told.Last = &runs[0]
	}
	told.FailedInARow, told.LastDoneAt = s.Row.Failed, s.Row.LastDone
	return told, err
}

// always is later than every planned time.
const always = job.Time(1 << 62)

// Runs tells the history of a schedule before a planned time, 0 for all, the latest first.
func (rd *Reader) Runs(ctx context.Context, name string, before job.Time, most int) ([]api.Run, error) {
	s, err := rd.keptSchedule(ctx, name)
	if err != nil {
		return nil, err
	}
	if before == 0 {
		before = always
	}
	runs, err := rd.store.Runs(ctx, s.Row.ID, before, false, most)
	tellRuns(s, runs)
	return runs, err
}

// tellRuns tells what became of runs, and how late they were started: behind the time at
// which they were to be enqueued, so that the schedule's part of its spread is not a lateness.
func tellRuns(s *memory.Schedule, runs []api.Run) {
	for i := range runs {
		r := &runs[i]
		due := r.PlannedAt
		if !r.Asked {
			due = due.Add(s.Spread)
		}
		if r.StartedAt != 0 {
			r.LateMS = max(int64(r.StartedAt-due), 0)
		}
		r.Summary = r.Describe()
	}
}

// What a look ahead holds at most: bins, and runs and jobs that are counted into them.
const (
	comingBins   = 288
	mostComing   = 100_000
	longestAhead = 31 * 24 * time.Hour
)

// Coming tells what becomes due within a span from now on, of a queue and a task where
// they are named, else of all, with the first of it one by one.
func (rd *Reader) Coming(ctx context.Context, span time.Duration, queue, task string, most int) (api.Coming, error) {
	if span < time.Minute || span > longestAhead {
		return api.Coming{}, job.Wrong("nothing was looked up", []job.FieldError{{Field: "span", Message: "is 1m to 31d"}})
	}
	now := rd.clock.Now()
	told := api.Coming{AsOf: now, Until: now.Add(span), Items: []api.ComingItem{}, StepMS: max(span.Milliseconds()/comingBins, 1), Runs: make([]int64, comingBins), Jobs: make([]int64, comingBins), Often: []api.ComingOften{}}
	jobs, err := rd.store.ComingJobs(ctx, now, told.Until, mostComing)
	if err != nil {
		return told, err
	}
	in := scope.Of(ctx)
	wanted := func(q, t string) bool {
		return in.Sees(q, t) && (queue == "" || q == queue) && (task == "" || t == task)
	}
	of := map[string]*runsOf{}
	if last, whole := rd.countComing(&told, of, jobs, wanted, most); !whole {
		told.CountedTo = last
	}
	tellOften(&told, of)
	return told, nil
}

// countComing counts what comes, in the order of time, and lists the first of it. Where that is
// too much it answers until when it has counted.
func (rd *Reader) countComing(told *api.Coming, of map[string]*runsOf, jobs []store.Waiter, wanted func(queue, task string) bool, most int) (last job.Time, whole bool) {
	runs := rd.planned(wanted)
	for range mostComing {
		id, s, run := runs.First()
		switch {
		case run && s.FiresAt() < told.Until && (len(jobs) == 0 || s.FiresAt() <= jobs[0].At):
			last = s.FiresAt()
			q, t := rd.goesTo(s)
			bin := addComing(told, api.ComingItem{At: last, Schedule: s.Row.Name, Queue: q, Task: t}, most)
			if of[s.Row.Name] == nil {
				of[s.Row.Name] = &runsOf{task: t, queue: q, bins: map[int64]int64{}}
			}
			of[s.Row.Name].bins[bin]++
			next := s.Copy()
			if next.Row.NextAt = s.After(s.Row.NextAt); next.Row.NextAt == 0 {
				runs.Remove(id)
			} else {
				runs.Put(id, next)
			}
		case len(jobs) > 0:
			w := jobs[0]
			last = w.At
			jobs = jobs[1:]
			if q, t := rd.Names(w.Queue, w.Task); wanted(q, t) {
				addComing(told, api.ComingItem{At: w.At, Job: w.ID, State: w.State, Queue: q, Task: t}, most)
			}
		default:
			return last, true
		}
	}
	return last, false
}

// planned is a heap of the schedules that are not paused.
func (rd *Reader) planned(wanted func(queue, task string) bool) *order.Heap[int64, *memory.Schedule] {
	rd.m.RLock()
	var schedules []*memory.Schedule
	for _, s := range rd.m.Schedules.AllKept() {
		schedules = append(schedules, s)
	}
	rd.m.RUnlock()
	all := memory.NewPlan()
	for _, s := range schedules {
		if s.FiresAt() != 0 && wanted(rd.goesTo(s)) {
			all.Put(s.Row.ID, s)
		}
	}
	return all
}

// goesTo tells the queue and the task of the jobs that stand for a schedule's runs.
func (rd *Reader) goesTo(s *memory.Schedule) (queue, task string) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	return rd.keptGoesTo(s)
}

// keptGoesTo is goesTo for those who hold the read lock.
func (rd *Reader) keptGoesTo(s *memory.Schedule) (queue, task string) {
	run := s.Is.Run()
	d := rd.m.Settings.KeptTask(rd.m.Tasks.KeptID(run.Task)).Defaults
	if queue = run.Queue; queue == "" && d != nil {
		queue = d.Queue
	}
	return cmp.Or(queue, job.DefaultQueue), run.Task
}

// runsOf are the planned runs of a schedule, by their bins.
type runsOf struct {
	task, queue string
	bins        map[int64]int64
}

// oftenWithin is how often a schedule comes at least within the span that is told, so that its
// runs are drawn as a band.
const oftenWithin = 48

// tellOften tells which schedules come all the time, and the runs without theirs.
func tellOften(c *api.Coming, of map[string]*runsOf) {
	c.Seldom = make([]int64, len(c.Runs))
	span := c.Until.Sub(c.AsOf)
	if c.CountedTo != 0 {
		span = c.CountedTo.Sub(c.AsOf)
	}
	for _, name := range slices.Sorted(maps.Keys(of)) {
		s, runs := of[name], int64(0)
		for _, n := range s.bins {
			runs += n
		}
		if every := span / time.Duration(runs); every <= c.Until.Sub(c.AsOf)/oftenWithin {
			c.Often = append(c.Often, api.ComingOften{Schedule: name, Task: s.task, Queue: s.queue, Runs: runs, EveryMS: every.Milliseconds()})
			continue
		}
		for bin, n := range s.bins {
			c.Seldom[bin] += n
		}
	}
}

// addComing counts what comes next, and lists it while there are fewer than most. It answers the
// bin.
func addComing(c *api.Coming, i api.ComingItem, most int) int64 {
	bins := c.Runs
	if i.Schedule == "" {
		bins = c.Jobs
	}
	bin := int64(i.At-c.AsOf) / c.StepMS
	bin = max(min(bin, int64(len(bins))-1), 0)
	bins[bin]++
	if len(c.Items) < most {
		c.Items = append(c.Items, i)
	} else {
		c.More = true
	}
	return bin
}
