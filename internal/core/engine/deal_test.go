package engine

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Promise 9: a pool that does one rare task of a full queue finds its jobs as
// fast as in an empty one.
func TestRareTask(t *testing.T) {
	e, err := Open(filepath.Join(t.TempDir(), "rare.db"), Options{LookEvery: unwatched, Log: silent})
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
	db, err := store.Look(e.c.Store.Path())
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
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
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

// Owners take turns by their weights, whoever has more jobs, and over a restart.
func TestTurnsOfOwners(t *testing.T) {
	inYard(t, func(y *yard) {
		y.rules("common", api.Rules{Turns: api.TurnsOwner, OwnerWeights: map[string]int{"Marsh Agency": 2}})
		var burst []job.Spec
		for range 1000 {
			burst = append(burst, job.Spec{Task: "notice.publish", Owner: "Okonkwo Lines"})
		}
		y.enqueue(burst...)
		got := func(n int) (owners []string) {
			for _, l := range y.lease("common", n) {
				owners = append(owners, l.Job.Owner)
				y.settle(l, job.OutcomeDone)
			}
			return owners
		}
		require.Len(t, got(100), 100)
		for range 10 {
			y.enqueue(job.Spec{Task: "dues.charge", Owner: "Marsh Agency"})
		}
		y.enqueue(job.Spec{Task: "dues.charge"})
		assert.Contains(t, y.why(1005), "The owners of queue common take turns; of Marsh Agency, 4 jobs are ahead of it.")
		require.NoError(t, y.e.Close())
		y.open()
		counts := map[string]int{}
		for _, owner := range got(16) {
			counts[owner]++
		}
		assert.Equal(t, 1, counts[""])
		assert.InDelta(t, 10, counts["Marsh Agency"], 1, "%v", counts)
		got(2)
		got(60)
		for range 30 {
			y.enqueue(job.Spec{Task: "notice.publish", Owner: "Marsh Agency"})
		}
		clear(counts)
		for _, owner := range got(12) {
			counts[owner]++
		}
		assert.InDelta(t, 8, counts["Marsh Agency"], 2, "turns are not saved up while there is nothing to do")
		require.NoError(t, y.e.SetQueue(context.Background(), "common", api.Defaults{}))
		time.Sleep(time.Second)
		tablesAgree(y.T, y.e)
	})
}

// A newcomer waits no longer than others of its task, however far another pool is with
// another task of the queue; and nobody is forgotten who was served more than others.
func TestTurnsOfTwoPools(t *testing.T) {
	inYard(t, func(y *yard) {
		y.rules("common", api.Rules{Turns: api.TurnsOwner})
		many := func(task, owner string, n int) {
			specs := make([]job.Spec, n)
			for i := range specs {
				specs[i] = job.Spec{Task: task, Owner: owner}
			}
			y.enqueue(specs...)
		}
		got := func(task string, n int) (owners []string) {
			a, err := y.e.Lease(context.Background(), api.LeaseRequest{Worker: y.worker, Queues: []string{"common"}, Tasks: []string{task}, Limit: n})
			require.NoError(t, err)
			for _, l := range a.Leases {
				owners = append(owners, l.Job.Owner)
				y.settle(l, job.OutcomeDone)
			}
			return owners
		}
		many("buoy.poll", "Okonkwo Lines", 300)
		many("notice.publish", "Gull Freight", 300)
		many("notice.publish", "Marsh Agency", 40)
		got("notice.publish", 80) // Marsh Agency has no more, and had as much as Gull Freight
		got("buoy.poll", 200)     // the fast pool is far ahead, and many starts have gone by
		many("notice.publish", "", 5)
		assert.Contains(t, got("notice.publish", 2), "", "it waits with those who wait for its task")
		got("notice.publish", 6)
		many("notice.publish", "Marsh Agency", 5)
		assert.ElementsMatch(t, []string{"Gull Freight", "Marsh Agency", "", "Gull Freight"}, got("notice.publish", 4)[:4], "in turns, from where it was")
	})
}

// No more run than may, over pools and queues, and what ends lets the next one start at
// once; a rate lets jobs start when they may, not before and not much later.
func TestLimits(t *testing.T) {
	inYard(t, func(y *yard) {
		y.rules("common", api.Rules{MaxRunning: ptr(3)})
		require.NoError(t, y.e.SetTask(context.Background(), "dues.charge", api.Defaults{Rules: api.Rules{MaxRunning: ptr(1)}}))
		for range 6 {
			y.enqueue(job.Spec{Task: "dues.charge"}, job.Spec{Task: "notice.publish"})
		}
		first := y.lease("common", 10)
		assert.Equal(t, []int64{1, 2, 4}, idsOf(first))
		assert.Equal(t, "Queue common has its limit of 3 running; it starts when one of them ends; 6 jobs are ahead of it.", y.why(10))
		parked := make(chan []api.Lease, 1)
		go func() {
			a, err := y.e.Lease(context.Background(), api.LeaseRequest{Worker: y.worker, Queues: []string{"common"}, Limit: 1, Ahead: 5, Wait: job.Duration(20 * time.Second)})
			require.NoError(t, err)
			parked <- a.Leases
		}()
		time.Sleep(time.Second)
		y.settle(first[1], job.OutcomeDone)
		assert.Equal(t, []int64{6}, idsOf(<-parked), "nothing of a limited queue is held ahead")

		y.rules("bulletins", api.Rules{Rate: &api.Rate{PerSecond: 5, Burst: ptr(2)}})
		began := time.Now()
		for range 50 {
			y.enqueue(job.Spec{Task: "fog.bulletin", Queue: "bulletins"})
		}
		var at []time.Duration
		for len(at) < 40 {
			a, err := y.e.Lease(context.Background(), api.LeaseRequest{Worker: y.worker, Queues: []string{"bulletins"}, Limit: 4, Wait: job.Duration(20 * time.Second)})
			require.NoError(t, err)
			for range a.Leases {
				at = append(at, time.Since(began))
			}
		}
		for i, when := range at {
			assert.InDelta(t, float64(i+1)/5, when.Seconds(), 0.41, "start %d", i)
		}
		time.Sleep(10 * time.Second)
		assert.Len(t, y.lease("bulletins", 10), 2, "a burst after a quiet time")
	})
}

// The service ends an attempt that its worker lets overrun its timeout, and an operator
// can end a lease: the job goes to its place, uncounted, and keeps its lane meanwhile.
func TestLeasesEndedByOthers(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		enqueue := func(s job.Spec) int64 {
			j, err := y.e.Enqueue(ctx, s)
			require.NoError(t, err)
			return j.ID
		}
		look := func(id int64) job.Job {
			synctest.Wait()
			j, err := y.e.Job(ctx, id)
			require.NoError(t, err)
			return j
		}
		id := enqueue(job.Spec{Task: "log.pack", Timeout: job.Duration(time.Minute)})
		a, err := y.e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Limit: 1, Lease: job.Duration(30 * time.Second)})
		require.NoError(t, err)
		for range 8 {
			time.Sleep(10 * time.Second)
			x, err := y.e.Extend(ctx, api.ExtendRequest{Leases: []api.Extension{{Token: a.Leases[0].Token}}})
			require.NoError(t, err)
			require.Equal(t, api.StatusOK, x.Results[0].Status)
		}
		time.Sleep(15 * time.Second)
		j := look(id)
		assert.Equal(t, []any{job.Backoff, 1, job.TimedOut}, []any{j.State, j.Tries, j.Attempts[0].Error.Type})
		_, err = y.e.Cancel(ctx, id)
		require.NoError(t, err)

		first := enqueue(job.Spec{Task: "berth.plan", Lane: "berth-3"})
		second := enqueue(job.Spec{Task: "berth.plan", Lane: "berth-3"})
		lease := y.take("common", 1)[0] // for an hour
		time.Sleep(10 * time.Minute)
		j, err = y.e.EndLease(ctx, first, false)
		require.NoError(t, err)
		assert.Equal(t, []any{job.Scheduled, 0, job.At(time.Now().Add(50 * time.Minute))}, []any{j.State, j.Tries, j.NextAt})
		results, err := y.e.Settle(ctx, []api.Settlement{{Token: lease.Token, Outcome: job.OutcomeDone}})
		require.NoError(t, err)
		assert.Equal(t, api.StatusLost, results[0].Status)
		assert.Empty(t, y.take("common", 1), "its lane is taken until the lease would have ended")
		memoryAgrees(t, y.e)
		time.Sleep(51 * time.Minute)
		lease = y.take("common", 10)[0]
		assert.Equal(t, first, lease.Job.ID)
		_, err = y.e.EndLease(ctx, first, true)
		require.NoError(t, err)
		assert.Equal(t, []int64{first}, idsOf(y.take("common", 10)), "it keeps its rank")

		// The good-bye of a worker ends what it holds.
		_, err = y.e.PutWorker(ctx, api.Worker{ID: y.worker, Queues: []string{"common"}})
		require.NoError(t, err)
		require.NoError(t, y.e.DeleteWorker(ctx, y.worker))
		j = look(first)
		assert.Equal(t, []any{job.Ready, 0}, []any{j.State, j.Tries})
		assert.Equal(t, job.Held, look(second).State)
		memoryAgrees(t, y.e)
	})
}

