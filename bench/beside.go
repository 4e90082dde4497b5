package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"humblemule.example/client"
	"humblemule.example/internal/measure"
	"humblemule.example/job"
)

// build is a build of the program, by the name that it has in a comparison.
type build struct{ name, path string }

// comparison is one figure of two builds, round by round.
type comparison struct {
	what string
	of   [2][]float64
}

// report tells the medians, their ratio, and the median of the rounds' own ratios, which
// a disk that slows down between rounds moves less.
func (c *comparison) report() {
	each := make([]float64, 0, len(c.of[1]))
	for i := range c.of[1] {
		each = append(each, c.of[1][i]/c.of[0][i])
	}
	a, b := measure.Median(c.of[0]), measure.Median(c.of[1])
	say("%-40s %12.0f %12.0f %8.2f %8.2f\n", c.what, a, b, b/a, measure.Median(each))
}

// beside measures a build of the program beside an older one.
func beside(ctx context.Context, dir, old string) error {
	return sideBySide(ctx, dir, [2]build{{"before", old}, {"now", *program}})
}

// drivers measures the program beside itself with the driver of SQLite that is in pure Go.
func drivers(ctx context.Context, dir string) error {
	pure := filepath.Join(dir, "hmule-pure")
	compile := exec.CommandContext(ctx, "go", "build", "-tags", "nomsgpack", "-o", pure, "./cmd/hmule")
	compile.Dir, compile.Env = "..", append(os.Environ(), "CGO_ENABLED=0")
	if out, err := compile.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return sideBySide(ctx, dir, [2]build{{"cgo", *program}, {"pure Go", pure}})
}

// sideBySide measures two builds of the program in turn, round by round. The order within a
// round changes with each, so that neither always comes after the other.
func sideBySide(ctx context.Context, dir string, builds [2]build) error {
	var of [2]*measure.Process
	for i, b := range builds {
		p, err := measure.Serve(b.path, filepath.Join(dir, fmt.Sprint("beside-", i, ".db")))
		if err != nil {
			return err
		}
		defer p.End()
		of[i] = p
	}
	work := []struct {
		comparison
		do func(context.Context, *measure.Process) (int, error)
	}{
		{comparison{what: "single enqueue, 64 connections, jobs/s"}, enqueue},
		{comparison{what: "whole life, jobs/s"}, life},
		{comparison{what: "bulks of 1 000, 4 connections, jobs/s"}, bulksOf(1000, 4)},
		{comparison{what: "bulks of 10 000, 2 connections, jobs/s"}, bulksOf(10_000, 2)},
	}
	for round := range *rounds {
		for i := range work {
			for turn := range builds {
				at := (round + turn) % len(builds)
				began := time.Now()
				n, err := work[i].do(ctx, of[at])
				if err != nil {
					return err
				}
				work[i].of[at] = append(work[i].of[at], float64(n)/time.Since(began).Seconds())
			}
		}
	}
	say("%-40s %12s %12s %8s %8s\n", "", builds[0].name, builds[1].name, "ratio", "rounds")
	for i := range work {
		work[i].report()
	}
	return nil
}

// bulksOf enqueues bulks of so many jobs from so many connections.
func bulksOf(lines, connections int) func(context.Context, *measure.Process) (int, error) {
	return func(ctx context.Context, p *measure.Process) (int, error) {
		return together(ctx, connections, p, measure.Bulk(lines))
	}
}

// reach starts a service on a data file, and gives a connection to it and what ends both.
func reach(data string) (*measure.Process, *measure.Connection, func(), error) {
	p, err := measure.Serve(*program, data)
	if err != nil {
		return nil, nil, nil, err
	}
	c, err := measure.Dial(p.Address)
	if err != nil {
		p.End()
		return nil, nil, nil, err
	}
	return p, c, func() {
		c.Close()
		p.End()
	}, nil
}

// amidBulks measures how long a single enqueue takes while 16 connections enqueue bulks of
// 10 000 without a pause, beside how long one such bulk takes alone.
func amidBulks(ctx context.Context, dir string) error {
	const bulk = 10_000
	p, c, end, err := reach(filepath.Join(dir, "amid.db"))
	if err != nil {
		return err
	}
	defer end()
	raw := measure.Request("/v1/jobs/bulk", "application/x-ndjson", strings.Repeat(measure.Spec()+"\n", bulk))
	var alone, single []float64
	for range *rounds {
		began := time.Now()
		if _, err := c.Post(raw, http.StatusCreated); err != nil {
			return err
		}
		alone = append(alone, time.Since(began).Seconds())
	}
	var ended atomic.Bool
	all := make(chan error, 1)
	go func() {
		for !ended.Load() {
			if _, err := bulksOf(bulk, 16)(ctx, p); err != nil {
				all <- err
				return
			}
		}
		all <- nil
	}()
	one := measure.Request("/v1/jobs", "application/json", measure.Spec())
	for began := time.Now(); time.Since(began) < time.Duration(*rounds)*2*time.Second; {
		began := time.Now()
		if _, err := c.Post(one, http.StatusCreated); err != nil {
			ended.Store(true)
			return errors.Join(err, <-all)
		}
		single = append(single, time.Since(began).Seconds())
		time.Sleep(5 * time.Millisecond)
	}
	ended.Store(true)
	if err := <-all; err != nil {
		return err
	}
	slices.Sort(single)
	p99, one10k := single[len(single)*99/100], measure.Median(alone)
	say("a bulk of 10 000 alone %.0f ms; single enqueue amid 16 such: p50 %.0f ms, p99 %.0f ms of %d, ratio %.2f (≤ 1.5)\n",
		1000*one10k, 1000*measure.Median(single), 1000*p99, len(single), p99/one10k)
	return nil
}

