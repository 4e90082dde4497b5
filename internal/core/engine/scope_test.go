package engine

import (
	"context"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/scope"
	"humblemule.example/job"
)

// Who may see the queue of the tides alone neither reads nor changes anything of another.
func TestScope(t *testing.T) {
	inYard(t, func(y *yard) {
		whole := y.Context()
		tides := scope.With(whole, scope.Only(func(queue, _ string) bool { return queue == "tides" }))
		enqueue := func(ctx context.Context, queue string) (int64, error) {
			j, err := y.e.Enqueue(ctx, job.Spec{Task: "tide.predict", Queue: queue, Lane: "berth-3"})
			return j.ID, err
		}
		seen, err := enqueue(tides, "tides")
		require.NoError(t, err)
		other, err := enqueue(whole, "dues")
		require.NoError(t, err)
		gone, err := enqueue(whole, "dues")
		require.NoError(t, err)
		_, err = y.e.Cancel(whole, gone)
		require.NoError(t, err)
		_, err = y.e.Discard(whole, gone)
		require.NoError(t, err)
		_, err = y.e.SetSchedule(whole, "dues-nightly", api.Schedule{Cron: "0 3 * * *", Job: job.Spec{Task: "tide.predict", Queue: "dues"}})
		require.NoError(t, err)
		_, err = y.e.PutWorker(whole, api.Worker{ID: "quay-7", Queues: []string{"dues"}})
		require.NoError(t, err)
		before, actions := y.e.Counts(whole), len(actionsOf(y))

		page, err := y.e.Jobs(tides, api.Filter{})
		require.NoError(t, err)
		require.Len(t, page.Jobs, 1)
		assert.Equal(t, []int64{seen, 1}, []int64{page.Jobs[0].ID, *page.Matched})
		assert.Len(t, y.e.Counts(tides), 1)
		assert.Empty(t, y.e.Tasks(tides), "jobs of the task are elsewhere too")
		assert.Empty(t, y.e.Workers(tides))
		stats, err := y.e.Stats(tides, "")
		require.NoError(t, err)
		assert.Equal(t, int64(1), stats.Counts[job.Ready])
		assert.Len(t, stats.Queues, 1)
		for _, s := range stats.Facts {
			assert.NotContains(t, s.Text, "dues")
		}
		schedules, _, err := y.e.Schedules(tides, "", 10)
		require.NoError(t, err)
		assert.Empty(t, schedules)

		_, err = enqueue(tides, "dues")
		assert.ErrorContains(t, err, "not for this token")
		patch, err := job.ReadPatch(json.RawMessage(`{"priority":7}`))
		require.NoError(t, err)
		one := func(do func(ctx context.Context, id int64) (job.Job, error)) func() error {
			return func() error { _, err := do(tides, other); return err }
		}
		for what, try := range map[string]func() error{
			"read":        one(y.e.Job),
			"cancel":      one(y.e.Cancel),
			"start now":   one(y.e.StartNow),
			"restore":     func() error { _, err := y.e.Undiscard(tides, gone); return err },
			"requeue":     func() error { _, err := y.e.Requeue(tides, other, api.Requeue{}); return err },
			"edit":        func() error { _, err := y.e.Patch(tides, other, patch); return err },
			"end a lease": func() error { _, err := y.e.EndLease(tides, other, false); return err },
			"discard":     func() error { _, err := y.e.Discard(tides, other); return err },
			"lease": func() error {
				_, err := y.e.Lease(tides, api.LeaseRequest{Worker: "spy", Queues: []string{"dues"}, Limit: 1})
				return err
			},
			"lease one": func() error {
				_, err := y.e.Lease(tides, api.LeaseRequest{Worker: "spy", Job: other, Limit: 1})
				return err
			},
			"register": func() error {
				_, err := y.e.PutWorker(tides, api.Worker{ID: "spy", Queues: []string{"dues"}})
				return err
			},
			"drain":          func() error { _, err := y.e.AskWorker(tides, "quay-7", api.WantDrain); return err },
			"sign off":       func() error { return y.e.DeleteAnyWorker(tides, "quay-7") },
			"pass a lane":    func() error { return y.e.PassLane(tides, "dues", "berth-3") },
			"pause":          func() error { return y.e.PauseQueue(tides, "dues") },
			"set a queue":    func() error { return y.e.SetQueue(tides, "dues", api.Defaults{}) },
			"delete a queue": func() error { return y.e.DeleteQueue(tides, "dues") },
			"set a task":     func() error { return y.e.SetTask(tides, "tide.predict", api.Defaults{}) },
			"delete a task":  func() error { return y.e.DeleteTask(tides, "tide.predict") },
			"run":            func() error { _, err := y.e.RunSchedule(tides, "dues-nightly"); return err },
			"pause a plan":   func() error { _, err := y.e.PauseSchedule(tides, "dues-nightly"); return err },
			"delete a plan":  func() error { return y.e.DeleteSchedule(tides, "dues-nightly") },
			"take a plan": func() error {
				_, err := y.e.SetSchedule(tides, "dues-nightly", api.Schedule{Cron: "0 4 * * *", Job: job.Spec{Task: "tide.predict", Queue: "tides"}})
				return err
			},
			"load a set-up": func() error { _, err := y.e.Load(tides, api.SetupRequest{DryRun: true}); return err },
			"act on many": func() error {
				_, err := y.e.Act(tides, api.ActRequest{Action: api.ActCancel, IDs: []int64{other}})
				return err
			},
			"read an action":  func() error { _, err := y.e.Actions(tides, 0, 0, 10); return err },
			"read a setting":  func() error { _, err := y.e.Settings(tides); return err },
			"read a queue":    func() error { _, err := y.e.Queue(tides, "dues"); return err },
			"read its starts": func() error { _, err := y.e.Starts(tides, "dues"); return err },
		} {
			var p *job.Problem
			if assert.ErrorAs(t, try(), &p, what) {
				assert.Contains(t, []job.Kind{job.NotFound, job.Forbidden}, p.Kind, "%s: %s", what, p)
			}
		}
		assert.Equal(t, before, y.e.Counts(whole), "nothing has moved")
		assert.Len(t, actionsOf(y), actions, "and nothing was done")
	})
}

