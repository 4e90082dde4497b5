package engine

import (
	"context"
	"encoding/json"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/job"
)

// A recovery requeues a few dead letters of a cause, and the rest only when these are
// done; it survives a restart; what dies meanwhile is not touched by it.
func TestRecovery(t *testing.T) {
	t.Parallel() // it takes long
	inYard(t, func(y *yard) {
		ctx := context.Background()
		y.dead(3000)
		causes, err := y.e.Causes(ctx, api.CauseFilter{})
		require.NoError(t, err)
		require.Len(t, causes, 1)
		assert.Equal(t, []any{"account # is locked", int64(3000)}, []any{causes[0].Template, causes[0].Count})
		recover := func() api.Operation {
			o, err := y.e.Act(ctx, api.ActRequest{Action: api.ActRequeue, Filter: &api.Selection{Cause: causes[0].ID}, Trial: 3, PayloadPatch: json.RawMessage(`{"bank":null}`)})
			require.NoError(t, err)
			return o
		}
		o := recover()
		time.Sleep(2 * time.Second)
		assert.Equal(t, int64(3), y.count(job.Ready), "the trial alone")
		y.work()
		stopped := y.await(o.ID, api.OpStopped)
		assert.Contains(t, stopped.Why, "of the trial is dead")
		assert.Equal(t, []int64{3000, 0}, []int64{y.count(job.Dead), y.count(job.Ready)})

		y.fails = func(payload string) bool { return false }
		o = recover()
		time.Sleep(time.Second)
		y.work()
		y.fails = func(payload string) bool { return true }
		require.NoError(t, y.e.Close()) // the service goes in the midst of it
		y.open()
		finished := y.await(o.ID, api.OpFinished)
		assert.Equal(t, []int64{3000, 0}, []int64{finished.Changed, finished.RefusedCount})
		assert.Equal(t, []int64{3, 2997, 0}, []int64{y.count(job.Done), y.count(job.Ready), y.count(job.Dead)})
		j, err := y.e.Job(ctx, 2500)
		require.NoError(t, err)
		assert.Equal(t, `{"cents":12345678901234567890,"ship":"heron-2499"}`, string(j.Payload))
		y.work()
		time.Sleep(5 * time.Second)
		assert.Equal(t, int64(2997), y.count(job.Dead), "none is touched twice")
	})
}

