package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"path/filepath"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// unwatched is how often alerts are looked at where a test is of something else.
const unwatched = 365 * 24 * time.Hour

var silent = slog.New(slog.DiscardHandler)

func leaseOf(t *testing.T, e *Engine, limit int, tasks ...string) []api.Lease {
	t.Helper()
	a, err := e.Lease(t.Context(), api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Tasks: tasks, Limit: limit, Lease: job.Duration(time.Minute)})
	require.NoError(t, err)
	return a.Leases
}

func make10(task string) []job.Spec {
	specs := make([]job.Spec, 10)
	for i := range specs {
		specs[i].Task = task
	}
	return specs
}

// yard is an engine with jobs that die, and a worker that does them by a rule.
type yard struct {
	*testing.T
	e            *Engine
	path, worker string
	// fails tells whether a payload fails.
	fails func(payload string) bool
}

func inYard(t *testing.T, test func(y *yard)) {
	path := filepath.Join(t.TempDir(), "yard.db")
	synctest.Test(t, func(t *testing.T) {
		y := &yard{T: t, path: path, worker: "w", fails: func(string) bool { return true }}
		y.open()
		defer func() { require.NoError(t, y.e.Close()) }()
		test(y)
	})
}

func (y *yard) open() {
	e, err := Open(y.path, Options{LookEvery: unwatched, Log: silent})
	require.NoError(y, err)
	y.e = e
}

// dead enqueues n jobs and lets them die.
func (y *yard) dead(n int) {
	specs := make([]job.Spec, n)
	once := 1
	for i := range specs {
		specs[i] = job.Spec{Task: "dues.charge", Payload: job.JSON(map[string]any{"ship": fmt.Sprint("heron-", i), "bank": "closed", "cents": json.Number("12345678901234567890")}), MaxAttempts: &once}
	}
	_, err := y.e.EnqueueMany(context.Background(), specs, func(int) string { return "" })
	require.NoError(y, err)
	y.work()
}

// work runs everything that is ready.
func (y *yard) work() {
	for {
		a, err := y.e.Lease(context.Background(), api.LeaseRequest{Worker: y.worker, Queues: []string{"common"}, Limit: 1000})
		require.NoError(y, err)
		if len(a.Leases) == 0 {
			return
		}
		var items []api.Settlement
		for _, l := range a.Leases {
			s := api.Settlement{Token: l.Token, Outcome: job.OutcomeDone}
			if y.fails(string(l.Job.Payload)) {
				s.Outcome, s.Error = job.OutcomeFailed, &job.Failure{Type: "bank", Message: fmt.Sprintf("account %d is locked", l.Job.ID)}
			}
			items = append(items, s)
		}
		_, err = y.e.Settle(context.Background(), items)
		require.NoError(y, err)
	}
}

func (y *yard) queue(name string) api.Queue {
	queues, err := y.e.Queues(context.Background())
	require.NoError(y, err)
	return queues[slices.IndexFunc(queues, func(q api.Queue) bool { return q.Name == name })]
}

func (y *yard) count(s job.State) int64 { return y.e.Counts(y.Context())["common"][s] }

func (y *yard) await(id int64, state string) (o api.Operation) {
	for range 3000 {
		time.Sleep(100 * time.Millisecond)
		var err error
		o, err = y.e.Operation(context.Background(), id)
		require.NoError(y, err)
		if o.State == state {
			return o
		}
	}
	y.Fatalf("operation %d is %s and never became %s: %s", id, o.State, state, o.Why)
	return o
}

// lease takes up to n jobs of a queue.
func (y *yard) lease(queue string, n int) []api.Lease {
	a, err := y.e.Lease(context.Background(), api.LeaseRequest{Worker: y.worker, Queues: []string{queue}, Limit: n})
	require.NoError(y, err)
	return a.Leases
}

func (y *yard) settle(l api.Lease, outcome job.Outcome) {
	s := api.Settlement{Token: l.Token, Outcome: outcome}
	if outcome == job.OutcomePostponed {
		s.Delay = job.Duration(time.Second)
	}
	if outcome == job.OutcomeSkipped {
		s.ReasonText = "nothing to do"
	}
	res, err := y.e.Settle(context.Background(), []api.Settlement{s})
	require.NoError(y, err)
	require.Equal(y, api.StatusOK, res[0].Status)
}

func (y *yard) rules(queue string, r api.Rules) {
	require.NoError(y, y.e.SetQueue(context.Background(), queue, api.Defaults{Rules: r}))
}

func (y *yard) why(id int64) string {
	j, err := y.e.Job(context.Background(), id)
	require.NoError(y, err)
	return j.WaitingBecause
}

func (y *yard) enqueue(specs ...job.Spec) {
	_, err := y.e.EnqueueMany(context.Background(), specs, func(int) string { return "" })
	require.NoError(y, err)
}

func ptr(n int) *int { return &n }

func idsOf(leases []api.Lease) (all []int64) {
	for _, l := range leases {
		all = append(all, l.Job.ID)
	}
	return all
}

// take takes jobs for an hour.
func (y *yard) take(queue string, n int) []api.Lease {
	a, err := y.e.Lease(context.Background(), api.LeaseRequest{Worker: y.worker, Queues: []string{queue}, Limit: n, Lease: job.Duration(time.Hour)})
	require.NoError(y, err)
	return a.Leases
}
