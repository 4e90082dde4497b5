package engine

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/job"
)

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
		assert.Contains(t, p.Detail, "20 finished jobs would no longer be kept")
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
		file := api.Setup{Retention: &api.Retention{MaxDone: &most}}
		d, err := y.e.Load(ctx, api.SetupRequest{Setup: file, DryRun: true})
		require.NoError(t, err)
		assert.Equal(t, int64(4+2), d.Removes)
		_, err = y.e.Load(ctx, api.SetupRequest{Setup: file})
		require.ErrorAs(t, err, &p)
		assert.Equal(t, job.WouldRemove, p.Kind)
		time.Sleep(time.Minute)
		assert.Equal(t, []int64{7, 5}, []int64{done("tides"), done("berths")})
		d, err = y.e.Load(ctx, api.SetupRequest{Setup: file, MayRemove: true})
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

// A load sets what the file defines and takes away what it no longer names, at once or
// not at all; what was set in another way stays, over restarts too.
func TestLoad(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		berths := api.Defaults{Rules: api.Rules{MaxRunning: ptr(2)}}
		file := api.Setup{Queues: map[string]api.Defaults{"berths": berths, "archive": {}}, Tasks: map[string]api.Defaults{"dues.charge": {MaxAttempts: ptr(6)}}}
		load := func(s api.Setup, adopt, dry bool) (told []string, d api.SetupDiff) {
			d, err := y.e.Load(ctx, api.SetupRequest{Setup: s, Adopt: adopt, DryRun: dry})
			require.NoError(t, err)
			for _, c := range d.Changes {
				told = append(told, c.Kind+" "+c.Name+" "+c.Change)
			}
			return told, d
		}
		y.rules("common", api.Rules{Turns: api.TurnsOwner})
		told, d := load(file, false, true)
		assert.Equal(t, []string{"queue archive add", "queue berths add", "task dues.charge add"}, told)
		assert.Equal(t, []string{"queue common"}, d.Others)
		assert.Empty(t, y.e.Tasks(ctx), "nothing was changed")
		told, d = load(file, false, false)
		assert.Len(t, told, 3)
		assert.True(t, d.Loaded)
		require.NoError(t, y.e.Close())
		y.open()
		told, d = load(file, false, false)
		assert.Equal(t, []any{0, 3}, []any{len(told), d.Same}, "the same again changes nothing")
		queues, err := y.e.Queues(ctx)
		require.NoError(t, err)
		assert.Equal(t, []bool{true, true, false}, []bool{queues[0].FromFile, queues[1].FromFile, queues[2].FromFile})

		y.rules("berths", api.Rules{MaxRunning: ptr(9)}) // by hand
		file.Queues["common"] = api.Defaults{Priority: ptr(7)}
		_, err = y.e.Load(ctx, api.SetupRequest{Setup: file})
		require.ErrorContains(t, err, "take it out of the file, or load with adopt")
		delete(file.Queues, "archive")
		delete(file.Tasks, "dues.charge")
		told, d = load(file, true, true)
		assert.Equal(t, []string{"queue berths change", "queue common adopt", "queue archive remove", "task dues.charge remove"}, told)
		assert.Equal(t, api.SetupField{Field: "max_running", Before: []byte("9"), After: []byte("2")}, d.Changes[0].Fields[0])
		assert.Equal(t, []api.SetupField{{Field: "priority", Before: []byte("null"), After: []byte("7")}, {Field: "turns", Before: []byte(`"owner"`), After: []byte("null")}}, d.Changes[1].Fields)
		load(file, true, false)
		tasks := y.e.Tasks(ctx)
		require.Len(t, tasks, 1, "the task stays")
		assert.True(t, tasks[0].Defaults == nil && !tasks[0].FromFile)
		queues, err = y.e.Queues(ctx)
		require.NoError(t, err)
		assert.Len(t, queues, 2, "a queue that never had a job goes whole")

		bad := api.Setup{Queues: map[string]api.Defaults{"berths": {}, "Wrong": {}}, Tasks: map[string]api.Defaults{"x": {Rules: api.Rules{Order: api.OrderAgeing}}}}
		_, err = y.e.Load(ctx, api.SetupRequest{Setup: bad})
		require.ErrorContains(t, err, "queues.Wrong")
		require.ErrorContains(t, err, "tasks.x.order")
		queues, err = y.e.Queues(ctx)
		require.NoError(t, err)
		assert.Equal(t, 2, *queues[0].MaxRunning, "nothing of it was loaded")
		actions, err := y.e.Actions(ctx, 0, 0, 10)
		require.NoError(t, err)
		assert.Equal(t, "load_setup", actions[0].Action)
		assert.Contains(t, string(actions[0].Detail), `"name":"common","change":"adopt"`)
	})
}

