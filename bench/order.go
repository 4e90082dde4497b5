package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/measure"
	"humblemule.example/job"
)

// waiting is a way in which many jobs wait.
type waiting struct {
	what  string
	queue api.Defaults
	// spec is the n-th job, lease what a pool asks for the n-th time.
	spec  func(n int64) job.Spec
	lease func(n int64) api.LeaseRequest

	m           *client.Client
	n, asked    atomic.Int64
	take, enter []float64 // of a round, in µs a job
}

func common(n int64) api.LeaseRequest { return api.LeaseRequest{Queues: []string{"common"}} }

// ways are those that are compared; the first is what the others are held against.
func ways() []*waiting {
	plain := func(n int64) job.Spec {
		p := int(n % 10)
		return job.Spec{Task: "tide.predict", Priority: &p}
	}
	with := func(set func(s *job.Spec, n int64)) func(n int64) job.Spec {
		return func(n int64) job.Spec {
			s := plain(n)
			set(&s, n)
			return s
		}
	}
	return []*waiting{
		{what: "one queue by priority", spec: plain, lease: common},
		{what: "ageing", queue: api.Defaults{Rules: api.Rules{Order: api.OrderAgeing}}, spec: plain, lease: common},
		{what: "10 000 owners that take turns", queue: api.Defaults{Rules: api.Rules{Turns: api.TurnsOwner}}, spec: with(func(s *job.Spec, n int64) { s.Owner, s.Priority = fmt.Sprint("owner-", n*7919%10_000), nil }), lease: common},
		{what: "100 000 lanes", spec: with(func(s *job.Spec, n int64) { s.Lane = fmt.Sprint("lane-", n*7919%100_000) }), lease: common},
		{what: "1000 queues", spec: with(func(s *job.Spec, n int64) { s.Queue = fmt.Sprint("queue-", n*7919%1000) }),
			lease: func(n int64) api.LeaseRequest {
				return api.LeaseRequest{Queues: []string{fmt.Sprint("queue-", n*31%1000)}}
			}},
		{what: "one task of 1000 in a queue", spec: with(func(s *job.Spec, n int64) { s.Task = fmt.Sprint("task-", n*7919%1000) }),
			lease: func(n int64) api.LeaseRequest {
				return api.LeaseRequest{Queues: []string{"common"}, Tasks: []string{fmt.Sprint("task-", n*31%1000)}}
			}},
	}
}

// orders measures what taking and enqueueing cost while many jobs wait, by each order.
func orders(ctx context.Context, dir string) error {
	all := ways()
	for i, w := range all {
		m, end, err := serve(filepath.Join(dir, fmt.Sprintf("order-%d.db", i)))
		if err != nil {
			return err
		}
		defer end()
		w.m = m
		if _, err := w.m.PutQueue(ctx, "common", w.queue); err != nil {
			return err
		}
		fmt.Fprintf(os.Stderr, "%s: enqueueing %d jobs that wait …\n", w.what, *backlog)
		for w.n.Load() < int64(*backlog) {
			if err := w.enqueue(ctx, 10_000); err != nil {
				return err
			}
		}
	}
	for range *rounds {
		for _, w := range all {
			if err := w.round(ctx); err != nil {
				return fmt.Errorf("%s: %w", w.what, err)
			}
		}
	}
	say("\n%-52s %12s %12s\n", fmt.Sprintf("%d jobs wait; µs a job, 8 pools of 8 slots", *backlog), "take, settle", "enqueue")
	first := all[0]
	for _, w := range all {
		say("%-52s %9.1f (%.2f) %7.1f (%.2f)   ≤ 1.25\n", w.what, measure.Median(w.take), measure.Median(w.take)/measure.Median(first.take), measure.Median(w.enter), measure.Median(w.enter)/measure.Median(first.enter))
	}
	return nil
}

func (w *waiting) enqueue(ctx context.Context, n int) error {
	from := w.n.Add(int64(n)) - int64(n)
	specs := make([]job.Spec, n)
	for i := range specs {
		specs[i] = w.spec(from + int64(i))
	}
	_, err := w.m.EnqueueMany(ctx, specs)
	return err
}

// round takes and enqueues for a span, by pools of eight slots that take what is free.
func (w *waiting) round(ctx context.Context) error {
	const pools, together = 8, 8
	var took, entered atomic.Int64 // ns
	var jobs atomic.Int64
	errs := make(chan error, pools)
	until := time.Now().Add(*span)
	var all sync.WaitGroup
	for p := range pools {
		all.Go(func() {
			for time.Now().Before(until) {
				n, took1, entered1, err := w.turn(ctx, fmt.Sprint("w", p), together)
				if err != nil {
					errs <- err
					return
				}
				jobs.Add(int64(n))
				took.Add(int64(took1))
				entered.Add(int64(entered1))
			}
		})
	}
	all.Wait()
	select {
	case err := <-errs:
		return err
	default:
	}
	n := float64(max(jobs.Load(), 1)) * 1000
	w.take, w.enter = append(w.take, float64(took.Load())/n), append(w.enter, float64(entered.Load())/n)
	return nil
}

// turn takes jobs, settles them, and enqueues as many.
func (w *waiting) turn(ctx context.Context, worker string, most int) (n int, took, entered time.Duration, err error) {
	req := w.lease(w.asked.Add(1))
	req.Worker, req.Limit = worker, most
	began := time.Now()
	a, err := w.m.Source().Lease(ctx, req)
	if err != nil {
		return 0, 0, 0, err
	}
	if len(a.Leases) == 0 {
		return 0, 0, 0, fmt.Errorf("no job was there to be taken")
	}
	items := make([]api.Settlement, len(a.Leases))
	for i, l := range a.Leases {
		items[i] = api.Settlement{Token: l.Token, Outcome: job.OutcomeDone}
	}
	if _, err := w.m.Source().Settle(ctx, items); err != nil {
		return 0, 0, 0, err
	}
	took = time.Since(began)
	began = time.Now()
	for range items {
		if _, err := w.m.Enqueue(ctx, w.spec(w.n.Add(1)-1)); err != nil {
			return 0, 0, 0, err
		}
	}
	return len(items), took, time.Since(began), nil
}
