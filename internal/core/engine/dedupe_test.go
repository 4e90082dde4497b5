package engine

import (
	"context"
	"fmt"
	"path/filepath"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule/api"
	"humblemule/job"
)

// An earlier job with the same key answers as the new spec's dedupe says, also after a
// restart; keys belong to their task.
func TestDedupe(t *testing.T) {
	path := filepath.Join(t.TempDir(), "dedupe.db")
	synctest.Test(t, func(t *testing.T) {
		e, err := Open(path, Options{Log: silent})
		require.NoError(t, err)
		ctx := context.Background()
		enqueue := func(task, dedupe string, payload int) job.Job {
			j, err := e.Enqueue(ctx, job.Spec{Task: task, Key: "heron", Dedupe: dedupe, Payload: job.JSON(payload)})
			require.NoError(t, err)
			return j
		}
		settle := func(o job.Outcome) {
			a, err := e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Limit: 1})
			require.NoError(t, err)
			require.Len(t, a.Leases, 1)
			if o != "" {
				_, err = e.Settle(ctx, []api.Settlement{{Token: a.Leases[0].Token, Outcome: o}})
				require.NoError(t, err)
			}
		}
		is := func(j job.Job, id int64, duplicate, same bool) {
			t.Helper()
			assert.Equal(t, []any{id, duplicate, same}, []any{j.ID, j.Duplicate, j.SameSpec})
		}
		is(enqueue("dues.charge", job.Unstarted, 1), 1, false, false)
		is(enqueue("dues.charge", job.Unstarted, 1), 1, true, true)
		is(enqueue("dues.charge", job.Unfinished, 2), 1, true, false)
		is(enqueue("tide.predict", job.Unfinished, 1), 2, false, false) // another task's key
		require.NoError(t, e.Close())
		e, err = Open(path, Options{Log: silent})
		require.NoError(t, err)
		is(enqueue("dues.charge", "24h", 1), 1, true, true)
		settle("") // job 1 runs
		is(enqueue("dues.charge", job.Unfinished, 1), 1, true, true)
		is(enqueue("dues.charge", job.Unstarted, 1), 3, false, false)
		_, err = e.Cancel(ctx, 3)
		require.NoError(t, err)
		is(enqueue("dues.charge", "1h", 1), 1, true, true) // a cancelled one does not answer
		time.Sleep(2 * time.Minute)                        // its lease has ended
		is(enqueue("dues.charge", job.Unstarted, 1), 4, false, false)
		_, err = e.Requeue(ctx, 3, Requeuing{})
		assert.ErrorContains(t, err, `job 3 has the key "heron" and may not stand beside job 4`)
		time.Sleep(2 * time.Hour)
		_, err = e.Cancel(ctx, 4)
		require.NoError(t, err)
		is(enqueue("dues.charge", "1h", 1), 5, false, false)

		// Many at once: one is new, whoever comes first, and a bulk tells which were not.
		var wg sync.WaitGroup
		var mu sync.Mutex
		fresh := 0
		for n := range 50 {
			wg.Go(func() {
				j, err := e.Enqueue(ctx, job.Spec{Task: "berth.plan", Key: "b", Dedupe: job.Unfinished, Payload: job.JSON(n)})
				assert.NoError(t, err)
				mu.Lock()
				defer mu.Unlock()
				if !j.Duplicate {
					fresh++
				}
			})
		}
		wg.Wait()
		assert.Equal(t, 1, fresh)
		var specs []job.Spec
		for n := range 4 {
			specs = append(specs, job.Spec{Task: "notice.publish", Key: fmt.Sprint(n % 2), Dedupe: "10m"})
		}
		call := WithCall(ctx, Call{Path: "/v1/jobs", Key: "bulk", Body: []byte("x")})
		for range 2 { // the same call again brings the same ids
			jobs, err := e.EnqueueMany(call, specs, func(int) string { return "" })
			require.NoError(t, err)
			assert.Equal(t, []int64{7, 8, 7, 8}, []int64{jobs[0].ID, jobs[1].ID, jobs[2].ID, jobs[3].ID})
		}
		require.NoError(t, e.Close())
	})
}

// Finished jobs are removed when they were kept long enough, whatever their number;
// what was counted stays counted, and everything else is left alone.
func TestRetention(t *testing.T) {
	t.Parallel() // it takes long
	inYard(t, func(y *yard) {
		ctx := context.Background()
		require.NoError(t, y.e.SetQueue(ctx, "common", api.Defaults{Keep: map[job.State]job.Duration{job.Done: job.Duration(3 * time.Hour)}}))
		y.dead(300)
		y.fails = func(string) bool { return false }
		for range 400 {
			_, err := y.e.Enqueue(ctx, job.Spec{Task: "tide.predict", Key: "k"})
			require.NoError(t, err)
		}
		y.work()
		late, err := y.e.Requeue(ctx, 1, Requeuing{})
		require.NoError(t, err)
		assert.Zero(t, late.KeptUntil)
		time.Sleep(3*time.Hour - time.Minute)
		assert.Equal(t, []int64{299, 400}, []int64{y.count(job.Dead), y.count(job.Done)})
		y.work() // job 1 is done long after its neighbours
		time.Sleep(10 * time.Minute)
		assert.Equal(t, []int64{299, 1}, []int64{y.count(job.Dead), y.count(job.Done)})
		j, err := y.e.Job(ctx, 1)
		require.NoError(t, err)
		assert.Equal(t, j.FinishedAt.Add(3*time.Hour), j.KeptUntil)
		_, err = y.e.Job(ctx, 301)
		assert.ErrorContains(t, err, "there is no job 301")
		again, err := y.e.Enqueue(ctx, job.Spec{Task: "tide.predict", Key: "k", Dedupe: "10d"})
		require.NoError(t, err)
		assert.Equal(t, []any{true, job.Done}, []any{again.Duplicate, again.State}, "keys are kept for longer than their jobs")

		require.NoError(t, y.e.SetQueue(ctx, "common", api.Defaults{Keep: map[job.State]job.Duration{job.Done: job.Duration(3 * time.Hour), job.Dead: job.Duration(4 * time.Hour)}}))
		assert.ErrorContains(t, y.e.SetQueue(ctx, "common", api.Defaults{Keep: map[job.State]job.Duration{job.Ready: job.Duration(time.Hour)}}), "keep.ready is of no finished job")
		assert.ErrorContains(t, y.e.SetTask(ctx, "tide.predict", api.Defaults{Keep: map[job.State]job.Duration{}}), "set it for its queue")
		require.NoError(t, y.e.Close())
		y.open()
		time.Sleep(61 * time.Minute)
		queues, err := y.e.Queues(ctx)
		require.NoError(t, err)
		assert.Equal(t, map[job.State]int64{job.Done: 400, job.Dead: 299}, queues[0].Past)
		assert.Equal(t, []int64{0, 1}, []int64{y.count(job.Dead), y.count(job.Done)})
		causes, err := y.e.Causes(ctx, api.CauseFilter{})
		require.NoError(t, err)
		assert.Empty(t, causes)
	})
}
