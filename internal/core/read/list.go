package read

import (
	"cmp"
	"context"
	"encoding/base64"
	"fmt"
	"math"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/order"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// place is where a list goes on: after an id and, in a list by time, after a
// time.
type place struct {
	at job.Time
	id int64
	// looked is how many rows were looked at before it was found, beside its own.
	looked int
}

// looked is how many rows were looked at for places.
func looked(all []place) int {
	n := len(all)
	for _, p := range all {
		n += p.looked
	}
	return n
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
		err = job.Wrong("the list was not read", []job.FieldError{{Field: "cursor", Message: "is not a valid cursor; use the next_cursor of the page before, or leave it out to begin again"}})
	}
	return p, err
}

// source gives the next places of a list, at most n; none at its end.
type source func(ctx context.Context, n int) ([]place, error)

// Jobs lists jobs. A single filter costs the same whatever the backlog; of several the one by
// which the fewest jobs are found is walked, and a call looks at no more than api.MaxSearched
// rows.
func (rd *Reader) Jobs(ctx context.Context, f api.Filter) (api.Page, error) {
	if f.Limit == 0 {
		f.Limit = api.DefaultPage
	}
	if f.Limit < 1 || f.Limit > api.MaxPage {
		return api.Page{}, job.Wrong("the list was not read", []job.FieldError{{Field: "limit", Message: fmt.Sprintf("%d is outside 1 to %d", f.Limit, api.MaxPage)}})
	}
	s, err := rd.searchFor(ctx, &f)
	if err != nil {
		return api.Page{}, err
	}
	next, err := rd.source(ctx, &s)
	if err != nil {
		return api.Page{}, err
	}
	page := api.Page{Jobs: []job.Job{}}
	if kept, known, err := rd.keptCount(ctx, &f); err != nil {
		return page, err
	} else if known {
		page.Matched = &kept.Matched
	}
	for searched := 0; ; {
		places, err := next(ctx, min(f.Limit, api.MaxSearched-searched))
		if err != nil || len(places) == 0 {
			return page, err
		}
		full, last, err := rd.fill(ctx, &page, &s, places)
		if err != nil {
			return page, err
		}
		searched += looked(places)
		if full {
			page.NextCursor = last.cursor()
			return page, nil
		}
		if searched >= api.MaxSearched {
			page.NextCursor, page.SearchedTo = last.cursor(), last.id
			page.SearchedToAt, err = rd.enqueuedAt(ctx, last.id)
			return page, err
		}
	}
}

// enqueuedAt tells when a job was enqueued; 0 where it is gone.
func (rd *Reader) enqueuedAt(ctx context.Context, id int64) (job.Time, error) {
	rows, err := rd.store.Read(ctx, []int64{id})
	if err != nil || len(rows) == 0 {
		return 0, err
	}
	return rows[0].EnqueuedAt, nil
}

// fill reads the jobs of places and appends those that match, until the page is
// full; last is the last place looked at.
func (rd *Reader) fill(ctx context.Context, page *api.Page, s *search, places []place) (full bool, last place, err error) {
	ids := make([]int64, len(places))
	at := map[int64]place{}
	for i, p := range places {
		ids[i], at[p.id] = p.id, p
	}
	rows, err := rd.store.Read(ctx, ids)
	if err == nil {
		rows, err = rd.keep(ctx, s, rows)
	}
	if err != nil {
		return false, last, err
	}
	full = len(rows) >= s.Limit-len(page.Jobs)
	rows = rows[:min(len(rows), s.Limit-len(page.Jobs))]
	jobs, err := rd.tellInList(ctx, rows)
	if err != nil {
		return false, last, err
	}
	page.Jobs = append(page.Jobs, jobs...)
	if full {
		return true, at[rows[len(rows)-1].ID], nil
	}
	return false, places[len(places)-1], nil
}

