package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// after asks for a job that waits for others.
func afterJobs(rule job.After, ids ...int64) job.Spec {
	rule.Jobs = ids
	return job.Spec{Task: "notice.publish", After: &rule}
}

func (y *yard) job(id int64) job.Job {
	y.Helper()
	j, err := y.e.Job(context.Background(), id)
	require.NoError(y, err)
	return j
}

func (y *yard) states(ids ...int64) (all []string) {
	for _, id := range ids {
		j := y.job(id)
		all = append(all, j.State.String())
		if j.Reason != "" {
			all[len(all)-1] += " " + string(j.Reason)
		}
	}
	return all
}

// end leases a job by its id and ends it.
func (y *yard) end(id int64, outcome job.Outcome, result string) {
	y.Helper()
	a, err := y.e.Lease(context.Background(), api.LeaseRequest{Worker: y.worker, Job: id, Limit: 1})
	require.NoError(y, err)
	require.Len(y, a.Leases, 1)
	s := api.Settlement{Token: a.Leases[0].Token, Outcome: outcome, ReasonText: "so"}
	if result != "" {
		s.Result = []byte(result)
	}
	res, err := y.e.Settle(context.Background(), []api.Settlement{s})
	require.NoError(y, err)
	require.Equal(y, api.StatusOK, res[0].Status)
}

func (y *yard) refuses(err error, says ...string) {
	y.Helper()
	require.Error(y, err)
	text := err.Error()
	var p *job.Problem
	if errors.As(err, &p) {
		text = fmt.Sprint(p.Detail, p.Fields)
	}
	for _, s := range says {
		assert.Contains(y, text, s)
	}
}

// A job that waits for others goes on, waits on or is cancelled by how they end.
func TestAfter(t *testing.T) {
	for _, ends := range []struct {
		how  string
		end  func(y *yard)
		want []string // of a job that wants done, one that is cancelled otherwise, and one that wants any end
	}{
		{"done", func(y *yard) { y.end(1, job.OutcomeDone, `{"berth":3}`) }, []string{"ready", "ready", "ready"}},
		{"skipped by its handler", func(y *yard) { y.end(1, job.OutcomeSkipped, "") }, []string{"ready", "ready", "ready"}},
		{"dead", func(y *yard) { y.end(1, job.OutcomeGiveUp, "") }, []string{"held", "cancelled dependency_dead", "ready"}},
		{"cancelled", func(y *yard) { y.must(y.e.Cancel(context.Background(), 1)) }, []string{"held", "cancelled dependency_dead", "ready"}},
		{"too late", func(y *yard) { time.Sleep(time.Hour + time.Second) }, []string{"held", "cancelled dependency_dead", "ready"}},
		{"purged", func(y *yard) {
			_, err := y.e.Act(context.Background(), api.ActRequest{Action: api.ActPurge, Filter: &api.Selection{Queues: []string{"berths"}}})
			require.NoError(y, err)
			assert.Equal(y, []string{"held", "held", "held"}, y.states(2, 3, 4), "it can be restored")
			time.Sleep(11 * time.Minute)
		}, []string{"held", "cancelled dependency_dead", "ready"}},
	} {
		t.Run(ends.how, func(t *testing.T) {
			inYard(t, func(y *yard) {
				y.enqueue(job.Spec{Task: "berth.plan", Queue: "berths", StartBy: job.At(time.Now().Add(time.Hour))})
				y.enqueue(afterJobs(job.After{}, 1), afterJobs(job.After{IfNot: job.IfNotCancel}, 1), afterJobs(job.After{When: job.WhenFinished}, 1))
				assert.Equal(t, []string{"held", "held", "held"}, y.states(2, 3, 4))
				assert.Equal(t, "It waits until job 1 (berth.plan, ready) is done; should one end otherwise, it waits until somebody acts.", y.why(2))
				assert.Equal(t, "It waits until job 1 (berth.plan, ready) is done; should one end otherwise, it is cancelled.", y.why(3))
				assert.Equal(t, "It waits until job 1 (berth.plan, ready) has ended, in whatever way.", y.why(4))
				by := y.job(1).AwaitedBy
				require.NotNil(t, by)
				assert.Equal(t, []int64{3, 3}, []int64{by.Total, by.Unmet})
				fates := map[int64]job.Fate{}
				for _, e := range by.First {
					fates[e.Job] = e.Fate
				}
				assert.Equal(t, map[int64]job.Fate{2: job.FateHeld, 3: job.FateCancelled, 4: job.FateGoesOn}, fates)
				ends.end(y)
				time.Sleep(time.Millisecond)
				assert.Equal(t, ends.want, y.states(2, 3, 4))
				tablesAgree(y.T, y.e)
			})
		})
	}
}

func (y *yard) must(_ any, err error) {
	y.Helper()
	require.NoError(y, err)
}

