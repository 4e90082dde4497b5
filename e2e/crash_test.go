package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// Promises 1 to 4 under kill -9 in the middle of enqueues, leases and settles:
// every acknowledged job is there, and none was settled twice.
func TestKill(t *testing.T) {
	s := serve(t)
	m := s.mule(client.RetryFor(20*time.Second), client.HTTPClient(newHTTP()))
	ctx, cancel := context.WithCancel(t.Context())
	var mu sync.Mutex
	acknowledged := map[int64]string{} // job and its key
	settled := map[int64]int{}         // jobs that a settle answered done, not repeated
	var work sync.WaitGroup
	for producer := range 4 {
		work.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				key := fmt.Sprintf("%d-%d", producer, n)
				j, err := m.Enqueue(ctx, job.Spec{Task: "tide.predict", Key: key, Payload: job.JSON(n)})
				if err != nil {
					continue // not acknowledged: it may be there or not
				}
				mu.Lock()
				acknowledged[j.ID] = key
				mu.Unlock()
			}
		})
	}
	for w := range 4 {
		work.Go(func() {
			for ctx.Err() == nil {
				a, err := m.Source().Lease(ctx, api.LeaseRequest{Worker: fmt.Sprint("w", w), Queues: []string{"common"}, Limit: 5, Wait: job.Duration(time.Second), Lease: job.Duration(10 * time.Minute)})
				if err != nil {
					continue
				}
				var items []api.Settlement
				for _, l := range a.Leases {
					items = append(items, api.Settlement{Token: l.Token, Outcome: job.OutcomeDone})
				}
				results, err := m.Source().Settle(context.WithoutCancel(ctx), items)
				if err != nil {
					continue
				}
				mu.Lock()
				for i, r := range results {
					assert.Equal(t, api.StatusOK, r.Status)
					if !r.Repeated {
						settled[a.Leases[i].Job.ID]++
					}
				}
				mu.Unlock()
			}
		})
	}
	const kills = 6
	for range kills {
		time.Sleep(300*time.Millisecond + time.Duration(rand.IntN(300))*time.Millisecond)
		s.kill()
		s.start()
	}
	time.Sleep(300 * time.Millisecond)
	cancel()
	work.Wait()
	t.Logf("%d jobs acknowledged, %d settled, over %d kills", len(acknowledged), len(settled), kills)
	require.Greater(t, len(acknowledged), 10*kills, "enough work was under way")

	// A lease whose worker was gone is given back yet: until then counts change.
	var found map[int64]job.Job
	require.Eventually(t, func() bool {
		found = everyJob(t, m)
		counts := map[job.State]int64{}
		for _, j := range found {
			counts[j.State]++
		}
		stats, err := m.Stats(t.Context(), "")
		require.NoError(t, err)
		for state, n := range stats.Counts {
			if counts[state] != n {
				return false
			}
		}
		return true
	}, 10*time.Second, 200*time.Millisecond, "kept counts are what is there")
	for id, key := range acknowledged {
		require.Equal(t, key, found[id].Key, "acknowledged job %d", id)
	}
	for id, times := range settled {
		require.Equal(t, 1, times, "settles of job %d", id)
		require.Equal(t, job.Done, found[id].State, "settled job %d", id)
		require.Equal(t, 1, found[id].Attempt, "attempts of job %d", id)
	}
	keys := map[string]int64{}
	for id, j := range found {
		require.Zero(t, keys[j.Key], "jobs %d and %d are one enqueue", id, keys[j.Key])
		keys[j.Key] = id
	}
}

func everyJob(t *testing.T, m *client.Client) map[int64]job.Job {
	found := map[int64]job.Job{}
	for f := (api.Filter{Limit: api.MaxPage}); ; {
		page, err := m.ListJobs(t.Context(), f)
		require.NoError(t, err)
		for _, j := range page.Jobs {
			found[j.ID] = j
		}
		if f.Cursor = page.NextCursor; f.Cursor == "" {
			return found
		}
	}
}

// Promise 10 over the wire: the service is away while a pool works; no job runs
// twice, and what was finished meanwhile is settled on its return.
func TestOutage(t *testing.T) {
	s := serve(t)
	m := s.mule(client.RetryFor(time.Second), client.HTTPClient(newHTTP()))
	var mu sync.Mutex
	runs := map[int64]int{}
	pool := worker.New(m.Source(), worker.Options{Slots: 4, Lease: 20 * time.Second, Name: "quay"})
	worker.Handle(pool, "berth.plan", func(ctx context.Context, ms int) (int, error) {
		mu.Lock()
		runs[worker.Job(ctx).ID]++
		mu.Unlock()
		time.Sleep(time.Duration(ms) * time.Millisecond)
		return ms, nil
	})
	var specs []job.Spec
	for n := range 8 {
		specs = append(specs, job.Spec{Task: "berth.plan", Payload: job.JSON(1000 + 500*(n%4))})
	}
	_, err := m.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- pool.Run(ctx) }()
	require.Eventually(t, func() bool {
		stats, err := m.Stats(t.Context(), "")
		return err == nil && stats.Counts[job.Running] == 4
	}, 10*time.Second, 20*time.Millisecond)
	s.kill()
	time.Sleep(4 * time.Second) // all four handlers end meanwhile
	s.start()
	require.Eventually(t, func() bool {
		stats, err := m.Stats(t.Context(), "")
		return err == nil && stats.Counts[job.Done] == int64(len(specs))
	}, 20*time.Second, 50*time.Millisecond)
	cancel()
	require.NoError(t, <-ended)
	for id, n := range runs {
		assert.Equal(t, 1, n, "runs of job %d", id)
	}
	assert.Len(t, runs, len(specs))
}

// A second pool on the same queue shares the backlog at once, and no job is run by
// both.
func TestTwoPools(t *testing.T) {
	s := serve(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	var specs []job.Spec
	for range 60 {
		specs = append(specs, job.Spec{Task: "berth.plan"})
	}
	_, err := m.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)
	var mu sync.Mutex
	runs := map[int64][]string{}
	var pools sync.WaitGroup
	ctx, cancel := context.WithCancel(t.Context())
	for _, name := range []string{"east", "west"} {
		pool := worker.New(m.Source(), worker.Options{Slots: 2, Name: name})
		worker.Handle(pool, "berth.plan", func(ctx context.Context, _ any) (bool, error) {
			mu.Lock()
			id := worker.Job(ctx).ID
			runs[id] = append(runs[id], name)
			mu.Unlock()
			time.Sleep(10 * time.Millisecond) // the work
			return true, nil
		})
		pools.Go(func() { assert.NoError(t, pool.Run(ctx)) })
	}
	require.Eventually(t, func() bool {
		stats, err := m.Stats(t.Context(), "")
		return err == nil && stats.Counts[job.Done] == int64(len(specs))
	}, 20*time.Second, 20*time.Millisecond)
	cancel()
	pools.Wait()
	share := map[string]int{}
	for id, by := range runs {
		require.Len(t, by, 1, "runs of job %d", id)
		share[by[0]]++
	}
	assert.Len(t, runs, len(specs))
	assert.Greater(t, min(share["east"], share["west"]), len(specs)/10, "both take part: %v", share)
}
