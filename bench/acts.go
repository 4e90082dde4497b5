package main

import (
	"context"
	"time"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/measure"
	"humblemule.example/job"
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
	for _, action := range []string{api.ActPurge, "undo", api.ActCancel, api.ActRequeue} {
		began := time.Now()
		o, err := actedOn(ctx, m, action, all, time.Hour)
		if err != nil {
			return err
		}
		say("%-10s of %d jobs, alone %28.0f jobs/s\n", action, o.Changed, float64(o.Changed)/time.Since(began).Seconds())
	}
	sayLine()
	for _, action := range []string{api.ActPurge, api.ActCancel, api.ActRequeue} {
		const long = 15 * time.Second // it goes on for an hour otherwise
		var o api.Operation
		began := time.Now()
		busy, err := singlesTook(ctx, p, func() (err error) {
			o, err = actedOn(ctx, m, action, all, long)
			return err
		})
		if err != nil {
			return err
		}
		say("%-10s beside enqueues, for %s %18.0f jobs/s; enqueues' p99 %.1f times, the longest %.0f ms\n", action, long, float64(o.Changed)/time.Since(began).Seconds(), measure.At(0.99, busy)/measure.At(0.99, quiet), measure.At(1, busy))
	}
	return nil
}

// actedOn does an action on many jobs, and waits for its end or, after so long, stops it.
func actedOn(ctx context.Context, m *client.Client, action string, of *api.Selection, most time.Duration) (o api.Operation, err error) {
	began := time.Now()
	if action == "undo" {
		last, err := client.Collect(m.Operations(ctx))
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
		if o, err = m.ActOnJobs(ctx, api.ActRequest{Action: action, Filter: of}); err != nil {
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
		if time.Since(began) > most {
			return m.StopOperation(ctx, id)
		}
	}
}

// singlesTook gives what single enqueues into another queue take while do goes on, in ms.
func singlesTook(ctx context.Context, p *measure.Process, do func() error) ([]float64, error) {
	c, err := measure.Dial(p.Address)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	ended := make(chan error, 1)
	go func() { ended <- do() }()
	one := measure.Request("/v1/jobs", "application/json", `{"task":"fog.bulletin","queue":"bulletins"}`)
	var took []float64
	for {
		select {
		case err := <-ended:
			return took, err
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(2 * time.Millisecond):
		}
		began := time.Now()
		if _, err := c.Post(one, 201); err != nil {
			return nil, err
		}
		took = append(took, time.Since(began).Seconds()*1000)
	}
}
