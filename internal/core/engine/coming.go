package engine

import (
	"cmp"
	"container/heap"
	"context"
	"time"

	"humblemule/job"
)

// What a look ahead holds at most: bins, and runs and jobs that are counted into them.
const (
	comingBins   = 288
	mostComing   = 100_000
	longestAhead = 31 * 24 * time.Hour
)

// Coming tells what becomes due within a span from now on, of a queue and a task where
// they are named, else of all, with the first of it one by one.
func (e *Engine) Coming(ctx context.Context, span time.Duration, queue, task string, most int) (job.Coming, error) {
	if span < time.Minute || span > longestAhead {
		return job.Coming{}, job.Wrong("nothing was looked up", []job.FieldError{{Field: "span", Message: "is 1m to 31d"}})
	}
	now := e.now()
	told := job.Coming{AsOf: now, Until: now.Add(span), Items: []job.ComingItem{}, StepMS: max(span.Milliseconds()/comingBins, 1), Runs: make([]int64, comingBins), Jobs: make([]int64, comingBins)}
	jobs, err := e.store.ComingJobs(ctx, now, told.Until, mostComing)
	if err != nil {
		return told, err
	}
	wanted := func(q, t string) bool { return (queue == "" || q == queue) && (task == "" || t == task) }
	runs := e.planned(wanted)
	last := now
	for range mostComing {
		run := len(runs) > 0 && runs[0].firesAt() < told.Until
		switch {
		case run && (len(jobs) == 0 || runs[0].firesAt() <= jobs[0].At):
			s := runs[0]
			last = s.firesAt()
			q, t := e.goesTo(s)
			told.Add(job.ComingItem{At: s.firesAt(), Schedule: s.row.Name, Queue: q, Task: t}, most)
			if s.row.NextAt = s.after(s.row.NextAt); s.row.NextAt == 0 {
				heap.Pop(&runs)
			} else {
				heap.Fix(&runs, 0)
			}
		case len(jobs) > 0:
			w := jobs[0]
			last = w.At
			jobs = jobs[1:]
			if q, t := e.view.names(w.Queue, w.Task); wanted(q, t) {
				told.Add(job.ComingItem{At: w.At, Job: w.ID, State: w.State, Queue: q, Task: t}, most)
			}
		default:
			return told, nil
		}
	}
	told.CountedTo = last
	return told, nil
}

// planned is a heap of copies of the schedules that are not paused.
func (e *Engine) planned(wanted func(queue, task string) bool) (all plan) {
	e.view.mu.RLock()
	schedules := make([]*schedule, 0, len(e.view.schedules))
	for _, s := range e.view.schedules {
		schedules = append(schedules, copyOf(s))
	}
	e.view.mu.RUnlock()
	for _, s := range schedules {
		if s.firesAt() != 0 && wanted(e.goesTo(s)) {
			all.Push(s)
		}
	}
	heap.Init(&all)
	return all
}

// goesTo tells the queue and the task of a schedule's jobs.
func (e *Engine) goesTo(s *schedule) (queue, task string) {
	e.view.mu.RLock()
	defer e.view.mu.RUnlock()
	d := e.view.taskDefaults[e.view.tasks[s.is.Job.Task]]
	if queue = s.is.Job.Queue; queue == "" && d != nil {
		queue = d.Queue
	}
	return cmp.Or(queue, job.DefaultQueue), s.is.Job.Task
}
