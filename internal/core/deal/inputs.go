package deal

import (
	"humblemule.example/internal/core/after"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// inBatch tells of which batch a job is, and its last one how the others have ended; nil where it is of
// none.
func inBatch(tx *commit.Tx, r *store.Row) (*job.InBatch, error) {
	if r.Batch == 0 {
		return nil, nil
	}
	b, err := tx.Store.Batch(r.Batch)
	if err != nil || b == nil {
		return nil, err
	}
	told := &job.InBatch{ID: b.ID, Name: b.Name, Ref: r.Ref, Last: b.Last == r.ID}
	if !told.Last {
		return told, nil
	}
	n, err := after.CountsOf(tx, b.ID)
	if err != nil {
		return nil, err
	}
	n[r.State]-- // itself
	told.Counts = map[job.State]int64{}
	for _, s := range job.States() {
		count := n[s]
		if s == job.Skipped {
			count += n[store.TooLateState]
		}
		if count > 0 {
			told.Counts[s] = count
		}
	}
	return told, nil
}

// inputs tells what has become of the jobs that one has waited for, with as many of their results, in
// the order of their ids, as fit.
func inputs(tx *commit.Tx, r *store.Row) ([]job.Input, error) {
	if r.After == 0 {
		return nil, nil
	}
	edges, err := tx.Store.EdgesOf(r.ID)
	if err != nil || len(edges) == 0 {
		return nil, err
	}
	rows, err := after.RowsOf(tx.Store, edges)
	if err != nil {
		return nil, err
	}
	all, room := make([]job.Input, len(edges)), job.MaxInputBytes
	for i, e := range edges {
		in := &all[i]
		in.Job = e.Needs
		x := rows[e.Needs]
		if x == nil {
			in.Omitted = true
			continue
		}
		in.Ref, in.State, in.Reason = x.Ref, x.State, job.Reason(x.Reason)
		if x.State != job.Done || room == 0 {
			in.Omitted = x.State == job.Done
			continue
		}
		result, err := tx.Store.ResultOf(e.Needs)
		if err != nil {
			return nil, err
		}
		if in.Omitted = len(result) > room; in.Omitted {
			room = 0
			continue
		}
		in.Result, room = result, room-len(result)
	}
	return all, nil
}
