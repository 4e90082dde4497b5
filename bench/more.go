package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"humblemule.example/client"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/measure"
	"humblemule.example/job"
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
	say("%-52s %12.0f %12.0f   ratio %.2f, ≥ 0.85\n", "bulks of 1000 lines, jobs/s; the rows by the driver", a, b, a/b)
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
	m, err := client.New(p.Address)
	if err != nil {
		return err
	}
	defer m.Close()
	took, err := measure.StartWhenIdle(ctx, m, 4*time.Second)
	if err != nil {
		return err
	}
	synced, asked, err := idleFloor(p, dir)
	if err != nil {
		return err
	}
	p50 := measure.At(0.5, took)
	say("%-58s p50 %5.2f ms   p99 %5.2f ms\n", "enqueue to start, where nothing else goes on", p50, measure.At(0.99, took))
	say("%-58s p50 %5.2f ms   p99 %5.2f ms\n", "an fsync of 4 KiB, where nothing else goes on", measure.At(0.5, synced), measure.At(0.99, synced))
	say("%-58s p50 %5.2f ms   p99 %5.2f ms\n", "a request that does nothing (GET /livez), likewise", measure.At(0.5, asked), measure.At(0.99, asked))
	say("enqueue to start is the fsync + %.2f ms (≤ 0.4), of which the way to and fro alone takes %.2f ms\n", p50-measure.At(0.5, synced), measure.At(0.5, asked))
	return nil
}

// idleFloor measures an fsync, and a request that does nothing, with a pause before each: a
// machine that has slept answers later.
func idleFloor(p *measure.Process, dir string) (synced, asked []float64, err error) {
	const pause = 5 * time.Millisecond
	f, err := os.Create(filepath.Join(dir, "idle"))
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	block := make([]byte, 4096)
	for range 200 {
		time.Sleep(pause)
		began := time.Now()
		if _, err := f.Write(block); err != nil {
			return nil, nil, err
		}
		if err := f.Sync(); err != nil {
			return nil, nil, err
		}
		synced = append(synced, time.Since(began).Seconds()*1000)
		time.Sleep(pause)
		began = time.Now()
		resp, err := http.Get("http://" + p.Address + "/livez")
		if err != nil {
			return nil, nil, err
		}
		if _, err := io.Copy(io.Discard, resp.Body); err != nil {
			return nil, nil, err
		}
		resp.Body.Close()
		asked = append(asked, time.Since(began).Seconds()*1000)
	}
	return synced, asked, nil
}
