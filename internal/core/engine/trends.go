package engine

import (
	"context"
	"math"
	"slices"
	"sort"

	"humblemule/internal/core/store"
	"humblemule/internal/core/trend"
	"humblemule/job"
)

// taskRun is how long a job that is done took.
type taskRun struct {
	task int64
	ms   float64
}

// runMS is how long an attempt took: as its handler has measured it, or else from
// the lease to its end.
func runMS(measured int64, leasedAt, endedAt job.Time) float64 {
	if measured > 0 {
		return float64(measured)
	}
	return float64(max(endedAt-leasedAt, 0))
}

// publishTrends counts what has moved and how long runs took. The caller holds
// the view's lock.
func (tx *txn) publishTrends() {
	v := &tx.e.view
	for _, m := range tx.moves {
		v.moves.Add(tx.now, trend.Move{Queue: m.queue, From: m.from, To: m.to})
	}
	for _, r := range tx.runs {
		v.ran(r)
	}
}

func (v *view) ran(r taskRun) {
	if v.usual[r.task] == nil {
		v.usual[r.task] = new(trend.Usual)
	}
	v.usual[r.task].Add(r.ms)
}

// What is read at the start to know the usual run times again: the newest done jobs of
// each queue and task, and of all together no more than that.
const (
	recentOfGroup = 500
	recentOfAll   = 20_000
)

// recoverTrends rebuilds run times from recent jobs.
func (e *Engine) recoverTrends(counts []store.Count) error {
	v := &e.view
	v.mu.Lock()
	defer v.mu.Unlock()
	left := recentOfAll
	for _, c := range counts {
		if c.N == 0 || c.State != job.Done || left <= 0 {
			continue
		}
		past, err := e.store.Recent(store.Group{Queue: c.Queue, Task: c.Task, State: c.State}, min(recentOfGroup, left))
		if err != nil {
			return err
		}
		left -= len(past)
		for i := len(past) - 1; i >= 0; i-- { // oldest first
			p := past[i]
			v.ran(taskRun{c.Task, float64(p.RunMS)})
		}
	}
	return nil
}

// fewestRuns is how many runs must be known before a task has a usual run time.
const fewestRuns = 5

// spans tells the run times of a task; nil where too few are known. The caller
// holds the view's lock.
func (v *view) spans(task int64) *job.Spans {
	u := v.usual[task]
	if u == nil {
		return nil
	}
	s := u.Sketch()
	if s.Count() < fewestRuns {
		return nil
	}
	ms := func(x float64) int64 { return int64(math.Ceil(x)) }
	return &job.Spans{Count: s.Count(), P50MS: ms(s.Quantile(0.5)), P95MS: ms(s.Quantile(0.95)), MaxMS: ms(s.Max())}
}

// usuals gives what tells a task's usual and long run time; each task is looked at
// once.
func (e *Engine) usuals() func(task string) (usual, long int64) {
	known := map[string]*job.Spans{}
	return func(task string) (int64, int64) {
		s, seen := known[task]
		if !seen {
			e.view.mu.RLock()
			s = e.view.spans(e.view.tasks[task])
			e.view.mu.RUnlock()
			known[task] = s
		}
		if s == nil {
			return 0, 0
		}
		return s.P50MS, s.P95MS
	}
}

// Tasks lists the tasks with their counts and usual run times.
func (e *Engine) Tasks(context.Context) []job.Task {
	service := e.registry.service(e.now())
	e.view.mu.RLock()
	defer e.view.mu.RUnlock()
	all := make([]job.Task, 0, len(e.view.tasks))
	for name, id := range e.view.tasks {
		t := job.Task{Name: name, Counts: everyState(), Run: e.view.spans(id), Workers: service.do(name), Defaults: e.view.taskDefaults[id], Version: e.view.taskVersion[id], FromFile: slices.Contains(e.view.owned.Tasks, name)}
		for _, q := range e.view.queueOf {
			if c := q.tasks[id]; c != nil {
				for _, s := range job.States() {
					t.Counts[s] += c[s]
				}
			}
		}
		all = append(all, t)
	}
	sort.Slice(all, func(i, j int) bool { return all[i].Name < all[j].Name })
	return all
}

// round gives a rate to a hundredth.
func round(x float64) float64 { return math.Round(x*100) / 100 }
