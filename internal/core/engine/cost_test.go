package engine

import (
	"context"
	"fmt"
	"math"
	"path/filepath"
	"runtime/debug"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// lifeOf makes an engine, and gives what lets n jobs live through it by one call for each step.
func lifeOf(tb testing.TB, n int) func() {
	e, err := Open(filepath.Join(tb.TempDir(), "jobs.db"), Options{})
	require.NoError(tb, err)
	tb.Cleanup(func() { require.NoError(tb, e.Close()) })
	ctx := context.Background()
	specs := make([]job.Spec, n)
	for i := range specs {
		specs[i] = job.Spec{Task: "tide.predict", Payload: job.JSON(map[string]string{"station": strings.Repeat("x", 150)})}
	}
	at := func(i int) string { return fmt.Sprint(i) }
	return func() {
		_, err := e.EnqueueMany(ctx, specs, at)
		require.NoError(tb, err)
		a, err := e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Limit: n})
		require.NoError(tb, err)
		require.Len(tb, a.Leases, n)
		settle := make([]api.Settlement, n)
		for i, l := range a.Leases {
			settle[i] = api.Settlement{Token: l.Token, Outcome: job.OutcomeDone}
		}
		_, err = e.Settle(ctx, settle)
		require.NoError(tb, err)
	}
}

func BenchmarkLives(b *testing.B) {
	for _, n := range []int{1, 100} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			live := lifeOf(b, n)
			b.ReportAllocs()
			for b.Loop() {
				live()
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*n), "µs/job")
		})
	}
}

// What an attempt costs that fails, each in words of its own, from its lease to its settle.
func BenchmarkFailing(b *testing.B) {
	for _, n := range []int{1, 100} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			e, err := Open(filepath.Join(b.TempDir(), "failing.db"), Options{LookEvery: unwatched, Log: silent})
			require.NoError(b, err)
			b.Cleanup(func() { require.NoError(b, e.Close()) })
			specs := make([]job.Spec, n)
			once := 1
			for i := range specs {
				specs[i] = job.Spec{Task: "manifest.check", MaxAttempts: &once}
			}
			at := func(i int) string { return fmt.Sprint(i) }
			i := 0
			b.ReportAllocs()
			for b.Loop() {
				b.StopTimer()
				_, err := e.EnqueueMany(b.Context(), specs, at)
				require.NoError(b, err)
				b.StartTimer()
				a, err := e.Lease(b.Context(), api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Limit: n})
				require.NoError(b, err)
				require.Len(b, a.Leases, n)
				items := make([]api.Settlement, n)
				for at, l := range a.Leases {
					i++
					items[at] = api.Settlement{Token: l.Token, Outcome: job.OutcomeFailed, Error: &job.Failure{
						Type: "manifest_malformed", Message: fmt.Sprintf("line %d: the weight \"%dt\" of container HUMU%07d is not a valid number of kilograms (manifest %x of vessel \"Marsh Hen %d\")", i%90, i, i*7919%9999999, i*104729, i%1000)}}
				}
				_, err = e.Settle(b.Context(), items)
				require.NoError(b, err)
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*n), "µs/job")
		})
	}
}

// budgets are how many allocations a job's whole life takes in the engine, by the jobs a
// call. One that takes a tenth more is to be looked at; one that takes less lowers its budget.
var budgets = map[int]float64{1: 188, 10: 48, 100: 27}

func TestAllocations(t *testing.T) {
	if racing {
		t.Skip("the race detector allocates")
	}
	if !strings.Contains(Driver, "cgo") {
		t.Skip("the budgets are those of the other driver")
	}
	defer debug.SetGCPercent(debug.SetGCPercent(-1)) // a collection empties what is kept to be used again
	for n, budget := range budgets {
		live := lifeOf(t, n)
		live() // what is made once
		took := math.Inf(1)
		for range 6 { // the least of six: timed work of the engine may fall into one
			took = min(took, testing.AllocsPerRun(50, live)/float64(n))
		}
		t.Logf("%d a call: %.1f allocations a job", n, took)
		require.LessOrEqual(t, took, 1.1*budget, "%d jobs a call", n)
	}
}
