package main

import (
	"context"
	"fmt"
	"slices"
	"time"

	"humblemule/api"
	"humblemule/client"
	"humblemule/internal/measure"
	"humblemule/job"
)

// acts measures actions on as many jobs as the backlog has, alone, and beside single enqueues.
func acts(ctx context.Context, p *measure.Process, _ string) error {
	m, err := client.New(p.Address)
	if err != nil {
		return err
	}
	defer m.Close()
	quiet, err := singlesTook(ctx, p, func() error { time.Sleep(*span); return nil })
	if err != nil {
		return err
	}
	if err := fill(ctx, p, *backlog); err != nil {
		return err
	}
	all := &api.Selection{Queues: []string{job.DefaultQueue}}
	for _, beside := range []bool{false, true} {
		for _, action := range []string{api.ActPurge, "undo", api.ActCancel, api.ActRequeue} {
			began := time.Now()
			var o api.Operation
			work := func() (err error) {
				o, err = actedOn(ctx, m, action, all)
				return err
			}
			others := ""
			if beside {
				busy, err := singlesTook(ctx, p, work)
				if err != nil {
					return err
				}
				others = fmt.Sprintf("; others' p99 %.1f times", busy/quiet)
			} else if err := work(); err != nil {
				return err
			}
			say("%-10s of %d jobs, beside enqueues %-5v %10.0f jobs/s%s\n", action, o.Changed, beside, float64(o.Changed)/time.Since(began).Seconds(), others)
		}
	}
	return nil
}

// actedOn does an action on many jobs, and waits for its end.
func actedOn(ctx context.Context, m *client.Client, action string, of *api.Selection) (o api.Operation, err error) {
	if action == "undo" {
		last, err := m.Operations(ctx)
		if err != nil {
			return o, err
		}
		if o, err = m.UndoOperation(ctx, last[0].ID); err != nil {
			return o, err
		}
	} else {
		if action == api.ActRequeue {
			of = &api.Selection{Queues: of.Queues, States: []job.State{job.Cancelled}}
		}
		if o, err = m.Act(ctx, api.ActRequest{Action: action, Filter: of}); err != nil {
			return o, err
		}
	}
	for id := o.ID; ; time.Sleep(50 * time.Millisecond) {
		if o, err = m.Operation(ctx, id); err != nil {
			return o, err
		}
		if o.Over() {
			return o, nil
		}
	}
}

// singlesTook gives the p99 of single enqueues into another queue while do goes on, in ms.
func singlesTook(ctx context.Context, p *measure.Process, do func() error) (float64, error) {
	c, err := measure.Dial(p.Address)
	if err != nil {
		return 0, err
	}
	defer c.Close()
	ended := make(chan error, 1)
	go func() { ended <- do() }()
	one := measure.Request("/v1/jobs", "application/json", `{"task":"fog.bulletin","queue":"bulletins"}`)
	var took []float64
	for {
		select {
		case err := <-ended:
			slices.Sort(took)
			return took[len(took)*99/100], err
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(2 * time.Millisecond):
		}
		began := time.Now()
		if _, err := c.Post(one, 201); err != nil {
			return 0, err
		}
		took = append(took, time.Since(began).Seconds()*1000)
	}
}
