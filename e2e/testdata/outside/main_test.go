package main

import (
	"context"
	"testing"
	"time"

	"humblemule.example/job"
	"humblemule.example/worker"
	"humblemule.example/worker/workertest"
)

// A handler of somebody else is tested without a service.
func TestHandler(t *testing.T) {
	pool := worker.New(nil, worker.Options{})
	worker.Handle(pool, "berth.plan", func(ctx context.Context, a arrival) (int, error) {
		if j := worker.Job(ctx); j.Round != 2 || j.Lane != "berth-3" || j.EnqueuedAt != job.At(time.Unix(1_800_000_000, 0)) {
			t.Errorf("the handler sees %+v", j.LeasedJob)
		}
		return worker.Once(ctx, "reserve", func(context.Context, worker.Step) (int, error) { return 0, nil })
	})
	var berth int
	workertest.Run(t, pool, job.Spec{Task: "berth.plan", Lane: "berth-3", Payload: job.JSON(arrival{"heron", 3})},
		workertest.Round(2), workertest.EnqueuedAt(time.Unix(1_800_000_000, 0)), workertest.DoneStep("reserve", 7)).Result(&berth)
	if berth != 7 {
		t.Errorf("the step that was done gives %d", berth)
	}
}
