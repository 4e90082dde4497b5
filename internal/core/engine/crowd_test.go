package engine

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// A crowd of producers, workers, operators and readers at once: no job is leased
// to two at a time, none is lost, and the kept counts are the counted ones.
func TestCrowd(t *testing.T) {
	e, err := Open(filepath.Join(t.TempDir(), "crowd.db"), Options{LookEvery: unwatched, Log: silent})
	require.NoError(t, err)
	defer func() { require.NoError(t, e.Close()) }()
	ctx := t.Context()
	const producers, workers, each = 6, 6, 150
	var crowd, makers sync.WaitGroup
	stop := make(chan struct{})
	for p := range producers {
		makers.Go(func() {
			for n := range each {
				spec := job.Spec{Task: "tide.predict", Queue: fmt.Sprint("queue-", (p+n)%3), Retry: &job.Retry{First: job.Duration(time.Millisecond)}}
				if n%10 == 0 {
					_, err := e.EnqueueMany(ctx, []job.Spec{spec, spec, spec}, func(int) string { return "" })
					assert.NoError(t, err)
					continue
				}
				_, err := e.Enqueue(ctx, spec)
				assert.NoError(t, err)
			}
		})
	}
	work := func(w int) {
		random := rand.New(rand.NewPCG(uint64(w), 0))
		for {
			select {
			case <-stop:
				return
			default:
			}
			a, err := e.Lease(ctx, api.LeaseRequest{Worker: fmt.Sprint("w", w), Queues: []string{"queue-0", "queue-1", "queue-2"}, Limit: 1 + random.IntN(4), Wait: job.Duration(50 * time.Millisecond), Lease: job.Duration(time.Minute)})
			if !assert.NoError(t, err) {
				return
			}
			var items []api.Settlement
			for _, l := range a.Leases {
				outcome := job.OutcomeDone
				if random.IntN(4) == 0 {
					outcome = job.OutcomeFailed
				}
				items = append(items, api.Settlement{Token: l.Token, Outcome: outcome})
			}
			results, err := e.Settle(ctx, items)
			assert.NoError(t, err)
			for _, r := range results {
				assert.Equal(t, api.StatusOK, r.Status, "a lease that somebody else has too")
			}
		}
	}
	for w := range workers {
		crowd.Go(func() { work(w) })
	}
	crowd.Go(func() { // an operator, and somebody who looks on
		for id := int64(1); ; id++ {
			select {
			case <-stop:
				return
			default:
			}
			var refused *job.Problem
			if _, err := e.Cancel(ctx, 1+id%700); err != nil {
				assert.True(t, errors.As(err, &refused), "%v", err)
			}
			_, err := e.Stats(ctx, "")
			assert.NoError(t, err)
			_, err = e.Jobs(ctx, api.Filter{States: []job.State{job.Done, job.Backoff}, Limit: 20})
			assert.NoError(t, err)
		}
	})
	makers.Wait()
	require.Eventually(t, func() bool {
		left := int64(0)
		for _, counts := range e.Counts(t.Context()) {
			left += counts[job.Ready] + counts[job.Backoff] + counts[job.Running]
		}
		return left == 0
	}, time.Minute, 20*time.Millisecond)
	close(stop)
	crowd.Wait()
	const total = producers * (each + each/10*2)
	counted := map[string]map[job.State]int64{}
	for id := int64(1); id <= total; id++ {
		j, err := e.Job(ctx, id)
		require.NoError(t, err)
		require.True(t, j.State.Finished(), "job %d is %s", id, j.State)
		if counted[j.Queue] == nil {
			counted[j.Queue] = noJobs()
		}
		counted[j.Queue][j.State]++
	}
	assert.Equal(t, counted, e.Counts(t.Context()))
}
