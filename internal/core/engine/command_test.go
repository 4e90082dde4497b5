package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"path/filepath"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/job"
)

// An earlier job with the same key answers as the new spec's dedupe says, also after a
// restart; keys belong to their task.
func TestDedupe(t *testing.T) {
	path := filepath.Join(t.TempDir(), "dedupe.db")
	synctest.Test(t, func(t *testing.T) {
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		ctx := context.Background()
		enqueue := func(task, dedupe string, payload int) api.Enqueued {
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
		is := func(j api.Enqueued, id int64, duplicate, same bool) {
			t.Helper()
			assert.Equal(t, []any{id, duplicate, same}, []any{j.ID, j.Duplicate, j.SameSpec})
		}
		is(enqueue("dues.charge", job.Unstarted, 1), 1, false, false)
		is(enqueue("dues.charge", job.Unstarted, 1), 1, true, true)
		is(enqueue("dues.charge", job.Unfinished, 2), 1, true, false)
		is(enqueue("tide.predict", job.Unfinished, 1), 2, false, false) // another task's key
		require.NoError(t, e.Close())
		e, err = Open(path, Options{LookEvery: unwatched, Log: silent})
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
		_, err = e.Requeue(ctx, 3, api.Requeue{})
		assert.ErrorContains(t, err, `job 3 has the key "heron" and cannot exist beside job 4`)
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

// A call that is made again is answered as it was, whatever time it is by now, however full
// the disk and whatever has become of its jobs.
func TestCallsMadeAgain(t *testing.T) {
	inYard(t, func(y *yard) {
		again := func(key string) context.Context {
			return WithCall(y.Context(), Call{Path: "/v1/jobs", Key: key, Body: []byte(key)})
		}
		spec := job.Spec{Task: "fog.bulletin", StartBy: job.At(time.Now().Add(time.Minute))}
		one := func() (api.Enqueued, error) { return y.e.Enqueue(again("one"), spec) }
		bulk := func() ([]api.Enqueued, error) {
			return y.e.EnqueueMany(again("bulk"), []job.Spec{spec, spec, spec}, unplaced)
		}
		first, err := one()
		require.NoError(t, err)
		all, err := bulk()
		require.NoError(t, err)
		time.Sleep(2 * time.Minute)
		_, err = y.e.Discard(y.Context(), all[1].ID)
		require.NoError(t, err)
		y.e.c.MinFree = math.MaxInt64 // then the disk is full
		time.Sleep(2 * time.Second)
		same, err := one()
		require.NoError(t, err)
		assert.Equal(t, []any{first.ID, job.Skipped}, []any{same.ID, same.State})
		told, err := bulk()
		require.NoError(t, err)
		assert.Equal(t, []api.Enqueued{{ID: all[0].ID, State: job.Skipped, Queue: "common"}, {ID: all[1].ID, Removed: true}, {ID: all[2].ID, State: job.Skipped, Queue: "common"}}, told, "each in its place")
		_, err = y.e.Enqueue(again("new"), job.Spec{Task: "fog.bulletin"})
		require.ErrorContains(t, err, "min_free")
		y.e.c.MinFree = 1
		time.Sleep(2 * time.Second)
		_, err = y.e.Enqueue(again("new"), spec)
		require.ErrorContains(t, err, "start_by")
	})
}

// A service knows so many queues and tasks and no more; what is refused writes
// nothing.
func TestNamesAreBounded(t *testing.T) {
	t.Parallel() // it takes long
	e, err := Open(filepath.Join(t.TempDir(), "names.db"), Options{LookEvery: unwatched, Log: silent})
	require.NoError(t, err)
	defer func() { require.NoError(t, e.Close()) }()
	specs := make([]job.Spec, command.MostNames)
	for i := range specs {
		specs[i].Task = fmt.Sprint("task-", i)
	}
	_, err = e.EnqueueMany(t.Context(), specs, func(int) string { return "" })
	require.NoError(t, err)
	_, err = e.Enqueue(t.Context(), job.Spec{Task: "one-more"})
	require.ErrorContains(t, err, "one of more than 10000 tasks")
	_, err = e.Enqueue(t.Context(), job.Spec{Task: "task-5", Queue: "another"})
	require.NoError(t, err, "known tasks and a new queue have room")
	assert.Equal(t, int64(command.MostNames), e.Counts(t.Context())["common"][job.Ready])
	assert.Len(t, leaseOf(t, e, 100), 100, "a worker that does any task is served")
}

// A text of an error finds the jobs whose cause is worded so, and where no cause is, those
// whose own error holds it, also in a part that varies and in none of the latest errors.
func TestTextsOfErrors(t *testing.T) {
	e := listing(t, 0)
	ctx := t.Context()
	const jobs = 40
	for i := range jobs {
		queue := []string{"berths", "common"}[i%2]
		_, err := e.Enqueue(ctx, job.Spec{Task: "berth.plan", Queue: queue, MaxAttempts: ptr(1 + i%3)})
		require.NoError(t, err)
		a, err := e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{queue}, Limit: 1})
		require.NoError(t, err)
		_, err = e.Settle(ctx, []api.Settlement{{Token: a.Leases[0].Token, Outcome: job.OutcomeFailed, Error: &job.Failure{Type: "refused", Message: fmt.Sprintf("berth %d is too shallow for vessel %q", 1000+i, "Marsh Hen "+fmt.Sprint(i))}}})
		require.NoError(t, err)
	}
	search := func(text string, f api.Filter) []int64 {
		f.Error, f.Limit = text, 3
		return all(t, e, f)
	}
	assert.Len(t, search("TOO shallow", api.Filter{}), jobs)
	assert.Len(t, search("refuse", api.Filter{States: []job.State{job.Dead}}), 14)
	assert.Equal(t, []int64{5}, search("berth 1004", api.Filter{}), "the fifth of forty")
	assert.Equal(t, []int64{5}, search("Marsh hen 4\"", api.Filter{}))
	assert.Empty(t, search("berth 1004", api.Filter{States: []job.State{job.Dead}}), "it will be retried")
	assert.Empty(t, search("berth 1004", api.Filter{States: []job.State{job.Ready}}))
	assert.Empty(t, search("berth 1004", api.Filter{Queues: []string{"common"}}))
	assert.Empty(t, search("100%", api.Filter{}))

	causes, err := e.Causes(ctx, api.CauseFilter{Error: "berth 1003"})
	require.NoError(t, err)
	require.Len(t, causes, 1)
	causes, err = e.Causes(ctx, api.CauseFilter{Error: "berth 1004"})
	require.NoError(t, err)
	assert.Empty(t, causes, "none of a dead job")
	o, err := e.Act(ctx, api.ActRequest{Action: api.ActRequeue, Filter: &api.Selection{Error: "vessel \"Marsh Hen 3\""}})
	require.NoError(t, err)
	assert.Equal(t, []any{int64(1), "exact", int64(1)}, []any{o.Matched, o.MatchedIs, o.Changed})
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
		for want, patch := range map[string]string{"names no field": `{}`, "unknown field": `{"colour":1}`, "is not a valid JSON object": `[`, "cannot be changed after the enqueue": `{"task":"x"}`} {
			_, err := y.e.Act(ctx, api.ActRequest{Action: api.ActPatch, Filter: &api.Selection{}, Patch: json.RawMessage(patch)})
			assert.ErrorContains(t, err, want)
		}
		_, err = y.e.Act(ctx, api.ActRequest{Action: api.ActRequeue, Filter: &api.Selection{}, Patch: json.RawMessage(`{}`)})
		assert.ErrorContains(t, err, "belongs to the action patch")
	})
}