// Jobs of two queues die by one cause: who may see one of them reads its messages alone.
func TestScopeOfTexts(t *testing.T) {
	inYard(t, func(y *yard) {
		whole := y.Context()
		ids := map[string]int64{}
		for queue, minutes := range map[string]string{"tides": "12", "dues": "99"} {
			j, err := y.e.Enqueue(whole, job.Spec{Task: "buoy.poll", Queue: queue})
			require.NoError(t, err)
			a, err := y.e.Lease(whole, api.LeaseRequest{Worker: "quay-7", Queues: []string{queue}, Limit: 1})
			require.NoError(t, err)
			_, err = y.e.Settle(whole, []api.Settlement{{Token: a.Leases[0].Token, Outcome: job.OutcomeGiveUp, Error: &job.Failure{Type: "silent", Message: "no reading for " + minutes + " minutes"}}})
			require.NoError(t, err)
			ids[queue] = j.ID
		}
		tides := scope.With(whole, scope.Only(func(queue, _ string) bool { return queue == "tides" }))
		for what, of := range map[string]struct {
			ctx context.Context
			f   api.CauseFilter
		}{"by scope": {tides, api.CauseFilter{}}, "by filter": {whole, api.CauseFilter{Queue: "tides"}}} {
			causes, err := y.e.Causes(of.ctx, of.f)
			require.NoError(t, err)
			require.Len(t, causes, 1, what)
			assert.Equal(t, []any{[]string{"no reading for 12 minutes"}, ids["tides"]}, []any{causes[0].Samples, causes[0].Job}, what)
		}
		causes, err := y.e.Causes(whole, api.CauseFilter{})
		require.NoError(t, err)
		assert.ElementsMatch(t, []string{"no reading for 12 minutes", "no reading for 99 minutes"}, causes[0].Samples)
		assert.Equal(t, max(ids["tides"], ids["dues"]), causes[0].Job)
	})
}

func actionsOf(y *yard) []api.Action {
	all, err := y.e.Actions(y.Context(), 0, 0, 100)
	require.NoError(y, err)
	return all
}
