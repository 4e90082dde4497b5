package engine

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"
	"sync"

	"humblemule/internal/core/store"
	"humblemule/internal/core/triage"
	"humblemule/job"
)

// mostCauses bounds the causes of a service; what comes beyond is counted under one
// that is named so.
const mostCauses = 5000

var otherCauses = triage.Cause{ID: 1, Type: "other", Template: "(more causes than are told apart)"}

// causer finds causes; it remembers those of the latest messages, since failures come
// in swarms.
type causer struct {
	mu     sync.Mutex
	rules  triage.Rules
	recent map[[2]string]triage.Cause
}

// use makes the causer ask rules first. What has failed before keeps its cause.
func (c *causer) use(rules []job.TriageRule) {
	compiled := triage.Compile(rules)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.rules, c.recent = compiled, nil
}

func (c *causer) of(f *job.Failure) triage.Cause {
	const most = 2000
	key := [2]string{f.Type, f.Message}
	c.mu.Lock()
	known, found := c.recent[key]
	rules := c.rules
	c.mu.Unlock()
	if found {
		return known
	}
	known = rules.Of(f.Type, f.Message)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.recent == nil || len(c.recent) > most {
		c.recent = map[[2]string]triage.Cause{}
	}
	c.recent[key] = known
	return known
}

// causeKey is what jobs are counted by under a cause.
type causeKey struct {
	cause       int64
	state       job.State
	queue, task int64
	version     string
}

// causing tells whether jobs in a state are counted under their causes.
func causing(s job.State) bool { return s == job.Backoff || s == job.Dead }

// countCause counts a row under its cause, where it has one that counts.
func (tx *txn) countCause(r *store.Row, s job.State, by int64) error {
	if r.Cause == 0 || !causing(s) {
		return nil
	}
	version, err := tx.versionOf(r.Worker)
	if err != nil {
		return err
	}
	if tx.causes == nil {
		tx.causes = map[causeKey]int64{}
	}
	tx.causes[causeKey{r.Cause, s, r.Queue, r.Task, version}] += by
	return nil
}

// versionOf tells the version of the program that a worker runs.
func (tx *txn) versionOf(worker int64) (string, error) {
	if v, known := tx.e.versions[worker]; known {
		return v, nil
	}
	found, err := tx.e.store.WorkerByNumber(worker)
	if err != nil {
		return "", err
	}
	if tx.e.versions == nil || len(tx.e.versions) > mostWorkers {
		tx.e.versions = map[int64]string{}
	}
	tx.e.versions[worker] = found.Version
	return found.Version, nil
}

// sawCause notes the failure of a row's attempt, and its cause.
func (tx *txn) sawCause(r *store.Row, c triage.Cause, message string) error {
	version, err := tx.versionOf(r.Worker)
	if err != nil {
		return err
	}
	if !tx.e.knownCauses[c.ID] && tx.seen[c.ID] == nil && len(tx.e.knownCauses)+len(tx.seen) >= mostCauses {
		c = otherCauses
	}
	r.Cause = c.ID
	if tx.seen == nil {
		tx.seen = map[int64]*store.Seen{}
	}
	seen := tx.seen[c.ID]
	if seen == nil {
		seen = &store.Seen{ID: c.ID, Type: c.Type, Template: c.Template, At: tx.now, N: map[string]int64{}}
		tx.seen[c.ID] = seen
	}
	const mostText = 500
	text := job.Cut(message, mostText)
	seen.N[version]++
	seen.Job = r.ID
	if len(seen.Texts) < store.TextsKept && !slices.Contains(seen.Texts, text) {
		seen.Texts = append([]string{text}, seen.Texts...)
	}
	return nil
}

// flushCauses writes what was seen and counted.
func (tx *txn) flushCauses() error {
	for _, seen := range tx.seen {
		if err := tx.e.store.SawCause(*seen); err != nil {
			return err
		}
	}
	for k, n := range tx.causes {
		if n == 0 {
			continue
		}
		if err := tx.e.store.CountCause(store.CauseCount{Cause: k.cause, State: k.state, Queue: k.queue, Task: k.task, Version: k.version, N: n}); err != nil {
			return err
		}
	}
	return nil
}