// matches tells whether a row is one that a search is for.
func (rd *Reader) matches(f *search, r *store.Row) bool {
	queue, task := rd.Names(r.Queue, r.Task)
	switch {
	case !f.in.Sees(queue, task),
		len(f.States) > 0 && !slices.Contains(f.States, r.State),
		len(f.Queues) > 0 && !slices.Contains(f.Queues, queue),
		len(f.Tasks) > 0 && !slices.Contains(f.Tasks, task),
		f.InDoubt && r.State == job.Running,
		f.Owner != "" && r.Owner != f.Owner,
		f.Key != "" && r.Key != f.Key,
		f.Batch != 0 && r.Batch != f.Batch,
		f.Worker != "" && !slices.Contains(f.workers, r.Worker),
		len(f.IDs) > 0 && !slices.Contains(f.IDs, r.ID),
		f.Since != 0 && r.EnqueuedAt < f.Since,
		f.Until != 0 && r.EnqueuedAt >= f.Until,
		f.FinishedBy != nil && !finishedBy(f.FinishedBy, queue, r):
		return false
	}
	if len(f.Labels) == 0 {
		return true
	}
	labels := r.LabelMap()
	for name, value := range f.Labels {
		if got, there := labels[name]; !there || got != value {
			return false
		}
	}
	return true
}

// finishedBy tells whether a row has finished before the cut of its queue and state.
func finishedBy(cuts map[string]map[job.State]api.UpTo, queue string, r *store.Row) bool {
	cut, is := cuts[queue][r.State]
	return is && (r.FinishedAt < cut.At || r.FinishedAt == cut.At && (cut.Job == 0 || r.ID <= cut.Job))
}

// wanted are the groups with jobs in a scope that a filter asks for.
func (rd *Reader) wanted(in scope.Scope, f *api.Filter) []store.Group {
	queues, tasks := rd.ids(f)
	return rd.groups(func(g store.Group) bool {
		return in.Sees(rd.m.Queues.KeptName(g.Queue), rd.m.Tasks.KeptName(g.Task)) && (queues == nil || queues[g.Queue]) && (tasks == nil || tasks[g.Task]) &&
			(len(f.States) == 0 || slices.Contains(f.States, g.State)) &&
			(f.Order != api.NextFirst || g.State == job.Scheduled || g.State == job.Backoff)
	})
}

// ids finds the ids of a filter's queues and tasks; nil means all.
func (rd *Reader) ids(f *api.Filter) (queues, tasks map[int64]bool) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	if len(f.Queues) > 0 {
		queues = map[int64]bool{}
		for _, name := range f.Queues {
			queues[rd.m.Queues.KeptID(name)] = true
		}
	}
	if len(f.Tasks) > 0 {
		tasks = map[int64]bool{}
		for _, name := range f.Tasks {
			tasks[rd.m.Tasks.KeptID(name)] = true
		}
	}
	return queues, tasks
}

// groups lists the queues, tasks and states that have jobs and are wanted. Want is called
// under the read lock.
func (rd *Reader) groups(want func(store.Group) bool) (found []store.Group) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	for at, counts := range rd.m.Counts.AllKeptGroups() {
		for _, s := range job.States() {
			if g := (store.Group{Queue: at.Queue, Task: at.Task, State: s}); counts[s] > 0 && want(g) {
				found = append(found, g)
			}
		}
	}
	slices.SortFunc(found, func(a, b store.Group) int {
		return cmp.Or(cmp.Compare(a.Queue, b.Queue), cmp.Compare(a.Task, b.Task), cmp.Compare(a.State, b.State))
	})
	return found
}

// ready lists the groups of a queue that have ready jobs.
func (rd *Reader) ready(queue int64) (found []store.Group) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	for _, task := range rd.m.Counts.KeptTasksOf(queue) {
		if rd.m.Counts.KeptGroup(memory.Group{Queue: queue, Task: task})[job.Ready] > 0 {
			found = append(found, store.Group{Queue: queue, Task: task, State: job.Ready})
		}
	}
	return found
}

