package read

import (
	"context"
	"errors"
	"math"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Owner tells how the jobs of an owner stand; of one who has none, that.
func (rd *Reader) Owner(ctx context.Context, name string) (told api.Owner, err error) {
	if err := scope.Whole(ctx); err != nil {
		return told, err
	}
	var c check.List
	if c.Word("owner", name, job.MaxWordBytes); name == "" {
		c.Add("owner", "is empty; give the owner that jobs were enqueued for")
	}
	if err := job.Wrong("nothing was read", c); err != nil {
		return told, err
	}
	told = api.Owner{Name: name, AsOf: rd.clock.Now()}
	count, err := rd.ownerCount(ctx, &api.Filter{Owner: name})
	if err != nil {
		return told, err
	}
	told.Counts = count.ByState
	usual := rd.usuals()
	for _, part := range []struct {
		of     *[]api.OwnedJob
		order  api.Order
		states []job.State
	}{
		{&told.Running, api.OldestFirst, []job.State{job.Running}},
		{&told.Waiting, api.OldestFirst, []job.State{job.Held, job.Scheduled, job.Ready, job.Backoff}},
		{&told.Finished, api.NewestFirst, job.FinishedStates()},
	} {
		page, err := rd.Jobs(ctx, api.Filter{Owner: name, States: part.states, Order: part.order, Limit: api.MaxOwned})
		if err != nil {
			return told, err
		}
		*part.of = []api.OwnedJob{}
		for i := range page.Jobs {
			owned, err := rd.ownedJob(ctx, &page.Jobs[i], told.AsOf, usual)
			if err != nil {
				return told, err
			}
			*part.of = append(*part.of, owned)
		}
	}
	told.ExpectedEnd = endOfAll(&told)
	told.Batches, err = rd.unfinishedBatches(ctx, name)
	return told, err
}

// ownedJob tells of a job that was listed. Of one that has not ended it reads more.
func (rd *Reader) ownedJob(ctx context.Context, j *job.Job, now job.Time, usual func(task string) (usual, long int64)) (api.OwnedJob, error) {
	if !j.State.Finished() {
		whole, err := rd.Job(ctx, j.ID)
		if errors.Is(err, job.ErrNotFound) { // it was removed a moment ago, and is told as it was listed
			whole, err = *j, nil
		}
		if err != nil {
			return api.OwnedJob{}, err
		}
		j = &whole
	}
	o := api.OwnedJob{
		ID: j.ID, Task: j.Task, Queue: j.Queue, State: j.State, Key: j.Key, EnqueuedAt: j.EnqueuedAt, StartedAt: j.StartedAt, FinishedAt: j.FinishedAt,
		Progress: j.Progress, WaitingBecause: j.WaitingBecause, Position: j.Position, ExpectedStart: j.ExpectedStart,
	}
	if j.Batch != nil {
		o.Batch = j.Batch.ID
	}
	ms, _ := usual(j.Task)
	switch takes := time.Duration(ms) * time.Millisecond; {
	case ms == 0 || j.State.Finished():
	case j.State == job.Running:
		o.ExpectedEnd = max(j.StartedAt.Add(takes), now)
	case j.ExpectedStart != 0:
		o.ExpectedEnd = j.ExpectedStart.Add(takes)
	}
	return o, nil
}

// endOfAll is when all jobs that run and wait will have ended; 0 where that is not known of one.
func endOfAll(o *api.Owner) (end job.Time) {
	listed := int64(len(o.Running) + len(o.Waiting))
	if listed < o.Counts[job.Running]+o.Counts[job.Held]+o.Counts[job.Scheduled]+o.Counts[job.Ready]+o.Counts[job.Backoff] {
		return 0
	}
	for _, all := range [][]api.OwnedJob{o.Running, o.Waiting} {
		for i := range all {
			if all[i].ExpectedEnd == 0 {
				return 0
			}
			end = max(end, all[i].ExpectedEnd)
		}
	}
	return end
}

// foretoldOfOwner bounds the batches whose ends are foretold among those of an owner.
const foretoldOfOwner = 500

// unfinishedBatches are the latest of an owner's that have not ended.
func (rd *Reader) unfinishedBatches(ctx context.Context, owner string) ([]api.Batch, error) {
	all := []api.Batch{}
	rows, err := rd.store.Batches(ctx, store.BatchFilter{Owner: owner, ByState: true, State: store.BatchRunning, Before: math.MaxInt64}, api.MaxOwned)
	for i := range rows {
		told, err := rd.tellBatch(ctx, &rows[i])
		if err == nil && told.Jobs <= foretoldOfOwner {
			err = rd.Foretell(ctx, &told)
		}
		if err != nil {
			return nil, err
		}
		all = append(all, told)
	}
	return all, err
}
