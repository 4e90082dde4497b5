package engine

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule/api"
	"humblemule/internal/core/command"
	"humblemule/internal/core/commit"
	"humblemule/internal/core/memory"
	"humblemule/job"
)

// skew is how far the wall clock is off.
type skew struct{ atomic.Int64 }

func (s *skew) set(by time.Duration) { s.Store(int64(by)) }

func (s *skew) wall() time.Time { return time.Now().Add(time.Duration(s.Load())) }

// underSkew gives do an engine whose wall clock can be set, beside a clock that cannot.
func underSkew(t *testing.T, do func(ctx context.Context, e *Engine, jump *skew)) {
	path := filepath.Join(t.TempDir(), "skew.db")
	synctest.Test(t, func(t *testing.T) {
		var jump skew
		e, err := Open(path, Options{Log: silent, Wall: jump.wall})
		require.NoError(t, err)
		defer func() { require.NoError(t, e.Close()) }()
		do(context.Background(), e, &jump)
	})
}

// What a purge has removed can be brought back for ten minutes of serving after its last
// removal: neither a stop, nor a jump of the clock, nor a long purge uses them up; one that
// is under way is stopped by its undo.
func TestUndoInServingTime(t *testing.T) {
	path := filepath.Join(t.TempDir(), "undo.db")
	synctest.Test(t, func(t *testing.T) {
		ctx := context.Background()
		var jump skew
		var e *Engine
		open := func() {
			var err error
			e, err = Open(path, Options{Log: silent, Wall: jump.wall})
			require.NoError(t, err)
		}
		open()
		specs := make([]job.Spec, 150)
		for i := range specs {
			specs[i].Task = "log.pack"
		}
		_, err := e.EnqueueMany(ctx, specs, func(int) string { return "" })
		require.NoError(t, err)
		purge := func(perSecond float64) api.Operation {
			o, err := e.Act(ctx, api.ActRequest{Action: api.ActPurge, Filter: &api.Selection{Queues: []string{"common"}}, PerSecond: perSecond})
			require.NoError(t, err)
			return o
		}
		ready := func() int64 { return e.Counts(t.Context())["common"][job.Ready] }
		o := purge(0.1) // for 25 minutes
		time.Sleep(20 * time.Minute)
		synctest.Wait()
		assert.InDelta(t, 30, ready(), 5)
		memoryAgrees(t, e)
		require.NoError(t, e.Close())
		time.Sleep(time.Hour) // without a service
		open()
		time.Sleep(time.Minute)
		o, err = e.UndoOperation(ctx, o.ID)
		require.NoError(t, err)
		assert.Equal(t, api.OpUndone, o.State)
		assert.Equal(t, int64(150), ready(), "all of it, the first removals too")
		memoryAgrees(t, e)

		o = purge(0)
		for {
			o, err = e.Operation(ctx, o.ID)
			require.NoError(t, err)
			if o.Over() {
				break
			}
			time.Sleep(time.Second)
		}
		require.Zero(t, ready())
		time.Sleep(9 * time.Minute)
		jump.set(3 * time.Hour)
		o, err = e.Operation(ctx, o.ID)
		require.NoError(t, err)
		assert.InDelta(t, time.Minute.Seconds(), o.UndoUntil.Sub(e.c.Now()).Seconds(), 5)
		require.NoError(t, e.Close())
		time.Sleep(24 * time.Hour)
		open()
		_, err = e.UndoOperation(ctx, o.ID)
		require.NoError(t, err)
		assert.Equal(t, int64(150), ready())

		o = purge(0)
		time.Sleep(11 * time.Minute)
		synctest.Wait()
		_, err = e.UndoOperation(ctx, o.ID)
		require.ErrorContains(t, err, "could be undone until")
		time.Sleep(time.Minute)
		synctest.Wait()
		memoryAgrees(t, e)
		queues, err := e.Queues(ctx)
		require.NoError(t, err)
		assert.Equal(t, int64(150), queues[0].Past[job.Cancelled], "they are counted on")
		require.NoError(t, e.Close())
	})
}

// Retention rests after a jump of the wall clock: what it would remove is kept for half an
// hour more.
func TestRetentionRests(t *testing.T) {
	underSkew(t, func(ctx context.Context, e *Engine, jump *skew) {
		j, err := e.Enqueue(ctx, job.Spec{Task: "tide.predict"})
		require.NoError(t, err)
		_, err = e.Cancel(ctx, j.ID)
		require.NoError(t, err)
		there := func() bool {
			synctest.Wait()
			return e.Counts(t.Context())["common"][job.Cancelled] == 1
		}
		jump.set(40 * 24 * time.Hour)
		time.Sleep(29 * time.Minute)
		require.True(t, there())
		assert.Contains(t, e.Resting(), "the wall clock has jumped by 40 days")
		time.Sleep(2 * time.Minute)
		require.False(t, there())
		assert.Empty(t, e.Resting())
	})
}

