// Command generated enqueues, leases and settles a job by a client that oapi-codegen makes of
// the description of the API.
package main

import (
	"context"
	"fmt"
	"log"
	"os"
	"time"
)

func main() {
	if err := run(os.Args[1]); err != nil {
		log.Fatal(err)
	}
}

func run(server string) error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	mule, err := NewClientWithResponses(server)
	if err != nil {
		return err
	}
	made, err := mule.EnqueueWithResponse(ctx, nil, Spec{Task: "berth.plan", Queue: new("generated-go"), Priority: new(7), Payload: map[string]any{"ship": "heron"}})
	if err != nil || made.JSON201 == nil {
		return fmt.Errorf("enqueue: %w, %s", err, made.Body)
	}
	taken, err := mule.LeaseWithResponse(ctx, nil, LeaseRequest{Worker: "quay-7", Queues: &[]Name{"generated-go"}, Limit: new(1), Wait: new("20s")})
	if err != nil || taken.JSON200 == nil || len(taken.JSON200.Leases) != 1 {
		return fmt.Errorf("lease: %w, %s", err, taken.Body)
	}
	lease := taken.JSON200.Leases[0]
	settled, err := mule.SettleWithResponse(ctx, SettleJSONRequestBody{Leases: []Settlement{{Token: lease.Token, Outcome: OutcomeDone, Result: "berth 3"}}})
	if err != nil || settled.JSON200 == nil {
		return fmt.Errorf("settle: %w, %s", err, settled.Body)
	}
	refused, err := mule.EnqueueWithResponse(ctx, nil, Spec{Task: "berth.plan", Priority: new(12)})
	if err != nil || refused.ApplicationproblemJSON422 == nil {
		return fmt.Errorf("refused: %w, %s", err, refused.Body)
	}
	wrong := *refused.ApplicationproblemJSON422.Errors
	fmt.Println(lease.Job.Id == made.JSON201.Id, lease.Job.Priority, settled.JSON200.Results[0].Status, *settled.JSON200.Results[0].State, wrong[0].Field)
	return nil
}
