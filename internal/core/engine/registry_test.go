package engine

import (
	"context"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule/api"
	"humblemule/job"
)

// A worker is there from its first call on, is thought to be gone when it is not
// heard any more, and is forgotten later; its attempts keep its name.
func TestWorkersComeAndGo(t *testing.T) {
	path := filepath.Join(t.TempDir(), "workers.db")
	synctest.Test(t, func(t *testing.T) {
		e, err := Open(path, Options{Log: silent})
		require.NoError(t, err)
		defer func() { require.NoError(t, e.Close()) }()
		ctx := t.Context()
		_, err = e.Wanted(ctx, "quay-7", api.WantRun, time.Second)
		require.ErrorContains(t, err, "register it")
		_, err = e.PutWorker(ctx, api.Worker{ID: "quay-7", Name: "quay", Queues: []string{"common"}, Slots: 2})
		require.NoError(t, err)
		j, err := e.Enqueue(ctx, job.Spec{Task: "tide.predict"})
		require.NoError(t, err)
		a, err := e.Lease(ctx, api.LeaseRequest{Worker: "quay-7", Queues: []string{"common"}, Limit: 1})
		require.NoError(t, err)
		require.Len(t, a.Leases, 1)
		w, err := e.Worker(t.Context(), "quay-7")
		require.NoError(t, err)
		assert.Equal(t, []any{"quay", 2, 1}, []any{w.Name, w.Slots, w.Running})

		// It is outdated while jobs run that it took before settings were changed.
		assert.False(t, w.Outdated)
		assert.Equal(t, int64(1), a.Settings)
		require.NoError(t, e.SetTask(ctx, "tide.predict", api.Defaults{Timeout: job.Duration(time.Minute)}))
		w, err = e.Worker(t.Context(), "quay-7")
		require.NoError(t, err)
		assert.True(t, w.Outdated)
		again, err := e.Lease(ctx, api.LeaseRequest{Worker: "quay-7", Queues: []string{"common"}, Limit: 1, Settings: 2})
		require.NoError(t, err)
		assert.Equal(t, int64(2), again.Settings)
		w, err = e.Worker(t.Context(), "quay-7")
		require.NoError(t, err)
		assert.False(t, w.Outdated)

		// A heartbeat waits as long as asked, or until something is wanted.
		began := time.Now()
		wanted, err := e.Wanted(ctx, "quay-7", api.WantRun, 20*time.Second)
		require.NoError(t, err)
		assert.Empty(t, wanted.Cancelled)
		assert.Equal(t, 20*time.Second, time.Since(began))
		told := make(chan api.Wanted, 1)
		go func() {
			wanted, err := e.Wanted(ctx, "quay-7", api.WantRun, 20*time.Second)
			assert.NoError(t, err)
			told <- wanted
		}()
		synctest.Wait()
		began = time.Now()
		_, err = e.Cancel(ctx, j.ID)
		require.NoError(t, err)
		assert.Equal(t, []string{a.Leases[0].Token}, (<-told).Cancelled)
		assert.Zero(t, time.Since(began))
		_, err = e.Settle(ctx, []api.Settlement{{Token: a.Leases[0].Token, Outcome: job.OutcomeFailed}})
		require.NoError(t, err)

		waits, err := e.Enqueue(ctx, job.Spec{Task: "tide.predict"})
		require.NoError(t, err)
		because := func() string {
			j, err := e.Job(context.WithoutCancel(ctx), waits.ID)
			require.NoError(t, err)
			return j.WaitingBecause
		}
		assert.Contains(t, because(), "waits for a free slot")
		time.Sleep(time.Minute)
		assert.Contains(t, because(), "No worker serves queue common")
		time.Sleep(10 * time.Minute)
		assert.Empty(t, e.Workers(t.Context()))
		j, err = e.Job(ctx, j.ID)
		require.NoError(t, err)
		assert.Equal(t, "quay", j.Attempts[0].WorkerName)
	})
}