// Fifty old jobs that finished late do not keep the others of their group for good, and of
// done jobs no more than the most are kept, however many come.
func TestRetentionKeepsPace(t *testing.T) {
	t.Parallel() // it takes long
	inYard(t, func(y *yard) {
		ctx := context.Background()
		most := int64(100)
		_, err := y.e.Load(ctx, api.SetupRequest{Setup: api.Setup{Retention: &api.Retention{MostDone: &most, Dead: job.Duration(time.Hour)}}})
		require.NoError(t, err)
		enqueue := func(n int) {
			specs := make([]job.Spec, n)
			for i := range specs {
				specs[i] = job.Spec{Task: fmt.Sprint("task-", i%3)}
			}
			_, err := y.e.EnqueueMany(ctx, specs, func(int) string { return "" })
			require.NoError(t, err)
		}
		enqueue(200)
		old := y.take("common", 150)
		for _, l := range y.take("common", 50) {
			y.settle(l, job.OutcomeGiveUp)
		}
		time.Sleep(50 * time.Minute)
		for _, l := range old {
			y.settle(l, job.OutcomeGiveUp)
		}
		time.Sleep(15 * time.Minute)
		synctest.Wait()
		assert.Equal(t, int64(150), y.e.Counts(y.Context())["common"][job.Dead], "those that finished an hour ago are gone, though their ids are higher")
		for range rounds(20, 6) {
			enqueue(500)
			for _, l := range y.take("common", 500) {
				y.settle(l, job.OutcomeDone)
			}
			time.Sleep(time.Minute)
		}
		synctest.Wait()
		assert.LessOrEqual(t, y.e.Counts(y.Context())["common"][job.Done], most)
		memoryAgrees(t, y.e)
	})
}

// One token makes no more than its share of names, over a restart too.
func TestShareOfNames(t *testing.T) {
	inYard(t, func(y *yard) {
		share := command.MostNames / 4
		enqueue := func(by string, from, n int) error {
			specs := make([]job.Spec, n)
			for i := range specs {
				specs[i] = job.Spec{Task: "a", Queue: fmt.Sprint("q-", from+i)}
			}
			_, err := y.e.EnqueueMany(WithCall(context.Background(), Call{Principal: by}), specs, func(int) string { return "" })
			return err
		}
		require.NoError(t, enqueue("quay", 0, share))
		require.ErrorContains(t, enqueue("quay", share, 1), "queues that token quay has made")
		require.NoError(t, enqueue("pier", share, 100))
		require.NoError(t, y.e.Close())
		y.open()
		require.ErrorContains(t, enqueue("quay", 9000, 1), "queues that token quay has made")
		memoryAgrees(t, y.e)
	})
}

// Names without a use go after thirty days, or when they are deleted, and workers that
// were not seen for as long.
func TestNamesEnd(t *testing.T) {
	underSkew(t, func(ctx context.Context, e *Engine, jump *skew) {
		pass := func(days time.Duration) {
			jump.set(time.Duration(jump.Load()) + days*24*time.Hour)
			time.Sleep((30 * time.Minute) + (10 * time.Minute) + time.Minute)
			synctest.Wait()
		}
		for _, name := range []string{"one", "two", "three"} {
			j, err := e.Enqueue(ctx, job.Spec{Task: "task-" + name, Queue: name})
			require.NoError(t, err)
			_, err = e.Cancel(ctx, j.ID)
			require.NoError(t, err)
		}
		_, err := e.PutWorker(ctx, api.Worker{ID: "w", Queues: []string{"one"}})
		require.NoError(t, err)
		require.ErrorContains(t, e.DeleteQueue(ctx, "one"), "has jobs or settings")
		pass(12) // cancelled jobs are kept for ten days
		require.NoError(t, e.DeleteQueue(ctx, "one"))
		require.NoError(t, e.DeleteTask(ctx, "task-one"))
		assert.NotContains(t, e.Counts(t.Context()), "one")
		_, err = e.Enqueue(ctx, job.Spec{Task: "task-one", Queue: "two"})
		require.NoError(t, err)
		memoryAgrees(t, e)
		pass(15)
		assert.Len(t, e.Counts(t.Context()), 2)
		pass(20)
		assert.Len(t, e.Counts(t.Context()), 1, "the one that has a job")
		assert.Len(t, e.Tasks(ctx), 1)
		rows := int64(-1)
		require.NoError(t, e.c.Do(ctx, commit.Unchecked(func(tx *commit.Tx) error {
			all, err := tx.Store.WorkersBefore(tx.Now, 10)
			rows = int64(len(all))
			return err
		})))
		assert.Zero(t, rows, "rows of workers")
		memoryAgrees(t, e)
	})
}