// source chooses how the places of a list are found.
func (rd *Reader) source(ctx context.Context, s *search) (source, error) {
	f := s.Filter
	newest := f.Order != api.OldestFirst
	from, err := place{}, error(nil)
	if newest && f.Order != api.NextFirst {
		from.id = math.MaxInt64
	}
	if f.Cursor != "" {
		if from, err = parseCursor(f.Cursor); err != nil {
			return nil, err
		}
	}
	if f.Order == api.NextFirst && f.Cause == 0 && !f.InDoubt {
		return rd.byTime(from), nil
	}
	if f.Cursor == "" {
		if from.id, err = rd.beginning(ctx, f, from.id, newest); err != nil {
			return nil, err
		}
	}
	lo, hi, err := rd.idsWithin(ctx, f.Since, f.Until)
	if err != nil {
		return nil, err
	}
	if newest {
		from.id = min(from.id, max(hi, hi+1))
	} else {
		from.id = max(from.id, lo-1)
	}
	source, err := rd.sourceByID(ctx, s, from.id, newest)
	return within(source, lo, hi, newest), err
}

// beginning is the id beyond which a list begins that is asked for from a job or a time on.
func (rd *Reader) beginning(ctx context.Context, f *api.Filter, after int64, newest bool) (int64, error) {
	switch {
	case f.From != 0 && newest:
		return f.From + 1, nil
	case f.From != 0:
		return f.From - 1, nil
	case f.FromAt != 0 && newest:
		lo, hi, err := rd.idsWithin(ctx, 0, f.FromAt+1)
		if lo > hi || hi == math.MaxInt64 {
			return after, err
		}
		return hi + 1, err
	case f.FromAt != 0:
		lo, hi, err := rd.idsWithin(ctx, f.FromAt, 0)
		if lo > hi { // nothing was enqueued since
			return math.MaxInt64, err
		}
		return lo - 1, err
	}
	return after, nil
}

// sourceByID chooses by what the jobs are found, in the order of their ids: by that by which the
// fewest are.
func (rd *Reader) sourceByID(ctx context.Context, s *search, after int64, newest bool) (source, error) {
	f := s.Filter
	switch {
	case f.Cause != 0:
		return byID(after, func(ctx context.Context, after int64, n int) ([]int64, error) {
			return rd.store.IDsWithCause(ctx, f.Cause, after, newest, n)
		}), nil
	case f.InDoubt:
		return byID(after, func(ctx context.Context, after int64, n int) ([]int64, error) {
			return rd.store.IDsInDoubt(ctx, after, newest, n)
		}), nil
	case len(f.IDs) > 0:
		return fixed(f.IDs, after, newest), nil
	case f.Batch != 0:
		return byID(after, func(ctx context.Context, after int64, n int) ([]int64, error) {
			return rd.store.IDsOfBatch(ctx, f.Batch, after, newest, n)
		}), nil
	case f.Key != "":
		return byID(after, func(ctx context.Context, after int64, n int) ([]int64, error) {
			return rd.store.IDsWithKey(ctx, f.Key, after, newest, n)
		}), nil
	}
	best, fewest := func() source {
		return byID(after, func(ctx context.Context, after int64, n int) ([]int64, error) {
			return rd.store.IDs(ctx, after, newest, n)
		})
	}, int64(math.MaxInt64)
	if len(f.States)+len(f.Queues)+len(f.Tasks) > 0 || !s.in.Whole() {
		groups := rd.wanted(s.in, f)
		fewest = rd.countGroups(groups)
		best = func() source { return rd.ofGroups(groups, after, newest) }
	}
	if f.Owner != "" {
		counts, err := rd.store.OwnerCounts(ctx, f.Owner)
		if err != nil {
			return nil, err
		}
		n := int64(0)
		for _, of := range counts {
			n += of
		}
		if n < fewest {
			fewest = n
			best = func() source {
				return byID(after, func(ctx context.Context, after int64, n int) ([]int64, error) {
					return rd.store.IDsOfOwner(ctx, f.Owner, after, newest, n)
				})
			}
		}
	}
	if f.Worker != "" {
		some, err := rd.ofWorkers(s.workers, after, newest)(ctx, probe)
		if err != nil {
			return nil, err
		}
		if n := int64(len(some)); n < fewest {
			fewest = n
			best = func() source { return rd.ofWorkers(s.workers, after, newest) }
		}
	}
	for name, value := range f.Labels {
		some, err := rd.store.IDsWithLabel(ctx, name, value, after, newest, probe)
		if err != nil {
			return nil, err
		}
		if n := int64(len(some)); n < fewest {
			fewest = n
			best = func() source {
				return byID(after, func(ctx context.Context, after int64, n int) ([]int64, error) {
					return rd.store.IDsWithLabel(ctx, name, value, after, newest, n)
				})
			}
		}
	}
	if s.wording != nil && fewest > probe {
		return rd.withWords(s.wording, after, newest), nil
	}
	return best(), nil
}