// Retention and triage come from the file: what was done is removed when the file says so,
// later failures have the causes it names, and a queue that had jobs stays without settings.
func TestLoadRetentionAndTriage(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		file := api.Setup{
			Queues:    map[string]api.Defaults{"berths": {Priority: ptr(6)}, "spare": {}},
			Retention: &api.Retention{Done: job.Duration(time.Hour)},
			Triage:    []api.TriageRule{{Type: "refused", Matches: `berth (\w+) refused by (\w+)`, Becomes: "refused by $2"}},
		}
		_, err := y.e.Load(ctx, api.SetupRequest{Setup: file})
		require.NoError(t, err)
		require.NoError(t, y.e.Close())
		y.open()
		fail := func(kind, message string) int64 {
			j, err := y.e.Enqueue(ctx, job.Spec{Task: "berth.plan", Queue: "berths", MaxAttempts: ptr(1)})
			require.NoError(t, err)
			a, err := y.e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{"berths"}, Limit: 1})
			require.NoError(t, err)
			_, err = y.e.Settle(ctx, []api.Settlement{{Token: a.Leases[0].Token, Outcome: job.OutcomeFailed, Error: &job.Failure{Type: kind, Message: message}}})
			require.NoError(t, err)
			told, err := y.e.Job(ctx, j.ID)
			require.NoError(t, err)
			return told.Cause
		}
		assert.Equal(t, fail("refused", "berth north refused by pilot"), fail("refused", "berth south refused by pilot"))
		assert.NotEqual(t, fail("refused", "berth north refused by pilot"), fail("refused", "berth north refused by master"))
		assert.NotEqual(t, fail("other", "berth north refused by pilot"), fail("other", "berth south refused by pilot"), "the rule is of another type")

		done, err := y.e.Enqueue(ctx, job.Spec{Task: "tide.predict", Queue: "berths"})
		require.NoError(t, err)
		a, err := y.e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{"berths"}, Limit: 1})
		require.NoError(t, err)
		_, err = y.e.Settle(ctx, []api.Settlement{{Token: a.Leases[0].Token, Outcome: job.OutcomeDone}})
		require.NoError(t, err)
		time.Sleep(50 * time.Minute)
		_, err = y.e.Job(ctx, done.ID)
		require.NoError(t, err)
		time.Sleep(20 * time.Minute)
		_, err = y.e.Job(ctx, done.ID)
		require.ErrorContains(t, err, "there is no job")

		// Loads at once come one after the other: what stands in the end is one of them, whole.
		var all sync.WaitGroup
		for i := range 4 {
			all.Go(func() {
				n := i + 1
				_, err := y.e.Load(ctx, api.SetupRequest{Setup: api.Setup{Queues: map[string]api.Defaults{"berths": {Priority: &n}, "quay-" + strconv.Itoa(n): {Priority: &n}}}})
				assert.NoError(t, err)
			})
		}
		all.Wait()
		queues, err := y.e.Queues(ctx)
		require.NoError(t, err)
		require.Len(t, queues, 2)
		assert.Equal(t, queues[0].Defaults.Priority, queues[1].Defaults.Priority)
		d, err := y.e.Load(ctx, api.SetupRequest{Setup: api.Setup{Empty: true}})
		require.NoError(t, err)
		assert.Len(t, d.Changes, 2)
		queues, err = y.e.Queues(ctx)
		require.NoError(t, err)
		require.Len(t, queues, 1, "it had jobs")
		assert.Nil(t, queues[0].Defaults)

		_, err = y.e.Load(ctx, api.SetupRequest{Setup: api.Setup{Retention: &api.Retention{Done: 5}, Triage: []api.TriageRule{{Matches: "(", Becomes: "x"}, {Matches: "x"}}}})
		for _, want := range []string{"retention.done", "triage[0].matches is not a valid pattern", "triage[1].becomes"} {
			assert.ErrorContains(t, err, want)
		}
	})
}

