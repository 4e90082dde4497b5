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
	b, _, err := tx.Ties.Batch(r.Batch)
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
	all, err := tx.Store.InputsOf(r.ID)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	room := job.MaxInputBytes
	results, err := tx.Store.ResultsFor(r.ID, room)
	if err != nil {
		return nil, err
	}
	for i := range all {
		in := &all[i]
		if in.State == job.Unplaced { // it is no longer kept
			in.Omitted = true
			continue
		}
		if in.State != job.Done {
			continue
		}
		result, read := results[in.Job]
		if in.Omitted = !read || len(result) > room; in.Omitted {
			room = 0
			continue
		}
		in.Result, room = result, room-len(result)
	}
	return all, nil
}
