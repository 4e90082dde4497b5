package engine

import (
	"context"
	"encoding/base64"
	"fmt"
	"math"
	"slices"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// place is where a list goes on: after an id and, in a list by time, after a
// time.
type place struct {
	at job.Time
	id int64
}

func (p place) cursor() string {
	return base64.RawURLEncoding.EncodeToString(fmt.Appendf(nil, "%d.%d", int64(p.at), p.id))
}

func parseCursor(cursor string) (p place, err error) {
	raw, err := base64.RawURLEncoding.DecodeString(cursor)
	if err == nil {
		_, err = fmt.Sscanf(string(raw), "%d.%d", (*int64)(&p.at), &p.id)
	}
	if err != nil {
		err = job.Wrong("the list was not read", []job.FieldError{{Field: "cursor", Message: "is none that a list has told; begin again without it"}})
	}
	return p, err
}

// source gives the next places of a list, at most n; none at its end.
type source func(ctx context.Context, n int) ([]place, error)

// Jobs lists jobs. Filters by state, queue and task cost the same whatever the
// backlog; for others a call looks at no more than job.MaxSearched rows.
func (e *Engine) Jobs(ctx context.Context, f job.Filter) (job.Page, error) {
	if f.Limit == 0 {
		f.Limit = job.DefaultPage
	}
	if f.Limit < 1 || f.Limit > job.MaxPage {
		return job.Page{}, job.Wrong("the list was not read", []job.FieldError{{Field: "limit", Message: fmt.Sprintf("%d is outside 1 to %d", f.Limit, job.MaxPage)}})
	}
	s, err := e.searchFor(ctx, &f)
	if err != nil {
		return job.Page{}, err
	}
	next, err := e.source(&s)
	if err != nil {
		return job.Page{}, err
	}
	page := job.Page{Jobs: []job.Job{}}
	if page.Matched, err = e.matchedNow(ctx, &f); err != nil {
		return page, err
	}
	for searched := 0; ; {
		places, err := next(ctx, min(f.Limit, job.MaxSearched-searched))
		if err != nil || len(places) == 0 {
			return page, err
		}
		full, last, err := e.fill(ctx, &page, &s, places)
		if err != nil {
			return page, err
		}
		searched += len(places)
		if full {
			page.NextCursor = last.cursor()
			return page, nil
		}
		if searched >= job.MaxSearched {
			page.NextCursor, page.SearchedTo = last.cursor(), last.id
			return page, nil
		}
	}
}

// fill reads the jobs of places and appends those that match, until the page is
// full; last is the last place looked at.
func (e *Engine) fill(ctx context.Context, page *job.Page, s *search, places []place) (full bool, last place, err error) {
	ids := make([]int64, len(places))
	at := map[int64]place{}
	for i, p := range places {
		ids[i], at[p.id] = p.id, p
	}
	rows, err := e.store.Read(ctx, ids)
	if err == nil {
		rows, err = e.keep(ctx, s, rows)
	}
	if err != nil {
		return false, last, err
	}
	for _, r := range rows {
		j, err := e.tellInList(ctx, r)
		if err != nil {
			return false, last, err
		}
		page.Jobs = append(page.Jobs, j)
		if len(page.Jobs) == s.Limit {
			return true, at[r.ID], nil
		}
	}
	return false, places[len(places)-1], nil
}

func (e *Engine) matches(f *job.Filter, r *store.Row) bool {
	queue, task := e.view.names(r.Queue, r.Task)
	switch {
	case len(f.States) > 0 && !slices.Contains(f.States, r.State),
		len(f.Queues) > 0 && !slices.Contains(f.Queues, queue),
		len(f.Tasks) > 0 && !slices.Contains(f.Tasks, task),
		f.InDoubt && r.State == job.Running,
		f.Owner != "" && r.Owner != f.Owner,
		f.Key != "" && r.Key != f.Key,
		len(f.IDs) > 0 && !slices.Contains(f.IDs, r.ID),
		f.Since != 0 && r.EnqueuedAt < f.Since,
		f.Until != 0 && r.EnqueuedAt >= f.Until,
		f.FinishedBy != nil && !finishedBy(f.FinishedBy, queue, r):
		return false
	}
	if len(f.Labels) == 0 {
		return true
	}
	labels := labelsOf(r)
	for name, value := range f.Labels {
		if got, there := labels[name]; !there || got != value {
			return false
		}
	}
	return true
}

// matched counts what a filter by state, queue and task matches; nil where the
// filter holds more.
func (e *Engine) matched(f *job.Filter) *int64 {
	if f.Owner != "" || f.Key != "" || len(f.Labels) > 0 || len(f.IDs) > 0 || f.Since != 0 || f.Until != 0 || f.Cause != 0 || f.Error != "" || f.InDoubt || f.FinishedBy != nil {
		return nil
	}
	total := int64(0)
	groups := e.wanted(f)
	e.view.mu.RLock()
	defer e.view.mu.RUnlock()
	for _, g := range groups {
		total += e.view.queueOf[g.Queue].tasks[g.Task][g.State]
	}
	return &total
}

// matchedNow counts what a filter matches, where a kept count knows it: by state, queue and
// task, and of a cause too; nil where none does.
func (e *Engine) matchedNow(ctx context.Context, f *job.Filter) (*int64, error) {
	alone := *f
	alone.Cause = 0
	if f.Cause == 0 || e.matched(&alone) == nil || slices.ContainsFunc(f.States, func(s job.State) bool { return !causing(s) }) {
		return e.matched(f), nil
	}
	counts, err := e.store.CauseCounts(ctx)
	if err != nil {
		return nil, err
	}
	total := int64(0)
	for _, c := range counts {
		queue, task := e.view.names(c.Queue, c.Task)
		if c.Cause == f.Cause && (len(f.States) == 0 || slices.Contains(f.States, c.State)) && (len(f.Queues) == 0 || slices.Contains(f.Queues, queue)) && (len(f.Tasks) == 0 || slices.Contains(f.Tasks, task)) {
			total += c.N
		}
	}
	return &total, nil
}

// wanted are the groups with jobs that a filter asks for.
func (e *Engine) wanted(f *job.Filter) []store.Group {
	queues, tasks := e.view.ids(f)
	return e.groups(func(g store.Group) bool {
		return (queues == nil || queues[g.Queue]) && (tasks == nil || tasks[g.Task]) &&
			(len(f.States) == 0 || slices.Contains(f.States, g.State)) &&
			(f.Order != job.NextFirst || g.State == job.Scheduled || g.State == job.Backoff)
	})
}

// ids finds the ids of a filter's queues and tasks; nil means all.
func (v *view) ids(f *job.Filter) (queues, tasks map[int64]bool) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	if len(f.Queues) > 0 {
		queues = map[int64]bool{}
		for _, name := range f.Queues {
			if q := v.queues[name]; q != nil {
				queues[q.id] = true
			}
		}
	}
	if len(f.Tasks) > 0 {
		tasks = map[int64]bool{}
		for _, name := range f.Tasks {
			tasks[v.tasks[name]] = true
		}
	}
	return queues, tasks
}