// What is changed by hand of a queue or a task that a file defines is told to be so, over
// restarts, until the file is loaded again.
func TestOriginsOfSettings(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		file := api.Setup{
			Queues: map[string]api.Defaults{"tides": {Priority: ptr(3), Rules: api.Rules{MaxRunning: ptr(4)}}},
			Tasks:  map[string]api.Defaults{"tide.predict": {MaxAttempts: ptr(6)}},
		}
		load := func() {
			_, err := y.e.Load(ctx, api.SetupRequest{Setup: file})
			require.NoError(t, err)
		}
		origins := func() (all []string) {
			told, err := y.e.Settings(ctx)
			require.NoError(t, err)
			for _, s := range told.Settings {
				if strings.Contains(s.Of, "tide") {
					all = append(all, s.Of+" "+s.Name+" "+s.From)
				}
			}
			return all
		}
		asLoaded := []string{"queue tides max_running file", "queue tides priority file", "task tide.predict max_attempts file"}
		load()
		assert.Equal(t, asLoaded, origins())
		require.NoError(t, y.e.SetQueue(ctx, "tides", api.Defaults{Priority: ptr(3), MaxAttempts: ptr(2), Rules: api.Rules{MaxRunning: ptr(9)}}))
		require.NoError(t, y.e.SetTask(ctx, "tide.predict", api.Defaults{MaxAttempts: ptr(7)}))
		require.NoError(t, y.e.Close())
		y.open()
		assert.Equal(t, []string{"queue tides max_attempts hand", "queue tides max_running hand", "queue tides priority file", "task tide.predict max_attempts hand"}, origins())
		load()
		assert.Equal(t, asLoaded, origins())
		memoryAgrees(t, y.e)
	})
}

// A transaction that finishes many jobs removes some more than those, where a queue has more
// than it keeps.
func TestRetentionFollows(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		most := int64(1)
		_, err := y.e.Load(ctx, api.SetupRequest{Setup: api.Setup{Retention: &api.Retention{MaxDone: &most}}})
		require.NoError(t, err)
		release := y.e.c.Memory.Retention.Hold()
		const some = 500
		take := func() (items []api.Settlement) {
			y.enqueue(slices.Repeat([]job.Spec{{Task: "tide.predict"}}, some)...)
			for _, l := range y.take("common", some) {
				items = append(items, api.Settlement{Token: l.Token, Outcome: job.OutcomeDone})
			}
			return items
		}
		for range 4 {
			_, err := y.e.Settle(ctx, take())
			require.NoError(t, err)
		}
		before := y.count(job.Done)
		require.Equal(t, int64(4*some), before)
		all, err := y.e.PrepareSettlements(take())
		require.NoError(t, err)
		require.NoError(t, y.e.c.Do(ctx, commit.Unchecked(func(tx *commit.Tx) error {
			release()
			tx.Retention.Next.Set(time.Time{})
			_, err := command.SettleAll(tx, all)
			return err
		})))
		assert.Less(t, y.count(job.Done), before, "more went than came")
		memoryAgrees(t, y.e)
	})
}
