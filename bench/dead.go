package main

import (
	"context"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/measure"
	"humblemule.example/job"
)

// dead measures what many dead letters cost: how long their causes take to list, and
// what a recovery and an action on many do to the commits of others.
func dead(ctx context.Context, dir string) error {
	m, end, err := serve(filepath.Join(dir, "dead.db"))
	if err != nil {
		return err
	}
	defer end()
	const causes = 200
	sayLine()
	if err := die(ctx, m, *letters, causes); err != nil {
		return err
	}
	var took []float64
	for range 20 {
		began := time.Now()
		all, err := client.Collect(m.Causes(ctx, api.CauseFilter{}))
		if err != nil {
			return err
		}
		took = append(took, float64(time.Since(began).Microseconds())/1000)
		if len(all) != causes {
			return fmt.Errorf("%d causes were found, not %d", len(all), causes)
		}
	}
	say("%-52s %9.1f ms   ≤ 10\n", fmt.Sprintf("causes of %d dead letters, %d of them, p50", *letters, causes), measure.Median(took))
	quiet, err := commits(ctx, m, func() error { time.Sleep(3 * time.Second); return nil })
	if err != nil {
		return err
	}
	for _, act := range []struct {
		what string
		req  api.ActRequest
	}{
		{"a recovery of 100 000", api.ActRequest{Action: api.ActRequeue, Filter: &api.Selection{Tasks: []string{"recover"}}}},
		{fmt.Sprintf("an act on %d", *letters-100_000), api.ActRequest{Action: api.ActDiscard, Filter: &api.Selection{}}},
	} {
		const long = 20 * time.Second // then it is stopped
		var seconds float64
		busy, err := commits(ctx, m, func() error {
			began := time.Now()
			op, err := m.ActOnJobs(ctx, act.req)
			for err == nil && !op.Over() {
				time.Sleep(100 * time.Millisecond)
				if op, err = m.Operation(ctx, op.ID); err == nil && time.Since(began) > long && !op.Over() {
					op, err = m.StopOperation(ctx, op.ID)
				}
			}
			seconds = time.Since(began).Seconds()
			if err == nil {
				say("%-52s %9.0f jobs/s\n", act.what, float64(op.Changed)/seconds)
			}
			return err
		})
		if err != nil {
			return err
		}
		say("%-52s %9.1f %9.1f %9.1f   without it %.1f %.1f %.1f\n", "  enqueue to start beside it, ms: p50, p99, p99.9", busy.at(0.5), busy.at(0.99), busy.at(0.999), quiet.at(0.5), quiet.at(0.99), quiet.at(0.999))
	}
	return nil
}

// die enqueues jobs and gives them up, by so many causes; the first 100 000 are of a
// task of their own.
func die(ctx context.Context, m *client.Client, n, causes int) error {
	words := make([]string, causes)
	for i := range words {
		words[i] = fmt.Sprintf("the %s of %s is %s", strings.Repeat("a", 1+i%20), strings.Repeat("b", 1+i/20), "locked")
	}
	const together = 1000
	for done := 0; done < n; done += together {
		task := "dues.charge"
		if done < 100_000 {
			task = "recover"
		}
		line := fmt.Sprintf(`{"task":%q,"queue":"dead","payload":1,"max_attempts":1}`+"\n", task)
		if _, err := m.EnqueueLines(ctx, []byte(strings.Repeat(line, together))); err != nil {
			return err
		}
		a, err := m.Source().Lease(ctx, api.LeaseRequest{Worker: "d", Queues: []string{"dead"}, Limit: together})
		if err != nil {
			return err
		}
		items := make([]api.Settlement, len(a.Leases))
		for i, l := range a.Leases {
			items[i] = api.Settlement{Token: l.Token, Outcome: job.OutcomeFailed, Error: &job.Failure{Type: "bank", Message: fmt.Sprintf("%s since %d", words[(done+i)%causes], done+i)}}
		}
		if _, err := m.Source().Settle(ctx, items); err != nil {
			return err
		}
	}
	return nil
}

// commits enqueues single jobs from 8 connections while do goes on, 200 a second, and
// tells how long each took until a worker had it.
func commits(ctx context.Context, m *client.Client, do func() error) (*waits, error) {
	ctx, stop := context.WithCancel(ctx)
	took := newWaits()
	var all sync.WaitGroup
	for i := range 4 {
		all.Go(func() { takeFlow(ctx, m, fmt.Sprint("flow ", i), took) })
	}
	for range 8 {
		all.Go(func() {
			ticker := time.NewTicker(40 * time.Millisecond)
			defer ticker.Stop()
			for ctx.Err() == nil {
				<-ticker.C
				m.Enqueue(ctx, job.Spec{Task: "tide.predict", Queue: "flow", Payload: job.JSON(time.Now().UnixNano())})
			}
		})
	}
	err := do()
	stop()
	all.Wait()
	return took, err
}

// takeFlow takes jobs of the queue flow, finishes them, and tells how long after their
// enqueue each was there.
func takeFlow(ctx context.Context, m *client.Client, worker string, took *waits) {
	var done []api.Settlement
	since := time.Now()
	for ctx.Err() == nil {
		req := api.LeaseRequest{Worker: worker, Queues: []string{"flow"}, Limit: 1, Settle: done}
		if done == nil {
			req.Wait = job.Duration(time.Second)
		}
		a, err := m.Source().Lease(ctx, req)
		done = nil
		if err != nil {
			continue
		}
		for _, l := range a.Leases {
			began, err := strconv.ParseInt(string(l.Job.Payload), 10, 64)
			if at := time.Unix(0, began); err == nil && at.After(since) { // an earlier flow may have left some
				took.add(time.Since(at))
			}
			done = append(done, api.Settlement{Token: l.Token, Outcome: job.OutcomeDone})
		}
	}
}
