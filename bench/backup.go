package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/measure"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// What the file of the measurement holds, and the load that goes on meanwhile.
const (
	backedUpBytes = 2 << 30
	largePayload  = 15_000
	enqueuesEvery = 2500 * time.Microsecond
)

// backups measures how long enqueues take while a backup of a large file is made, beside the time
// before and after it: each enqueue is its own commit, and a pool runs the jobs.
func backups(ctx context.Context, p *measure.Process, dir string) error {
	m, err := client.New(p.Address)
	if err != nil {
		return err
	}
	defer m.Close()
	fmt.Fprintf(os.Stderr, "enqueueing %d MB …\n", backedUpBytes>>20)
	payload := job.JSON(strings.Repeat("x", largePayload))
	large := make([]job.Spec, 500)
	for i := range large {
		large[i] = job.Spec{Task: "idle", Queue: "stored", Payload: payload}
	}
	for range backedUpBytes / (len(large) * (largePayload + 1400)) {
		if _, err := m.EnqueueMany(ctx, large); err != nil {
			return err
		}
	}
	time.Sleep(5 * time.Second) // until the log is moved into the file
	working, stop := context.WithCancel(ctx)
	var pool sync.WaitGroup
	defer pool.Wait()
	defer stop()
	pool.Go(func() {
		w := worker.New(m.Source(), worker.Options{Queues: []string{"common"}, Slots: 8, Log: slog.New(slog.DiscardHandler)})
		worker.Handle(w, "quick", func(context.Context, struct{}) (struct{}, error) { return struct{}{}, nil })
		_ = w.Run(working)
	})
	say("%-10s %12s %12s %12s %12s %12s %12s\n", "", "before p50", "p99, ms", "backup p50", "p99, ms", "after p99", "ratio of p99")
	var ratios []float64
	for round := range *rounds {
		before := latencies(ctx, m, 10**span)
		during, b, err := latenciesWhile(ctx, m)
		if err != nil {
			return err
		}
		after := latencies(ctx, m, 10**span)
		quiet := slices.Concat(before, after)
		ratio := quantile(during, .99) / quantile(quiet, .99)
		ratios = append(ratios, ratio)
		say("round %-4d %12.2f %12.2f %12.2f %12.2f %12.2f %12.2f   %d MB in %.0f s\n", round+1, quantile(before, .5), quantile(before, .99), quantile(during, .5), quantile(during, .99), quantile(after, .99), ratio,
			b.Bytes>>20, b.EndedAt.Sub(b.BeganAt).Seconds())
	}
	say("median of the ratios %.2f (≤ 2)\n", measure.Median(ratios))
	return nil
}

// latenciesWhile are those while a backup is made.
func latenciesWhile(ctx context.Context, m *client.Client) (all []float64, b api.Backup, err error) {
	if b, err = m.MakeBackup(ctx); err != nil {
		return nil, b, err
	}
	for !b.Over() && err == nil {
		all = append(all, latencies(ctx, m, time.Second)...)
		b, err = m.Backup(ctx, b.Name)
	}
	if err == nil && b.State != api.BackupDone {
		err = fmt.Errorf("the backup failed: %s", b.Why)
	}
	if err == nil {
		err = m.DeleteBackup(ctx, b.Name)
	}
	return all, b, err
}

// latencies are how long enqueues take that come one after the other at a steady rate, in ms from
// when each was due.
func latencies(ctx context.Context, m *client.Client, d time.Duration) (all []float64) {
	var mu sync.Mutex
	var calls sync.WaitGroup
	began := time.Now()
	for due := began; due.Sub(began) < d; due = due.Add(enqueuesEvery) {
		time.Sleep(time.Until(due))
		calls.Go(func() {
			if _, err := m.Enqueue(ctx, job.Spec{Task: "quick"}); err != nil {
				return
			}
			took := time.Since(due).Seconds() * 1000
			mu.Lock()
			defer mu.Unlock()
			all = append(all, took)
		})
	}
	calls.Wait()
	return all
}

func quantile(all []float64, q float64) float64 {
	sorted := slices.Sorted(slices.Values(all))
	return sorted[int(float64(len(sorted)-1)*q)]
}
