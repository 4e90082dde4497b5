package engine

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// member is a job of a batch that waits for others of it.
func member(ref string, needs ...string) api.BatchJob {
	b := api.BatchJob{Ref: ref, Spec: job.Spec{Task: "manifest.check", Payload: job.JSON(ref)}}
	if len(needs) > 0 {
		b.After = &job.After{Refs: needs}
	}
	return b
}

func atMember(i int) string { return fmt.Sprintf("jobs[%d].", i) }

func (y *yard) batch(b api.NewBatch) api.Batch {
	y.Helper()
	told, err := y.e.MakeBatch(context.Background(), b, atMember)
	require.NoError(y, err)
	return told
}

func (y *yard) batchIs(id int64) api.Batch {
	y.Helper()
	b, err := y.e.Batch(context.Background(), id)
	require.NoError(y, err)
	return b
}

// Jobs of a batch go on as what they wait for is done, the last one after all others, and it is told
// how they ended.
func TestBatch(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		b := y.batch(api.NewBatch{Name: "voyage 12", Owner: "Heron Lines", Labels: map[string]string{"ship": "heron"},
			Jobs: []api.BatchJob{member("berth", "north", "south"), member("north"), member("south"), member("dues", "berth")}, Last: &job.Spec{Task: "notice.publish"}})
		require.Equal(t, []int64{2, 3, 4, 5, 6}, b.IDs)
		assert.Equal(t, []any{int64(1), int64(5), int64(6), api.BatchRunning, map[job.State]int64{job.Held: 3, job.Ready: 2}}, []any{b.ID, b.Jobs, b.Last, b.State, b.Counts})
		j := y.job(2)
		assert.Equal(t, &job.InBatch{ID: 1, Name: "voyage 12", Ref: "berth"}, j.Batch)
		assert.Equal(t, "Heron Lines", j.Owner)
		assert.Equal(t, "It is the last job of batch voyage 12 and waits until all others are done.", y.why(6))
		y.end(3, job.OutcomeDone, "3")
		y.end(4, job.OutcomeGiveUp, "")
		b = y.batchIs(1)
		assert.Equal(t, api.BatchStuck, b.State, "nothing goes on until somebody acts")
		assert.Equal(t, []any{int64(2), 40.0}, []any{b.Finished, b.Percent})
		assert.Equal(t, "3 jobs wait in vain for job 4 (manifest.check, dead): requeue it, or let the waiting jobs go on without it.", b.Summary)
		stuck, err := y.e.Batches(ctx, api.BatchQuery{State: api.BatchStuck})
		require.NoError(t, err)
		require.Len(t, stuck.Batches, 1)
		for action, says := range map[string]string{
			api.ActRequeue: "1 other job waits for these and goes on when they are done.",
			api.ActDiscard: "1 other job waits for these: as it has asked, it stays held until somebody acts, or is cancelled.",
		} {
			told, err := y.e.Act(ctx, api.ActRequest{Action: action, DryRun: true, Filter: &api.Selection{Batch: 1, States: []job.State{job.Dead}}})
			require.NoError(t, err)
			assert.Contains(t, told.Follows, says)
		}
		o, err := y.e.Act(ctx, api.ActRequest{Action: api.ActRequeue, Filter: &api.Selection{Batch: 1}})
		require.NoError(t, err)
		assert.Equal(t, int64(1), o.Changed)
		assert.Equal(t, api.BatchRunning, y.batchIs(1).State)
		y.end(4, job.OutcomeDone, "4")
		l := y.lease("common", 1)
		require.Equal(t, []int64{2}, idsOf(l))
		assert.Equal(t, []string{"north", "south"}, []string{l[0].Job.Inputs[0].Ref, l[0].Job.Inputs[1].Ref})
		assert.Equal(t, "berth", l[0].Job.Batch.Ref)
		y.settle(l[0], job.OutcomeDone)
		y.end(5, job.OutcomeSkipped, "")
		l = y.lease("common", 9)
		require.Equal(t, []int64{6}, idsOf(l))
		assert.Equal(t, &job.InBatch{ID: 1, Name: "voyage 12", Last: true, Counts: map[job.State]int64{job.Done: 3, job.Skipped: 1}}, l[0].Job.Batch)
		y.must(y.e.Requeue(ctx, 3, api.Requeue{}))
		y.settle(l[0], job.OutcomeDone)
		assert.Equal(t, api.BatchRunning, y.batchIs(1).State)
		y.end(3, job.OutcomeDone, "")
		b = y.batchIs(1)
		assert.Equal(t, []any{api.BatchDone, job.At(time.Now())}, []any{b.State, b.FinishedAt})
		assert.Equal(t, []string{"done"}, y.states(6), "the last one ran once")
		time.Sleep(time.Second)
		tablesAgree(y.T, y.e)
		time.Sleep(4 * 24 * time.Hour)
		_, err = y.e.Batch(ctx, 1)
		require.NoError(t, err, "the skipped one is kept for longer")
		y.must(y.e.Discard(ctx, 5))
		time.Sleep(11 * time.Minute)
		_, err = y.e.Batch(ctx, 1)
		require.ErrorIs(t, err, job.ErrNotFound, "it goes with the last of its jobs")
	})
}