// source chooses how the places of a list are found.
func (e *Engine) source(s *search) (source, error) {
	f := s.Filter
	newest := f.Order != job.OldestFirst
	from := place{}
	if newest && f.Order != job.NextFirst {
		from.id = math.MaxInt64
	}
	if f.Cursor != "" {
		var err error
		if from, err = parseCursor(f.Cursor); err != nil {
			return nil, err
		}
	}
	switch {
	case s.byCause:
		return e.withCauses(s.causes, from.id, newest), nil
	case s.own && len(f.States) == 0:
		return fixed(nil, from.id, newest), nil
	case f.InDoubt:
		return byID(from.id, func(ctx context.Context, after int64, n int) ([]int64, error) {
			return e.store.IDsInDoubt(ctx, after, newest, n)
		}), nil
	case f.Order == job.NextFirst:
		return e.byTime(from), nil
	case len(f.IDs) > 0:
		return fixed(f.IDs, from.id, newest), nil
	case f.Key != "":
		return byID(from.id, func(ctx context.Context, after int64, n int) ([]int64, error) {
			return e.store.IDsWithKey(ctx, f.Key, after, newest, n)
		}), nil
	case len(f.States)+len(f.Queues)+len(f.Tasks) > 0:
		return e.merged(e.wanted(f), from.id, newest), nil
	}
	return byID(from.id, func(ctx context.Context, after int64, n int) ([]int64, error) {
		return e.store.IDs(ctx, after, newest, n)
	}), nil
}