// A job that was not started by its time is skipped, and says so.
func TestStartBy(t *testing.T) {
	inYard(t, func(y *yard) {
		now := job.At(time.Now())
		y.enqueue(job.Spec{Task: "fog.bulletin", StartBy: now.Add(time.Minute), Lane: "fog"}, job.Spec{Task: "fog.bulletin", StartBy: now.Add(time.Hour), Lane: "fog"},
			job.Spec{Task: "fog.bulletin", StartBy: now.Add(time.Hour), RunAt: now.Add(30 * time.Minute)})
		time.Sleep(time.Minute + time.Second)
		j, err := y.e.Job(context.Background(), 1)
		require.NoError(t, err)
		assert.Equal(t, []any{job.Skipped, job.TooLate}, []any{j.State, j.Reason})
		l := y.lease("common", 5)
		require.Equal(t, []int64{2}, idsOf(l))
		time.Sleep(2 * time.Hour)
		y.settle(y.lease("common", 5)[0], job.OutcomeDone)
		j, err = y.e.Job(context.Background(), 3)
		require.NoError(t, err)
		assert.Equal(t, job.Skipped, j.State)
		_, err = y.e.Requeue(context.Background(), 1, api.Requeue{})
		require.NoError(t, err)
		j, err = y.e.Job(context.Background(), 1)
		require.NoError(t, err)
		assert.Equal(t, []any{job.Ready, job.Time(0)}, []any{j.State, j.StartBy}, "a new round has no time to be started by")
	})
}

// A duplicate that names a queue which is not there makes nothing; a later job may.
func TestDuplicateMakesNoQueue(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		enqueue := func(s job.Spec) api.Enqueued {
			j, err := y.e.Enqueue(ctx, s)
			require.NoError(t, err)
			return j
		}
		enqueue(job.Spec{Task: "dues.charge", Key: "heron", Dedupe: job.Unfinished})
		timeout := job.Duration(time.Minute)
		again := enqueue(job.Spec{Task: "dues.charge", Key: "heron", Dedupe: job.Unfinished, Queue: "new", Timeout: timeout})
		assert.Equal(t, []any{true, false}, []any{again.Duplicate, again.SameSpec})
		memoryAgrees(t, y.e)
		assert.NotContains(t, y.e.Counts(y.Context()), "new")
		for _, q := range []string{"other", "new"} {
			assert.Equal(t, q, enqueue(job.Spec{Task: "berth.plan", Queue: q}).Queue)
		}
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
