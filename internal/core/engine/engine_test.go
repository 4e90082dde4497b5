package engine

import (
	"context"
	"database/sql"
	"fmt"
	"log/slog"
	"math"
	"path/filepath"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/mattn/go-sqlite3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule/api"
	"humblemule/internal/core/commit"
	"humblemule/job"
)

var silent = slog.New(slog.DiscardHandler)

func leaseOf(t *testing.T, e *Engine, limit int, tasks ...string) []api.Lease {
	t.Helper()
	a, err := e.Lease(t.Context(), api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Tasks: tasks, Limit: limit, Lease: job.Duration(time.Minute)})
	require.NoError(t, err)
	return a.Leases
}

// The wall clock may jump: what is due by it follows within a second, and a
// lease, which is judged by the monotonic clock, does not notice.
func TestClockJump(t *testing.T) {
	path := filepath.Join(t.TempDir(), "clock.db")
	synctest.Test(t, func(t *testing.T) {
		var jump atomic.Int64
		e, err := Open(path, Options{Log: silent, Wall: func() time.Time { return time.Now().Add(time.Duration(jump.Load())) }})
		require.NoError(t, err)
		defer func() { require.NoError(t, e.Close()) }()
		running, err := e.Enqueue(t.Context(), job.Spec{Task: "log.pack"})
		require.NoError(t, err)
		require.Len(t, leaseOf(t, e, 1), 1)
		later, err := e.Enqueue(t.Context(), job.Spec{Task: "fog.bulletin", Delay: job.Duration(3 * time.Hour)})
		require.NoError(t, err)
		state := func(id int64) job.State {
			synctest.Wait()
			j, err := e.Job(t.Context(), id)
			require.NoError(t, err)
			return j.State
		}
		jump.Store(int64(2 * time.Hour))
		time.Sleep(time.Second)
		assert.Equal(t, job.Running, state(running.ID))
		assert.Equal(t, job.Scheduled, state(later.ID))
		jump.Store(int64(-5 * time.Hour))
		time.Sleep(time.Second)
		assert.Equal(t, job.Running, state(running.ID))
		assert.Equal(t, job.Scheduled, state(later.ID), "a clock set back delays, and starts nothing early")
		jump.Store(int64(4 * time.Hour))
		time.Sleep(time.Second)
		assert.Equal(t, job.Running, state(running.ID))
		assert.Equal(t, job.Ready, state(later.ID))
		time.Sleep(time.Minute)
		assert.Equal(t, job.Backoff, state(running.ID), "the lease has ended after its own length")
	})
}

// What a sentence says of a job that waits follows from the queue, its jobs and
// its workers.
func TestWhyAndSays(t *testing.T) {
	e, err := Open(filepath.Join(t.TempDir(), "why.db"), Options{Log: silent})
	require.NoError(t, err)
	defer func() { require.NoError(t, e.Close()) }()
	ctx := t.Context()
	says := func() (all []string) {
		s, err := e.Stats(ctx, "")
		require.NoError(t, err)
		for _, said := range s.Says {
			all = append(all, said.Text)
		}
		return all
	}
	assert.Equal(t, []string{"No job has been enqueued yet."}, says())
	specs := make([]job.Spec, 1500)
	for i := range specs {
		specs[i].Task = "tide.predict"
	}
	jobs, err := e.EnqueueMany(ctx, specs, func(int) string { return "" })
	require.NoError(t, err)
	low, high := 0, 9
	last, err := e.Enqueue(ctx, job.Spec{Task: "tide.predict", Priority: &low})
	require.NoError(t, err)
	first, err := e.Enqueue(ctx, job.Spec{Task: "fog.bulletin", Priority: &high})
	require.NoError(t, err)
	because := func(id int64) string {
		j, err := e.Job(ctx, id)
		require.NoError(t, err)
		return j.WaitingBecause
	}
	assert.Equal(t, "No worker serves queue common. Start one that does.", because(last.ID))
	assert.Equal(t, []string{"1\u202f502 jobs are ready in queue common, and nobody takes them."}, says())
	_, err = e.PutWorker(ctx, api.Worker{ID: "w", Queues: []string{"common"}, Tasks: []string{"tide.predict"}})
	require.NoError(t, err)
	assert.Equal(t, "More than 1000 jobs are ahead of it in queue common.", because(last.ID))
	assert.Equal(t, "8 jobs are ahead of it in queue common.", because(jobs[7].ID))
	assert.Equal(t, "1 job is ahead of it in queue common.", because(jobs[0].ID))
	assert.Equal(t, "No worker of queue common does fog.bulletin. Start one that has its handler.", because(first.ID))
	typo, err := e.Enqueue(ctx, job.Spec{Task: "tide.predcit", Priority: &high})
	require.NoError(t, err)
	assert.Contains(t, because(typo.ID), "does tide.predcit (the nearest is tide.predict).")
	assert.Equal(t, "1 job is ready for fog.bulletin in queue common, and no worker there does that task.", says()[0])
}