func byID(after int64, read func(ctx context.Context, after int64, n int) ([]int64, error)) source {
	return func(ctx context.Context, n int) ([]place, error) {
		ids, err := read(ctx, after, n)
		if len(ids) > 0 {
			after = ids[len(ids)-1]
		}
		return places(ids), err
	}
}

func places(ids []int64) []place {
	all := make([]place, len(ids))
	for i, id := range ids {
		all[i].id = id
	}
	return all
}

func (e *Engine) byTime(from place) source {
	return func(ctx context.Context, n int) ([]place, error) {
		coming, err := e.store.Coming(ctx, store.Coming{At: from.at, ID: from.id}, n)
		all := make([]place, len(coming))
		for i, c := range coming {
			all[i] = place{c.At, c.ID}
			from = all[i]
		}
		return all, err
	}
}

// fixed gives ids of a list, in order, beyond an id.
func fixed(ids []int64, after int64, newest bool) source {
	sorted := slices.Compact(slices.Sorted(slices.Values(ids)))
	if newest {
		slices.Reverse(sorted)
	}
	sorted = slices.DeleteFunc(sorted, func(id int64) bool { return newest && id >= after || !newest && id <= after })
	return func(_ context.Context, n int) ([]place, error) {
		n = min(n, len(sorted))
		var part []int64
		part, sorted = sorted[:n], sorted[n:]
		return places(part), nil
	}
}

// run is what was read of a group and not yet merged.
type run struct {
	group store.Group
	ids   []int64
	after int64
	ended bool
}

// merged merges the ids of groups, each of which is read in order from its
// index.
func (e *Engine) merged(groups []store.Group, after int64, newest bool) source {
	runs := make([]*run, len(groups))
	for i, g := range groups {
		runs[i] = &run{group: g, after: after}
	}
	return func(ctx context.Context, n int) ([]place, error) {
		var ids []int64
		atOnce := n/max(len(runs), 1) + 8
		for len(ids) < n {
			var first *run
			for _, r := range runs {
				if err := e.refill(ctx, r, newest, atOnce); err != nil {
					return nil, err
				}
				if len(r.ids) > 0 && (first == nil || newest == (r.ids[0] > first.ids[0])) {
					first = r
				}
			}
			if first == nil {
				break
			}
			// A job that changed its state between two reads may stand in two groups.
			if k := len(ids); k == 0 || ids[k-1] != first.ids[0] {
				ids = append(ids, first.ids[0])
			}
			first.ids = first.ids[1:]
		}
		return places(ids), nil
	}
}

func (e *Engine) refill(ctx context.Context, r *run, newest bool, n int) (err error) {
	if len(r.ids) > 0 || r.ended {
		return nil
	}
	r.ids, err = e.store.IDsInGroup(ctx, r.group, r.after, newest, n)
	if len(r.ids) < n {
		r.ended = true
	}
	if len(r.ids) > 0 {
		r.after = r.ids[len(r.ids)-1]
	}
	return err
}
