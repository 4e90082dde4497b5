package main

import (
	"context"
	"net/http"
	"time"

	"humblemule.example/client"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/measure"
	"humblemule.example/job"
)

// together runs do on so many connections until the span is over, and counts the jobs.
func together(ctx context.Context, connections int, p *measure.Process, do measure.Work) (int, error) {
	n, _, err := measure.Together(ctx, p.Address, connections, *span, do)
	return n, err
}

// enqueue hands over single jobs from 64 connections.
func enqueue(ctx context.Context, p *measure.Process) (int, error) {
	return together(ctx, 64, p, measure.Single())
}

// batch is how many jobs a call of the whole life carries.
const batch = 100

// life enqueues, leases and settles jobs, a hundred a call, from 8 connections.
func life(ctx context.Context, p *measure.Process) (int, error) {
	return together(ctx, 8, p, measure.Life(batch))
}

// direct executes the statements of a job's life straight through the driver, in
// one thread and in batches of the same size.
type direct struct {
	s    *store.Store
	next int64
}

func openDirect(path string) (*direct, error) {
	s, err := store.Open(path)
	return &direct{s: s, next: 1}, err
}

func (d *direct) close() { d.s.Close() }

func (d *direct) lives(span time.Duration) (n int, err error) {
	for began := time.Now(); time.Since(began) < span; n += batch {
		if err := d.batch(); err != nil {
			return n, err
		}
		if err := d.s.Checkpoint(false); err != nil {
			return n, err
		}
	}
	return n, nil
}

func (d *direct) batch() error {
	now := job.At(time.Now())
	for range batch {
		r := &store.Row{ID: d.next, Queue: 1, Task: 1, State: job.Ready, Priority: 4, Level: 4, Rank: d.next, Policy: 1, EnqueuedAt: now, ReadyAt: now, PayloadBytes: len(measure.Spec()), Payload: []byte(measure.Spec())}
		d.next++
		if err := d.s.InsertJob(r); err != nil {
			return err
		}
	}
	if err := d.s.Commit(); err != nil {
		return err
	}
	rows, err := d.s.Heads(1, 1, batch)
	if err != nil {
		return err
	}
	for _, r := range rows {
		r.Attempt, r.Tries, r.StartedAt, r.Worker, r.Token, r.LeasedAt, r.LeaseMS = 1, 1, now, 1, r.ID, now, 45_000
		if err := d.s.Lease(r); err != nil {
			return err
		}
	}
	if err := d.s.Commit(); err != nil {
		return err
	}
	for _, r := range rows {
		r.State, r.FinishedAt = job.Done, now
		if err := d.s.Finish(r); err != nil {
			return err
		}
	}
	return d.s.Commit()
}

// serve starts a service on a data file, and gives a client of it and what ends both.
func serve(data string) (*client.Client, func(), error) {
	p, err := measure.Serve(*program, data)
	if err != nil {
		return nil, nil, err
	}
	m, err := client.New(p.Address, client.HTTPClient(&http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}))
	if err != nil {
		p.End()
		return nil, nil, err
	}
	return m, func() {
		m.Close()
		p.End()
	}, nil
}
