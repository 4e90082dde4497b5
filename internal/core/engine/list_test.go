package engine

import (
	"fmt"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule/api"
	"humblemule/internal/core/command"
	"humblemule/job"
)

// listing opens an engine with jobs of three tasks in two queues; every third one
// has a label, an owner, and a delay.
func listing(t *testing.T, n int) *Engine {
	e, err := Open(filepath.Join(t.TempDir(), "list.db"), Options{Log: silent})
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
	assert.Nil(t, page.Matched, "what was not counted is not told")
}

// A filter without an index looks at no more rows a call than it says, says how
// far it looked, and finds everything in the end.
func TestSearchIsBounded(t *testing.T) {
	const n = api.MaxSearched + 5000
	e := listing(t, n)
	rare, err := e.Enqueue(t.Context(), job.Spec{Task: "fog.bulletin", Labels: map[string]string{"rare": "yes"}})
	require.NoError(t, err)
	f := api.Filter{Labels: map[string]string{"rare": "yes"}, Order: api.OldestFirst}
	page, err := e.Jobs(t.Context(), f)
	require.NoError(t, err)
	assert.Empty(t, page.Jobs)
	assert.Equal(t, int64(api.MaxSearched), page.SearchedTo)
	require.NotEmpty(t, page.NextCursor)
	f.Cursor = page.NextCursor
	page, err = e.Jobs(t.Context(), f)
	require.NoError(t, err)
	require.Len(t, page.Jobs, 1)
	assert.Equal(t, rare.ID, page.Jobs[0].ID)
	assert.Empty(t, page.NextCursor)
}

// A service knows so many queues and tasks and no more; what is refused writes
// nothing.
func TestNamesAreBounded(t *testing.T) {
	t.Parallel() // it takes long
	e, err := Open(filepath.Join(t.TempDir(), "names.db"), Options{Log: silent})
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

// Receipts are kept for a day of serving, over a restart too, whatever time passes
// between; then the same key is a new call, unless it tells that it was drawn before.
func TestReceiptsEnd(t *testing.T) {
	path := filepath.Join(t.TempDir(), "receipts.db")
	synctest.Test(t, func(t *testing.T) {
		open := func() *Engine {
			e, err := Open(path, Options{Log: silent})
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
		assert.ErrorContains(t, err, "was drawn at")
		same(api.NewCallKey(time.Now()), 5, "a new key")
		assert.LessOrEqual(t, e.c.Memory.Receipts.NumRows(), 3)
		require.NoError(t, e.Close())
	})
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
	assert.Empty(t, search("berth 1004", api.Filter{States: []job.State{job.Dead}}), "it is tried again")
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
