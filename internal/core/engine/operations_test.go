package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule/api"
	"humblemule/job"
)

// yard is an engine with jobs that die, and a worker that does them by a rule.
type yard struct {
	*testing.T
	e            *Engine
	path, worker string
	// fails tells whether a payload fails.
	fails func(payload string) bool
}

func inYard(t *testing.T, test func(y *yard)) {
	path := filepath.Join(t.TempDir(), "yard.db")
	synctest.Test(t, func(t *testing.T) {
		y := &yard{T: t, path: path, worker: "w", fails: func(string) bool { return true }}
		y.open()
		defer func() { require.NoError(t, y.e.Close()) }()
		test(y)
	})
}

func (y *yard) open() {
	e, err := Open(y.path, Options{Log: silent})
	require.NoError(y, err)
	y.e = e
}

// dead enqueues n jobs and lets them die.
func (y *yard) dead(n int) {
	specs := make([]job.Spec, n)
	once := 1
	for i := range specs {
		specs[i] = job.Spec{Task: "dues.charge", Payload: job.JSON(map[string]any{"ship": fmt.Sprint("heron-", i), "bank": "closed", "cents": json.Number("12345678901234567890")}), MaxAttempts: &once}
	}
	_, err := y.e.EnqueueMany(context.Background(), specs, func(int) string { return "" })
	require.NoError(y, err)
	y.work()
}

// work runs everything that is ready.
func (y *yard) work() {
	for {
		a, err := y.e.Lease(context.Background(), api.LeaseRequest{Worker: y.worker, Queues: []string{"common"}, Limit: 1000})
		require.NoError(y, err)
		if len(a.Leases) == 0 {
			return
		}
		var items []api.Settlement
		for _, l := range a.Leases {
			s := api.Settlement{Token: l.Token, Outcome: job.OutcomeDone}
			if y.fails(string(l.Job.Payload)) {
				s.Outcome, s.Error = job.OutcomeFailed, &job.Failure{Type: "bank", Message: fmt.Sprintf("account %d is locked", l.Job.ID)}
			}
			items = append(items, s)
		}
		_, err = y.e.Settle(context.Background(), items)
		require.NoError(y, err)
	}
}

func (y *yard) queue(name string) api.Queue {
	queues, err := y.e.Queues(context.Background())
	require.NoError(y, err)
	return queues[slices.IndexFunc(queues, func(q api.Queue) bool { return q.Name == name })]
}

func (y *yard) count(s job.State) int64 { return y.e.Counts(y.Context())["common"][s] }

func (y *yard) await(id int64, state string) (o api.Operation) {
	for range 3000 {
		time.Sleep(100 * time.Millisecond)
		var err error
		o, err = y.e.Operation(context.Background(), id)
		require.NoError(y, err)
		if o.State == state {
			return o
		}
	}
	y.Fatalf("operation %d is %s and never became %s: %s", id, o.State, state, o.Why)
	return o
}

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
		assert.Equal(t, "job 1 is ready by now", few.Refused[0].Message)
		assert.Equal(t, "there is no job 9999", few.Refused[1].Message)
		_, err = y.e.UndoOperation(context.Background(), few.ID)
		assert.ErrorContains(t, err, "only removals can be undone")
		for want, req := range map[string]api.ActRequest{
			"is no action on many": {Action: "explode"}, "say which jobs": {Action: api.ActCancel}, "give one of the two": {Action: api.ActCancel, Filter: &api.Selection{}, IDs: []int64{1}},
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

// Edits of many are recorded at each job, with what the payload was; a patch reaches
// waiting jobs of a filter, and refuses what a state does not allow.
func TestEdits(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := WithCall(context.Background(), Call{Principal: "ada"})
		y.dead(3)
		o, err := y.e.Act(ctx, api.ActRequest{Action: api.ActRequeue, Filter: &api.Selection{}, PayloadPatch: json.RawMessage(`{"bank":"savings"}`), DryRun: true})
		require.NoError(t, err)
		assert.Equal(t, []any{int64(1), `{"bank":"savings","cents":12345678901234567890,"ship":"heron-0"}`}, []any{o.Example.Job, string(o.Example.After)})
		_, err = y.e.Act(ctx, api.ActRequest{Action: api.ActRequeue, Filter: &api.Selection{}, PayloadPatch: json.RawMessage(`{"bank":"savings"}`)})
		require.NoError(t, err)
		patched, err := y.e.Act(ctx, api.ActRequest{Action: api.ActPatch, Filter: &api.Selection{}, Patch: json.RawMessage(`{"payload":{"v":2},"priority":7,"owner":"Marsh Agency"}`)})
		require.NoError(t, err)
		assert.Equal(t, []int64{3, 0}, []int64{patched.Changed, patched.RefusedCount})
		for range 12 {
			_, err = y.e.Patch(ctx, 2, job.Patch{Spec: job.Spec{Payload: json.RawMessage(`{"v":3}`)}, Named: []string{"payload"}})
			require.NoError(t, err)
		}
		one, err := y.e.Job(ctx, 1)
		require.NoError(t, err)
		assert.Equal(t, []any{7, "Marsh Agency", `{"v":2}`}, []any{one.Priority, one.Owner, string(one.Payload)})
		require.Len(t, one.Edits, 2)
		assert.Equal(t, []string{"requeue", "ada", `{"bank":"closed","cents":12345678901234567890,"ship":"heron-0"}`, `{"bank":"savings","cents":12345678901234567890,"ship":"heron-0"}`},
			[]string{one.Edits[0].Action, one.Edits[0].By, string(one.Edits[0].Before), string(one.Edits[0].After)})
		assert.Equal(t, `{"v":2}`, string(one.Edits[1].After))
		two, err := y.e.Job(ctx, 2)
		require.NoError(t, err)
		assert.Len(t, two.Edits, 10, "the latest")
		for want, patch := range map[string]string{"names no field": `{}`, "unknown field": `{"colour":1}`, "is no JSON object": `[`, "cannot be changed after the enqueue": `{"task":"x"}`} {
			_, err := y.e.Act(ctx, api.ActRequest{Action: api.ActPatch, Filter: &api.Selection{}, Patch: json.RawMessage(patch)})
			assert.ErrorContains(t, err, want)
		}
		_, err = y.e.Act(ctx, api.ActRequest{Action: api.ActRequeue, Filter: &api.Selection{}, Patch: json.RawMessage(`{}`)})
		assert.ErrorContains(t, err, "belongs to the action patch")
	})
}