// Policies that no job has any more go within a day; one that a job has stays, and so does
// one that a job gets between the walks or while what is unused is being dropped.
func TestPoliciesEnd(t *testing.T) {
	t.Parallel() // it takes long
	path := filepath.Join(t.TempDir(), "policies.db")
	synctest.Test(t, func(t *testing.T) {
		ctx := context.Background()
		e, err := Open(path, Options{Log: silent})
		require.NoError(t, err)
		with := func(minutes int) job.Job {
			j, err := e.Enqueue(ctx, job.Spec{Task: "tide.predict", Timeout: job.Duration(minutes) * job.Duration(time.Minute)})
			require.NoError(t, err)
			return j
		}
		policies := func() (n int) {
			require.NoError(t, e.c.Do(ctx, commit.Unchecked(func(tx *commit.Tx) error {
				all, err := tx.Store.PolicyIDs(1 << 40)
				n = len(all)
				return err
			})))
			return n
		}
		const made = 700 // more than one slice drops
		for i := range made {
			j := with(i + 1)
			if i >= 2 {
				_, err := e.Cancel(ctx, j.ID)
				require.NoError(t, err)
			}
		}
		require.Equal(t, made, policies())
		_, err = e.Act(ctx, api.ActRequest{Action: api.ActDiscard, Filter: &api.Selection{States: []job.State{job.Cancelled}}})
		require.NoError(t, err)
		time.Sleep(memory.RestorableFor + 2*(10*time.Minute))
		synctest.Wait()
		assert.Equal(t, made, policies(), "after one walk all are there")
		again := with(3)
		var late job.Job // gets a policy that is about to be dropped
		for began := time.Now(); late.ID == 0; {
			require.Less(t, time.Since(began), 25*time.Hour)
			var w memory.PolicyWalk
			var next time.Time
			require.NoError(t, e.c.Do(ctx, commit.Unchecked(func(tx *commit.Tx) error { w, next = tx.Policies.Walk.Get(), tx.Retention.Forget.Get(); return nil })))
			if n := len(w.Doomed); n > 0 {
				late = with(int(w.Doomed[n-1])) // policies were made in this order
			}
			time.Sleep(time.Until(next) + time.Millisecond)
		}
		time.Sleep(time.Hour)
		synctest.Wait()
		j, err := e.Job(ctx, late.ID)
		require.NoError(t, err)
		assert.Equal(t, late.Timeout, j.Timeout)
		assert.Equal(t, 4, policies())
		assert.Equal(t, 3*job.Duration(time.Minute), with(3).Timeout)
		back := with(4) // whose policy is gone, and comes back
		assert.Equal(t, 5, policies())
		memoryAgrees(t, e)
		require.NoError(t, e.Close())
		e, err = Open(path, Options{Log: silent})
		require.NoError(t, err)
		defer func() { require.NoError(t, e.Close()) }()
		for id, minutes := range map[int64]int{1: 1, 2: 2, again.ID: 3, back.ID: 4} {
			j, err := e.Job(ctx, id)
			require.NoError(t, err)
			assert.Equal(t, job.Duration(minutes)*job.Duration(time.Minute), j.Timeout)
		}
	})
}

// A worker that renews in time loses no lease to a service that has much to write, and a
// single job does not wait for all bulks before it.
func TestBulksHoldNobodyUp(t *testing.T) {
	e, err := Open(filepath.Join(t.TempDir(), "bulk.db"), Options{Log: silent})
	require.NoError(t, err)
	defer func() { require.NoError(t, e.Close()) }()
	ctx := context.Background()
	_, err = e.Enqueue(ctx, job.Spec{Task: "berth.plan", Queue: "berths"})
	require.NoError(t, err)
	const length = 2 * time.Second
	a, err := e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{"berths"}, Limit: 1, Lease: job.Duration(length)})
	require.NoError(t, err)
	renewed := time.Now()
	specs := make([]job.Spec, 3000)
	for i := range specs {
		specs[i] = job.Spec{Task: "log.pack", Queue: "archive"}
	}
	stop := make(chan struct{})
	var wg sync.WaitGroup
	end := sync.OnceFunc(func() {
		close(stop)
		wg.Wait()
	})
	defer end()
	var bulks sync.Map
	for n := range 12 {
		wg.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				began := time.Now()
				_, err := e.EnqueueMany(ctx, specs, func(int) string { return "" })
				assert.NoError(t, err)
				bulks.Store(n, time.Since(began))
			}
		})
	}
	var waits []time.Duration
	for until := time.Now().Add(4 * time.Second); time.Now().Before(until); {
		began := time.Now()
		x, err := e.Extend(ctx, api.ExtendRequest{Leases: []api.Extension{{Token: a.Leases[0].Token}}})
		require.NoError(t, err)
		if began.Sub(renewed) > length {
			t.Skip("this machine is too busy for a worker to renew in time")
		}
		renewed = began
		require.Equal(t, api.StatusOK, x.Results[0].Status)
		_, err = e.Enqueue(ctx, job.Spec{Task: "tide.predict"})
		require.NoError(t, err)
		waits = append(waits, time.Since(began))
		time.Sleep(300 * time.Millisecond)
	}
	end()
	var all time.Duration
	bulks.Range(func(_, d any) bool { all += d.(time.Duration); return true })
	mean := all / 12 // of a bulk that waits for eleven others
	slices.Sort(waits)
	assert.Less(t, waits[len(waits)/2], mean/2, "a renewal and a single job wait for one bulk each, not for all")
}
