package engine

import (
	"context"
	"encoding/json"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// usual has a task run in another queue, as often as tells how long it takes.
func (y *yard) usual(task string, takes time.Duration) {
	const enough = 30
	y.enqueue(slices.Repeat([]job.Spec{{Task: task, Queue: "other"}}, enough)...)
	leases := y.take("other", enough)
	time.Sleep(takes)
	for _, l := range leases {
		y.settle(l, job.OutcomeDone)
	}
}

// one enqueues a job and answers its id.
func (y *yard) one(s job.Spec) int64 {
	told, err := y.e.Enqueue(context.Background(), s)
	require.NoError(y, err)
	return told.ID
}

// near tells that a time is as foretold, by run times that are known to 2 %.
func (y *yard) near(in time.Duration, at job.Time) {
	y.Helper()
	assert.InEpsilon(y, in, at.Sub(y.e.c.Now()), 0.03)
}

// joins is a follow-up that joins the batch of the job that ends.
func joins(ref string, needs ...string) api.FollowUp {
	m := member(ref, needs...)
	return api.FollowUp{Spec: m.Spec, Ref: ref, Join: true}
}

// A job of a batch adds to it as it ends, also when it is closed: all of what it adds or nothing, and the
// last job waits for that too.
func TestFollowUpsJoin(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		b := y.batch(api.NewBatch{Owner: "Heron Lines", Jobs: []api.BatchJob{member("manifest")}, Last: &job.Spec{Task: "notice.publish"}})
		settle := func(id int64, all ...api.FollowUp) api.SettleResult {
			t.Helper()
			a, err := y.e.Lease(ctx, api.LeaseRequest{Worker: y.worker, Job: id, Limit: 1})
			require.NoError(t, err)
			require.Len(t, a.Leases, 1)
			res, err := y.e.Settle(ctx, []api.Settlement{{Token: a.Leases[0].Token, Outcome: job.OutcomeDone, Result: []byte(`"read"`), Enqueue: all}})
			require.NoError(t, err)
			return res[0]
		}
		res := settle(2, joins("part-1", "manifest"), api.FollowUp{Spec: job.Spec{Task: "log.pack"}}, joins("sum", "part-1", "part-2"), joins("part-2", "manifest"))
		require.Empty(t, res.Errors)
		assert.Equal(t, job.Done, res.State)
		assert.Equal(t, []string{"done", "held", "ready", "ready", "held", "ready"}, y.states(2, 3, 4, 5, 6, 7))
		assert.Equal(t, []any{&job.InBatch{ID: b.ID, Ref: "sum"}, "Heron Lines"}, []any{y.job(6).Batch, y.job(6).Owner})
		assert.Nil(t, y.job(4).Batch, "it did not ask to join")
		assert.Equal(t, int64(5), y.batchIs(b.ID).Jobs)

		for name, bad := range map[string]struct {
			of    int64
			all   []api.FollowUp
			field string
			says  string
		}{
			"a ref that is taken":              {5, []api.FollowUp{{Spec: job.Spec{Task: "log.pack"}}, joins("manifest")}, "enqueue[1].ref", "was added before"},
			"a ref that nobody has":            {7, []api.FollowUp{joins("x", "nowhere")}, "enqueue[0].after.refs[0]", "is no job's ref in this batch"},
			"a job that is of no batch":        {4, []api.FollowUp{joins("x")}, "enqueue[0].join", "is of no batch"},
			"a name without joining":           {4, []api.FollowUp{{Spec: job.Spec{Task: "log.pack"}, Ref: "a"}}, "enqueue[0].ref", "give join: true"},
			"jobs that wait for one another":   {5, []api.FollowUp{joins("x", "y"), joins("y", "x")}, "enqueue[0].after.refs", "cycle"},
			"a second answer of its own batch": {7, []api.FollowUp{{Join: true, Spec: job.Spec{Task: "log.pack", Key: "k", Dedupe: "1h"}}}, "enqueue[0].dedupe", "give the batch a name"},
		} {
			res := settle(bad.of, bad.all...)
			require.Len(t, res.Errors, 1, name)
			assert.Equal(t, []any{job.Dead, bad.field}, []any{res.State, res.Errors[0].Field}, name)
			assert.Contains(t, res.Errors[0].Message, bad.says, name)
			y.must(y.e.Requeue(ctx, bad.of, api.Requeue{}))
		}
		settle(4)
		assert.Equal(t, int64(5), y.batchIs(b.ID).Jobs, "what is refused leaves nothing behind")

		settle(5, joins("part-1"))
		_, err := y.e.Accept(ctx, 5, []api.FollowUp{joins("part-2")})
		y.refuses(err, "enqueue[0].ref", "was added before")
		y.must(y.e.Accept(ctx, 5, []api.FollowUp{joins("part-3"), {Spec: job.Spec{Task: "log.pack"}}}))
		assert.Equal(t, []string{"done", "ready", "ready"}, y.states(5, 8, 9))
		require.NoError(t, y.e.Close())
		y.open()
		settle(7)
		settle(9) // which is part-3
		settle(6)
		res = settle(3, joins("more"))
		assert.Equal(t, "enqueue[0].join", res.Errors[0].Field, "nothing would wait for it")
		assert.Equal(t, api.BatchFailed, y.batchIs(b.ID).State)
		y.must(y.e.Accept(ctx, 3, nil))
		b = y.batchIs(b.ID)
		assert.Equal(t, []any{api.BatchDone, int64(6), map[job.State]int64{job.Done: 6}}, []any{b.State, b.Jobs, b.Counts})
		time.Sleep(time.Second)
		tablesAgree(y.T, y.e)
	})
}

