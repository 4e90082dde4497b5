package worker_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"humblemule.example/api"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// A pool with two handlers. Its source is the client of a service, as client.New
// makes it; Try runs a handler without one.
func Example() {
	type day struct{ Berth int }
	pool := worker.New(nil, worker.Options{Queues: []string{"berths", "common"}, Slots: 8})
	worker.Handle(pool, "tide.predict", func(ctx context.Context, d day) (string, error) {
		return fmt.Sprintf("high water at berth %d: 04:12", d.Berth), nil
	})
	// err := pool.Run(ctx)

	settled := pool.Try(context.Background(), api.LeasedJob{ID: 1, Task: "tide.predict", Payload: []byte(`{"berth":3}`)})
	fmt.Println(settled.Outcome, string(settled.Result))
	// Output: done "high water at berth 3: 04:12"
}

// What a handler returns decides what becomes of its job.
func ExampleHandle() {
	pool := worker.New(nil, worker.Options{})
	worker.Handle(pool, "manifest.check", func(ctx context.Context, name string) (int, error) {
		switch name {
		case "lost":
			return 0, worker.GiveUp(errors.New("there is no such manifest")) // dead at once
		case "sailed":
			return 0, worker.Skip("the ship has sailed") // not needed any more
		case "wet":
			return 0, worker.RetryIn(time.Hour, errors.New("the ink has run")) // again in an hour
		case "early":
			return 0, worker.Postpone(10 * time.Minute) // not counted
		}
		return 12, nil
	})
	for _, name := range []string{"heron", "lost", "sailed", "wet", "early"} {
		s := pool.Try(context.Background(), api.LeasedJob{Task: "manifest.check", Payload: fmt.Appendf(nil, "%q", name)})
		fmt.Println(name, s.Outcome, s.Delay)
	}
	// Output:
	// heron done 0s
	// lost give_up 0s
	// sailed skipped 0s
	// wet failed 1h
	// early postponed 10m
}

// Several jobs in one call, each with an outcome of its own.
func ExampleHandleMany() {
	pool := worker.New(nil, worker.Options{Slots: 50})
	worker.HandleMany(pool, "buoy.poll", worker.Many{Limit: 50, Gather: 200 * time.Millisecond}, func(ctx context.Context, items []*worker.Item[string, float64]) error {
		for _, i := range items {
			if i.In == "outer-bell" {
				i.Fail(errors.New("no answer on channel 72"))
				continue
			}
			i.Done(1.4)
		}
		return nil
	})
	s := pool.Try(context.Background(), api.LeasedJob{Task: "buoy.poll", Payload: []byte(`"bar-head"`)})
	fmt.Println(s.Outcome, string(s.Result))
	// Output: done 1.4
}

// Middleware goes round every handler.
func ExamplePool_Use() {
	pool := worker.New(nil, worker.Options{})
	pool.Use(func(next worker.Handler) worker.Handler {
		return func(ctx context.Context, payload json.RawMessage) (json.RawMessage, error) {
			fmt.Println("before job", worker.Job(ctx).ID)
			defer fmt.Println("after")
			return next(ctx, payload)
		}
	})
	worker.Handle(pool, "tide.predict", func(context.Context, int) (string, error) { return "", nil })
	pool.Try(context.Background(), api.LeasedJob{ID: 7, Task: "tide.predict"})
	// Output:
	// before job 7
	// after
}

// A step that must not be made twice is made once, over all attempts of the job.
func ExampleOnce() {
	pool := worker.New(nil, worker.Options{})
	worker.Handle(pool, "dues.charge", func(ctx context.Context, ship string) (string, error) {
		return worker.Once(ctx, "charge", func(ctx context.Context, step worker.Step) (string, error) {
			if step.InDoubt {
				fmt.Println("ask the bank about", step.Key) // an earlier attempt ended in between
			}
			return "receipt for " + ship, nil // charge it, with step.Key as the bank's key
		})
	})
	s := pool.Try(context.Background(), api.LeasedJob{ID: 7, Task: "dues.charge", Payload: []byte(`"heron"`)})
	fmt.Println(s.Outcome, string(s.Result))
	again := pool.Try(context.Background(), api.LeasedJob{ID: 7, Task: "dues.charge", Payload: []byte(`"heron"`), Steps: map[string]api.StepKnown{"charge": {Result: []byte(`"receipt for heron"`)}}})
	fmt.Println(again.Outcome, string(again.Result))
	// Output:
	// done "receipt for heron"
	// done "receipt for heron"
}

// A handler reports progress, adds labels, and enqueues jobs that exist if and only if its
// own is done.
func ExampleJob() {
	pool := worker.New(nil, worker.Options{})
	worker.Handle(pool, "log.pack", func(ctx context.Context, shelf int) (string, error) {
		j := worker.Job(ctx)
		j.Progress(50, "half of the shelf")
		if err := j.Label("shelf", fmt.Sprint(shelf)); err != nil {
			return "", err
		}
		return "packed", j.FollowUp(job.Spec{Task: "notice.publish", Payload: job.JSON(shelf)})
	})
	s := pool.Try(context.Background(), api.LeasedJob{ID: 7, Task: "log.pack", Payload: []byte(`3`)})
	fmt.Println(s.Outcome, s.Progress.Percent, s.Labels, string(s.Enqueue[0].Payload))
	// Output: done 50 map[shelf:3] 3
}
