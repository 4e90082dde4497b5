package read

import (
	"context"

	"humblemule.example/api"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
)

// Lanes tells which job has each lane of a queue, by the lane's name from after on.
func (rd *Reader) Lanes(ctx context.Context, queue, after string, most int) ([]api.Lane, error) {
	q, err := rd.keptQueue(scope.Of(ctx), queue)
	if err != nil {
		return nil, err
	}
	lanes, err := rd.store.Lanes(ctx, q.ID, after, most, api.MaxLaneCount)
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(lanes))
	for i, l := range lanes {
		ids[i] = l.Job
	}
	holders, err := rd.store.Read(ctx, ids)
	if err != nil {
		return nil, err
	}
	byID := map[int64]*store.Row{}
	for _, r := range holders {
		byID[r.ID] = r
	}
	all := make([]api.Lane, len(lanes))
	for i, l := range lanes {
		all[i] = api.Lane{Name: l.Name, Job: l.Job, Waiting: l.Waiting}
		if r := byID[l.Job]; r != nil {
			_, all[i].Task = rd.Names(r.Queue, r.Task)
			all[i].State = r.State
		}
	}
	return all, nil
}