// What an answer brought that was lost is told again: by the same call, and when the
// worker registers or renews.
func TestLeasesAreToldAgain(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		_, err := y.e.EnqueueMany(ctx, make10("tide.predict"), func(int) string { return "" })
		require.NoError(t, err)
		lost := y.take("common", 3)
		w, err := y.e.PutWorker(ctx, api.Worker{ID: y.worker, Queues: []string{"common"}, Holds: []string{lost[0].Token}})
		require.NoError(t, err)
		assert.Equal(t, []string{lost[1].Token, lost[2].Token}, []string{w.Leases[0].Token, w.Leases[1].Token})
		x, err := y.e.Extend(ctx, api.ExtendRequest{Worker: y.worker, Leases: []api.Extension{{Token: lost[0].Token}, {Token: lost[2].Token}}})
		require.NoError(t, err)
		require.Len(t, x.Leases, 1)
		assert.Equal(t, lost[1].Token, x.Leases[0].Token)
		x, err = y.e.Extend(WithCall(ctx, Call{Principal: "another"}), api.ExtendRequest{Worker: y.worker})
		require.NoError(t, err)
		assert.Empty(t, x.Leases, "to nobody else")
	})
}

// A worker that was asked to drain is told so at once, and then waits as it asks to: it
// does not call again and again. It hears when something else is wanted.
func TestDrainedWorkersWait(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		_, err := y.e.Enqueue(ctx, job.Spec{Task: "tide.predict"})
		require.NoError(t, err)
		_, err = y.e.PutWorker(ctx, api.Worker{ID: "w", Queues: []string{"common"}})
		require.NoError(t, err)
		_, err = y.e.AskWorker(ctx, "w", api.WantDrain)
		require.NoError(t, err)
		take := func() (api.LeaseAnswer, time.Duration) {
			began := time.Now()
			a, err := y.e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Limit: 1, Wait: job.Duration(20 * time.Second)})
			require.NoError(t, err)
			return a, time.Since(began)
		}
		a, took := take()
		assert.Equal(t, []any{api.WantDrain, time.Duration(0)}, []any{a.Wanted, took})
		a, took = take()
		assert.Equal(t, []any{0, 20 * time.Second}, []any{len(a.Leases), took})
		time.AfterFunc(5*time.Second, func() {
			_, err := y.e.AskWorker(ctx, "w", api.WantRun)
			assert.NoError(t, err)
		})
		a, took = take()
		assert.Equal(t, []any{api.WantRun, 5 * time.Second}, []any{a.Wanted, took})
		a, _ = take()
		assert.Len(t, a.Leases, 1)
	})
}

// A worker is there from its first call on, is thought to be gone when it is not
// heard any more, and is forgotten later; its attempts keep its name.
func TestWorkersComeAndGo(t *testing.T) {
	path := filepath.Join(t.TempDir(), "workers.db")
	synctest.Test(t, func(t *testing.T) {
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
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
		later, err := e.Job(ctx, j.ID)
		require.NoError(t, err)
		assert.Equal(t, "quay", later.Attempts[0].WorkerName)
	})
}

// A worker that never registers serves what its calls ask for, each by itself: a task it
// does in one queue it does not do in another.
func TestRawWorkersServeWhatTheyAskFor(t *testing.T) {
	path := filepath.Join(t.TempDir(), "raw.db")
	synctest.Test(t, func(t *testing.T) {
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
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