// probe is how many jobs with a label, or of a worker, are counted to find out whether they are
// few.
const probe = 1000

// countGroups counts the jobs of groups.
func (rd *Reader) countGroups(groups []store.Group) (n int64) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	for _, g := range groups {
		n += rd.m.Counts.KeptGroup(memory.Group{Queue: g.Queue, Task: g.Task})[g.State]
	}
	return n
}

// idsWithin gives bounds of the ids of jobs that were enqueued from a time on and before another;
// 0 means any time. Others may be among them.
func (rd *Reader) idsWithin(ctx context.Context, since, until job.Time) (lo, hi int64, err error) {
	lo, hi = 0, math.MaxInt64
	if since == 0 && until == 0 {
		return lo, hi, nil
	}
	minute := job.Time(time.Minute.Milliseconds())
	from, to := int64(since/minute), int64(math.MaxInt64)
	if until != 0 {
		to = int64((until + minute - 1) / minute)
	}
	rd.m.RLock()
	kept := rd.m.Finding.KeptIssued()
	rd.m.RUnlock()
	found, earliest, err := rd.store.IssuedWithin(ctx, from, to)
	if err != nil {
		return lo, hi, err
	}
	for _, i := range kept {
		if i.Minute >= from && i.Minute < to {
			if found.First == 0 || i.First < found.First {
				found.First = i.First
			}
			found.Last = max(found.Last, i.Last)
		}
		if earliest.Last == 0 || i.Minute < earliest.Minute {
			earliest = i
		}
	}
	// What was enqueued before anything was noted has a lower id than what is.
	before := earliest.Last == 0 || from < earliest.Minute
	switch {
	case before && rd.imports(): // unless it was enqueued elsewhere
		return lo, hi, nil
	case found.First != 0 && before:
		return lo, upTo(until, found.Last), nil
	case found.First != 0:
		return found.First, upTo(until, found.Last), nil
	case before && earliest.Last != 0:
		return lo, earliest.First - 1, nil
	case before:
		return lo, hi, nil
	}
	return 1, 0, nil // none
}

// imports tells whether jobs of other stores were imported.
func (rd *Reader) imports() bool {
	rd.m.RLock()
	defer rd.m.RUnlock()
	return rd.m.Imports.NumKept() > 0
}

// upTo is the last id: any where there is no end of the time.
func upTo(until job.Time, last int64) int64 {
	if until == 0 {
		return math.MaxInt64
	}
	return last
}