// More jobs are added to a batch that is open; what it ends with, and whether the last job runs, is
// told by how it was asked for.
func TestOpenBatch(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		b := y.batch(api.NewBatch{Name: "manifests", Open: true, Last: &job.Spec{Task: "notice.publish", After: &job.After{When: job.WhenFinished}}})
		assert.Equal(t, []any{api.BatchRunning, int64(1)}, []any{b.State, b.Jobs})
		add := func(jobs ...api.BatchJob) error {
			_, err := y.e.AddToBatch(ctx, b.ID, jobs, atMember)
			return err
		}
		require.NoError(t, add(member("a")))
		y.end(3, job.OutcomeGiveUp, "")
		b4 := member("b", "a")
		b4.After.Jobs = []int64{3} // which is a
		require.NoError(t, add(b4))
		assert.Equal(t, []string{"held", "held"}, y.states(2, 4))
		y.refuses(add(member("a")), "jobs[0].ref", `"a" is that of a job that was added before`)
		y.refuses(add(member("c", "x")), "jobs[0].after.refs[0]", `"x" is no job's ref in this batch`)
		y.refuses(add(), "give at least one job")
		y.must(y.e.Requeue(ctx, 3, api.Requeue{}))
		y.end(3, job.OutcomeDone, "")
		y.end(4, job.OutcomeGiveUp, "")
		assert.Equal(t, []string{"held"}, y.states(2), "more may come")
		closed, err := y.e.CloseBatch(ctx, b.ID)
		require.NoError(t, err)
		assert.False(t, closed.Open)
		y.must(y.e.CloseBatch(ctx, b.ID))
		y.refuses(add(member("c")), "is closed")
		y.end(2, job.OutcomeDone, "")
		assert.Equal(t, api.BatchFailed, y.batchIs(b.ID).State)

		empty := y.batch(api.NewBatch{Open: true})
		y.must(y.e.CloseBatch(ctx, empty.ID))
		assert.Equal(t, api.BatchDone, y.batchIs(empty.ID).State, "nothing was to be done")
		forgotten := y.batch(api.NewBatch{Open: true})
		cancels := y.batch(api.NewBatch{Jobs: []api.BatchJob{member("a"), member("b", "a")}, Last: &job.Spec{Task: "notice.publish", After: &job.After{IfNot: job.IfNotCancel}}})
		y.must(y.e.Cancel(ctx, cancels.IDs[1]))
		assert.Equal(t, []string{"ready", "cancelled asked", "cancelled dependency_dead"}, y.states(cancels.IDs...))
		y.end(cancels.IDs[0], job.OutcomeDone, "")
		assert.Equal(t, api.BatchCancelled, y.batchIs(cancels.ID).State)
		time.Sleep(11 * time.Minute)
		_, err = y.e.Batch(ctx, empty.ID)
		require.ErrorIs(t, err, job.ErrNotFound, "nothing of it is kept")
		y.batchIs(forgotten.ID)
		y.must(y.e.Load(ctx, api.SetupRequest{Setup: api.Setup{Retention: &api.Retention{Dead: job.Duration(2 * time.Hour)}}}))
		time.Sleep(2 * time.Hour)
		_, err = y.e.Batch(ctx, forgotten.ID)
		require.ErrorIs(t, err, job.ErrNotFound, "nobody has added anything for as long as dead letters are kept")
		tablesAgree(y.T, y.e)
	})
}

// A batch answers for another of its name, and a call that is made again gives the same answer.
func TestBatchOnce(t *testing.T) {
	inYard(t, func(y *yard) {
		made := api.NewBatch{Name: "tides", Dedupe: job.Unfinished, Jobs: []api.BatchJob{member("a")}}
		first, again := y.batch(made), y.batch(made)
		assert.Equal(t, []any{first.ID, true, false}, []any{again.ID, again.Duplicate, first.Duplicate})
		y.end(first.IDs[0], job.OutcomeDone, "")
		second := y.batch(made)
		assert.NotEqual(t, first.ID, second.ID)
		made.Dedupe = "1h"
		assert.Equal(t, second.ID, y.batch(made).ID)
		ctx := WithCall(context.Background(), Call{Principal: "ada", Path: "/v1/batches", Key: "k", Body: []byte("b")})
		made = api.NewBatch{Jobs: []api.BatchJob{member("a"), member("b", "a")}, Last: &job.Spec{Task: "notice.publish"}}
		told, err := y.e.MakeBatch(ctx, made, atMember)
		require.NoError(t, err)
		require.NoError(t, y.e.Close())
		y.open()
		twice, err := y.e.MakeBatch(ctx, made, atMember)
		require.NoError(t, err)
		assert.Equal(t, []any{told.ID, told.IDs}, []any{twice.ID, twice.IDs})
		tablesAgree(y.T, y.e)
	})
}