func (tx *txn) publishCauses() {
	for _, id := range tx.dropped {
		delete(tx.e.knownCauses, id)
	}
	for id := range tx.seen {
		tx.e.knownCauses[id] = true
	}
}

// causesFound is how many causes a search by text brings at most.
const causesFound = 50

// How far back the trend of a cause is told.
const (
	trendHours = 48
	trendDays  = 31
)

// Causes lists the causes of jobs that are dead, or in backoff, most jobs first, where the
// superseded runs of one schedule count as one; of
// those whose error holds a text where one is given.
func (e *Engine) Causes(ctx context.Context, f job.CauseFilter) ([]job.Cause, error) {
	if f.State == job.New {
		f.State = job.Dead
	}
	counts, err := e.store.CauseCounts(ctx)
	if err != nil {
		return nil, err
	}
	var only []int64
	if f.Error != "" {
		if only, err = e.causesWith(ctx, f); err != nil {
			return nil, err
		}
	}
	by := map[int64]*job.Cause{}
	for _, c := range counts {
		queue, task := e.view.names(c.Queue, c.Task)
		if c.State != f.State || f.Queue != "" && queue != f.Queue || f.Task != "" && task != f.Task || f.Error != "" && !slices.Contains(only, c.Cause) {
			continue
		}
		if by[c.Cause] == nil {
			by[c.Cause] = &job.Cause{ID: c.Cause}
		}
		told := by[c.Cause]
		told.Count += c.N
		told.By = append(told.By, job.CauseCount{Task: task, Queue: queue, Version: c.Version, Count: c.N})
	}
	if f.State == job.Dead {
		if err := e.countSchedules(ctx, by, f); err != nil {
			return nil, err
		}
	}
	return e.tellCauses(ctx, by)
}

// countSchedules tells how many of the jobs of each cause are runs of schedules that were
// superseded.
func (e *Engine) countSchedules(ctx context.Context, by map[int64]*job.Cause, f job.CauseFilter) error {
	runs, err := e.store.SupersededRuns(ctx)
	if err != nil {
		return err
	}
	seen := map[[2]int64]bool{}
	for _, r := range runs {
		queue, task := e.view.names(r.Queue, r.Task)
		told := by[r.Cause]
		if told == nil || f.Queue != "" && queue != f.Queue || f.Task != "" && task != f.Task {
			continue
		}
		told.Superseded++
		if at := [2]int64{r.Cause, r.Schedule}; !seen[at] {
			seen[at] = true
			told.Schedules++
		}
	}
	return nil
}

func (e *Engine) tellCauses(ctx context.Context, by map[int64]*job.Cause) ([]job.Cause, error) {
	ids := make([]int64, 0, len(by))
	for id := range by {
		ids = append(ids, id)
	}
	rows, err := e.store.Causes(ctx, ids)
	if err != nil {
		return nil, err
	}
	all := make([]job.Cause, 0, len(by))
	for id, c := range by {
		r := rows[id]
		c.Type, c.Template, c.Samples, c.Job, c.Total, c.FirstAt, c.LastAt = r.Type, r.Template, r.Texts, r.Job, r.Total, r.FirstAt, r.LastAt
		if len(r.Texts) > 0 {
			c.Sample = r.Texts[0]
		}
		sort.Slice(c.By, func(i, j int) bool { return c.By[i].Count > c.By[j].Count })
		all = append(all, *c)
	}
	sort.Slice(all, func(i, j int) bool {
		a, b := all[i].Weight(), all[j].Weight()
		return a > b || a == b && all[i].LastAt > all[j].LastAt
	})
	return all, nil
}

