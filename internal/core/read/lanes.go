package read

import (
	"context"

	"humblemule.example/api"
	"humblemule.example/internal/core/scope"
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
	all := make([]api.Lane, len(lanes))
	for i, l := range lanes {
		_, task := rd.Names(q.ID, l.Task)
		all[i] = api.Lane{Name: l.Name, Job: l.Job, Task: task, State: l.State, Waiting: l.Waiting}
	}
	return all, nil
}