// What is discarded leaves every count at once and is back when that is undone; an
// operation counts first, can be stopped, keeps to its rate, and refuses by name.
func TestOperations(t *testing.T) {
	t.Parallel() // it takes long
	inYard(t, func(y *yard) {
		ctx := WithCall(context.Background(), Call{Principal: "ada", Path: "/v1/jobs/act", Key: "k1", Body: []byte("1")})
		y.dead(2500)
		dry, err := y.e.Act(ctx, api.ActRequest{Action: api.ActDiscard, Filter: &api.Selection{}, DryRun: true})
		require.NoError(t, err)
		assert.Equal(t, []any{int64(2500), "exact", int64(0)}, []any{dry.Matched, dry.MatchedIs, dry.Changed})
		o, err := y.e.Act(ctx, api.ActRequest{Action: api.ActDiscard, Filter: &api.Selection{}, Note: "the bank has gone"})
		require.NoError(t, err)
		again, err := y.e.Act(ctx, api.ActRequest{Action: api.ActDiscard, Filter: &api.Selection{}, Note: "the bank has gone"})
		require.NoError(t, err)
		assert.Equal(t, o.ID, again.ID, "the same call again is the same operation")
		assert.Equal(t, "ada", y.await(o.ID, api.OpFinished).By)
		causes, err := y.e.Causes(ctx, api.CauseFilter{})
		require.NoError(t, err)
		assert.Equal(t, []int64{0, 0}, []int64{y.count(job.Dead), int64(len(causes))})
		undone, err := y.e.UndoOperation(context.Background(), o.ID)
		require.NoError(t, err)
		assert.Equal(t, api.OpUndone, undone.State)
		assert.Equal(t, int64(2500), y.count(job.Dead))

		slow, err := y.e.Act(context.Background(), api.ActRequest{Action: api.ActRequeue, Filter: &api.Selection{}, PerSecond: 20})
		require.NoError(t, err)
		time.Sleep(10 * time.Second)
		assert.InDelta(t, 200, y.count(job.Ready), 10)
		stopped, err := y.e.StopOperation(context.Background(), slow.ID)
		require.NoError(t, err)
		assert.Equal(t, []string{api.OpStopped, "stopped by local"}, []string{stopped.State, stopped.Why})
		held := y.count(job.Ready)
		time.Sleep(10 * time.Second)
		assert.Equal(t, held, y.count(job.Ready))

		few, err := y.e.Act(context.Background(), api.ActRequest{Action: api.ActRequeue, IDs: []int64{1, 2499, 2500, 2500, 9999}})
		require.NoError(t, err)
		assert.Equal(t, []any{api.OpFinished, int64(2), int64(2)}, []any{few.State, few.Changed, few.RefusedCount})
		assert.Equal(t, "job 1 is now ready", few.Refused[0].Message)
		assert.Equal(t, "there is no job 9999", few.Refused[1].Message)
		_, err = y.e.UndoOperation(context.Background(), few.ID)
		assert.ErrorContains(t, err, "only removals can be undone")
		for want, req := range map[string]api.ActRequest{
			"is not a valid action on many": {Action: "explode"}, "say which jobs": {Action: api.ActCancel}, "give one of the two": {Action: api.ActCancel, Filter: &api.Selection{}, IDs: []int64{1}},
			"ready jobs cannot be acted on by requeue": {Action: api.ActRequeue, Filter: &api.Selection{States: []job.State{job.Ready}}}, "belongs to requeue": {Action: api.ActDiscard, Filter: &api.Selection{}, Trial: 1},
			"outside 1 to 100": {Action: api.ActRequeue, Filter: &api.Selection{}, Trial: 101}, "no job matches": {Action: api.ActRequeue, Filter: &api.Selection{Owner: "nobody"}},
		} {
			_, err := y.e.Act(context.Background(), req)
			assert.ErrorContains(t, err, want)
		}
		actions, err := y.e.Actions(context.Background(), 0, 0, 100)
		require.NoError(t, err)
		assert.Equal(t, []string{"requeue", "stop_operation", "requeue", "undo", "discard"}, []string{actions[0].Action, actions[1].Action, actions[2].Action, actions[3].Action, actions[4].Action})
		assert.Contains(t, string(actions[4].Detail), "the bank has gone")

		crawling, err := y.e.Act(context.Background(), api.ActRequest{Action: api.ActRequeue, Filter: &api.Selection{}, PerSecond: 0.01})
		require.NoError(t, err)
		time.Sleep(time.Second)
		asked := time.Now()
		_, err = y.e.StopOperation(context.Background(), crawling.ID)
		require.NoError(t, err)
		assert.Less(t, time.Since(asked), time.Second, "a stop does not wait for the next slice")
	})
}