// Cause tells about one cause: of its dead jobs.
func (e *Engine) Cause(ctx context.Context, id int64) (job.Cause, error) {
	all, err := e.Causes(ctx, job.CauseFilter{})
	if err != nil {
		return job.Cause{}, err
	}
	for _, c := range all {
		if c.ID == id {
			return c, nil
		}
	}
	return job.Cause{}, job.Fault(job.NotFound, "no dead job has the cause %d; its jobs were requeued, or removed, or there never was such a cause", id)
}

// withCauses gives the places of jobs of several causes, in order of their ids.
func (e *Engine) withCauses(causes []int64, after int64, newest bool) source {
	return byID(after, func(ctx context.Context, after int64, n int) (ids []int64, err error) {
		for _, c := range causes {
			found, err := e.store.IDsWithCause(ctx, c, after, newest, n)
			if err != nil {
				return nil, err
			}
			ids = append(ids, found...)
		}
		slices.Sort(ids)
		if newest {
			slices.Reverse(ids)
		}
		return ids[:min(len(ids), n)], nil
	})
}

// causesWith finds the causes whose wording holds a text or, where there is none, those of
// the jobs whose own latest error does.
func (e *Engine) causesWith(ctx context.Context, f job.CauseFilter) ([]int64, error) {
	causes, err := e.store.CausesWith(ctx, f.Error, mostCauses)
	if err != nil || len(causes) > 0 {
		return causes, err
	}
	jobs := job.Filter{States: []job.State{f.State}, Error: f.Error}
	if f.Queue != "" {
		jobs.Queues = []string{f.Queue}
	}
	if f.Task != "" {
		jobs.Tasks = []string{f.Task}
	}
	found, last, err := e.matching(ctx, &jobs, 0, job.MaxSearched)
	if err != nil {
		return nil, err
	}
	if len(found) == 0 && last != 0 {
		return nil, job.Wrong("the causes were not read", []job.FieldError{{Field: "error", Message: fmt.Sprintf("is not in the wording of any cause, nor in the first %d errors that were looked at, and there are more; narrow it to a queue or a task", job.MaxSearched)}})
	}
	rows, err := e.store.Read(ctx, found)
	for _, r := range rows {
		if !slices.Contains(causes, r.Cause) {
			causes = append(causes, r.Cause)
		}
	}
	return causes, err
}

// search is a filter with what its cause and its error come down to.
type search struct {
	*job.Filter
	// causes are those of the jobs that match, where byCause is true.
	causes  []int64
	byCause bool
	// own is true where the error is in no cause's wording: then each job's own latest
	// error says whether it matches.
	own bool
}

func (e *Engine) searchFor(ctx context.Context, f *job.Filter) (s search, err error) {
	s.Filter = f
	switch {
	case f.Cause != 0:
		s.causes, s.byCause = []int64{f.Cause}, true
	case f.Error != "":
		if s.causes, err = e.store.CausesWith(ctx, f.Error, causesFound+1); err != nil {
			return s, err
		}
		if len(s.causes) > causesFound {
			return s, job.Wrong("the list was not read", []job.FieldError{{Field: "error", Message: fmt.Sprintf("matches more than %d causes; write more of the text", causesFound)}})
		}
		s.byCause, s.own = len(s.causes) > 0, len(s.causes) == 0
	}
	if s.own {
		failed := *f
		failed.States = slices.DeleteFunc(slices.Clone(f.States), func(st job.State) bool { return !causing(st) })
		if len(f.States) == 0 {
			failed.States = []job.State{job.Backoff, job.Dead}
		}
		s.Filter = &failed
	}
	return s, nil
}

// keep leaves those rows that match.
func (e *Engine) keep(ctx context.Context, s *search, rows []*store.Row) ([]*store.Row, error) {
	rows = slices.DeleteFunc(rows, func(r *store.Row) bool { return !e.matches(s.Filter, r) })
	if !s.own || len(rows) == 0 {
		return rows, nil
	}
	ids := make([]int64, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	errors, err := e.store.LastErrors(ctx, ids)
	text := strings.ToLower(s.Error)
	return slices.DeleteFunc(rows, func(r *store.Row) bool { return !strings.Contains(strings.ToLower(errors[r.ID]), text) }), err
}
