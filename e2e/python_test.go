package e2e

import (
	"os"
	"os/exec"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule/client"
	"humblemule/core/job"
)

// The worker of the documentation does what docs/wire.md asks of a good worker:
// it keeps its outcomes over an outage, and drains when it is asked to end.
func TestPythonWorker(t *testing.T) {
	s := serve(t)
	m := s.mule(client.HTTPClient(newHTTP()), client.Patience(5*time.Second))
	out := &journal{more: make(chan struct{})}
	python := exec.Command("python3", "-X", "faulthandler", "../docs/examples/worker.py")
	python.Env = append(os.Environ(), "HMULE_SERVER="+s.url)
	python.Stderr = out
	require.NoError(t, python.Start())
	defer python.Process.Kill()
	enqueue := func(task string, payload any) int64 {
		once := 1
		j, err := m.Enqueue(t.Context(), job.Spec{Task: task, Payload: payload, MaxAttempts: &once})
		require.NoError(t, err)
		return j.ID
	}
	finished := func(id int64) job.Job {
		j, err := m.Await(t.Context(), id, 20*time.Second)
		require.NoError(t, err)
		return j
	}
	greeted := finished(enqueue("greet", map[string]string{"name": "Ada"}))
	assert.Equal(t, job.Done, greeted.State)
	assert.JSONEq(t, `"Hello, Ada"`, string(greeted.Result))
	assert.Equal(t, "python-example", greeted.Attempts[0].WorkerName)
	failed := finished(enqueue("greet", map[string]string{"nmae": "Ada"}))
	assert.Equal(t, job.Dead, failed.State)
	assert.Equal(t, "KeyError", failed.Attempts[0].Error.Type)
	assert.Contains(t, failed.Attempts[0].Error.Stack, "worker.py")

	over := enqueue("nap", map[string]float64{"seconds": 1.5})
	out.find(t, "taken job=3")
	s.kill()
	out.find(t, "they are kept")
	s.start()
	rested := finished(over)
	assert.Equal(t, job.Done, rested.State)
	assert.Equal(t, 1, rested.Attempt)

	last := enqueue("nap", map[string]float64{"seconds": 1})
	out.find(t, "taken job=4")
	require.NoError(t, python.Process.Signal(syscall.SIGTERM))
	stuck := time.AfterFunc(20*time.Second, func() { python.Process.Signal(syscall.SIGABRT) }) // and say where
	require.NoError(t, python.Wait(), out)
	stuck.Stop()
	assert.Equal(t, job.Done, finished(last).State)
}
