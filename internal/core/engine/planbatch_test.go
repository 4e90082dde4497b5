package engine

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// tides is a batch that a schedule starts.
func tides(rule string) api.Schedule {
	return api.Schedule{Cron: "0 * * * *", IfStillRunning: rule, Batch: &api.NewBatch{Name: "tides", Owner: "harbour", Jobs: []api.BatchJob{member("flood"), member("ebb", "flood")}, Last: &job.Spec{Task: "notice.publish"}}}
}

// A schedule starts a batch, and looks at the whole of it: a run is over with the last job. One more waits
// for that where it is asked for.
func TestScheduledBatches(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		y.schedule("skips", tides(api.RunSkips))
		hour := func() { time.Sleep(time.Hour); synctest.Wait() }
		hour()
		runs, err := y.e.Runs(ctx, "skips", 0, 10)
		require.NoError(t, err)
		require.Len(t, runs, 1)
		b := y.batchIs(runs[0].Batch)
		assert.Equal(t, []any{"tides", "schedule skips", "harbour", int64(3), runs[0].Job, false}, []any{b.Name, b.MadeBy, b.Owner, b.Jobs, b.Last, b.Open})
		assert.Equal(t, []string{"ready", "held", "held"}, y.states(b.Last-2, b.Last-1, b.Last))
		y.end(b.Last-2, job.OutcomeDone, "")
		hour()
		assert.Equal(t, "skipped: the last run was not over", y.lastSummary("skips"))
		y.end(b.Last-1, job.OutcomeGiveUp, "")
		hour()
		assert.Equal(t, "skipped: the last run was not over", y.lastSummary("skips"), "it is stuck until somebody acts")
		_, err = y.e.RunSchedule(ctx, "skips")
		y.refuses(err, "is unfinished")
		y.must(y.e.Discard(ctx, b.Last-1))
		y.must(y.e.Cancel(ctx, b.Last))
		y.must(y.e.RunSchedule(ctx, "skips"))
		y.must(y.e.PauseSchedule(ctx, "skips"))
		require.NoError(t, y.e.DeleteSchedule(ctx, "skips"))

		y.schedule("waits", tides(api.RunWaits))
		hour()
		first := y.batchIs(y.newestRun("waits").Batch)
		hour()
		second := y.batchIs(y.newestRun("waits").Batch)
		assert.NotEqual(t, first.ID, second.ID)
		assert.Equal(t, []string{"held", "held", "held"}, y.states(second.Last-2, second.Last-1, second.Last), "it waits for the one before")
		hour()
		assert.Equal(t, "skipped: the last run was not over", y.lastSummary("waits"), "one waits at most")
		require.NoError(t, y.e.Close())
		y.open()
		y.end(first.Last-2, job.OutcomeDone, "")
		y.end(first.Last-1, job.OutcomeDone, "")
		assert.Equal(t, []string{"ready", "held"}, y.states(first.Last, second.Last-2))
		y.end(first.Last, job.OutcomeGiveUp, "")
		assert.Equal(t, []string{"dead gave_up", "ready", "held"}, y.states(first.Last, second.Last-2, second.Last-1), "however it ends")
		y.must(y.e.Requeue(ctx, first.Last, api.Requeue{}))
		assert.Equal(t, []string{"ready"}, y.states(first.Last), "a last job that is run again waits for nobody")
		s, err := y.e.Schedule(ctx, "waits")
		require.NoError(t, err)
		assert.Equal(t, int64(1), s.FailedInARow)
		time.Sleep(time.Second)
		tablesAgree(y.T, y.e)
	})
}

func (y *yard) newestRun(name string) api.Run {
	y.Helper()
	runs, err := y.e.Runs(context.Background(), name, 0, 1)
	require.NoError(y, err)
	require.NotEmpty(y, runs)
	return runs[0]
}

func (y *yard) lastSummary(name string) string { return y.newestRun(name).Summary }

func TestScheduledBatchIsRefused(t *testing.T) {
	inYard(t, func(y *yard) {
		for name, bad := range map[string]struct {
			spoil func(s *api.Schedule)
			says  []string
		}{
			"both":            {func(s *api.Schedule) { s.Job.Task = "tide.predict" }, []string{"job", "cannot be combined with batch"}},
			"open":            {func(s *api.Schedule) { s.Batch.Open = true }, []string{"batch.open"}},
			"dedupe":          {func(s *api.Schedule) { s.Batch.Dedupe = "1h" }, []string{"batch.dedupe", "if_still_running"}},
			"no last job":     {func(s *api.Schedule) { s.Batch.Last = nil }, []string{"batch.last", "is missing"}},
			"no job":          {func(s *api.Schedule) { s.Batch.Jobs = nil }, []string{"batch.jobs", "is empty"}},
			"a cycle":         {func(s *api.Schedule) { s.Batch.Jobs[0].After = &job.After{Refs: []string{"ebb"}} }, []string{"batch.jobs[0].after.refs", "cycle"}},
			"a start":         {func(s *api.Schedule) { s.Batch.Jobs[1].RunAt = 5 }, []string{"batch.jobs[1].run_at", "itself says when"}},
			"another job":     {func(s *api.Schedule) { s.Batch.Jobs[0].After = &job.After{Jobs: []int64{1}} }, []string{"batch.jobs[0].after.jobs", "whose runs would all wait"}},
			"a last start":    {func(s *api.Schedule) { s.Batch.Last.StartBy = 5 }, []string{"batch.last.start_by"}},
			"too many":        {func(s *api.Schedule) { s.Batch.Jobs = make([]api.BatchJob, api.MaxScheduledJobs) }, []string{"batch.jobs", "501 with the last one"}},
			"a payload's end": {func(s *api.Schedule) { s.Batch.Last.Payload = job.JSON(strings.Repeat("x", 200<<10)) }, []string{"batch.last.payload"}},
		} {
			s := tides("").Own()
			bad.spoil(&s)
			_, err := y.e.SetSchedule(context.Background(), "tides", s)
			require.Error(t, err, name)
			for _, says := range bad.says {
				assert.ErrorContains(t, err, says, name)
			}
		}
	})
}