func TestBatchIsRefused(t *testing.T) {
	inYard(t, func(y *yard) {
		refused := func(b api.NewBatch, says ...string) {
			t.Helper()
			_, err := y.e.MakeBatch(context.Background(), b, atMember)
			y.refuses(err, says...)
		}
		refused(api.NewBatch{}, "jobs", "give the batch at least one job")
		refused(api.NewBatch{Jobs: []api.BatchJob{member("a", "b"), member("b", "c"), member("c", "a")}}, "jobs[0].after.refs", "a after b after c after a")
		refused(api.NewBatch{Jobs: []api.BatchJob{member("a"), member("b", "b")}}, "jobs[1].after.refs", "waits for itself")
		refused(api.NewBatch{Jobs: []api.BatchJob{member("a"), member("a")}}, "jobs[1].ref", "is that of another job of the batch, at jobs[0]")
		refused(api.NewBatch{Jobs: []api.BatchJob{member("a", "b", "b"), member("b")}}, "jobs[0].after.refs[1]", "is named twice")
		refused(api.NewBatch{Jobs: []api.BatchJob{member(strings.Repeat("r", 10<<10))}}, "jobs[0].ref", "is 10240 bytes; at most 100 are kept")
		refused(api.NewBatch{Jobs: []api.BatchJob{member("a")}, Last: &job.Spec{Task: "Not A Name"}}, "last.task")
		refused(api.NewBatch{Jobs: []api.BatchJob{member("a")}, Last: &job.Spec{Task: "x", After: &job.After{Refs: []string{"a"}}}}, "last.after", "waits for all of the batch")
		refused(api.NewBatch{Jobs: []api.BatchJob{{Spec: job.Spec{Task: "x", After: &job.After{Jobs: []int64{99}}}}}}, "jobs[0].after.jobs[0]", "99 is not the id")
		refused(api.NewBatch{Jobs: []api.BatchJob{{Spec: job.Spec{Task: "x", Key: "k", Dedupe: "1h"}}}}, "jobs[0].dedupe")
		refused(api.NewBatch{Dedupe: "1h", Jobs: []api.BatchJob{member("a")}}, "dedupe", "needs a name")
		many := make([]api.BatchJob, api.MaxBatchJobs+1)
		for i := range many {
			many[i] = member("")
		}
		refused(api.NewBatch{Jobs: many}, "10001 with the last one")
		_, err := y.e.Batch(context.Background(), 7)
		require.ErrorIs(t, err, job.ErrNotFound)
		assert.Zero(t, y.count(job.Ready))
	})
}

// A chain of ten thousand is cancelled when its first job dies, or goes on one after the other; one
// job lets ten thousand go, in slices, over a restart.
func TestLargeBatches(t *testing.T) {
	alone(t)
	many := rounds(5000, 1000)
	inYard(t, func(y *yard) {
		chain := make([]api.BatchJob, many)
		for i := range chain {
			chain[i] = member(fmt.Sprint(i))
			if i > 0 {
				chain[i].After = &job.After{Refs: []string{fmt.Sprint(i - 1)}, IfNot: job.IfNotCancel}
			}
		}
		assert.Len(t, api.Levels(chain), many)
		b := y.batch(api.NewBatch{Jobs: chain})
		y.end(b.IDs[0], job.OutcomeGiveUp, "")
		time.Sleep(time.Second)
		b = y.batchIs(b.ID)
		assert.Equal(t, []any{api.BatchFailed, map[job.State]int64{job.Dead: 1, job.Cancelled: int64(many - 1)}}, []any{b.State, b.Counts})
		tablesAgree(y.T, y.e)

		star := make([]api.BatchJob, many)
		for i := range star {
			star[i] = member(fmt.Sprint(i))
			if i > 0 {
				star[i].After = &job.After{Refs: []string{"0"}}
			}
		}
		b = y.batch(api.NewBatch{Jobs: star})
		y.end(b.IDs[0], job.OutcomeDone, "")
		assert.Less(t, y.batchIs(b.ID).Counts[job.Ready], int64(many-1), "in slices")
		require.NoError(t, y.e.Close())
		y.open()
		time.Sleep(time.Second)
		assert.Equal(t, int64(many-1), y.batchIs(b.ID).Counts[job.Ready])
		tablesAgree(y.T, y.e)
		for i := range star {
			star[i] = member(fmt.Sprint(i))
		}
		star[0].After = new(job.After)
		for i := range star[1:] {
			star[0].After.Refs = append(star[0].After.Refs, fmt.Sprint(i+1))
		}
		b = y.batch(api.NewBatch{Jobs: star})
		assert.Contains(t, y.why(b.IDs[0]), "(manifest.check, ready) and "+sentence.Grouped(int64(many-4))+" more are done")
		for y.batchIs(b.ID).State == api.BatchRunning {
			var done []api.Settlement
			for _, l := range y.take("common", 1000) {
				done = append(done, api.Settlement{Token: l.Token, Outcome: job.OutcomeDone})
			}
			y.must(y.e.Settle(context.Background(), done))
		}
		time.Sleep(time.Second)
		tablesAgree(y.T, y.e)
	})
}
