package read

import (
	"context"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Count counts the jobs that match a filter: at once where a kept count knows, and else by
// looking at no more than api.MaxSearched of them, with a cursor where to go on.
func (rd *Reader) Count(ctx context.Context, f api.Filter) (api.Count, error) {
	if f.Cursor == "" {
		if kept, known, err := rd.keptCount(ctx, &f); err != nil || known {
			return kept, err
		}
	}
	f.Order = api.OldestFirst
	after := int64(0)
	if f.Cursor != "" {
		from, err := parseCursor(f.Cursor)
		if err != nil {
			return api.Count{}, err
		}
		after, f.Cursor = from.id, ""
	}
	told := newCount()
	last, err := rd.walk(ctx, &f, after, api.MaxSearched, func(r *store.Row) {
		queue, _ := rd.Names(r.Queue, r.Task)
		add(&told, queue, r.State, 1)
	})
	if last != 0 {
		told.MatchedIs, told.NextCursor = api.AtLeast, place{id: last}.cursor()
	}
	return told, err
}

// CountOf counts some jobs by their queues and states; those that are gone are left out.
func (rd *Reader) CountOf(ctx context.Context, ids []int64) (api.Count, error) {
	told := newCount()
	rows, err := rd.store.Read(ctx, slices.Compact(slices.Sorted(slices.Values(ids))))
	for _, r := range rows {
		queue, _ := rd.Names(r.Queue, r.Task)
		add(&told, queue, r.State, 1)
	}
	return told, err
}

func newCount() api.Count {
	return api.Count{MatchedIs: api.Exact, ByState: map[job.State]int64{}, ByQueue: map[string]int64{}}
}

func add(c *api.Count, queue string, state job.State, n int64) {
	if n == 0 {
		return
	}
	c.Matched += n
	c.ByState[state] += n
	c.ByQueue[queue] += n
}

// ownerCount counts an owner's jobs by their states. It does not tell of queues, which are not
// counted apart.
func (rd *Reader) ownerCount(ctx context.Context, f *api.Filter) (api.Count, error) {
	counts, err := rd.store.OwnerCounts(ctx, f.Owner)
	told := newCount()
	for state, n := range counts {
		if n != 0 && (len(f.States) == 0 || slices.Contains(f.States, state)) {
			told.Matched += n
			told.ByState[state] += n
		}
	}
	return told, err
}

// keptCount counts what a filter matches where a kept count knows it: by state, queue and task,
// of a cause too, and by owner and state.
func (rd *Reader) keptCount(ctx context.Context, f *api.Filter) (told api.Count, known bool, err error) {
	if f.Batch != 0 || f.Key != "" || f.Worker != "" || f.Error != "" || len(f.Labels)+len(f.IDs) > 0 || f.Since != 0 || f.Until != 0 || f.InDoubt || f.FinishedBy != nil {
		return told, false, nil
	}
	in := scope.Of(ctx)
	if f.Owner != "" {
		if f.Cause != 0 || len(f.Queues)+len(f.Tasks) > 0 || !in.Whole() {
			return told, false, nil
		}
		told, err = rd.ownerCount(ctx, f)
		return told, true, err
	}
	told = newCount()
	if f.Cause == 0 {
		groups := rd.wanted(in, f)
		rd.m.RLock()
		defer rd.m.RUnlock()
		for _, g := range groups {
			add(&told, rd.m.Queues.KeptName(g.Queue), g.State, rd.m.Counts.KeptGroup(memory.Group{Queue: g.Queue, Task: g.Task})[g.State])
		}
		return told, true, nil
	}
	if slices.ContainsFunc(f.States, func(s job.State) bool { return !memory.Causing(s) }) {
		return told, false, nil
	}
	counts, err := rd.store.CauseCounts(ctx, f.Cause)
	for _, c := range counts {
		queue, task := rd.Names(c.Queue, c.Task)
		if in.Sees(queue, task) && (len(f.States) == 0 || slices.Contains(f.States, c.State)) && (len(f.Queues) == 0 || slices.Contains(f.Queues, queue)) && (len(f.Tasks) == 0 || slices.Contains(f.Tasks, task)) {
			add(&told, queue, c.State, c.N)
		}
	}
	return told, true, err
}