// manyOfAKey measures an enqueue that dedupe by a duration answers, where 200 000 jobs
// have its key, beside one with a new key.
func manyOfAKey(ctx context.Context, dir string) error {
	const jobs, bulk = 200_000, 10_000
	_, c, end, err := reach(filepath.Join(dir, "key.db"))
	if err != nil {
		return err
	}
	defer end()
	raw := measure.Request("/v1/jobs/bulk", "application/x-ndjson", strings.Repeat(`{"task":"tide.predict","key":"inner-quay"}`+"\n", bulk))
	for range jobs / bulk {
		if _, err := c.Post(raw, http.StatusCreated); err != nil {
			return err
		}
	}
	var known, fresh []float64
	for n := range 100 * *rounds {
		for key, into := range map[string]*[]float64{"inner-quay": &known, fmt.Sprint("quay-", n): &fresh} {
			spec := measure.Request("/v1/jobs", "application/json", fmt.Sprintf(`{"task":"tide.predict","key":%q,"dedupe":"1h"}`, key))
			began := time.Now()
			status := http.StatusCreated
			if into == &known {
				status = http.StatusOK
			}
			if _, err := c.Post(spec, status); err != nil {
				return err
			}
			*into = append(*into, time.Since(began).Seconds())
		}
	}
	say("dedupe with 200 000 jobs of the key %.2f ms, with a new key %.2f ms, ratio %.2f (≤ 1.5)\n", 1000*measure.Median(known), 1000*measure.Median(fresh), measure.Median(known)/measure.Median(fresh))
	return nil
}

// longLog measures a start with a log of 64 MB, as a killed service leaves it, beside one
// whose log is short.
func longLog(ctx context.Context, dir string) error {
	path := filepath.Join(dir, "log.db")
	begin := func() (*measure.Process, float64, error) {
		began := time.Now()
		p, err := measure.Serve(*program, path)
		return p, time.Since(began).Seconds(), err
	}
	p, short, err := begin()
	if err != nil {
		return err
	}
	log, err := grow(ctx, p, path, 64<<20)
	if err != nil {
		p.End()
		return err
	}
	p.Kill()
	p, long, err := begin()
	if err != nil {
		return err
	}
	p.End()
	say("start with a log of %d MB %.2f s, without %.2f s, more by %.2f s (< 1)\n", log>>20, long, short, long-short)
	return nil
}

// grow enqueues until the log has such a size: a reader that does not end holds it.
func grow(ctx context.Context, p *measure.Process, path string, size int64) (int64, error) {
	reader, err := sql.Open("sqlite3", "file:"+path+"?mode=ro")
	if err != nil {
		return 0, err
	}
	defer reader.Close()
	tx, err := reader.BeginTx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	var jobs int
	if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM jobs").Scan(&jobs); err != nil {
		return 0, err
	}
	c, err := measure.Dial(p.Address)
	if err != nil {
		return 0, err
	}
	defer c.Close()
	raw := measure.Request("/v1/jobs/bulk", "application/x-ndjson", strings.Repeat(measure.Spec()+"\n", 10_000))
	for range 200 {
		if _, err := c.Post(raw, http.StatusCreated); err != nil {
			return 0, err
		}
		if info, err := os.Stat(path + "-wal"); err == nil && info.Size() >= size {
			return info.Size(), nil
		}
	}
	return 0, fmt.Errorf("the log does not reach %d bytes", size)
}

// keepsPace measures whether retention keeps pace: how many done jobs are there beyond the
// thousand that the queue keeps, while jobs finish as fast as they can; and what it does to
// single enqueues, beside a service that removes nothing.
func keepsPace(ctx context.Context, dir string) error {
	const keep = 1000
	var waits [2][]float64
	for i, most := range []int{10_000_000, keep} {
		setup := filepath.Join(dir, "pace.yaml")
		if err := os.WriteFile(setup, fmt.Appendf(nil, "retention: {max_done: %d}\n", most), 0o600); err != nil {
			return err
		}
		p, err := measure.Serve(*program, filepath.Join(dir, fmt.Sprintf("pace-%d.db", i)), "--config", setup)
		if err != nil {
			return err
		}
		defer p.End()
		m, err := client.New(p.Address)
		if err != nil {
			return err
		}
		defer m.Close()
		var kept []string
		finished, began := 0, time.Now()
		waits[i], err = singlesTook(ctx, p, func() error {
			for range *rounds {
				n, err := life(ctx, p)
				if err != nil {
					return err
				}
				finished += n
				q, err := m.Queue(ctx, "common")
				if err != nil {
					return err
				}
				kept = append(kept, fmt.Sprint(q.Counts[job.Done]))
			}
			return nil
		})
		if err != nil {
			return err
		}
		say("%-34s %8.0f finished a second; done jobs at the ends of the rounds: %s\n", fmt.Sprintf("done jobs that are kept: %d", most), float64(finished)/time.Since(began).Seconds(), strings.Join(kept, " "))
	}
	say("single enqueues meanwhile, p99 %.1f ms, %.2f times as without; the longest %.1f and %.1f ms\n", measure.At(0.99, waits[1]), measure.At(0.99, waits[1])/measure.At(0.99, waits[0]), measure.At(1, waits[1]), measure.At(1, waits[0]))
	return nil
}
