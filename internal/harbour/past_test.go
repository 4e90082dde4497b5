package harbour_test

import (
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/internal/harbour"
	"humblemule.example/job"
)

// The thirty days that the demo opens with are written soon, and every count agrees: what came
// is what finished, by the minute, the hour and the day, and as many jobs are counted as gone.
func TestPast(t *testing.T) {
	path, now := filepath.Join(t.TempDir(), "harbour.db"), time.Now()
	require.NoError(t, harbour.WritePast(path, now, 6853))
	assert.Less(t, time.Since(now), 30*time.Second, "2 s where nothing else goes on")
	t.Logf("written in %s", time.Since(now))
	e, err := engine.Open(path, engine.Options{Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer func() { require.NoError(t, e.Close()) }()
	flow := func(back time.Duration, step time.Duration) api.Flow {
		h, err := e.History(t.Context(), api.HistoryQuery{From: job.At(now.Add(-back)), Step: job.Duration(step), By: api.ByTask})
		require.NoError(t, err)
		require.Len(t, h.Series, 8)
		return h.Total.Sum
	}
	finished := func(f api.Flow) int64 { return f.Done + f.Dead + f.Skipped + f.Cancelled }
	month := flow(31*24*time.Hour, 24*time.Hour)
	assert.Equal(t, month.Enqueued+month.Requeued, finished(month))
	assert.Equal(t, month, flow(31*24*time.Hour, time.Hour), "by the hour as by the day")
	assert.Positive(t, month.Requeued, "after the rollback")
	assert.Greater(t, month.Enqueued, int64(1_000_000))
	hour := flow(time.Hour, time.Minute)
	assert.InDelta(t, 6000, hour.Enqueued, 3500)

	queues, err := e.Queues(t.Context())
	require.NoError(t, err)
	gone := map[job.State]int64{}
	for _, q := range queues {
		for state, n := range q.Past {
			gone[state] += n
		}
		assert.Zero(t, q.Counts[job.Done]+q.Counts[job.Dead]+q.Counts[job.Ready], q.Name)
	}
	assert.Equal(t, map[job.State]int64{job.Done: month.Done, job.Skipped: month.Skipped}, gone)
	j, err := e.Enqueue(t.Context(), job.Spec{Task: harbour.TidePredict})
	require.NoError(t, err)
	assert.Equal(t, month.Enqueued+1, j.ID, "ids go on behind those of the past")
	told, err := e.Task(t.Context(), harbour.TidePredict)
	require.NoError(t, err)
	assert.InEpsilon(t, 60, told.Run.P50MS, 0.05, "a run of the past week is usual")
	marks, err := e.Marks(t.Context(), job.At(now.Add(-6*time.Hour)), job.At(now))
	require.NoError(t, err)
	kinds := map[string]int{}
	for _, m := range marks {
		kinds[m.Kind]++
	}
	assert.Equal(t, 2, kinds[api.MarkDeploy])
	assert.Equal(t, 1, kinds[api.MarkRequeue])
}