// A call that is made again is answered as it was, whatever time it is by now, however full
// the disk and whatever has become of its jobs.
func TestCallsMadeAgain(t *testing.T) {
	inYard(t, func(y *yard) {
		again := func(key string) context.Context {
			return WithCall(y.Context(), Call{Path: "/v1/jobs", Key: key, Body: []byte(key)})
		}
		spec := job.Spec{Task: "fog.bulletin", StartBy: job.At(time.Now().Add(time.Minute))}
		one := func() (job.Job, error) { return y.e.Enqueue(again("one"), spec) }
		bulk := func() ([]job.Job, error) {
			return y.e.EnqueueMany(again("bulk"), []job.Spec{spec, spec, spec}, unplaced)
		}
		first, err := one()
		require.NoError(t, err)
		all, err := bulk()
		require.NoError(t, err)
		time.Sleep(2 * time.Minute)
		_, err = y.e.Delete(y.Context(), all[1].ID)
		require.NoError(t, err)
		y.e.c.MinFree = math.MaxInt64 // then the disk is full
		time.Sleep(2 * time.Second)
		same, err := one()
		require.NoError(t, err)
		assert.Equal(t, []any{first.ID, job.Skipped}, []any{same.ID, same.State})
		told, err := bulk()
		require.NoError(t, err)
		assert.Equal(t, []job.Job{{ID: all[0].ID, State: job.Skipped}, {ID: all[1].ID}, {ID: all[2].ID, State: job.Skipped}}, told, "each in its place")
		_, err = y.e.Enqueue(again("new"), job.Spec{Task: "fog.bulletin"})
		require.ErrorContains(t, err, "min_free")
		y.e.c.MinFree = 1
		time.Sleep(2 * time.Second)
		_, err = y.e.Enqueue(again("new"), spec)
		require.ErrorContains(t, err, "start_by")
	})
}

// Promise 9: a pool that does one rare task of a full queue finds its jobs as
// fast as in an empty one.
func TestRareTask(t *testing.T) {
	e, err := Open(filepath.Join(t.TempDir(), "rare.db"), Options{Log: silent})
	require.NoError(t, err)
	defer func() { require.NoError(t, e.Close()) }()
	lives := func(task string) time.Duration {
		best := time.Hour
		for range 30 {
			began := time.Now()
			_, err := e.Enqueue(t.Context(), job.Spec{Task: task})
			require.NoError(t, err)
			got := leaseOf(t, e, 1, task)
			require.Len(t, got, 1)
			require.Equal(t, task, got[0].Job.Task)
			_, err = e.Settle(t.Context(), []api.Settlement{{Token: got[0].Token, Outcome: job.OutcomeDone}})
			require.NoError(t, err)
			best = min(best, time.Since(began))
		}
		return best
	}
	empty := lives("fog.bulletin")
	specs := make([]job.Spec, job.MaxSpecs)
	for i := range specs {
		specs[i].Task = fmt.Sprint("tide.predict-", i%100)
	}
	for range 5 {
		_, err := e.EnqueueMany(t.Context(), specs, func(int) string { return "" })
		require.NoError(t, err)
	}
	full := lives("fog.bulletin")
	began := time.Now()
	db, err := sql.Open("sqlite3", "file:"+e.c.Store.Path()+"?mode=ro")
	require.NoError(t, err)
	defer db.Close()
	var n int
	require.NoError(t, db.QueryRow("SELECT count(*) FROM jobs WHERE owner = 'nobody'").Scan(&n))
	scan := time.Since(began)
	t.Logf("with nothing waiting %s, with 50 000 jobs of 100 tasks %s; to look at each of them once takes %s", empty, full, scan)
	assert.Less(t, full-empty, scan/3, "a life costs as much as looking at the backlog")
}

// A caller that has gone is not dealt to, and many parked takes share what comes
// one by one.
func TestParkedTakes(t *testing.T) {
	path := filepath.Join(t.TempDir(), "parked.db")
	synctest.Test(t, func(t *testing.T) {
		e, err := Open(path, Options{Log: silent})
		require.NoError(t, err)
		defer func() { require.NoError(t, e.Close()) }()
		gone, leave := context.WithCancel(t.Context())
		got := make([]int, 4)
		for i := range got {
			ctx := t.Context()
			if i == 0 {
				ctx = gone
			}
			go func() {
				a, err := e.Lease(ctx, api.LeaseRequest{Worker: fmt.Sprint(i), Queues: []string{"common"}, Limit: 100, Wait: job.Duration(time.Minute)})
				assert.NoError(t, err)
				got[i] = len(a.Leases)
			}()
			synctest.Wait()
		}
		leave()
		synctest.Wait()
		_, err = e.EnqueueMany(t.Context(), make10("tide.predict"), func(int) string { return "" })
		require.NoError(t, err)
		synctest.Wait()
		assert.Equal(t, []int{0, 4, 3, 3}, got)
	})
}

// After a fault of the disk the file is opened again: the command is refused, what
// was acknowledged is there, leases live on, and work goes on.
func TestDiskFault(t *testing.T) {
	e, err := Open(filepath.Join(t.TempDir(), "fault.db"), Options{Log: silent})
	require.NoError(t, err)
	defer func() { require.NoError(t, e.Close()) }()
	_, err = e.EnqueueMany(t.Context(), make10("tide.predict"), func(int) string { return "" })
	require.NoError(t, err)
	token := leaseOf(t, e, 1)[0].Token
	err = e.c.Do(t.Context(), commit.Unchecked(func(tx *commit.Tx) error {
		if err := tx.Store.PutNextJob(99); err != nil {
			return err
		}
		return sqlite3.Error{Code: sqlite3.ErrIoErr}
	}))
	require.ErrorContains(t, err, "nothing of this was kept")
	results, err := e.Settle(t.Context(), []api.Settlement{{Token: token, Outcome: job.OutcomeDone}})
	require.NoError(t, err)
	assert.Equal(t, api.StatusOK, results[0].Status)
	j, err := e.Enqueue(t.Context(), job.Spec{Task: "tide.predict"})
	require.NoError(t, err)
	assert.Equal(t, int64(11), j.ID)
	assert.Equal(t, int64(1), e.Counts(t.Context())["common"][job.Done])
	assert.Len(t, leaseOf(t, e, 100), 10)
}

func make10(task string) []job.Spec {
	specs := make([]job.Spec, 10)
	for i := range specs {
		specs[i].Task = task
	}
	return specs
}
