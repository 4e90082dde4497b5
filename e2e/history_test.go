package e2e

import (
	"context"
	"fmt"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// What history tells is what clients have noted of their own calls, over kills of the service
// in the middle of a minute: no job is counted twice, none is lost, and the time in which
// nobody served is marked.
func TestHistoryOverKills(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	queues := []string{"berths", "common"}
	pool := worker.New(m.Source(), worker.Options{Name: "quay", Version: "2.3", Slots: 8, Queues: queues})
	var refused atomic.Int64
	worker.Handle(pool, "manifest.check", func(_ context.Context, n int) (string, error) {
		if n%7 == 0 {
			return "", worker.GiveUp(fmt.Errorf("manifest %d is malformed", n))
		}
		return "checked", nil
	})
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- pool.Run(ctx) }()

	enqueued := map[string]int64{}
	var malformed, all int64
	began := time.Now()
	for n := 0; n < 600 || time.Since(began) < 3*time.Second; n++ {
		queue := queues[n%3/2]
		_, err := m.Enqueue(t.Context(), job.Spec{Task: "manifest.check", Queue: queue, Payload: job.JSON(n)})
		if err != nil {
			refused.Add(1)
			require.Less(t, refused.Load(), int64(100), "%v", err)
			continue
		}
		enqueued[queue]++
		all++
		if n%7 == 0 {
			malformed++
		}
		if n == 150 || n == 400 {
			s.kill()
			s.start()
		}
	}
	require.Zero(t, refused.Load(), "the client tries again until it has an answer")
	var h api.History
	require.Eventually(t, func() bool {
		var err error
		h, err = m.History(t.Context(), api.HistoryQuery{By: api.ByQueue, Times: true})
		return err == nil && h.Total.Sum.Done+h.Total.Sum.Dead == all
	}, 20*time.Second, 50*time.Millisecond, "%v of %d", h.Total.Sum, all)
	told := map[string]int64{}
	for _, series := range h.Series {
		told[series.Name] = series.Sum.Enqueued
	}
	assert.Equal(t, enqueued, told)
	sum := h.Total.Sum
	assert.Equal(t, []int64{all, malformed, all - malformed}, []int64{sum.Enqueued, sum.Dead, sum.Done})
	assert.GreaterOrEqual(t, sum.Started, all)
	assert.Equal(t, sum.Started, sum.Wait.Count)
	assert.Equal(t, sum.Done, sum.Run.Count)
	kinds := map[string]int{}
	for _, mark := range h.Marks {
		kinds[mark.Kind]++
	}
	assert.Equal(t, map[string]int{api.MarkDeploy: 1, api.MarkRestart: 2}, kinds)
	versions, err := m.History(t.Context(), api.HistoryQuery{By: api.ByVersion})
	require.NoError(t, err)
	require.Len(t, versions.Series, 1)
	assert.Equal(t, "2.3", versions.Series[0].Name)
	// The pool may take its first jobs before the service has been told who it is.
	assert.InDelta(t, sum.Started, versions.Series[0].Sum.Started, 8)
	assert.InDelta(t, sum.Done, versions.Series[0].Sum.Done, 8)
	cancel()
	require.NoError(t, <-ended)
}