// A watcher of a batch, of an owner or of a key is told of what concerns it, and of nothing else.
func TestWatchOnly(t *testing.T) {
	inYard(t, func(y *yard) {
		b := y.batch(api.NewBatch{Owner: "Heron Lines", Jobs: []api.BatchJob{member("a")}})
		keyed := y.one(job.Spec{Task: "tide.predict", Key: "bar-head"})
		watchers := map[string]*Watcher{
			"batch": y.e.Watch("", api.EventFilter{Batch: b.ID}), "owner": y.e.Watch("", api.EventFilter{Owner: "Heron Lines"}),
			"key": y.e.Watch("", api.EventFilter{Key: "bar-head"}), "all": y.e.Watch("", api.EventFilter{}),
		}
		for name, w := range watchers {
			<-w.C
			assert.True(t, w.Take().Reset, name)
			defer w.Close()
		}
		assert.Equal(t, len(watchers), y.e.Watching())
		y.end(b.IDs[0], job.OutcomeDone, "")
		time.Sleep(time.Second)
		for name, ids := range map[string][]int64{"batch": {2}, "owner": {2}, "key": nil, "all": {2}} {
			w := watchers[name]
			if ids == nil {
				assert.Empty(t, w.C, name)
				continue
			}
			<-w.C
			told, seen := w.Take(), []int64(nil)
			for _, j := range told.Jobs {
				seen = append(seen, j.Job)
				assert.Equal(t, job.Done, j.State, name)
			}
			assert.Equal(t, ids, seen, name)
			require.Len(t, told.Batches, 1, name)
			assert.Equal(t, []any{b.ID, api.BatchDone}, []any{told.Batches[0].Batch, told.Batches[0].State}, name)
		}
		for range 600 {
			y.enqueue(job.Spec{Task: "tide.predict", Key: "bar-head"})
		}
		y.end(keyed, job.OutcomeDone, "")
		<-watchers["key"].C
		told := watchers["key"].Take()
		assert.True(t, told.Many && told.Jobs == nil, "more than a watcher is told one by one")
		require.NoError(t, y.e.Close())
	})
}

