package engine

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/scope"
	"humblemule.example/job"
)

// What a sentence says of a job that waits follows from the queue, its jobs and
// its workers.
func TestWhyAndSays(t *testing.T) {
	e, err := Open(filepath.Join(t.TempDir(), "why.db"), Options{LookEvery: unwatched, Log: silent})
	require.NoError(t, err)
	defer func() { require.NoError(t, e.Close()) }()
	ctx := t.Context()
	says := func() (all []string) {
		s, err := e.Stats(ctx, "")
		require.NoError(t, err)
		for _, said := range s.Facts {
			all = append(all, said.Text)
		}
		return all
	}
	assert.Equal(t, []string{"No job has been enqueued yet."}, says())
	specs := make([]job.Spec, 1500)
	for i := range specs {
		specs[i].Task = "tide.predict"
	}
	jobs, err := e.EnqueueMany(ctx, specs, func(int) string { return "" })
	require.NoError(t, err)
	low, high := 0, 9
	last, err := e.Enqueue(ctx, job.Spec{Task: "tide.predict", Priority: &low})
	require.NoError(t, err)
	first, err := e.Enqueue(ctx, job.Spec{Task: "fog.bulletin", Priority: &high})
	require.NoError(t, err)
	because := func(id int64) string {
		j, err := e.Job(ctx, id)
		require.NoError(t, err)
		return j.WaitingBecause
	}
	assert.Equal(t, "No worker serves queue common. Start one that does.", because(last.ID))
	assert.Equal(t, []string{"No worker serves queue common: 1\u202f502 jobs are ready and waiting."}, says())
	_, err = e.PutWorker(ctx, api.Worker{ID: "w", Queues: []string{"common"}, Tasks: []string{"tide.predict"}})
	require.NoError(t, err)
	assert.Equal(t, "More than 1000 jobs are ahead of it in queue common.", because(last.ID))
	assert.Equal(t, "8 jobs are ahead of it in queue common.", because(jobs[7].ID))
	assert.Equal(t, "1 job is ahead of it in queue common.", because(jobs[0].ID))
	assert.Equal(t, "No worker of queue common does fog.bulletin. Start one that has its handler.", because(first.ID))
	typo, err := e.Enqueue(ctx, job.Spec{Task: "tide.predcit", Priority: &high})
	require.NoError(t, err)
	assert.Contains(t, because(typo.ID), "does tide.predcit (the nearest is tide.predict).")
	assert.Equal(t, "No worker of queue common does task fog.bulletin: 1 job is ready and waiting.", says()[0])
}

// listing opens an engine with jobs of three tasks in two queues; every third one
// has a label, an owner, and a delay.
func listing(t *testing.T, n int) *Engine {
	e, err := Open(filepath.Join(t.TempDir(), "list.db"), Options{LookEvery: unwatched, Log: silent})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, e.Close()) })
	specs := make([]job.Spec, n)
	for i := range specs {
		specs[i] = job.Spec{Task: fmt.Sprint("task-", i%3), Queue: []string{"berths", "common"}[i%2]}
		if i%3 == 0 {
			specs[i].Labels = map[string]string{"berth": fmt.Sprint("berth-", i%5), "tide": "high"}
			specs[i].Owner = "Marsh Agency"
			specs[i].Delay = job.Duration(time.Duration(n-i) * time.Minute)
		}
	}
	for len(specs) > 0 {
		part := specs[:min(len(specs), job.MaxSpecs)]
		specs = specs[len(part):]
		_, err := e.EnqueueMany(t.Context(), part, func(int) string { return "" })
		require.NoError(t, err)
	}
	return e
}

// all reads a list to its end and checks its order and pages on the way.
func all(t *testing.T, e *Engine, f api.Filter) (ids []int64) {
	t.Helper()
	for {
		page, err := e.Jobs(t.Context(), f)
		require.NoError(t, err)
		require.LessOrEqual(t, len(page.Jobs), max(f.Limit, api.DefaultPage))
		for _, j := range page.Jobs {
			ids = append(ids, j.ID)
		}
		if f.Cursor = page.NextCursor; f.Cursor == "" {
			return ids
		}
	}
}

