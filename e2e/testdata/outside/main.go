// Command quay is a program of somebody else: it enqueues jobs, runs a worker pool, and reads
// what became of them, by the packages that others may import.
package main

import (
	"context"
	"errors"
	"fmt"
	"log"
	"log/slog"
	"os"
	"time"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
	"humblemule.example/worker"
)

type arrival struct {
	Ship  string `json:"ship"`
	Berth int    `json:"berth"`
}

func main() {
	if err := run(os.Args[1]); err != nil {
		log.Fatal(err)
	}
}

func run(server string) error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	mule, err := client.New(server)
	if err != nil {
		return err
	}
	defer mule.Close()

	pool := worker.New(mule.Source(), worker.Options{Queues: []string{"berths"}, Slots: 4, Log: slog.New(slog.DiscardHandler)})
	worker.Handle(pool, "berth.plan", func(_ context.Context, a arrival) (string, error) {
		if a.Berth == 0 {
			return "", worker.GiveUp(errors.New("no berth is named"))
		}
		return fmt.Sprintf("%s lies at berth %d", a.Ship, a.Berth), nil
	})
	ended := make(chan error, 1)
	working, stop := context.WithCancel(ctx)
	go func() { ended <- pool.Run(working) }()

	spec, err := job.New("berth.plan", arrival{"heron", 3})
	if err != nil {
		return err
	}
	spec.Queue, spec.Priority, spec.Timeout = "berths", new(7), job.For(time.Minute)
	told, err := mule.Enqueue(ctx, spec)
	if err != nil {
		return err
	}
	j, err := mule.WaitFor(ctx, told.ID, 30*time.Second)
	if err != nil {
		return err
	}
	said, err := client.Result[string](j)
	if err != nil {
		return err
	}
	fmt.Println(said)

	if _, err := mule.EnqueueMany(ctx, []job.Spec{{Task: "berth.plan", Queue: "berths", Payload: job.JSON(arrival{"tern", 0}), Key: "tern"}}); err != nil {
		return err
	}
	for {
		dead, err := client.Collect(mule.Jobs(ctx, api.Filter{States: []job.State{job.Dead}, Key: "tern"}))
		if err != nil {
			return err
		}
		if len(dead) == 1 {
			fmt.Println(dead[0].Reason, dead[0].LastError.Message)
			break
		}
	}
	if _, err := mule.Job(ctx, 99); errors.Is(err, job.ErrNotFound) {
		fmt.Println("not found")
	}
	stop()
	return <-ended
}