// An owner is told how the jobs stand: what runs and until when, what waits and why, what has ended, and
// which batches have not.
func TestOwner(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		y.usual("berth.assign", time.Minute)
		y.usual("notice.publish", time.Second)
		mine := job.Spec{Task: "berth.assign", Owner: "Heron Lines", Payload: job.JSON("secret"), Key: "heron"}
		done, runs := y.one(mine), y.one(mine)
		y.end(done, job.OutcomeDone, "")
		l := y.lease("common", 1)
		require.Equal(t, []int64{runs}, idsOf(l))
		y.enqueue(job.Spec{Task: "berth.assign", Owner: "Tern Lines"})
		waits := y.one(mine)
		b := y.batch(api.NewBatch{Owner: "Heron Lines", Jobs: []api.BatchJob{member("a")}, Last: &job.Spec{Task: "notice.publish"}})
		o, err := y.e.Owner(ctx, "Heron Lines")
		require.NoError(t, err)
		assert.Equal(t, map[job.State]int64{job.Done: 1, job.Running: 1, job.Ready: 2, job.Held: 1}, o.Counts)
		ids := func(all []api.OwnedJob) (found []int64) {
			for _, j := range all {
				found = append(found, j.ID)
			}
			return found
		}
		assert.Equal(t, [][]int64{{runs}, {waits, b.IDs[0], b.IDs[1]}, {done}}, [][]int64{ids(o.Running), ids(o.Waiting), ids(o.Finished)})
		y.near(time.Minute, o.Running[0].ExpectedEnd)
		assert.Equal(t, []any{int64(2), "heron"}, []any{o.Waiting[0].Position, o.Waiting[0].Key})
		assert.Contains(t, o.Waiting[2].WaitingBecause, "last job of batch")
		require.Len(t, o.Batches, 1)
		assert.Equal(t, b.ID, o.Batches[0].ID)
		assert.Zero(t, o.ExpectedEnd, "nobody knows when one starts that waits for others")
		raw, err := json.Marshal(o)
		require.NoError(t, err)
		assert.NotContains(t, string(raw), "secret")
		none, err := y.e.Owner(ctx, "Nobody")
		require.NoError(t, err)
		assert.Equal(t, []int{0, 0, 0, 0, 0}, []int{len(none.Counts), len(none.Running), len(none.Waiting), len(none.Finished), len(none.Batches)})
		_, err = y.e.Owner(ctx, "")
		y.refuses(err, "owner")
	})
}

// The end of a batch is foretold by its longest path, and by what is left for the slots beside it.
func TestBatchOutlook(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		y.usual("manifest.check", time.Minute)
		b := y.batch(api.NewBatch{Jobs: []api.BatchJob{member("a"), member("b", "a"), member("c", "b"), member(""), member(""), member(""), member("")}})
		outlook := func() api.Batch {
			time.Sleep(3 * time.Second) // what is kept is too old by then
			b, err := y.e.WaitForBatch(ctx, b.ID, 0)
			require.NoError(t, err)
			return b
		}
		assert.Zero(t, outlook().ExpectedEnd, "nobody serves the queue")
		y.must(y.e.PutWorker(ctx, api.Worker{ID: "quay", Queues: []string{"common"}, Slots: 2}))
		told := outlook()
		y.near(3*time.Minute+4*time.Minute/2, told.ExpectedEnd)
		assert.Equal(t, 0.0, *told.PercentOfWork)
		y.end(b.IDs[0], job.OutcomeDone, "")
		told = outlook()
		y.near(2*time.Minute+4*time.Minute/2, told.ExpectedEnd)
		assert.Equal(t, 14.3, *told.PercentOfWork)
		y.end(b.IDs[1], job.OutcomeGiveUp, "")
		for _, id := range b.IDs[3:] {
			y.end(id, job.OutcomeDone, "")
		}
		told = outlook()
		assert.Equal(t, []any{api.BatchStuck, job.Time(0)}, []any{told.State, told.ExpectedEnd})
		y.must(y.e.Requeue(ctx, b.IDs[1], api.Requeue{}))
		assert.NotZero(t, outlook().ExpectedEnd)
	})
}
