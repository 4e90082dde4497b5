package engine

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// A queue that gets more than its worker can do falls behind, and the forecast says so, and
// by what it was seen to do when it will be clear; what binds is told, and all who tell a
// speed tell the same.
func TestForecast(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := y.Context()
		tell := func(q api.ForecastQuery) api.Forecast {
			q.Queue = "common"
			time.Sleep(3 * time.Second) // what was told before is kept for a moment
			f, err := y.e.Forecast(ctx, q)
			require.NoError(y, err)
			return f
		}
		_, err := y.e.Forecast(ctx, api.ForecastQuery{Queue: "nowhere"})
		require.ErrorContains(y, err, "there is no queue")
		// 12 jobs come a minute, and two slots do 8, for 20 minutes.
		seen := func() {
			_, err := y.e.PutWorker(ctx, api.Worker{ID: y.worker, Queues: []string{"common"}, Slots: 2})
			require.NoError(y, err)
		}
		minute := func(come, done int) {
			for range come {
				_, err := y.e.Enqueue(ctx, job.Spec{Task: "tide.predict"})
				require.NoError(y, err)
			}
			for range done / 2 {
				seen()
				leases := y.lease("common", 2)
				time.Sleep(time.Minute / time.Duration(max(done/2, 1)))
				for _, l := range leases {
					_, err := y.e.Settle(ctx, []api.Settlement{{Token: l.Token, Outcome: job.OutcomeDone}})
					require.NoError(y, err)
				}
			}
			if done == 0 {
				time.Sleep(time.Minute)
			}
		}
		minute(12, 0)
		f := tell(api.ForecastQuery{})
		assert.Equal(y, api.BoundByNobody, f.Binds)
		assert.Contains(y, strings.Join(f.Summary, " "), "12 jobs are waiting in queue common, and no job is running. No worker serves it.")
		seen()
		f = tell(api.ForecastQuery{})
		assert.Nil(y, f.Clear)
		assert.Contains(y, f.Summary[1], "not known yet")
		for range 20 {
			minute(12, 8)
		}
		f = tell(api.ForecastQuery{Slots: 4, By: y.e.c.Now().Add(time.Hour)})
		assert.Equal(y, int64(12+20*4), f.Waiting)
		assert.InDelta(y, 12, f.In.PerMinute, 1)
		assert.InDelta(y, 8, f.CapacityPerMinute, 0.5)
		assert.Equal(y, api.BoundBySlots, f.Binds)
		assert.Zero(y, f.Clear.Likely, "never at this rate")
		assert.InDelta(y, 16, f.With.CapacityPerMinute, 1)
		assert.InDelta(y, 23, f.With.Clear.Likely.Sub(f.AsOf).Minutes(), 4)
		assert.Equal(y, 4, f.Needs.Likely)
		assert.GreaterOrEqual(y, f.Needs.Sure, 4)
		assert.Nil(y, f.WaitMS, "more come than can finish")
		said := strings.Join(f.Summary, " ")
		assert.Contains(y, said, "ever clear at this rate")
		assert.Contains(y, said, "more slots would make it faster")
		j, err := y.e.Job(ctx, 250)
		require.NoError(y, err)
		assert.Regexp(y, `ahead of it in queue common, about .* at its present speed`, j.WaitingBecause)
		assert.Equal(y, f.Waiting-2, j.Position)
		assert.InDelta(y, float64(j.Position)/8, j.ExpectedStart.Sub(y.e.c.Now()).Minutes(), 1)
		assert.Equal(y, f.Pace, y.queue("common").Pace)

		// What came at once just now was not waiting before: the capacity is not what it was seen
		// to do while nothing waited.
		for range 400 {
			_, err := y.e.Enqueue(ctx, job.Spec{Task: "tide.predict", Queue: "burst"})
			require.NoError(y, err)
		}
		y.e.PutWorker(ctx, api.Worker{ID: "b", Queues: []string{"burst"}, Slots: 2})
		time.Sleep(3 * time.Second)
		f, err = y.e.Forecast(ctx, api.ForecastQuery{Queue: "burst"})
		require.NoError(y, err)
		assert.Equal(y, []any{int64(400), (*api.Clear)(nil)}, []any{f.Waiting, f.Clear})

		one := 1
		require.NoError(y, y.e.SetQueue(ctx, "common", api.Defaults{Rules: api.Rules{MaxRunning: &one}}))
		assert.Equal(y, api.BoundByMaxRunning, tell(api.ForecastQuery{}).Binds)
		require.NoError(y, y.e.SetQueue(ctx, "common", api.Defaults{Rules: api.Rules{Rate: &api.Rate{PerSecond: 0.01}}}))
		assert.Equal(y, api.BoundByRate, tell(api.ForecastQuery{}).Binds)
		require.NoError(y, y.e.PauseQueue(ctx, "common"))
		f = tell(api.ForecastQuery{})
		assert.Equal(y, api.BoundByPause, f.Binds)
		assert.Zero(y, *f.Clear)
		for _, q := range []api.ForecastQuery{{Slots: -1}, {By: 1}, {By: y.e.c.Now().Add(1000 * time.Hour)}, {Slots: 1 << 30}} {
			q.Queue = "common"
			_, err := y.e.Forecast(ctx, q)
			require.Error(y, err)
		}
	})
}

// Jobs that wait for others do not wait for lanes, and are not waiting in the queue yet.
func TestForecastKnowsTies(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := y.Context()
		y.must(y.e.PutWorker(ctx, api.Worker{ID: y.worker, Queues: []string{"common"}, Slots: 8}))
		tell := func() api.Forecast {
			time.Sleep(3 * time.Second) // what was told before is kept for a moment
			f, err := y.e.Forecast(ctx, api.ForecastQuery{Queue: "common"})
			require.NoError(y, err)
			return f
		}
		root := y.one(job.Spec{Task: "manifest.check"})
		for range 5 {
			y.one(job.Spec{Task: "berth.plan", Lane: "berth-3", After: &job.After{Jobs: []int64{root}}})
		}
		y.take("common", 1)
		f := tell()
		assert.Equal(y, []any{int64(0), int64(1), api.BoundByArrivals}, []any{f.Waiting, f.Running, f.Binds})
		for range 3 {
			y.one(job.Spec{Task: "berth.plan", Lane: "berth-4"})
		}
		f = tell()
		assert.Equal(y, []any{int64(8), api.BoundByLane}, []any{f.Waiting, f.Binds})
	})
}