// A cause's failures are told by the hour, by the day and by the version that failed,
// with the deploys and actions between them; what nothing fails by is forgotten.
func TestCauseHistory(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		fail := func(version string, n int) {
			y.worker = "w " + version
			_, err := y.e.PutWorker(ctx, api.Worker{ID: y.worker, Version: version, Queues: []string{"common"}, Slots: 8})
			require.NoError(t, err)
			y.dead(n)
		}
		fail("1.0", 3)
		require.NoError(t, y.e.Close())
		time.Sleep(30 * time.Hour)
		y.open()
		require.NoError(t, y.e.PauseQueue(ctx, "common"))
		require.NoError(t, y.e.ResumeQueue(ctx, "common"))
		attempts := 3
		require.NoError(t, y.e.SetTask(ctx, "dues.charge", api.Defaults{MaxAttempts: &attempts}))
		require.NoError(t, y.e.SetTask(ctx, "tide.predict", api.Defaults{MaxAttempts: &attempts}))
		fail("1.1", 2)
		_, err := y.e.Requeue(ctx, 1, Requeuing{})
		require.NoError(t, err)
		causes, err := y.e.Causes(ctx, api.CauseFilter{})
		require.NoError(t, err)
		c := causes[0]
		require.NoError(t, y.e.CauseHistory(ctx, &c))
		assert.Equal(t, []int64{3, 2}, []int64{c.Days[29], c.Days[30]})
		assert.Equal(t, []int64{3, 2}, []int64{c.Hours[17], c.Hours[47]})
		require.Len(t, c.Versions, 2)
		assert.Equal(t, []any{"1.0", int64(3), int64(2)}, []any{c.Versions[0].Version, c.Versions[0].Hours[17], c.Versions[1].Hours[47]})
		said := ""
		for _, m := range c.Marks {
			said += m.Kind + ": " + m.Text + " by " + m.By + "\n"
		}
		assert.Equal(t, "deploy: workers of version 1.0 by \ndeploy: workers of version 1.1 by \npause: queue common paused by local\npause: queue common resumed by local\nsettings: defaults of task dues.charge by local\nrequeue: job 1 requeued by local\n", said)
		y.fails = func(string) bool { return false }
		_, err = y.e.Act(ctx, api.ActRequest{Action: api.ActRequeue, Filter: &api.Selection{}})
		require.NoError(t, err)
		y.work()
		require.NoError(t, y.e.Close())
		time.Sleep(32 * 24 * time.Hour)
		y.open()
		time.Sleep(2 * time.Minute)
		found, err := y.e.c.Store.CauseIDs()
		require.NoError(t, err)
		assert.Empty(t, found)
		trend, err := y.e.CauseTrend(ctx, c.ID)
		require.NoError(t, err)
		assert.Zero(t, trend[47])
	})
}