// within ends a source where its ids leave some bounds.
func within(next source, lo, hi int64, newest bool) source {
	if lo == 0 && hi == math.MaxInt64 || next == nil {
		return next
	}
	return func(ctx context.Context, n int) ([]place, error) {
		places, err := next(ctx, n)
		end := slices.IndexFunc(places, func(p place) bool { return newest && p.id < lo || !newest && p.id > hi })
		if end >= 0 {
			places = places[:end]
		}
		return places, err
	}
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

func (rd *Reader) byTime(from place) source {
	return func(ctx context.Context, n int) ([]place, error) {
		coming, err := rd.store.Coming(ctx, store.Coming{At: from.at, ID: from.id}, n)
		all := make([]place, len(coming))
		for i, c := range coming {
			all[i] = place{at: c.At, id: c.ID}
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

// run is a list of ids in order, read some at a time.
type run struct {
	read  func(ctx context.Context, after int64, n int) ([]int64, error)
	ids   []int64
	after int64
	ended bool
}

// merged merges runs of ids. Each is read once at first; from then on a place costs as much
// as the logarithm of their number.
func merged(runs []*run, newest bool) source {
	before := func(a, b int64) bool { return a < b }
	if newest {
		before = func(a, b int64) bool { return a > b }
	}
	var firsts *order.Heap[*run, int64]
	return func(ctx context.Context, n int) ([]place, error) {
		atOnce := n/max(len(runs), 1) + 8
		if firsts == nil {
			firsts = order.NewHeap[*run](before)
			for _, r := range runs {
				if err := r.refill(ctx, firsts, atOnce); err != nil {
					return nil, err
				}
			}
		}
		var ids []int64
		for len(ids) < n {
			r, id, found := firsts.First()
			if !found {
				break
			}
			// A job that changed its state between two reads may stand in two groups.
			if k := len(ids); k == 0 || ids[k-1] != id {
				ids = append(ids, id)
			}
			r.ids = r.ids[1:]
			if err := r.refill(ctx, firsts, atOnce); err != nil {
				return nil, err
			}
		}
		return places(ids), nil
	}
}

// refill puts the first id of a run among the others, reading more where all are taken.
func (r *run) refill(ctx context.Context, firsts *order.Heap[*run, int64], n int) (err error) {
	if len(r.ids) == 0 && !r.ended {
		r.ids, err = r.read(ctx, r.after, n)
		r.ended = len(r.ids) < n
	}
	if len(r.ids) == 0 {
		firsts.Remove(r)
		return err
	}
	r.after = r.ids[len(r.ids)-1]
	firsts.Put(r, r.ids[0])
	return err
}

// ofGroups gives the places of jobs of some groups, in order of their ids.
func (rd *Reader) ofGroups(groups []store.Group, after int64, newest bool) source {
	runs := make([]*run, len(groups))
	for i, g := range groups {
		runs[i] = &run{after: after, read: func(ctx context.Context, after int64, n int) ([]int64, error) {
			return rd.store.IDsInGroup(ctx, g, after, newest, n)
		}}
	}
	return merged(runs, newest)
}

// ofWorkers gives the places of jobs that some workers run, or ran last, in order of their ids.
func (rd *Reader) ofWorkers(workers []int64, after int64, newest bool) source {
	runs := make([]*run, len(workers))
	for i, number := range workers {
		runs[i] = &run{after: after, read: func(ctx context.Context, after int64, n int) ([]int64, error) {
			return rd.store.IDsOfWorker(ctx, number, after, newest, n)
		}}
	}
	return merged(runs, newest)
}

// Matching reads ids of jobs that match, beyond one, looking at no more than most; last
// is where it stopped, 0 at the end.
func (rd *Reader) Matching(ctx context.Context, f *api.Filter, after int64, most int) (ids []int64, last int64, err error) {
	last, err = rd.walk(ctx, f, after, most, func(r *store.Row) { ids = append(ids, r.ID) })
	return ids, last, err
}

// walk gives the rows that match, beyond an id, looking at no more than most; last is where it
// stopped, 0 at the end.
func (rd *Reader) walk(ctx context.Context, f *api.Filter, after int64, most int, match func(*store.Row)) (last int64, err error) {
	from := *f
	if after > 0 {
		from.Cursor = place{id: after}.cursor()
	}
	s, err := rd.searchFor(ctx, &from)
	if err != nil {
		return 0, err
	}
	next, err := rd.source(ctx, &s)
	if err != nil {
		return 0, err
	}
	for searched := 0; searched < most; {
		places, err := next(ctx, min(500, most-searched))
		if err != nil || len(places) == 0 {
			return 0, err
		}
		searched += looked(places)
		part := make([]int64, len(places))
		for i, p := range places {
			part[i] = p.id
		}
		rows, err := rd.store.Read(ctx, part)
		if err == nil {
			rows, err = rd.keep(ctx, &s, rows)
		}
		if err != nil {
			return 0, err
		}
		for _, r := range rows {
			match(r)
		}
		last = part[len(part)-1]
	}
	return last, nil
}
