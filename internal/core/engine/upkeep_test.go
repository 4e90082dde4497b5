package engine

import (
	"context"
	"fmt"
	"path/filepath"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/job"
)

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
		late, err := y.e.Requeue(ctx, 1, api.Requeue{})
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

// skew is how far the wall clock is off.
type skew struct{ atomic.Int64 }

func (s *skew) set(by time.Duration) { s.Store(int64(by)) }

func (s *skew) wall() time.Time { return time.Now().Add(time.Duration(s.Load())) }

// underSkew gives do an engine whose wall clock can be set, beside a clock that cannot.
func underSkew(t *testing.T, do func(ctx context.Context, e *Engine, jump *skew)) {
	path := filepath.Join(t.TempDir(), "skew.db")
	synctest.Test(t, func(t *testing.T) {
		var jump skew
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent, Wall: jump.wall})
		require.NoError(t, err)
		defer func() { require.NoError(t, e.Close()) }()
		do(context.Background(), e, &jump)
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
		_, err := y.e.Load(ctx, api.SetupRequest{Setup: api.Setup{Retention: &api.Retention{MaxDone: &most, Dead: job.Duration(time.Hour)}}})
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

// A dead letter outlives what is known of its worker, and is no longer counted under its cause
// once it was requeued.
func TestCausesOutliveWorkers(t *testing.T) {
	underSkew(t, func(ctx context.Context, e *Engine, jump *skew) {
		once := 1
		for _, w := range []api.Worker{{ID: "a", Host: "quay-1", Version: "2.3"}, {ID: "b", Host: "quay-3", Version: "2.4"}} {
			w.Queues = []string{"common"}
			_, err := e.PutWorker(ctx, w)
			require.NoError(t, err)
			_, err = e.Enqueue(ctx, job.Spec{Task: "dues.charge", MaxAttempts: &once})
			require.NoError(t, err)
			a, err := e.Lease(ctx, api.LeaseRequest{Worker: w.ID, Queues: w.Queues, Limit: 1})
			require.NoError(t, err)
			_, err = e.Settle(ctx, []api.Settlement{{Token: a.Leases[0].Token, Outcome: job.OutcomeFailed, Error: &job.Failure{Message: "the bank is closed"}}})
			require.NoError(t, err)
		}
		causes := func() []api.Cause {
			all, err := e.Causes(ctx, api.CauseFilter{})
			require.NoError(t, err)
			return all
		}
		assert.ElementsMatch(t, []api.CauseCount{
			{Task: "dues.charge", Queue: "common", Version: "2.3", Host: "quay-1", Count: 1}, {Task: "dues.charge", Queue: "common", Version: "2.4", Host: "quay-3", Count: 1},
		}, causes()[0].By)
		jump.set(time.Duration(jump.Load()) + 40*24*time.Hour)
		time.Sleep(2 * time.Hour)
		synctest.Wait()
		assert.Equal(t, int64(2), causes()[0].Count)
		_, err := e.Requeue(ctx, 1, api.Requeue{})
		require.NoError(t, err)
		assert.Equal(t, int64(1), causes()[0].Count)
		_, err = e.Requeue(ctx, 2, api.Requeue{})
		require.NoError(t, err)
		assert.Empty(t, causes())
		memoryAgrees(t, e)
	})
}

// Policies that no job has any more go within a day; one that a job has stays, and so does
// one that a job gets between the walks or while what is unused is being dropped.
func TestPoliciesEnd(t *testing.T) {
	alone(t)
	t.Parallel() // it takes long
	path := filepath.Join(t.TempDir(), "policies.db")
	synctest.Test(t, func(t *testing.T) {
		ctx := context.Background()
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		with := func(minutes int) job.Job {
			told, err := e.Enqueue(ctx, job.Spec{Task: "tide.predict", Timeout: job.Duration(minutes) * job.Duration(time.Minute)})
			require.NoError(t, err)
			j, err := e.Job(ctx, told.ID)
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
		e, err = Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		defer func() { require.NoError(t, e.Close()) }()
		for id, minutes := range map[int64]int{1: 1, 2: 2, again.ID: 3, back.ID: 4} {
			j, err := e.Job(ctx, id)
			require.NoError(t, err)
			assert.Equal(t, job.Duration(minutes)*job.Duration(time.Minute), j.Timeout)
		}
	})
}