func where(n int, want func(i int) bool) (ids []int64) {
	for i := n - 1; i >= 0; i-- {
		if want(i) {
			ids = append(ids, int64(i+1))
		}
	}
	return ids
}

func TestFilters(t *testing.T) {
	const n = 60
	e := listing(t, n)
	third := func(i int) bool { return i%3 == 0 }
	for name, c := range map[string]struct {
		f    api.Filter
		want []int64
	}{
		"everything":       {api.Filter{Limit: 7}, where(n, func(int) bool { return true })},
		"a queue":          {api.Filter{Queues: []string{"berths"}, Limit: 7}, where(n, func(i int) bool { return i%2 == 0 })},
		"two tasks":        {api.Filter{Tasks: []string{"task-0", "task-2"}, Limit: 7}, where(n, func(i int) bool { return i%3 != 1 })},
		"a state":          {api.Filter{States: []job.State{job.Scheduled}, Limit: 7}, where(n, third)},
		"an owner":         {api.Filter{Owner: "Marsh Agency", Limit: 7}, where(n, third)},
		"labels":           {api.Filter{Labels: map[string]string{"berth": "berth-3", "tide": "high"}}, where(n, func(i int) bool { return third(i) && i%5 == 3 })},
		"a label and more": {api.Filter{Labels: map[string]string{"tide": "high"}, Queues: []string{"common"}, Limit: 2}, where(n, func(i int) bool { return third(i) && i%2 == 1 })},
		"ids":              {api.Filter{IDs: []int64{5, 40, 40, 999, 7}, Limit: 2}, []int64{40, 7, 5}},
		"no such queue":    {api.Filter{Queues: []string{"unplaced"}}, nil},
		"no such label":    {api.Filter{Labels: map[string]string{"tide": "low"}}, nil},
		"the past":         {api.Filter{Until: 946_684_800_000}, nil},
		"the future":       {api.Filter{Since: 4_000_000_000_000}, nil},
	} {
		assert.Equal(t, c.want, all(t, e, c.f), name)
	}
	coming := all(t, e, api.Filter{Order: api.NextFirst, Limit: 7})
	assert.Equal(t, where(n, third), coming, "the last enqueued is planned first")

	page, err := e.Jobs(t.Context(), api.Filter{States: []job.State{job.Scheduled}, Queues: []string{"berths"}, Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, int64(10), *page.Matched)
	page, err = e.Jobs(t.Context(), api.Filter{Owner: "Marsh Agency", Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, int64(20), *page.Matched)
	page, err = e.Jobs(t.Context(), api.Filter{Labels: map[string]string{"tide": "high"}, Limit: 1})
	require.NoError(t, err)
	assert.Nil(t, page.Matched, "what was not counted is not told")
	memoryAgrees(t, e)
}

// A rare label, owner or time is found at once, however many other jobs there are. Two filters
// that each match many look at no more rows a call than they say, tell how far they looked,
// and find everything in the end; counting goes on too.
func TestSearchIsBounded(t *testing.T) {
	alone(t)
	const n = 3*api.MaxSearched + 6000
	e := listing(t, n)
	rare, err := e.Enqueue(t.Context(), job.Spec{Task: "fog.bulletin", Owner: "Marsh Agency", Labels: map[string]string{"rare": "yes"}})
	require.NoError(t, err)
	for what, f := range map[string]api.Filter{
		"label":           {Labels: map[string]string{"rare": "yes"}},
		"label and owner": {Labels: map[string]string{"rare": "yes"}, Owner: "Marsh Agency", Order: api.OldestFirst},
		"task and owner":  {Tasks: []string{"fog.bulletin"}, Owner: "Marsh Agency", Order: api.OldestFirst},
	} {
		page, err := e.Jobs(t.Context(), f)
		require.NoError(t, err)
		require.Len(t, page.Jobs, 1, what)
		assert.Equal(t, rare.ID, page.Jobs[0].ID)
		assert.Empty(t, page.NextCursor, what)
	}
	f := api.Filter{Owner: "Marsh Agency", Labels: map[string]string{"tide": "high"}, Queues: []string{"common"}, Tasks: []string{"task-0"}, Order: api.OldestFirst, Limit: 1}
	f.Labels["berth"] = "berth-9" // that none has
	page, err := e.Jobs(t.Context(), f)
	require.NoError(t, err)
	assert.Empty(t, append(page.Jobs, job.Job{})[:len(page.Jobs)])
	assert.Empty(t, page.NextCursor, "the label that no job has is walked")

	f = api.Filter{Owner: "Marsh Agency", Labels: map[string]string{"tide": "high"}, States: []job.State{job.Ready}, Order: api.OldestFirst}
	page, err = e.Jobs(t.Context(), f)
	require.NoError(t, err)
	assert.Empty(t, page.Jobs)
	assert.Positive(t, page.SearchedTo)
	assert.NotZero(t, page.SearchedToAt)
	require.NotEmpty(t, page.NextCursor)
	assert.Empty(t, all(t, e, f))
	counted, calls := int64(0), 0
	f = api.Filter{Owner: "Marsh Agency", Labels: map[string]string{"tide": "high"}}
	for ; ; calls++ {
		c, err := e.Count(t.Context(), f)
		require.NoError(t, err)
		counted += c.Matched
		if f.Cursor = c.NextCursor; f.Cursor == "" {
			break
		}
		assert.Equal(t, api.AtLeast, c.MatchedIs)
	}
	assert.Equal(t, []int64{n / 3, 1}, []int64{counted, int64(calls)})
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
		_, err := y.e.Requeue(ctx, 1, api.Requeue{})
		require.NoError(t, err)
		causes, err := y.e.Causes(ctx, api.CauseFilter{})
		require.NoError(t, err)
		c := causes[0]
		require.NoError(t, y.e.CauseHistory(ctx, &c))
		assert.Equal(t, []int64{3, 2}, []int64{c.Days[29], c.Days[30]})
		assert.Equal(t, []int64{3, 2}, []int64{c.Hours[17], c.Hours[47]})
		require.Len(t, c.Versions, 2)
		assert.Equal(t, []any{"1.0", int64(3), int64(2)}, []any{c.Versions[0].Version, c.Versions[0].Hours[17], c.Versions[1].Hours[47]})
		require.Len(t, c.Hosts, 1)
		assert.Equal(t, []int64{3, 2}, []int64{c.Hosts[0].Hours[17], c.Hosts[0].Hours[47]})
		last := c.Marks[len(c.Marks)-1] // the requeue, in the minute of the failures
		assert.Equal(t, &api.FailureShare{Minutes: 60}, last.Before)
		assert.Equal(t, &api.FailureShare{Failed: 2, Started: 2, Minutes: 1}, last.After)
		assert.Equal(t, &api.FailureShare{Failed: 3, Started: 3, Minutes: 60}, c.Marks[0].After)
		said := ""
		for _, m := range c.Marks {
			said += m.Kind + ": " + m.Text + " by " + m.By + "\n"
		}
		assert.Equal(t, "deploy: version 1.0 by \ndeploy: version 1.1 by \npause: queue common paused by local\npause: queue common resumed by local\nsettings: defaults of task dues.charge by local\nrequeue: job 1 requeued by local\n", said)
		y.fails = func(string) bool { return false }
		_, err = y.e.Act(ctx, api.ActRequest{Action: api.ActRequeue, Filter: &api.Selection{}})
		require.NoError(t, err)
		y.work()
		require.NoError(t, y.e.Close())
		time.Sleep(32 * 24 * time.Hour)
		y.open()
		time.Sleep(2 * time.Minute)
		require.NoError(t, y.e.c.Store.Wordings(ctx, func(_ int64, _, template string) { assert.Fail(t, "a cause that is kept too long", template) }))
	})
}