// An edge that is met stays so; a dead job is mended, and what waits for it goes on.
func TestAfterIsMended(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		y.enqueue(job.Spec{Task: "dues.charge"}, job.Spec{Task: "dues.charge"})
		y.enqueue(afterJobs(job.After{}, 1, 2), afterJobs(job.After{IfNot: job.IfNotCancel}, 2))
		y.enqueue(afterJobs(job.After{IfNot: job.IfNotCancel}, 4))
		y.end(1, job.OutcomeDone, `{"cents":1200}`)
		y.must(y.e.Requeue(ctx, 1, api.Requeue{}))
		y.end(1, job.OutcomeGiveUp, "")
		y.end(2, job.OutcomeGiveUp, "")
		assert.Equal(t, []string{"held", "cancelled dependency_dead", "cancelled dependency_dead"}, y.states(3, 4, 5), "what waits for one that is cancelled is, too")
		assert.Equal(t, "It waits until job 2 (dues.charge, dead) is done; job 2 is dead, so it waits until somebody acts: requeue job 2, or start this one now to let it go on without it.", y.why(3))
		_, err := y.e.Requeue(ctx, 4, api.Requeue{})
		y.refuses(err, "job 4 waits for job 2", "ignore_after")
		y.must(y.e.Requeue(ctx, 2, api.Requeue{}))
		y.must(y.e.Requeue(ctx, 4, api.Requeue{}))
		assert.Equal(t, []string{"held", "held"}, y.states(3, 4))
		y.end(2, job.OutcomeDone, "")
		assert.Equal(t, []string{"ready", "ready"}, y.states(3, 4), "job 1 was done once")
		y.must(y.e.Requeue(ctx, 5, api.Requeue{IgnoreAfter: true}))
		assert.Equal(t, "ready", y.states(5)[0])
		edge := y.job(5).WaitsFor
		assert.Equal(t, []job.Edge{{Job: 4, Task: "notice.publish", State: job.Ready, Is: job.EdgeDropped}}, edge.First)

		// One that waits in vain is let go by hand; one that is held for another reason is not.
		y.enqueue(job.Spec{Task: "dues.charge"})
		y.end(6, job.OutcomeGiveUp, "")
		y.enqueue(afterJobs(job.After{}, 6), afterJobs(job.After{IfNot: job.IfNotCancel}, 6), afterJobs(job.After{When: job.WhenFinished}, 6, 1))
		assert.Equal(t, []string{"held", "cancelled dependency_dead", "ready"}, y.states(7, 8, 9), "it is judged by how it stands at the enqueue")
		y.must(y.e.StartNow(ctx, 7))
		assert.Equal(t, []string{"ready"}, y.states(7))
		tablesAgree(y.T, y.e)
	})
}

// What a job waited for is handed to it, with results as far as they fit.
func TestInputs(t *testing.T) {
	inYard(t, func(y *yard) {
		y.enqueue(job.Spec{Task: "manifest.check"}, job.Spec{Task: "manifest.check"}, job.Spec{Task: "manifest.check"})
		y.enqueue(afterJobs(job.After{When: job.WhenFinished}, 1, 2, 3))
		long := `"` + string(slices.Repeat([]byte("a"), 60<<10)) + `"`
		y.end(1, job.OutcomeDone, `{"rows":12}`)
		y.end(2, job.OutcomeDone, long)
		y.end(3, job.OutcomeGiveUp, "")
		l := y.lease("common", 1)
		require.Equal(t, []int64{4}, idsOf(l))
		in := l[0].Job.Inputs
		require.Len(t, in, 3)
		assert.JSONEq(t, `{"rows":12}`, string(in[0].Result))
		assert.Equal(t, long, string(in[1].Result))
		assert.Equal(t, job.Input{Job: 3, State: job.Dead, Reason: job.GaveUp}, in[2])
		y.settle(l[0], job.OutcomeReleased)
		y.must(y.e.Requeue(context.Background(), 1, api.Requeue{}))
		y.end(1, job.OutcomeDone, long)
		in = y.lease("common", 1)[0].Job.Inputs
		assert.Equal(t, []bool{false, true, false}, []bool{in[0].Omitted, in[1].Omitted, in[2].Omitted}, "64 KiB together")

		// However many there are, and however long their results.
		many := make([]job.Spec, 300)
		for i := range many {
			many[i] = job.Spec{Task: "manifest.check", Queue: "parts"}
		}
		y.enqueue(many...)
		whole := `"` + strings.Repeat("a", job.MaxInputBytes-2) + `"`
		all := job.After{}
		for _, l := range y.lease("parts", len(many)) {
			all.Jobs = append(all.Jobs, l.Job.ID)
			_, err := y.e.Settle(context.Background(), []api.Settlement{{Token: l.Token, Outcome: job.OutcomeDone, Result: []byte(whole)}})
			require.NoError(t, err)
		}
		id := y.one(job.Spec{Task: "berth.plan", Queue: "parts", After: &all})
		in = y.lease("parts", 1)[0].Job.Inputs
		require.Len(t, in, len(many), "job %d", id)
		assert.Equal(t, whole, string(in[0].Result))
		for _, one := range in[1:] {
			assert.True(t, one.Omitted && one.Result == nil)
		}
	})
}

