package read

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// edgesTold is how many edges of a job are told on each side.
const edgesTold = 100

// tellTies tells what a job waits for, what waits for it, and of which batch it is.
func (rd *Reader) tellTies(ctx context.Context, r *store.Row, j *job.Job) (err error) {
	if r.After != 0 {
		if j.WaitsFor, err = rd.tellEdges(ctx, r.ID, rd.store.ReadEdges, func(e store.Edge) int64 { return e.Needs }); err != nil {
			return err
		}
		if j.WaitsFor == nil {
			j.WaitsFor = &job.Edges{First: []job.Edge{}}
		}
		j.WaitsFor.When, j.WaitsFor.IfNot = lifecycle.Wants(r.After).Rule()
	}
	if r.Awaited&store.AwaitedByJobs != 0 {
		if j.AwaitedBy, err = rd.tellEdges(ctx, r.ID, rd.store.ReadAwaiting, func(e store.Edge) int64 { return e.Job }); err != nil {
			return err
		}
	}
	if r.Batch == 0 {
		return nil
	}
	b, err := rd.store.ReadBatch(ctx, r.Batch)
	if b != nil {
		j.Batch.Name, j.Batch.Last = b.Name, b.Last == r.ID
	}
	return err
}

type readEdges func(ctx context.Context, id int64, limit int) ([]store.Edge, [4]int64, error)

// tellEdges tells edges of a job on one side; nil where there are none.
func (rd *Reader) tellEdges(ctx context.Context, id int64, read readEdges, other func(store.Edge) int64) (*job.Edges, error) {
	all, counts, err := read(ctx, id, edgesTold)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	ids := make([]int64, len(all))
	for i, e := range all {
		ids[i] = other(e)
	}
	rows, err := rd.store.Read(ctx, slices.Compact(slices.Sorted(slices.Values(ids))))
	if err != nil {
		return nil, err
	}
	byID := make(map[int64]*store.Row, len(rows))
	for _, r := range rows {
		byID[r.ID] = r
	}
	told := &job.Edges{Unmet: counts[store.EdgeUnmet] + counts[store.EdgeGone], First: make([]job.Edge, len(all))}
	for _, n := range counts {
		told.Total += n
	}
	in := scope.Of(ctx)
	for i, e := range all {
		t := &told.First[i]
		if t.Job, t.Is = ids[i], e.State.Word(); e.Needs == id && t.Is == job.EdgeUnmet {
			t.Fate = fates[e.Wants]
		}
		if r := byID[ids[i]]; r != nil {
			queue, task := rd.Names(r.Queue, r.Task)
			if t.State, t.Reason = r.State, job.Reason(r.Reason); in.Sees(queue, task) {
				t.Ref, t.Task = r.Ref, task
			}
		}
	}
	return told, nil
}

// fates are what becomes of jobs where one that they wait for dies.
var fates = map[lifecycle.Wants]job.Fate{lifecycle.WantsDone: job.FateHeld, lifecycle.WantsDoneOrCancel: job.FateCancelled, lifecycle.WantsEnd: job.FateGoesOn}

// awaitingCause tells of the jobs that wait for dead ones of a cause; nil where there are none.
func (rd *Reader) awaitingCause(ctx context.Context, cause int64) (*job.Edges, error) {
	const counted = 1000
	ids, err := rd.store.AwaitingCause(ctx, cause, counted)
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	told := &job.Edges{Total: int64(len(ids)), Unmet: int64(len(ids)), First: []job.Edge{}}
	rows, err := rd.store.Read(ctx, ids[:min(len(ids), edgesTold)])
	in := scope.Of(ctx)
	for _, r := range rows {
		e := job.Edge{Job: r.ID, State: r.State}
		if queue, task := rd.Names(r.Queue, r.Task); in.Sees(queue, task) {
			e.Ref, e.Task = r.Ref, task
		}
		told.First = append(told.First, e)
	}
	return told, err
}

// AwaitedBeside counts the jobs that wait for some others, without those themselves; most tells that there may be
// more.
func (rd *Reader) AwaitedBeside(ctx context.Context, ids []int64) (n int64, most bool, err error) {
	const counted = 10_000
	waiting, err := rd.store.AwaitingOf(ctx, ids, counted)
	seen := make(map[int64]bool, len(ids)+len(waiting))
	for _, id := range ids {
		seen[id] = true
	}
	for _, id := range waiting {
		if !seen[id] {
			seen[id] = true
			n++
		}
	}
	return n, len(waiting) == counted, err
}

// afterWait is what a job waits for, of which it is told already; those come first for which it waits
// in vain.
func afterWait(r *store.Row, j *job.Job) *sentence.After {
	a := &sentence.After{When: j.WaitsFor.When, IfNot: j.WaitsFor.IfNot, Total: j.WaitsFor.Unmet}
	if j.Batch != nil && j.Batch.Last {
		a.Batch = "batch " + cmp.Or(j.Batch.Name, fmt.Sprint(j.Batch.ID))
		return a
	}
	for _, e := range j.WaitsFor.First {
		if e.Is == job.EdgeUnmet {
			a.First = append(a.First, e)
		}
	}
	slices.SortStableFunc(a.First, func(x, y job.Edge) int {
		rank := func(e job.Edge) int {
			if e.State == job.Unplaced || e.State.Finished() {
				return 0
			}
			return 1
		}
		return cmp.Compare(rank(x), rank(y))
	})
	return a
}
