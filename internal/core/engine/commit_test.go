package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// The wall clock may jump: what is due by it follows within a second, and a
// lease, which is judged by the monotonic clock, does not notice.
func TestClockJump(t *testing.T) {
	path := filepath.Join(t.TempDir(), "clock.db")
	synctest.Test(t, func(t *testing.T) {
		var jump atomic.Int64
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent, Wall: func() time.Time { return time.Now().Add(time.Duration(jump.Load())) }})
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

// After a fault of the disk the file is opened again: the command is refused, what
// was acknowledged is there, leases live on, and work goes on.
func TestDiskFault(t *testing.T) {
	e, err := Open(filepath.Join(t.TempDir(), "fault.db"), Options{LookEvery: unwatched, Log: silent})
	require.NoError(t, err)
	defer func() { require.NoError(t, e.Close()) }()
	_, err = e.EnqueueMany(t.Context(), make10("tide.predict"), func(int) string { return "" })
	require.NoError(t, err)
	token := leaseOf(t, e, 1)[0].Token
	err = e.c.Do(t.Context(), commit.Unchecked(func(tx *commit.Tx) error {
		if err := tx.Store.PutNextJob(99); err != nil {
			return err
		}
		return store.DiskFault()
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

// Receipts are kept for a day of serving, over a restart too, whatever time passes
// between; then the same key is a new call, unless it tells that it was drawn before.
func TestReceiptsEnd(t *testing.T) {
	path := filepath.Join(t.TempDir(), "receipts.db")
	synctest.Test(t, func(t *testing.T) {
		open := func() *Engine {
			e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
			require.NoError(t, err)
			return e
		}
		e := open()
		dated := api.NewCallKey(time.Now())
		enqueue := func(key string) (int64, error) {
			j, err := e.Enqueue(WithCall(t.Context(), Call{Path: "/v1/jobs", Key: key, Body: []byte("x")}), job.Spec{Task: "tide.predict"})
			return j.ID, err
		}
		same := func(key string, id int64, when string) {
			got, err := enqueue(key)
			require.NoError(t, err)
			assert.Equal(t, id, got, when)
		}
		same("one", 1, "the first")
		same(dated, 2, "the second")
		time.Sleep(23 * time.Hour)
		same("one", 1, "after 23 hours")
		require.NoError(t, e.Close())
		time.Sleep(48 * time.Hour)
		e = open()
		same("one", 1, "after two days without a service")
		same(dated, 2, "after two days without a service")
		time.Sleep(2 * time.Hour)
		same("two", 3, "which takes old receipts away")
		same("one", 4, "after 25 hours of serving")
		_, err := enqueue(dated)
		assert.ErrorContains(t, err, "was generated at")
		same(api.NewCallKey(time.Now()), 5, "a new key")
		assert.LessOrEqual(t, e.c.Memory.Receipts.NumRows(), 3)
		require.NoError(t, e.Close())
	})
}

// A command that is refused has written nothing: neither the file nor the memory is
// another then.
func TestRefusedMeansUnchanged(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx, e := context.Background(), y.e
		at := func(int) string { return "" }
		one := 1
		full := int64(3)
		require.NoError(t, e.SetQueue(ctx, "narrow", api.Defaults{Rules: api.Rules{MaxWaiting: &full}}))
		_, err := e.EnqueueMany(ctx, []job.Spec{{Task: "a", Queue: "narrow"}, {Task: "a", Queue: "narrow"}, {Task: "a", Queue: "narrow"}}, at)
		require.NoError(t, err)
		_, err = e.Load(ctx, api.SetupRequest{Setup: api.Setup{Tasks: map[string]api.Defaults{"tide.predict": {MaxAttempts: &one}}, Schedules: map[string]api.Schedule{"tides": {Every: job.Duration(time.Hour), Job: job.Spec{Task: "tide.predict"}}}}})
		require.NoError(t, err)
		y.schedule("busy", api.Schedule{Every: job.Duration(time.Hour), Job: job.Spec{Task: "buoy.poll", Queue: "buoys"}})
		_, err = e.RunSchedule(ctx, "busy")
		require.NoError(t, err)
		_, err = e.EnqueueMany(ctx, []job.Spec{{Task: "tide.predict", Key: "k", Dedupe: job.Unfinished}, {Task: "tide.predict"}, {Task: "tide.predict"}, {Task: "tide.predict"}}, at)
		require.NoError(t, err)
		leases := y.take("common", 3)
		running, done := leases[0].Job.ID, leases[1].Job.ID
		y.settle(leases[1], job.OutcomeDone)
		y.settle(leases[2], job.OutcomeGiveUp)
		held := WithCall(ctx, Call{Path: "/v1/leases", Key: "used", Body: []byte("one")})
		_, err = e.Lease(held, api.LeaseRequest{Worker: "w", Queues: []string{"buoys"}, Limit: 1})
		require.NoError(t, err)
		var twins [2]api.Enqueued // of one key, the first of which is cancelled
		for i := range twins {
			twins[i], err = e.Enqueue(ctx, job.Spec{Task: "dues.charge", Queue: "dues", Key: "heron", Dedupe: job.Unfinished})
			require.NoError(t, err)
			if i == 0 {
				_, err = e.Cancel(ctx, twins[0].ID)
				require.NoError(t, err)
			}
		}
		_, err = e.Enqueue(ctx, job.Spec{Task: "berth.plan", Queue: "berths"})
		require.NoError(t, err)
		berth := y.take("berths", 1)[0]
		_, err = e.Settle(ctx, []api.Settlement{{Token: berth.Token, Outcome: job.OutcomeDone, Enqueue: []api.FollowUp{{Spec: job.Spec{Task: "No Name"}}}}})
		require.NoError(t, err)
		_, err = e.Enqueue(ctx, job.Spec{Task: "log.pack", Queue: "gone"})
		require.NoError(t, err)
		purge, err := e.Act(ctx, api.ActRequest{Action: api.ActPurge, Filter: &api.Selection{Queues: []string{"gone"}}})
		require.NoError(t, err)
		requeue, err := e.Act(ctx, api.ActRequest{Action: api.ActRequeue, IDs: []int64{leases[2].Job.ID}})
		require.NoError(t, err)
		quay := WithCall(ctx, Call{Principal: "quay"})
		_, err = e.PutWorker(quay, api.Worker{ID: "crane", Queues: []string{"common"}})
		require.NoError(t, err)
		time.Sleep(2 * time.Minute)
		synctest.Wait()
		short := map[job.State]job.Duration{job.Done: job.Duration(time.Minute)}
		names := make([]string, command.MostNames+1)
		for i := range names {
			names[i] = fmt.Sprint("n-", i)
		}
		settle := []api.Settlement{{Token: leases[0].Token, Outcome: job.OutcomeDone}}
		defaults := func(n int) map[string]api.Defaults {
			all := map[string]api.Defaults{}
			for _, name := range names[:n] {
				all[name] = api.Defaults{MaxAttempts: &one}
			}
			return all
		}
		schedules := map[string]api.Schedule{}
		for i := range api.MaxSchedules {
			schedules[fmt.Sprint("s-", i)] = api.Schedule{Every: job.Duration(time.Hour), Job: job.Spec{Task: "a"}}
		}
		lease := func(ctx context.Context, r api.LeaseRequest) error {
			r.Worker, r.Limit, r.Settle = "w", 1, settle
			_, err := e.Lease(ctx, r)
			return err
		}
		drop := func(_ any, err error) error { return err }
		many := make([]job.Spec, command.MostNames)
		for i := range many {
			many[i] = job.Spec{Task: "a", Queue: names[i]}
		}
		for what, c := range map[string]struct {
			do   func() error
			says string
		}{
			"a lease of no job, with settles": {func() error { return lease(ctx, api.LeaseRequest{Job: 9999}) }, "there is no job"},
			"a lease of a running job":        {func() error { return lease(ctx, api.LeaseRequest{Job: running}) }, "only a ready job"},
			"a lease under a used key": {func() error {
				return lease(WithCall(ctx, Call{Path: "/v1/leases", Key: "used", Body: []byte("two")}), api.LeaseRequest{Queues: []string{"buoys"}})
			}, "was already used for another body"},
			"a set-up with too many queues": {func() error {
				return drop(e.Load(ctx, api.SetupRequest{Adopt: true, Setup: api.Setup{Queues: defaults(command.MostNames + 1), Tasks: defaults(1)}}))
			}, "would be more than"},
			"a set-up with too many schedules": {func() error {
				return drop(e.Load(ctx, api.SetupRequest{Setup: api.Setup{Schedules: schedules, Tasks: defaults(1)}}))
			}, "would be"},
			"a set-up of what was set by hand": {func() error {
				return drop(e.Load(ctx, api.SetupRequest{Setup: api.Setup{Queues: map[string]api.Defaults{"narrow": {}}, Tasks: defaults(3)}}))
			}, "was not set by a file"},
			"an empty set-up":             {func() error { return drop(e.Load(ctx, api.SetupRequest{})) }, "empty is not true"},
			"a bulk with too many queues": {func() error { return drop(e.EnqueueMany(ctx, many, at)) }, "would be one of more than"},
			"a bulk into a queue that is full": {func() error {
				return drop(e.EnqueueMany(ctx, []job.Spec{{Task: "b", Queue: "new"}, {Task: "a", Queue: "narrow"}}, at))
			}, "accepts at most 3"},
			"a job into a queue that is full": {func() error { return drop(e.Enqueue(ctx, job.Spec{Task: "b", Queue: "narrow"})) }, "accepts at most 3"},
			"a job that could never start":    {func() error { return drop(e.Enqueue(ctx, job.Spec{Task: "b", StartBy: 1})) }, "could never start"},
			"a requeue of a running job":      {func() error { return drop(e.Requeue(ctx, running, api.Requeue{})) }, "only a finished job"},
			"a requeue with a patch that is none": {func() error {
				return drop(e.Requeue(ctx, done, api.Requeue{Payload: json.RawMessage(`"` + strings.Repeat("x", job.MaxPayloadBytes) + `"`)}))
			}, "at most"},
			"a patch of a running job": {func() error {
				return drop(e.Patch(ctx, running, job.Patch{Spec: job.Spec{Queue: "new"}, Named: []string{"queue"}}))
			}, "is running"},
			"a start of a ready job":               {func() error { return drop(e.StartNow(ctx, 1)) }, "can be started now"},
			"a cancel of a finished job":           {func() error { return drop(e.Cancel(ctx, done)) }, "already"},
			"a deletion of a running job":          {func() error { return drop(e.Discard(ctx, running)) }, "only a finished job"},
			"a restoring of what is there":         {func() error { return drop(e.Undiscard(ctx, done)) }, "is not among the removed jobs"},
			"an accept of a job that is done":      {func() error { return drop(e.Accept(ctx, done, nil)) }, "only a job that is dead because"},
			"an end of no lease":                   {func() error { return drop(e.EndLease(ctx, done, false)) }, "only a running job"},
			"a run of a schedule whose last is on": {func() error { return drop(e.RunSchedule(ctx, "busy")) }, "is unfinished"},
			"a deletion of a schedule of a file":   {func() error { return e.DeleteSchedule(ctx, "tides") }, "comes from a set-up file"},
			"a schedule of another version": {func() error {
				call := WithCall(ctx, Call{If: Condition{Versions: []int64{99}}})
				return drop(e.SetSchedule(call, "busy", api.Schedule{Every: job.Duration(time.Minute), Job: job.Spec{Task: "a"}}))
			}, "has changed since you read it"},
			"a deletion of a queue with jobs":    {func() error { return e.DeleteQueue(ctx, "common") }, "has jobs or settings"},
			"a deletion of a task with settings": {func() error { return e.DeleteTask(ctx, "tide.predict") }, "has jobs or settings"},
			"a pass of a lane that nobody has":   {func() error { return e.PassLane(ctx, "common", "x") }, "nothing waits in lane"},
			"a pause of no queue":                {func() error { return e.PauseQueue(ctx, "unplaced") }, "there is no queue"},
			"an act on nothing": {func() error {
				return drop(e.Act(ctx, api.ActRequest{Action: api.ActDiscard, Filter: &api.Selection{Owner: "nobody"}}))
			}, "no job matches"},
			"a requeue beside another of its key": {func() error { return drop(e.Requeue(ctx, twins[0].ID, api.Requeue{})) }, "cannot exist beside"},
			"a patch of a key": {func() error {
				return drop(e.Patch(ctx, done, job.Patch{Spec: job.Spec{Key: "x"}, Named: []string{"key"}}))
			}, "cannot be changed"},
			"an accept with a follow-up that is none": {func() error {
				return drop(e.Accept(ctx, berth.Job.ID, []api.FollowUp{{Spec: job.Spec{Task: "No Name"}}}))
			}, "enqueue[0].task"},
			"a queue that keeps for a shorter time": {func() error { return e.SetQueue(ctx, "common", api.Defaults{Keep: short}) }, "would no longer be kept"},
			"a set-up that keeps for a shorter time": {func() error {
				return drop(e.Load(ctx, api.SetupRequest{Setup: api.Setup{Retention: &api.Retention{Done: short[job.Done]}, Tasks: defaults(1)}}))
			}, "would no longer be kept"},
			"an undo of a requeue":                  {func() error { return drop(e.UndoOperation(ctx, requeue.ID)) }, "only removals can be undone"},
			"a stop of what is over":                {func() error { return drop(e.StopOperation(ctx, purge.ID)) }, "is already finished"},
			"a deletion of a queue with a past":     {func() error { return e.DeleteQueue(ctx, "gone") }, "can still be brought back"},
			"a deletion of a task with a past":      {func() error { return e.DeleteTask(ctx, "log.pack") }, "can still be brought back"},
			"a worker of somebody else":             {func() error { return drop(e.PutWorker(ctx, api.Worker{ID: "crane", Queues: []string{"new"}})) }, "belongs to another token"},
			"a good-bye of somebody else's worker":  {func() error { return e.DeleteWorker(ctx, "crane") }, "belongs to another token"},
			"a drain of a worker that is not there": {func() error { return drop(e.AskWorker(ctx, "gull", api.WantDrain)) }, "no worker"},
			"a bulk with more names than a share":   {func() error { return drop(e.EnqueueMany(quay, many[:command.MostNames/4+1], at)) }, "that token quay has made"},
			"a schedule of no name": {func() error {
				return drop(e.SetSchedule(ctx, "No Name", api.Schedule{Every: job.Duration(time.Minute), Job: job.Spec{Task: "a"}}))
			}, "is not a valid name"},
			"a pause of no schedule":  {func() error { return drop(e.PauseSchedule(ctx, "unplaced")) }, "no schedule"},
			"a stop of no operation":  {func() error { return drop(e.StopOperation(ctx, 77)) }, "there is no operation"},
			"an undo of no operation": {func() error { return drop(e.UndoOperation(ctx, 77)) }, "there is no operation"},
		} {
			before, _ := dump(t, e)
			err := c.do()
			require.ErrorContains(t, err, c.says, what)
			after, _ := dump(t, e)
			require.Equal(t, before, after, what)
			memoryAgrees(t, e)
		}
		assert.Zero(t, e.c.Torn())
		memoryAgrees(t, e)
	})
}

// What makes a mistake is undone alone: a command that panics, fails, or is refused after
// it has changed anything; those beside it in its transaction take effect.
func TestMistakesAreUndoneAlone(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx, e := context.Background(), y.e
		stop := make(chan struct{})
		go e.c.Do(ctx, commit.Unchecked(func(*commit.Tx) error { <-stop; return nil })) // so that what follows is one batch
		synctest.Wait()
		var wg sync.WaitGroup
		var answers [4]error
		for i, mistake := range []func(tx *commit.Tx) error{
			func(tx *commit.Tx) error { panic("no such berth") },
			func(tx *commit.Tx) error { return errors.Join(tx.Store.PutNextJob(77), errors.New("a fault")) },
			func(tx *commit.Tx) error {
				return errors.Join(tx.Store.PutNextJob(99), job.Fault(job.Invalid, "refused too late"))
			},
			func(tx *commit.Tx) error { tx.Facts.DrawID(); return job.Fault(job.Invalid, "refused too late") },
		} {
			wg.Go(func() { answers[i] = e.c.Do(ctx, commit.Unchecked(mistake)) })
			wg.Go(func() {
				_, err := e.Enqueue(ctx, job.Spec{Task: "tide.predict"})
				assert.NoError(t, err)
			})
		}
		synctest.Wait()
		close(stop)
		wg.Wait()
		for i, says := range []string{"internal error", "internal error", "refused too late", "refused too late"} {
			assert.ErrorContains(t, answers[i], says)
		}
		assert.Equal(t, int64(2), e.c.Torn())
		assert.Equal(t, int64(4), e.Counts(y.Context())["common"][job.Ready])
		memoryAgrees(t, e)
	})
}

// Timed work that fails is set aside by itself and listed; all else goes on, and it is
// done when what was wrong is mended.
func TestTimedWorkIsIsolated(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		breakIn := func(query string, args ...any) {
			require.NoError(t, y.e.c.Do(ctx, commit.Unchecked(func(tx *commit.Tx) error { return tx.Store.Exec(fmt.Sprintf(query, args...)) })))
		}
		var ids []int64
		for n := range 5 {
			most := n + 1
			j, err := y.e.Enqueue(ctx, job.Spec{Task: "tide.predict", Lane: fmt.Sprint(n), Delay: job.Duration(time.Minute), MaxAttempts: &most})
			require.NoError(t, err)
			ids = append(ids, j.ID)
		}
		y.schedule("tides", api.Schedule{Every: job.Duration(time.Minute), IfStillRunning: api.RunsAlso})
		breakIn("CREATE TRIGGER stuck BEFORE UPDATE ON jobs WHEN new.id = %d BEGIN SELECT raise(ABORT, 'the pen is dry'); END", ids[1])
		time.Sleep(3 * time.Minute)
		synctest.Wait()
		counts := y.e.Counts(y.Context())["common"]
		assert.Equal(t, []int64{4 + 3, 1}, []int64{counts[job.Ready], counts[job.Scheduled]})
		aside := y.e.SetAside()
		require.Len(t, aside, 1)
		assert.Equal(t, []any{"due job", ids[1]}, []any{aside[0].What, aside[0].ID})
		assert.Greater(t, aside[0].Times, 3)
		require.NoError(t, y.e.Ready(ctx))
		breakIn("DROP TRIGGER stuck")
		time.Sleep(5 * time.Minute)
		synctest.Wait()
		assert.Empty(t, y.e.SetAside())
		assert.Equal(t, int64(0), y.e.Counts(y.Context())["common"][job.Scheduled])

		// A job that cannot be started keeps nobody else from being.
		breakIn("CREATE TRIGGER stuck BEFORE UPDATE ON jobs WHEN new.id = %d BEGIN SELECT raise(ABORT, 'the pen is dry'); END", ids[0])
		leases := y.take("common", 100)
		assert.NotContains(t, idsOf(leases), ids[0])
		assert.Len(t, leases, int(counts[job.Ready])+5) // with the runs of five minutes and the one that was mended
		assert.Equal(t, "start of job", y.e.SetAside()[0].What)
		breakIn("DROP TRIGGER stuck")
		time.Sleep(6 * time.Second)
		assert.Contains(t, idsOf(y.take("common", 100)), ids[0])
		memoryAgrees(t, y.e)
	})
}