// A job is kept while another may still need its result, and no longer; what waits for a dead one
// does so for as long as dead letters are kept.
func TestAfterIsKept(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		kept := job.Duration(time.Minute)
		hours := func(n int) job.Duration { return job.Duration(time.Duration(n) * time.Hour) }
		y.must(nil, y.e.SetQueue(ctx, "common", api.Defaults{Keep: map[job.State]job.Duration{job.Done: hours(1), job.Cancelled: hours(9), job.Dead: hours(6)}}))
		y.enqueue(job.Spec{Task: "tide.predict", KeepResult: &kept}, job.Spec{Task: "tide.predict"}, job.Spec{Task: "tide.predict"})
		later := afterJobs(job.After{}, 1)
		later.Delay = hours(20)
		y.enqueue(later, afterJobs(job.After{}, 2))
		y.end(1, job.OutcomeDone, `[4.1]`)
		y.end(2, job.OutcomeGiveUp, "")
		y.end(3, job.OutcomeDone, "")
		time.Sleep(3 * time.Hour)
		_, err := y.e.Job(ctx, 3)
		require.ErrorIs(t, err, job.ErrNotFound, "nothing waits for it")
		assert.JSONEq(t, `[4.1]`, string(y.job(1).Result))
		assert.Equal(t, []string{"dead gave_up", "scheduled", "held"}, y.states(2, 4, 5))
		y.must(y.e.StartNow(ctx, 4))
		y.end(4, job.OutcomeDone, "")
		time.Sleep(time.Hour)
		_, err = y.e.Job(ctx, 1)
		require.ErrorIs(t, err, job.ErrNotFound, "nothing needs it any more")
		time.Sleep(3 * time.Hour)
		assert.Equal(t, []string{"cancelled dependency_dead"}, y.states(5))
		time.Sleep(time.Hour)
		_, err = y.e.Job(ctx, 2)
		require.ErrorIs(t, err, job.ErrNotFound)
	})
}

func TestAfterIsRefused(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		y.enqueue(job.Spec{Task: "tide.predict"})
		for says, rule := range map[string]job.After{
			"after.jobs[1] 1 is named twice":                            {Jobs: []int64{1, 1}},
			"after.jobs[0] 2 is not the id of a job that is kept":       {Jobs: []int64{2}}, // itself
			"after.jobs[0] -1 is not a valid id":                        {Jobs: []int64{-1}},
			"after.jobs is empty":                                       {},
			"after.refs name jobs of a batch":                           {Refs: []string{"a"}},
			`after.when "ended" is unknown; it is done or finished`:     {Jobs: []int64{1}, When: "ended"},
			`after.if_not "wait" is unknown; it is hold or cancel`:      {Jobs: []int64{1}, IfNot: "wait"},
			"after.if_not says nothing beside when: finished":           {Jobs: []int64{1}, When: job.WhenFinished, IfNot: job.IfNotHold},
			"after.jobs are 10001; a job waits for at most 10000 other": {Jobs: make([]int64, 10_001)},
		} {
			_, err := y.e.Enqueue(ctx, job.Spec{Task: "notice.publish", After: &rule})
			var p *job.Problem
			require.ErrorAs(t, err, &p, says)
			assert.Contains(t, p.Fields[0].Field+" "+p.Fields[0].Message, says)
		}
		_, err := y.e.Patch(ctx, 1, job.Patch{Named: []string{"after"}, Spec: job.Spec{After: &job.After{Jobs: []int64{1}}}})
		y.refuses(err, "after", "cannot be changed after the enqueue")
		assert.Equal(t, int64(1), y.count(job.Ready), "nothing was enqueued")
	})
}

// A follow-up may wait for the job that enqueues it, which has ended by then.
func TestFollowUpAfterItself(t *testing.T) {
	inYard(t, func(y *yard) {
		y.enqueue(job.Spec{Task: "tide.predict"})
		l := y.lease("common", 1)[0]
		res, err := y.e.Settle(context.Background(), []api.Settlement{{Token: l.Token, Outcome: job.OutcomeDone, Result: []byte(`1`), Enqueue: []api.FollowUp{{Spec: afterJobs(job.After{}, 1)}}}})
		require.NoError(t, err)
		require.Equal(t, api.StatusOK, res[0].Status)
		in := y.lease("common", 1)
		require.Equal(t, []int64{2}, idsOf(in))
		assert.Equal(t, "1", string(in[0].Job.Inputs[0].Result))
		res, err = y.e.Settle(context.Background(), []api.Settlement{{Token: in[0].Token, Outcome: job.OutcomeDone, Enqueue: []api.FollowUp{{Spec: afterJobs(job.After{}, 77)}}}})
		require.NoError(t, err)
		assert.Equal(t, "enqueue[0].after.jobs[0]", res[0].Errors[0].Field)
		assert.Equal(t, []string{"dead outcome_refused"}, y.states(2))
	})
}
