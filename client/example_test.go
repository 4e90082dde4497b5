package client_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"time"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/core/engine"
	"humblemule.example/internal/server"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// service starts a service for an example, as hmule serve would.
func service() (address string, stop func()) {
	dir, err := os.MkdirTemp("", "example")
	if err != nil {
		panic(err)
	}
	log := slog.New(slog.DiscardHandler)
	e, err := engine.Open(filepath.Join(dir, "jobs.db"), engine.Options{Log: log})
	if err != nil {
		panic(err)
	}
	s := httptest.NewServer(server.New(e, server.Options{Log: log}).Handler())
	return s.URL, func() { s.Close(); e.Close(); os.RemoveAll(dir) }
}

// A producer enqueues a job, a worker does it, and the producer reads the result.
func Example() {
	address, stop := service() // hmule serve
	defer stop()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	mule, err := client.New(address)
	if err != nil {
		panic(err)
	}
	defer mule.Close()

	pool := worker.New(mule.Source(), worker.Options{Slots: 2, Log: slog.New(slog.DiscardHandler)})
	worker.Handle(pool, "tide.predict", func(_ context.Context, station string) (string, error) {
		return "high water at " + station + ": 04:12", nil
	})
	working, end := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- pool.Run(working) }()

	enqueued, err := mule.Enqueue(ctx, job.Spec{Task: "tide.predict", Payload: job.JSON("inner-quay")})
	if err != nil {
		panic(err)
	}
	j, err := mule.WaitFor(ctx, enqueued.ID, 30*time.Second)
	if err != nil {
		panic(err)
	}
	said, err := client.Result[string](j)
	fmt.Println(said, err)
	end()
	fmt.Println(<-ended)
	// Output:
	// high water at inner-quay: 04:12 <nil>
	// <nil>
}

// Many jobs go in one call, all or none.
func ExampleClient_EnqueueMany() {
	address, stop := service()
	defer stop()
	mule, _ := client.New(address)
	defer mule.Close()
	told, err := mule.EnqueueMany(context.Background(), []job.Spec{
		{Task: "berth.plan", Lane: "berth-3", Key: "heron", Dedupe: job.Unfinished},
		{Task: "berth.plan", Lane: "berth-3", Key: "heron", Dedupe: job.Unfinished}, // again
		{Task: "berth.plan", Lane: "berth-3", Key: "tern", Dedupe: job.Unfinished},
	})
	for _, j := range told.Jobs {
		fmt.Println(j.ID, j.State, j.Duplicate)
	}
	_, none := mule.EnqueueMany(context.Background(), []job.Spec{{Task: "log.pack"}, {Task: "Log Pack"}})
	fmt.Println(err, errors.Is(none, job.ErrInvalid))
	// Output:
	// 1 ready false
	// 1 ready true
	// 2 held false
	// <nil> true
}

// A list is read page after page.
func ExampleClient_Jobs() {
	address, stop := service()
	defer stop()
	ctx := context.Background()
	mule, _ := client.New(address)
	defer mule.Close()
	for _, berth := range []string{"1", "2", "3"} {
		mule.Enqueue(ctx, job.Spec{Task: "berth.plan", Labels: map[string]string{"berth": berth}})
	}
	for j, err := range mule.Jobs(ctx, api.Filter{States: []job.State{job.Ready}, Order: api.OldestFirst, Limit: 2}) {
		if err != nil {
			fmt.Println(err)
			break
		}
		fmt.Println(j.ID, j.Labels["berth"])
	}
	// Output:
	// 1 1
	// 2 2
	// 3 3
}

// Two people change a queue at once: the second learns that it has changed.
func ExampleIfVersion() {
	address, stop := service()
	defer stop()
	ctx := context.Background()
	mule, _ := client.New(address)
	defer mule.Close()
	read, _ := mule.PutQueue(ctx, "berths", api.Defaults{Priority: new(6)}, client.IfNew())
	first, err := mule.PatchQueue(ctx, "berths", map[string]any{"timeout": "10m"}, client.IfVersion(read.Version))
	fmt.Println(*first.Defaults.Priority, first.Defaults.Timeout, err)
	_, err = mule.PatchQueue(ctx, "berths", map[string]any{"timeout": "20m"}, client.IfVersion(read.Version))
	fmt.Println(errors.Is(err, job.ErrOutdated))
	// Output:
	// 6 10m <nil>
	// true
}

// A dead letter is edited and given a new round.
func ExampleClient_RequeueJob() {
	address, stop := service()
	defer stop()
	ctx := context.Background()
	mule, _ := client.New(address)
	defer mule.Close()
	told, _ := mule.Enqueue(ctx, job.Spec{Task: "manifest.check", Payload: job.JSON(map[string]string{"manifest": "heron-0291"})})
	mule.CancelJob(ctx, told.ID)
	j, err := mule.RequeueJob(ctx, told.ID, api.Requeue{PayloadPatch: job.JSON(map[string]string{"manifest": "heron-0291b"})})
	fmt.Println(j.State, j.Round, string(j.Payload), err)
	// Output: ready 2 {"manifest":"heron-0291b"} <nil>
}