// How long runs of a task usually take, and how many jobs come and go a minute, are
// known again after a restart.
func TestTrends(t *testing.T) {
	path := filepath.Join(t.TempDir(), "trends.db")
	synctest.Test(t, func(t *testing.T) {
		e, err := Open(path, Options{Log: silent})
		require.NoError(t, err)
		ctx := t.Context()
		for n := range 100 {
			_, err := e.Enqueue(ctx, job.Spec{Task: "tide.predict"})
			require.NoError(t, err)
			a, err := e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Limit: 1})
			require.NoError(t, err)
			time.Sleep(3 * time.Second)
			if n%2 == 0 {
				_, err = e.Settle(ctx, []api.Settlement{{Token: a.Leases[0].Token, Outcome: job.OutcomeDone, RunMS: int64(1000 + 10*n)}})
				require.NoError(t, err)
			}
		}
		look := func(in, out float64) {
			tasks := e.Tasks(ctx)
			require.Len(t, tasks, 1)
			require.NotNil(t, tasks[0].Run)
			assert.Equal(t, int64(50), tasks[0].Run.Count)
			assert.InEpsilon(t, 1490, tasks[0].Run.P50MS, 0.02)
			assert.InEpsilon(t, 1940, tasks[0].Run.P95MS, 0.02)
			queues, err := e.Queues(ctx)
			require.NoError(t, err)
			assert.InDelta(t, in, queues[0].InPerMinute, 2)
			assert.InDelta(t, out, queues[0].OutPerMinute, 1)
			stats, err := e.Stats(ctx, "")
			require.NoError(t, err)
			sum := 0.0
			for _, m := range stats.Moves {
				if m.From == job.Unplaced {
					sum += float64(m.Count) * 60_000 / float64(stats.WindowMS)
				}
			}
			assert.InDelta(t, queues[0].InPerMinute, sum, 0.1, "the same wherever it is told")
		}
		look(20, 10)
		require.NoError(t, e.Close())
		e, err = Open(path, Options{Log: silent})
		require.NoError(t, err)
		for range 4 { // right from the first second after a start, too
			_, err := e.Enqueue(ctx, job.Spec{Task: "tide.predict"})
			require.NoError(t, err)
			time.Sleep(500 * time.Millisecond)
		}
		look(120, 0)
		require.NoError(t, e.Close())
	})
}

// A worker that never registers serves what its calls ask for, each by itself: a task it
// does in one queue it does not do in another.
func TestRawWorkersServeWhatTheyAskFor(t *testing.T) {
	path := filepath.Join(t.TempDir(), "raw.db")
	synctest.Test(t, func(t *testing.T) {
		e, err := Open(path, Options{Log: silent})
		require.NoError(t, err)
		defer func() { require.NoError(t, e.Close()) }()
		take := func(queue string, tasks ...string) {
			_, err := e.Lease(t.Context(), api.LeaseRequest{Worker: "raw-1", Queues: []string{queue}, Tasks: tasks, Limit: 1})
			require.NoError(t, err)
		}
		codes := func(queue, task string) (all []string) {
			time.Sleep(2 * time.Second)
			for _, w := range e.Unserved([]job.Spec{{Queue: queue, Task: task}}) {
				all = append(all, w.Code)
			}
			return all
		}
		take("berths", "berth.plan")
		take("notices", "vessel.notice")
		assert.Empty(t, codes("berths", "berth.plan"))
		assert.Empty(t, codes("notices", "vessel.notice"))
		assert.Equal(t, []string{job.WarnTaskUndone}, codes("berths", "vessel.notice"))
		assert.Equal(t, []string{job.WarnQueueUnserved}, codes("tides", "berth.plan"))
		w, err := e.Worker(t.Context(), "raw-1")
		require.NoError(t, err)
		assert.Equal(t, []string{"berths", "notices"}, w.Queues)
		assert.Equal(t, []string{"berth.plan", "vessel.notice"}, w.Tasks)

		// What it no longer asks for it no longer serves; one call for every task does all.
		for range 4 {
			time.Sleep(30 * time.Second)
			take("notices")
		}
		assert.Equal(t, []string{job.WarnQueueUnserved}, codes("berths", "berth.plan"))
		assert.Empty(t, codes("notices", "tide.predict"))

		// Once it has registered, that is what it serves.
		_, err = e.PutWorker(t.Context(), api.Worker{ID: "raw-1", Queues: []string{"tides"}})
		require.NoError(t, err)
		take("notices")
		assert.Equal(t, []string{job.WarnQueueUnserved}, codes("notices", "tide.predict"))
		assert.Empty(t, codes("tides", "tide.predict"))
	})
}
