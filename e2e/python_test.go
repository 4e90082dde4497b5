package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
)

// The worker of the documentation keeps every rule of docs/reference/wire.md: it shows its token,
// keeps its outcomes over an outage, ends a handler whose job is cancelled or whose time
// is over, tells a result that JSON has no word for, drains and runs again when it is
// asked to, leaves when it is asked to, and says good-bye.
func TestPythonWorker(t *testing.T) {
	t.Parallel()
	tokens := filepath.Join(t.TempDir(), "tokens.yaml")
	secret := func(name, role string) string {
		out, errs, status := run(t, "", "token", "new", name, "--role", role, "--tokens", tokens)
		require.Equal(t, 0, status, errs)
		return strings.SplitN(out, "\n", 2)[0]
	}
	operator, worker := secret("harbour-office", "operator"), secret("quay", "worker")
	s := serve(t, "--tokens", tokens)
	m := s.mule(client.HTTPClient(newHTTP()), client.RetryFor(5*time.Second), client.Token(operator))
	start := func() (*exec.Cmd, *journal) {
		out := &journal{more: make(chan struct{})}
		python := exec.Command("python3", "-X", "faulthandler", "../docs/examples/worker.py")
		python.Env = append(os.Environ(), "HMULE_SERVER="+s.url, "HMULE_TOKEN="+worker, "WORKER_LEASE=3")
		python.Stderr = out
		require.NoError(t, python.Start())
		t.Cleanup(func() { python.Process.Kill() })
		return python, out
	}
	python, out := start()
	enqueue := func(task string, payload any, timeout time.Duration) int64 {
		once := 1
		j, err := m.Enqueue(t.Context(), job.Spec{Task: task, Payload: job.JSON(payload), MaxAttempts: &once, Timeout: job.Duration(timeout)})
		require.NoError(t, err)
		return j.ID
	}
	finished := func(id int64) job.Job {
		j, err := m.WaitFor(t.Context(), id, 20*time.Second)
		require.NoError(t, err)
		return j
	}
	nap := func(seconds float64) map[string]float64 { return map[string]float64{"seconds": seconds} }
	greeted := finished(enqueue("greet", map[string]string{"name": "Ada"}, 0))
	assert.Equal(t, job.Done, greeted.State)
	assert.JSONEq(t, `"Hello, Ada"`, string(greeted.Result))
	assert.Equal(t, "python-example", greeted.Attempts[0].WorkerName)
	failed := finished(enqueue("greet", map[string]string{"nmae": "Ada"}, 0))
	assert.Equal(t, job.Dead, failed.State)
	assert.Equal(t, "KeyError", failed.Attempts[0].Error.Type)
	assert.Contains(t, failed.Attempts[0].Error.Stack, "worker.py")
	measured := finished(enqueue("measure", map[string]string{"depth": "nan"}, 0))
	assert.Equal(t, job.Done, measured.State)
	assert.Contains(t, string(measured.Result), "result_dropped")
	late := finished(enqueue("nap", nap(30), 200*time.Millisecond))
	assert.Equal(t, []any{job.Dead, "timeout"}, []any{late.State, late.Attempts[0].Error.Type})
	assert.Less(t, late.Attempts[0].EndedAt.Sub(late.Attempts[0].StartedAt), 3*time.Second, "by itself: the service would wait a lease longer")

	long := enqueue("nap", nap(8), 0) // longer than two leases
	cancelled := enqueue("nap", nap(30), 0)
	out.find(t, "taken job=6")
	_, err := m.CancelJob(t.Context(), cancelled)
	require.NoError(t, err)
	assert.Equal(t, job.Cancelled, finished(cancelled).State)

	over := enqueue("nap", nap(1.5), 0)
	out.find(t, "taken job=7")
	s.kill()
	out.find(t, "they are kept")
	s.start()
	rested := finished(over)
	assert.Equal(t, job.Done, rested.State)
	assert.Equal(t, 1, rested.Attempt)

	renewed := finished(long)
	assert.Equal(t, []any{job.Done, 1}, []any{renewed.State, renewed.Attempt})

	// Drained it takes nothing; asked to run it does again.
	workers, err := client.Collect(m.Workers(t.Context()))
	require.NoError(t, err)
	require.Len(t, workers, 1)
	ask := func(ask func(context.Context, string) (api.Worker, error), want api.Want) {
		_, err := ask(t.Context(), workers[0].ID)
		require.NoError(t, err)
		out.find(t, "the service asks the worker to "+string(want))
	}
	ask(m.DrainWorker, api.WantDrain)
	waits := enqueue("greet", map[string]string{"name": "Grace"}, 0)
	j, err := m.WaitFor(t.Context(), waits, time.Second)
	require.NoError(t, err)
	assert.Equal(t, job.Ready, j.State)
	ask(m.ResumeWorker, api.WantRun)
	assert.Equal(t, job.Done, finished(waits).State)

	ended := func(python *exec.Cmd, out *journal) {
		stuck := time.AfterFunc(20*time.Second, func() { python.Process.Signal(syscall.SIGABRT) }) // and say where
		defer stuck.Stop()
		require.NoError(t, python.Wait(), out)
		workers, err := client.Collect(m.Workers(t.Context()))
		require.NoError(t, err)
		assert.Empty(t, workers, "it said good-bye")
	}
	last := enqueue("nap", nap(1), 0)
	out.find(t, fmt.Sprint("taken job=", last))
	require.NoError(t, python.Process.Signal(syscall.SIGTERM))
	ended(python, out)
	assert.Equal(t, job.Done, finished(last).State)

	python, out = start()
	out.find(t, "worker starts")
	workers, err = client.Collect(m.Workers(t.Context()))
	require.NoError(t, err)
	require.Len(t, workers, 1)
	ask(m.LeaveWorker, api.WantLeave)
	ended(python, out)
}