// What runs longer than 19 of 20 of its kind is listed, the longest beyond that first; what nothing
// is known of is not judged, and who may not see a queue is not told of it.
func TestSlowJobs(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := y.Context()
		common := scope.With(ctx, scope.Only(func(queue, _ string) bool { return queue == "common" }))
		add := func(task, queue string) int64 {
			j, err := y.e.Enqueue(ctx, job.Spec{Task: task, Queue: queue})
			require.NoError(t, err)
			return j.ID
		}
		assert.Empty(t, y.e.SlowJobs(ctx).Jobs)
		for range 40 {
			add("tide.predict", "common")
			l := y.lease("common", 1)[0]
			time.Sleep(time.Second)
			y.settle(l, job.OutcomeDone)
		}
		long, unknown, hidden, short := add("tide.predict", "common"), add("log.pack", "common"), int64(0), int64(0)
		require.Len(t, y.lease("common", 2), 2)
		time.Sleep(20 * time.Second)
		hidden = add("tide.predict", "berths")
		require.Len(t, y.lease("berths", 1), 1)
		time.Sleep(5 * time.Second)
		short = add("tide.predict", "common")
		require.Len(t, y.lease("common", 1), 1)
		time.Sleep(500 * time.Millisecond)
		told := y.e.SlowJobs(ctx)
		assert.Equal(t, 2, told.Total)
		assert.Equal(t, 1, told.Unjudged, "job %d", unknown)
		require.Len(t, told.Jobs, 2, "and not job %d", short)
		assert.Equal(t, []int64{long, hidden}, []int64{told.Jobs[0].Job, told.Jobs[1].Job})
		assert.EqualValues(t, 25_500, told.Jobs[0].TookMS)
		assert.InEpsilon(t, 1000, told.Jobs[0].LongMS, 0.02)
		assert.Equal(t, y.worker, told.Jobs[0].Worker)
		told = y.e.SlowJobs(common)
		require.Len(t, told.Jobs, 1)
		assert.Equal(t, 1, told.Total)
		assert.Equal(t, long, told.Jobs[0].Job)
	})
}

