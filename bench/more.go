package main

import (
	"context"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"humblemule/api"
	"humblemule/client"
	"humblemule/internal/core/store"
	"humblemule/internal/measure"
	"humblemule/job"
)

// lines are how many specs a bulk of the measurement holds.
const lines = 1000

// bulks compares bulk enqueues over HTTP with the same rows through the driver.
func bulks(ctx context.Context, p *measure.Process, dir string) error {
	s, err := store.Open(filepath.Join(dir, "rows.db"))
	if err != nil {
		return err
	}
	defer s.Close()
	next := int64(1)
	rows := func() error {
		now := job.At(time.Now())
		for range lines {
			r := &store.Row{ID: next, Queue: 1, Task: 1, State: job.Ready, Priority: 4, Level: 4, Rank: next, Policy: 1, EnqueuedAt: now, ReadyAt: now, PayloadBytes: 200, Payload: []byte(measure.Spec())[:200]}
			next++
			if err := s.InsertJob(r); err != nil {
				return err
			}
		}
		if err := s.Commit(); err != nil {
			return err
		}
		return s.Checkpoint(false)
	}
	enqueue := bulksOf(lines, 4)
	var http1, driver measured
	for range *rounds {
		began := time.Now()
		n, err := enqueue(ctx, p)
		if err != nil {
			return err
		}
		http1.add(n, time.Since(began), 0)
		began, n = time.Now(), 0
		for ; time.Since(began) < *span; n += lines {
			if err := rows(); err != nil {
				return err
			}
		}
		driver.add(n, time.Since(began), 0)
	}
	a, b := measure.Median(http1.rate), measure.Median(driver.rate)
	say("%-52s %12.0f %12.0f   ratio %.2f, ≥ 0.40\n", "bulks of 1000 lines, jobs/s; the rows by the driver", a, b, a/b)
	return nil
}

// payloads measures enqueues with payloads of several sizes.
func payloads(ctx context.Context, p *measure.Process, _ string) error {
	for _, size := range []int{200, 4 << 10, 64 << 10} {
		raw := measure.Request("/v1/jobs", "application/json", fmt.Sprintf(`{"task":"log.pack","payload":%q}`, strings.Repeat("x", size-2)))
		var m measured
		for range *rounds {
			began := time.Now()
			n, err := together(ctx, 16, p, func(_ int, c *measure.Connection) (int, error) {
				_, err := c.Post(raw, http.StatusCreated)
				return 1, err
			})
			if err != nil {
				return err
			}
			m.add(n, time.Since(began), 0)
		}
		say("%-52s %12.0f   %.0f MB/s\n", fmt.Sprintf("enqueues with payloads of %d bytes, jobs/s", size), measure.Median(m.rate), measure.Median(m.rate)*float64(size)/1e6)
	}
	return nil
}

// startWhenIdle measures the way from an enqueue's call to the job in the hands of
// a worker whose take is parked.
func startWhenIdle(ctx context.Context, p *measure.Process, dir string) error {
	fsync, _, err := measure.Fsyncs(dir)
	if err != nil {
		return err
	}
	m, err := client.New(p.Address)
	if err != nil {
		return err
	}
	defer m.Close()
	var took []float64
	for range 200 {
		began, got := make(chan time.Time, 1), make(chan error, 1)
		go func() {
			a, err := m.Lease(ctx, api.LeaseRequest{Worker: "idle", Queues: []string{"idle"}, Limit: 1, Wait: job.Duration(10 * time.Second)})
			if err == nil {
				took = append(took, float64(time.Since(<-began).Microseconds()))
				_, err = m.Settle(ctx, []api.Settlement{{Token: a.Leases[0].Token, Outcome: job.OutcomeDone}})
			}
			got <- err
		}()
		time.Sleep(5 * time.Millisecond) // until the take is parked
		began <- time.Now()
		if _, err := m.Enqueue(ctx, job.Spec{Task: "fog.bulletin", Queue: "idle"}); err != nil {
			return err
		}
		if err := <-got; err != nil {
			return err
		}
	}
	slices.Sort(took)
	p50 := measure.Median(took) / 1000
	say("%-52s %9.2f ms   p99 %.2f ms; p50 is one fsync + %.2f ms\n", "enqueue to start when idle, p50", p50, took[len(took)*99/100]/1000, p50-float64(fsync.Microseconds())/1000)
	return nil
}
