package engine

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// A followed label counts the jobs that had it before, those that come, and those that get or
// lose it by an edit; history tells what moves among them; all of it survives a restart in the
// middle of the count.
func TestFollow(t *testing.T) {
	path := filepath.Join(t.TempDir(), "follow.db")
	synctest.Test(t, func(t *testing.T) {
		ctx := t.Context()
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		specs := make([]job.Spec, 3000)
		for i := range specs {
			specs[i] = job.Spec{Task: "berth.plan", Labels: map[string]string{"customer": []string{"acme", "marsh", "acme corp"}[i%3]}}
		}
		_, err = e.EnqueueMany(ctx, specs, func(int) string { return "" })
		require.NoError(t, err)
		acme := api.NewFollow{Name: "customer", Value: "acme"}
		require.NoError(t, e.Follow(ctx, "acme", acme))
		require.NoError(t, e.Follow(ctx, "acme", acme), "the same again")
		_, err = e.Enqueue(ctx, job.Spec{Task: "berth.plan", Labels: map[string]string{"customer": "acme", "berth": "3"}})
		require.NoError(t, err)
		require.NoError(t, e.Close())
		e, err = Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		time.Sleep(2 * time.Minute)
		synctest.Wait()
		counts := func() map[job.State]int64 {
			f, err := e.FollowNamed(ctx, "acme")
			require.NoError(t, err)
			assert.False(t, f.Counting)
			memoryAgrees(t, e)
			some := map[job.State]int64{}
			for s, n := range f.Counts {
				if n > 0 {
					some[s] = n
				}
			}
			return some
		}
		assert.Equal(t, map[job.State]int64{job.Ready: 1001}, counts())
		relabel := func(id int64, patch string) {
			p, err := job.ReadPatch([]byte(patch))
			require.NoError(t, err)
			_, err = e.Patch(ctx, id, p)
			require.NoError(t, err)
		}
		relabel(1, `{"labels":{"customer":""}}`)
		relabel(2, `{"labels":{"customer":"acme"}}`)
		relabel(3, `{"labels":{"customer":"acme"}}`)
		_, err = e.Cancel(ctx, 4)
		require.NoError(t, err)
		_, err = e.Discard(ctx, 4)
		require.NoError(t, err)
		a, err := e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Limit: 2})
		require.NoError(t, err)
		require.Equal(t, int64(2), a.Leases[1].Job.ID)
		time.Sleep(4 * time.Second)
		_, err = e.Settle(ctx, []api.Settlement{{Token: a.Leases[1].Token, Outcome: job.OutcomeDone, RunMS: 4000}})
		require.NoError(t, err)
		assert.Equal(t, map[job.State]int64{job.Ready: 1000, job.Done: 1}, counts())
		h, err := e.History(ctx, api.HistoryQuery{Follow: "acme", Times: true})
		require.NoError(t, err)
		assert.Equal(t, []int64{1, 1, 1, 1}, []int64{h.Total.Sum.Enqueued, h.Total.Sum.Started, h.Total.Sum.Done, h.Total.Sum.Cancelled})
		assert.InEpsilon(t, 4000, h.Total.Sum.Run.P50MS, 0.01)
		require.NoError(t, e.Follow(ctx, "third", api.NewFollow{Name: "berth", Value: "3"}))
		h, err = e.History(ctx, api.HistoryQuery{By: api.ByFollow})
		require.NoError(t, err)
		require.Len(t, h.Series, 1)
		assert.Equal(t, "acme", h.Series[0].Name)

		require.NoError(t, e.Unfollow(ctx, "acme"))
		_, err = e.FollowNamed(ctx, "acme")
		require.ErrorIs(t, err, job.ErrNotFound)
		require.ErrorIs(t, e.Unfollow(ctx, "acme"), job.ErrNotFound)
		memoryAgrees(t, e)
		require.NoError(t, e.Close())
	})
}

// What is wrong with a name or a label is said, and no more labels than are allowed are followed.
func TestFollowRefuses(t *testing.T) {
	e := listing(t, 1)
	ctx := t.Context()
	for name, label := range map[string]api.NewFollow{
		"":                       {Name: "customer", Value: "acme"},
		"a b":                    {Name: "customer", Value: "acme"},
		strings.Repeat("x", 500): {Name: "customer", Value: "acme"},
		"no-value":               {Name: "customer"},
		"no-name":                {Value: "acme"},
		"long":                   {Name: "customer", Value: strings.Repeat("x", 10_000)},
		"broken":                 {Name: "customer", Value: "\xff"},
	} {
		var p *job.Problem
		require.ErrorAs(t, e.Follow(ctx, name, label), &p, name)
		assert.Equal(t, job.Invalid, p.Kind)
	}
	for n := range api.MaxFollows {
		require.NoError(t, e.Follow(ctx, fmt.Sprint("f", n), api.NewFollow{Name: "customer", Value: fmt.Sprint(n)}))
	}
	require.ErrorContains(t, e.Follow(ctx, "more", api.NewFollow{Name: "customer", Value: "x"}), "100 labels are followed, which is the most")
	require.NoError(t, e.Follow(ctx, "f7", api.NewFollow{Name: "customer", Value: "other"}))
}