// How long runs of a task usually take, and how many jobs come and go a minute, are
// known again after a restart.
func TestTrends(t *testing.T) {
	path := filepath.Join(t.TempDir(), "trends.db")
	synctest.Test(t, func(t *testing.T) {
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		ctx := t.Context()
		for n := range 100 {
			_, err := e.Enqueue(ctx, job.Spec{Task: "tide.predict"})
			require.NoError(t, err)
			a, err := e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Limit: 1})
			require.NoError(t, err)
			time.Sleep(3 * time.Second)
			if n%2 == 0 {
				_, err = e.Settle(ctx, []api.Settlement{{Token: a.Leases[0].Token, Outcome: job.OutcomeDone, RunMS: int64(1000 + 10*n)}})
				require.NoError(t, err)
			}
		}
		look := func(in, out float64) {
			tasks := e.Tasks(ctx)
			require.Len(t, tasks, 1)
			require.NotNil(t, tasks[0].Run)
			assert.Equal(t, int64(50), tasks[0].Run.Count)
			assert.InEpsilon(t, 1490, tasks[0].Run.P50MS, 0.02)
			assert.InEpsilon(t, 1940, tasks[0].Run.P95MS, 0.02)
			queues, err := e.Queues(ctx)
			require.NoError(t, err)
			assert.InDelta(t, in, queues[0].InPerMinute, 2)
			assert.InDelta(t, out, queues[0].OutPerMinute, 1)
			stats, err := e.Stats(ctx, "")
			require.NoError(t, err)
			sum := 0.0
			for _, m := range stats.Moves {
				if m.From == job.Unplaced {
					sum += float64(m.Count) * 60_000 / float64(stats.WindowMS)
				}
			}
			assert.InDelta(t, queues[0].InPerMinute, sum, 0.1, "the same wherever it is told")
		}
		look(20, 10)
		require.NoError(t, e.Close())
		e, err = Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		for range 4 { // right from the first second after a start, too
			_, err := e.Enqueue(ctx, job.Spec{Task: "tide.predict"})
			require.NoError(t, err)
			time.Sleep(500 * time.Millisecond)
		}
		look(120, 0)
		require.NoError(t, e.Close())
	})
}