// Settings by which finished jobs are kept for a shorter time, or fewer of them, say how many
// go, and go on only when that is meant; the operation that removes them can be undone, and
// retention leaves what it has brought back alone for a while.
func TestKeepingForAShorterTime(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		finish := func(queue string, n int) {
			for range n {
				y.enqueue(job.Spec{Task: "tide.predict", Queue: queue})
			}
			for _, l := range y.take(queue, n) {
				y.settle(l, job.OutcomeDone)
			}
		}
		done := func(queue string) int64 {
			synctest.Wait()
			return y.e.Counts(y.Context())[queue][job.Done]
		}
		finish("tides", 20)
		finish("berths", 5)
		time.Sleep(3 * time.Hour)
		finish("tides", 7)
		keep := func(hours int) api.Defaults {
			return api.Defaults{Keep: map[job.State]job.Duration{job.Done: job.Duration(hours) * job.Duration(time.Hour)}}
		}
		require.NoError(t, y.e.SetQueue(ctx, "tides", keep(4)), "nothing is older")
		var p *job.Problem
		require.ErrorAs(t, y.e.SetQueue(ctx, "tides", keep(1)), &p)
		assert.Equal(t, job.WouldRemove, p.Kind)
		assert.Contains(t, p.Detail, "20 finished jobs would be kept no longer")
		assert.Equal(t, int64(27), done("tides"))
		assert.Equal(t, 4*job.Duration(time.Hour), y.queue("tides").Defaults.Keep[job.Done], "nothing was changed")

		id, err := y.e.SetQueueRemoving(ctx, "tides", keep(1), true)
		require.NoError(t, err)
		o := y.await(id, api.OpFinished)
		assert.Equal(t, []any{int64(20), "exact", int64(20), int64(0)}, []any{o.Matched, o.MatchedIs, o.Changed, o.RefusedCount})
		assert.Equal(t, []int64{7, 5}, []int64{done("tides"), done("berths")})
		time.Sleep(5 * time.Minute) // retention looks, and finds nothing
		_, err = y.e.UndoOperation(ctx, id)
		require.NoError(t, err)
		time.Sleep(20 * time.Minute)
		assert.Equal(t, int64(27), done("tides"), "there is time to set it back")
		assert.Contains(t, y.e.Resting(), "was undone")
		memoryAgrees(t, y.e)
		time.Sleep(15 * time.Minute)
		assert.Equal(t, int64(7), done("tides"))

		// A set-up does it for all queues at once; what is kept by number goes by number, also
		// where many have finished at one time.
		most := int64(3)
		file := api.Setup{Retention: &api.Retention{MostDone: &most}}
		d, err := y.e.Load(ctx, api.SetupRequest{Setup: file, DryRun: true})
		require.NoError(t, err)
		assert.Equal(t, int64(4+2), d.Removes)
		_, err = y.e.Load(ctx, api.SetupRequest{Setup: file})
		require.ErrorAs(t, err, &p)
		assert.Equal(t, job.WouldRemove, p.Kind)
		time.Sleep(time.Minute)
		assert.Equal(t, []int64{7, 5}, []int64{done("tides"), done("berths")})
		d, err = y.e.Load(ctx, api.SetupRequest{Setup: file, Removes: true})
		require.NoError(t, err)
		assert.Equal(t, int64(6), y.await(d.Operation, api.OpFinished).Changed)
		assert.Equal(t, []int64{3, 3}, []int64{done("tides"), done("berths")})

		// A longer time, or one that only ordinary retention would end, asks nothing.
		d, err = y.e.Load(ctx, api.SetupRequest{Setup: api.Setup{Retention: &api.Retention{Done: job.Duration(5 * 24 * time.Hour)}}})
		require.NoError(t, err)
		assert.Zero(t, d.Operation)
	})
}

// An operation that removes what is kept no longer goes on after a restart, before retention
// can remove for good what is left for it.
func TestKeepingOverARestart(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		const jobs = 3000
		for range jobs / 1000 {
			y.enqueue(slices.Repeat([]job.Spec{{Task: "tide.predict", Queue: "tides"}}, 1000)...)
		}
		for left := jobs; left > 0; {
			leases := y.take("tides", 500)
			for _, l := range leases {
				y.settle(l, job.OutcomeDone)
			}
			left -= len(leases)
		}
		time.Sleep(2 * time.Hour)
		id, err := y.e.SetQueueRemoving(ctx, "tides", api.Defaults{Keep: map[job.State]job.Duration{job.Done: job.Duration(time.Hour)}}, true)
		require.NoError(t, err)
		require.NoError(t, y.e.Close())
		y.open()
		o := y.await(id, api.OpFinished)
		assert.Equal(t, []int64{jobs, jobs}, []int64{o.Matched, o.Changed})
		_, err = y.e.UndoOperation(ctx, id)
		require.NoError(t, err)
		assert.Equal(t, int64(jobs), y.e.Counts(y.Context())["tides"][job.Done])
	})
}
