package main

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
)

// fair measures what turns and rates promise: how many jobs start before those of an
// owner that comes after a burst of another one, and how many start within any span.
func fair(ctx context.Context, dir string) error {
	m, end, err := serve(filepath.Join(dir, "fair.db"))
	if err != nil {
		return err
	}
	defer end()
	say("\n%-52s\n", "100 000 jobs of one owner, then 10 of another: how many start before each of the 10")
	for _, w := range []struct {
		what, queue string
		rules       api.Rules
	}{{"by priority alone", "plain", api.Rules{}}, {"turns of owners", "turns", api.Rules{Turns: api.TurnsOwner}}} {
		before, err := lateOwner(ctx, m, w.queue, w.rules)
		if err != nil {
			return err
		}
		say("  %-50s %v\n", w.what, before)
	}
	for _, w := range []struct {
		what, queue string
		owner       func(n int) string
	}{
		{"jobs of one owner", "alone", func(int) string { return "north" }},
		{"owners with a job each", "crowd", func(n int) string { return fmt.Sprint("owner-", n) }},
	} {
		took, err := manyOwned(ctx, m, w.queue, *backlog, w.owner)
		if err != nil {
			return err
		}
		say("%-52s %9.1f µs a job, taken and settled by the hundred\n", fmt.Sprintf("turns among %d %s", *backlog, w.what), took)
	}
	const perSecond, burst, pools = 50, 5, 4
	span := 60 * time.Second
	starts, err := limited(ctx, m, perSecond, burst, pools, span)
	if err != nil {
		return err
	}
	say("\n%-52s %d started, at most %d may\n", fmt.Sprintf("%d a second, burst %d, over %d pools for %s", perSecond, burst, pools, span), len(starts), burst+perSecond*int(span.Seconds()))
	say("  %-50s %+.2f starts (≤ 0; times are told in ms)\n", "most above the bound in any window", worst(starts, perSecond, burst))
	return nil
}

// lateOwner tells how many jobs start before each of ten that a second owner brings.
func lateOwner(ctx context.Context, m *client.Client, queue string, rules api.Rules) (before []int, err error) {
	if _, err := m.PutQueue(ctx, queue, api.Defaults{Rules: rules}); err != nil {
		return nil, err
	}
	const burst, late = 100_000, 10
	enqueue := func(owner string, n int) error {
		for n > 0 {
			specs := make([]job.Spec, min(n, 10_000))
			for i := range specs {
				specs[i] = job.Spec{Task: "tide.predict", Queue: queue, Owner: owner}
			}
			if _, err := m.EnqueueMany(ctx, specs); err != nil {
				return err
			}
			n -= len(specs)
		}
		return nil
	}
	if err := enqueue("north", burst); err != nil {
		return nil, err
	}
	if err := enqueue("south", late); err != nil {
		return nil, err
	}
	for n := 0; len(before) < late; {
		a, err := m.Source().Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{queue}, Limit: 100, Lease: job.Duration(time.Hour)})
		if err != nil {
			return nil, err
		}
		if len(a.Leases) == 0 {
			return nil, fmt.Errorf("after %d starts no job of the second owner is left", n)
		}
		items := make([]api.Settlement, len(a.Leases))
		for i, l := range a.Leases {
			if l.Job.Owner == "south" {
				before = append(before, n)
			}
			n++
			items[i] = api.Settlement{Token: l.Token, Outcome: job.OutcomeDone}
		}
		if _, err := m.Source().Settle(ctx, items); err != nil {
			return nil, err
		}
	}
	return before, nil
}

// manyOwned tells what a job costs in µs where owners take turns and many wait.
func manyOwned(ctx context.Context, m *client.Client, queue string, n int, owner func(n int) string) (float64, error) {
	if _, err := m.PutQueue(ctx, queue, api.Defaults{Rules: api.Rules{Turns: api.TurnsOwner}}); err != nil {
		return 0, err
	}
	for i := 0; i < n; i += 10_000 {
		specs := make([]job.Spec, 10_000)
		for k := range specs {
			specs[k] = job.Spec{Task: "tide.predict", Queue: queue, Owner: owner(i + k)}
		}
		if _, err := m.EnqueueMany(ctx, specs); err != nil {
			return 0, err
		}
	}
	const rounds, together = 50, 100
	began := time.Now()
	for range rounds {
		a, err := m.Source().Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{queue}, Limit: together})
		if err != nil {
			return 0, err
		}
		items := make([]api.Settlement, len(a.Leases))
		for i, l := range a.Leases {
			items[i] = api.Settlement{Token: l.Token, Outcome: job.OutcomeDone}
		}
		if _, err := m.Source().Settle(ctx, items); err != nil {
			return 0, err
		}
	}
	return float64(time.Since(began).Microseconds()) / (rounds * together), nil
}

// limited takes from a queue with a rate by several pools for a span, and tells when jobs
// were started, by the service's clock.
func limited(ctx context.Context, m *client.Client, perSecond float64, burst, pools int, span time.Duration) (starts []job.Time, err error) {
	if _, err := m.PutQueue(ctx, "rated", api.Defaults{Rules: api.Rules{Rate: &api.Rate{PerSecond: perSecond, Burst: &burst}}}); err != nil {
		return nil, err
	}
	specs := make([]job.Spec, int(perSecond*span.Seconds())*2)
	for i := range specs {
		specs[i] = job.Spec{Task: "notice.publish", Queue: "rated"}
	}
	if _, err := m.EnqueueMany(ctx, specs); err != nil {
		return nil, err
	}
	var mu sync.Mutex
	var all sync.WaitGroup
	until := time.Now().Add(span)
	for p := range pools {
		all.Go(func() {
			for time.Now().Before(until) && err == nil {
				at, wrong := takeOne(ctx, m, fmt.Sprint("w", p), time.Until(until))
				mu.Lock()
				starts = append(starts, at...)
				if wrong != nil {
					err = wrong
				}
				mu.Unlock()
			}
		})
	}
	all.Wait()
	slices.Sort(starts)
	return starts, err
}

func takeOne(ctx context.Context, m *client.Client, worker string, wait time.Duration) (starts []job.Time, err error) {
	a, err := m.Source().Lease(ctx, api.LeaseRequest{Worker: worker, Queues: []string{"rated"}, Limit: 8, Wait: job.Duration(max(wait, 0))})
	if err != nil {
		return nil, err
	}
	var items []api.Settlement
	for _, l := range a.Leases {
		starts = append(starts, l.ExpiresAt.Add(-api.DefaultLease.Go()))
		items = append(items, api.Settlement{Token: l.Token, Outcome: job.OutcomeDone})
	}
	if len(items) > 0 {
		_, err = m.Source().Settle(ctx, items)
	}
	return starts, err
}

// worst is by how many starts the fullest window exceeds burst + rate × its length. A time
// told in whole ms may be 1 ms off at either end.
func worst(starts []job.Time, perSecond float64, burst int) float64 {
	most := -float64(burst)
	for i := range starts {
		for j := i; j < len(starts); j++ {
			d := starts[j].Sub(starts[i]) + 2*time.Millisecond
			most = max(most, float64(j-i+1)-float64(burst)-perSecond*d.Seconds())
		}
	}
	return most
}
