package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/measure"
	"humblemule.example/job"
)

// later measures how late what is planned comes: jobs that are due in one second while
// many others wait for their time, and schedules that are due in one minute.
func later(ctx context.Context, dir string) error {
	p50, _, err := measure.Fsyncs(dir)
	if err != nil {
		return err
	}
	m, end, err := serve(filepath.Join(dir, "later.db"))
	if err != nil {
		return err
	}
	defer end()
	fmt.Fprintf(os.Stderr, "scheduling %d jobs …\n", *backlog)
	tomorrow := job.At(time.Now().Add(24 * time.Hour))
	for n := 0; n < *backlog; n += 10_000 {
		specs := make([]job.Spec, 10_000)
		for i := range specs {
			specs[i] = job.Spec{Task: "tide.predict", RunAt: tomorrow.Add(time.Duration(n+i) * 86 * time.Millisecond)}
		}
		if _, err := m.EnqueueMany(ctx, specs); err != nil {
			return err
		}
	}
	const together = 1000
	late, err := dueTogether(ctx, m, together)
	if err != nil {
		return err
	}
	say("\n%-52s %9.1f ms   ≤ %.1f (20 + 2 fsyncs)\n", fmt.Sprintf("%d due in one second, %d wait: start late by, p99", together, *backlog), late.at(0.99), 20+2*p50.Seconds()*1000)
	quiet, err := commits(ctx, m, func() error { time.Sleep(4 * time.Second); return nil })
	if err != nil {
		return err
	}
	say("%-52s %9.1f ms, longest %.1f ms\n", "enqueue to start of others meanwhile quiet, p99", quiet.at(0.99), quiet.at(1))
	for _, spread := range []job.Duration{0, job.Duration(30 * time.Second)} {
		if err := schedulesTogether(ctx, m, 10_000, spread); err != nil {
			return err
		}
	}
	return nil
}

// dueTogether tells by how many ms jobs start late that are spread over one second.
func dueTogether(ctx context.Context, m *client.Client, n int) (late *waits, err error) {
	at := time.Now().Add(3 * time.Second).Truncate(time.Second)
	specs := make([]job.Spec, n)
	for i := range specs {
		specs[i] = job.Spec{Task: "buoy.poll", Queue: "due", RunAt: job.At(at.Add(time.Duration(i) * time.Second / time.Duration(n)))}
	}
	jobs, err := m.EnqueueMany(ctx, specs)
	if err != nil {
		return nil, err
	}
	due := map[int64]job.Time{}
	for i, j := range jobs.Jobs {
		due[j.ID] = specs[i].RunAt
	}
	late = newWaits()
	var all sync.WaitGroup
	errs := make(chan error, 8)
	for w := range 8 {
		all.Go(func() {
			for time.Since(at) < 3*time.Second {
				a, err := m.Source().Lease(ctx, api.LeaseRequest{Worker: fmt.Sprint("w", w), Queues: []string{"due"}, Limit: 50, Wait: job.Duration(time.Second)})
				if err != nil {
					errs <- err
					return
				}
				for _, l := range a.Leases {
					late.add(l.ExpiresAt.Add(-api.DefaultLease.Go()).Sub(due[l.Job.ID]))
				}
			}
		})
	}
	all.Wait()
	select {
	case err := <-errs:
		return nil, err
	default:
	}
	if late.count() != n {
		return nil, fmt.Errorf("%d of %d jobs were started", late.count(), n)
	}
	return late, nil
}

// schedulesTogether keeps many schedules of one minute, and tells how late they are
// enqueued and what that does to the enqueues of others.
func schedulesTogether(ctx context.Context, m *client.Client, n int, spread job.Duration) error {
	fmt.Fprintf(os.Stderr, "keeping %d schedules …\n", n)
	at := time.Now().Add(90 * time.Second).Truncate(time.Minute).UTC()
	expr := fmt.Sprintf("%d %d %d %d *", at.Minute(), at.Hour(), at.Day(), at.Month())
	name := func(i int) string { return fmt.Sprintf("s%d-%d", spread, i) }
	var all sync.WaitGroup
	errs := make(chan error, 16)
	for w := range 16 {
		all.Go(func() {
			for i := w; i < n; i += 16 {
				if _, err := m.PutSchedule(ctx, name(i), api.Schedule{Cron: expr, Spread: spread, LateLimit: job.Duration(time.Hour), Job: job.Spec{Task: "buoy.poll", Queue: "buoys"}}); err != nil {
					errs <- err
					return
				}
			}
		})
	}
	all.Wait()
	select {
	case err := <-errs:
		return err
	default:
	}
	if time.Now().After(at) {
		return fmt.Errorf("it took too long to keep %d schedules", n)
	}
	time.Sleep(time.Until(at.Add(-500 * time.Millisecond)))
	busy, err := commits(ctx, m, func() error { time.Sleep(spread.Go() + 4*time.Second); return nil })
	if err != nil {
		return err
	}
	late := make([]float64, 0, n)
	for i := range n {
		runs, err := client.First(1, m.Runs(ctx, name(i)))
		if err != nil || len(runs) == 0 {
			return fmt.Errorf("schedule %s has no run: %w", name(i), err)
		}
		late = append(late, float64(runs[0].EnqueuedAt.Sub(runs[0].PlannedAt).Milliseconds()))
	}
	say("%-52s %9.0f ms late at most; others' start p99 %.1f ms, longest %.1f ms\n", fmt.Sprintf("%d schedules in one minute, spread %s", n, spread), slices.Max(late), busy.at(0.99), busy.at(1))
	return nil
}