// What a purge removes waits no more; brought back it is where it was; swept it is
// counted as cancelled. A queue's running and finished jobs are not touched.
func TestPurge(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		twice := 2
		hold := job.Retry{Curve: "fixed", First: job.Duration(time.Minute)}
		_, err := y.e.EnqueueMany(ctx, []job.Spec{{Task: "tide.predict", MaxAttempts: &twice, Retry: &hold}, {Task: "tide.predict"}}, func(int) string { return "" })
		require.NoError(t, err)
		y.work()
		for i := range 1500 {
			_, err := y.e.Enqueue(ctx, job.Spec{Task: "tide.predict", Payload: job.JSON(i)})
			require.NoError(t, err)
		}
		later, err := y.e.Enqueue(ctx, job.Spec{Task: "tide.predict", Delay: job.Duration(time.Hour)})
		require.NoError(t, err)
		before := y.e.Counts(y.Context())["common"]
		require.Equal(t, []int64{1500, 1, 2}, []int64{before[job.Ready], before[job.Scheduled], before[job.Backoff]})
		purge := func() api.Operation {
			o, err := y.e.Act(ctx, api.ActRequest{Action: api.ActPurge, Filter: &api.Selection{Queues: []string{"common"}}})
			require.NoError(t, err)
			return y.await(o.ID, api.OpFinished)
		}
		o := purge()
		assert.Equal(t, int64(1503), o.Changed)
		assert.Equal(t, make([]int64, 3), []int64{y.count(job.Ready), y.count(job.Scheduled), y.count(job.Backoff)})
		a, err := y.e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Limit: 10})
		require.NoError(t, err)
		assert.Empty(t, a.Leases)
		time.Sleep(2 * time.Minute) // the backoff is over meanwhile
		_, err = y.e.UndoOperation(ctx, o.ID)
		require.NoError(t, err)
		assert.Equal(t, []int64{1502, 1}, []int64{y.count(job.Ready) + y.count(job.Backoff), y.count(job.Scheduled)})
		y.fails = func(string) bool { return false }
		a, err = y.e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Limit: 2})
		require.NoError(t, err)
		assert.Equal(t, []string{"0", "1"}, []string{string(a.Leases[0].Job.Payload), string(a.Leases[1].Job.Payload)}, "in their old places")
		purge()
		assert.Equal(t, int64(2), y.count(job.Running))
		time.Sleep(time.Hour)
		queues, err := y.e.Queues(ctx)
		require.NoError(t, err)
		assert.Equal(t, int64(1501), queues[0].Past[job.Cancelled], "swept and counted")
		_, err = y.e.Job(ctx, later.ID)
		assert.ErrorContains(t, err, "there is no job")
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
			e, err = Open(path, Options{LookEvery: unwatched, Log: silent, Wall: jump.wall})
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

// A worker that renews in time loses no lease to a service that has much to write, and a
// single job does not wait for all bulks before it.
func TestBulksHoldNobodyUp(t *testing.T) {
	e, err := Open(filepath.Join(t.TempDir(), "bulk.db"), Options{LookEvery: unwatched, Log: silent})
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

// An undo that takes long is answered while it goes on; one that is asked for again joins it,
// and once it is over changes nothing.
func TestUndoTakesLong(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := y.Context()
		for range 20 {
			_, err := y.e.Enqueue(ctx, job.Spec{Task: "log.pack"})
			require.NoError(t, err)
		}
		o, err := y.e.Act(ctx, api.ActRequest{Action: api.ActPurge, Filter: &api.Selection{Queues: []string{"common"}}})
		require.NoError(t, err)
		time.Sleep(time.Second)
		require.Zero(t, y.e.Counts(ctx)["common"][job.Ready])

		release, held := make(chan struct{}), make(chan error, 1)
		go func() {
			held <- y.e.c.Do(ctx, commit.Unchecked(func(*commit.Tx) error { <-release; return nil }))
		}()
		synctest.Wait()
		for range 2 {
			o, err = y.e.UndoOperation(ctx, o.ID)
			require.NoError(t, err)
			assert.Equal(t, api.OpUndoing, o.State)
			assert.False(t, o.Over())
		}
		close(release)
		require.NoError(t, <-held)
		time.Sleep(time.Second)
		assert.Equal(t, int64(20), y.e.Counts(ctx)["common"][job.Ready])
		for range 2 {
			o, err = y.e.UndoOperation(ctx, o.ID)
			require.NoError(t, err)
			assert.Equal(t, api.OpUndone, o.State)
		}
		undos := 0
		for _, a := range actionsOf(y) {
			if a.Action == "undo" {
				undos++
			}
		}
		assert.Equal(t, 1, undos, "it was done once")
	})
}
