package worker_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"humblemule.example/api"
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
