package worker_test

import (
	"context"
	"errors"
	"log/slog"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/job"
	"humblemule.example/worker"
)

var silent = slog.New(slog.DiscardHandler)

// bubble runs test under a clock of its own, with an engine that the pool takes
// its jobs from in-process.
func bubble(t *testing.T, test func(t *testing.T, s *source)) {
	path := filepath.Join(t.TempDir(), "pool.db")
	synctest.Test(t, func(t *testing.T) {
		s := &source{path: path}
		s.open(t)
		defer func() { require.NoError(t, s.Close()) }()
		test(t, s)
	})
}

// source is an engine that can be away for a while.
type source struct {
	*engine.Engine
	path string
	away atomic.Bool
}

func (s *source) open(t *testing.T) {
	synctest.Wait() // nobody is in the engine that was there before
	e, err := engine.Open(s.path, engine.Options{Log: silent, Draw: func() float64 { return 0.5 }})
	require.NoError(t, err)
	s.Engine = e
}

var errAway = errors.New("no service answers")

func (s *source) Lease(ctx context.Context, r api.LeaseRequest) (api.LeaseAnswer, error) {
	if s.away.Load() {
		return api.LeaseAnswer{}, errAway
	}
	return s.Engine.Lease(ctx, r)
}

func (s *source) Extend(ctx context.Context, items api.ExtendRequest) (api.ExtendAnswer, error) {
	if s.away.Load() {
		return api.ExtendAnswer{}, errAway
	}
	return s.Engine.Extend(ctx, items)
}

func (s *source) Settle(ctx context.Context, items []api.Settlement) ([]api.SettleResult, error) {
	if s.away.Load() {
		return nil, errAway
	}
	return s.Engine.Settle(ctx, items)
}

func (s *source) Wanted(ctx context.Context, id string, doing api.Want, wait time.Duration) (api.Wanted, error) {
	if s.away.Load() {
		return api.Wanted{}, errAway
	}
	return s.Engine.Wanted(ctx, id, doing, wait)
}

func (s *source) PutWorker(ctx context.Context, w api.Worker) (api.Wanted, error) {
	if s.away.Load() {
		return api.Wanted{}, errAway
	}
	return s.Engine.PutWorker(ctx, w)
}

// running starts a pool; the answer ends it and waits for its end.
func running(t *testing.T, p *worker.Pool) (end func() error) {
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- p.Run(ctx) }()
	return func() error {
		cancel()
		return <-ended
	}
}

func enqueue(t *testing.T, s *source, spec job.Spec) int64 {
	j, err := s.Enqueue(t.Context(), spec)
	require.NoError(t, err)
	return j.ID
}

func look(t *testing.T, s *source, id int64) job.Job {
	j, err := s.Job(t.Context(), id)
	require.NoError(t, err)
	return j
}

type berth struct{ Berth int }

// What a handler returns decides what becomes of its job.
func TestOutcomes(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		pool := worker.New(s, worker.Options{Log: silent, Slots: 3})
		handle := func(task string, h func(ctx context.Context, in berth) (string, error)) { worker.Handle(pool, task, h) }
		handle("done", func(ctx context.Context, in berth) (string, error) {
			assert.Equal(t, 3, in.Berth)
			assert.Equal(t, "done", worker.Job(ctx).Task)
			time.Sleep(2 * time.Second)
			return "moored", nil
		})
		handle("failed", func(context.Context, berth) (string, error) { return "", errors.New("the crane is stuck") })
		handle("panics", func(context.Context, berth) (string, error) { panic("no such berth") })
		handle("exits", func(context.Context, berth) (string, error) {
			runtime.Goexit()
			return "", nil
		})
		handle("gives-up", func(context.Context, berth) (string, error) { return "", worker.GiveUp(errors.New("no such ship")) })
		handle("skips", func(context.Context, berth) (string, error) { return "", worker.Skip("the ship has sailed") })
		handle("retries-in", func(context.Context, berth) (string, error) {
			return "", worker.RetryIn(time.Hour, errors.New("closed until the tide"))
		})
		handle("postpones", func(context.Context, berth) (string, error) { return "", worker.Postpone(time.Hour) })
		handle("times-out", func(ctx context.Context, _ berth) (string, error) {
			<-ctx.Done()
			return "", context.Cause(ctx)
		})
		end := running(t, pool)
		ids := map[string]int64{}
		for _, task := range []string{"done", "failed", "panics", "exits", "gives-up", "skips", "retries-in", "postpones", "times-out", "unreadable"} {
			spec := job.Spec{Task: task, Payload: job.JSON(berth{3})}
			if task == "times-out" {
				spec.Timeout = job.Duration(5 * time.Second)
			}
			if task == "unreadable" {
				spec.Task, spec.Payload = "done", job.JSON("berth three")
			}
			ids[task] = enqueue(t, s, spec)
		}
		began := time.Now()
		time.Sleep(7 * time.Second)
		synctest.Wait()
		for task, want := range map[string]struct {
			state job.State
			tries int
			kind  string
			next  time.Duration
		}{
			"done":       {job.Done, 1, "", 0},
			"failed":     {job.Backoff, 1, "error", 10 * time.Second},
			"panics":     {job.Backoff, 1, "panic", 10 * time.Second},
			"exits":      {job.Backoff, 1, "panic", 10 * time.Second},
			"gives-up":   {job.Dead, 1, "error", 0},
			"skips":      {job.Skipped, 1, "", 0},
			"retries-in": {job.Backoff, 1, "error", time.Hour},
			"postpones":  {job.Scheduled, 0, "", time.Hour},
			"times-out":  {job.Backoff, 1, "timeout", 15 * time.Second},
			"unreadable": {job.Dead, 1, "payload", 0},
		} {
			j := look(t, s, ids[task])
			assert.Equal(t, want.state.String(), j.State.String(), task)
			assert.Equal(t, want.tries, j.Tries, task)
			if want.kind == "" {
				assert.Nil(t, j.Attempts[0].Error, task)
			} else if assert.NotNil(t, j.Attempts[0].Error, task) {
				assert.Equal(t, want.kind, j.Attempts[0].Error.Type, task)
			}
			if want.next > 0 {
				assert.Equal(t, job.At(began.Add(want.next)), j.NextAt, task)
			}
		}
		done := look(t, s, ids["done"])
		assert.JSONEq(t, `"moored"`, string(done.Result))
		assert.Equal(t, int64(2000), done.Attempts[0].RunMS)
		panicked := look(t, s, ids["panics"]).Attempts[0].Error
		assert.Equal(t, "no such berth", panicked.Message)
		assert.Contains(t, panicked.Stack, "pool_test.go")
		assert.Equal(t, "the ship has sailed", look(t, s, ids["skips"]).ReasonText)
		require.NoError(t, end())
	})
}

// Promise 10: while the service is away handlers run on and their outcomes are
// kept; when it is back, started anew, they are settled, and no job runs twice.
func TestOutage(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		var mu sync.Mutex
		runs := map[int64]int{}
		pool := worker.New(s, worker.Options{Log: silent, Slots: 4, Lease: 30 * time.Second})
		worker.Handle(pool, "berth.plan", func(ctx context.Context, b berth) (berth, error) {
			mu.Lock()
			runs[worker.Job(ctx).ID]++
			mu.Unlock()
			time.Sleep(time.Duration(b.Berth) * 20 * time.Second)
			return b, ctx.Err()
		})
		end := running(t, pool)
		for n := range 12 {
			enqueue(t, s, job.Spec{Task: "berth.plan", Payload: job.JSON(berth{1 + n%4})})
		}
		time.Sleep(5 * time.Second)
		// Away for longer than a poll, a lease and the handlers together.
		s.away.Store(true)
		require.NoError(t, s.Close())
		time.Sleep(5 * time.Minute)
		s.open(t)
		s.away.Store(false)
		time.Sleep(5 * time.Minute)
		synctest.Wait()
		for id := range int64(12) {
			assert.Equal(t, job.Done, look(t, s, id+1).State)
			assert.Equal(t, 1, runs[id+1], "runs of job %d", id+1)
		}
		require.NoError(t, end())
	})
}

// A handler that runs for longer than its lease keeps it; one whose job is
// cancelled, or whose lease is lost, is told.
func TestLeases(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		pool := worker.New(s, worker.Options{Log: silent, Lease: 9 * time.Second, Name: "quay"})
		causes := make(chan error, 3)
		worker.Handle(pool, "log.pack", func(ctx context.Context, d time.Duration) (bool, error) {
			select {
			case <-time.After(d):
				return true, nil
			case <-ctx.Done():
				causes <- context.Cause(ctx)
				return false, ctx.Err()
			}
		})
		end := running(t, pool)
		long := enqueue(t, s, job.Spec{Task: "log.pack", Payload: job.JSON(time.Minute)})
		cancelled := enqueue(t, s, job.Spec{Task: "log.pack", Payload: job.JSON(time.Hour)})
		lost := enqueue(t, s, job.Spec{Task: "log.pack", Payload: job.JSON(90 * time.Second)})
		time.Sleep(time.Second)
		_, err := s.Cancel(t.Context(), cancelled)
		require.NoError(t, err)
		synctest.Wait()
		assert.ErrorIs(t, <-causes, worker.ErrCancelled)
		assert.Equal(t, job.Cancelled, look(t, s, cancelled).State)
		time.Sleep(time.Minute)
		synctest.Wait()
		assert.Equal(t, job.Done, look(t, s, long).State)
		assert.Equal(t, 1, look(t, s, long).Attempt)

		s.away.Store(true) // no renewal arrives: the lease ends, the handler runs on
		time.Sleep(15 * time.Second)
		j := look(t, s, lost)
		assert.Equal(t, job.Backoff, j.State)
		assert.Equal(t, job.LeaseLost, j.Attempts[0].Error.Type)
		assert.Equal(t, "quay", j.Attempts[0].WorkerName)
		s.away.Store(false)
		time.Sleep(10 * time.Second)
		assert.ErrorIs(t, <-causes, worker.ErrLeaseLost)
		require.NoError(t, end())
	})
}

// When its context ends a pool takes no more, lets handlers finish, and after the
// grace time gives back what is left, uncounted.
func TestDrain(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		pool := worker.New(s, worker.Options{Log: silent, Slots: 2, Grace: 10 * time.Second})
		worker.Handle(pool, "log.pack", func(ctx context.Context, d time.Duration) (bool, error) {
			select {
			case <-time.After(d):
				return true, nil
			case <-ctx.Done():
				return false, ctx.Err()
			}
		})
		end := running(t, pool)
		short := enqueue(t, s, job.Spec{Task: "log.pack", Payload: job.JSON(5 * time.Second)})
		long := enqueue(t, s, job.Spec{Task: "log.pack", Payload: job.JSON(time.Hour)})
		untouched := enqueue(t, s, job.Spec{Task: "log.pack", Payload: job.JSON(time.Second)})
		time.Sleep(time.Second)
		began := time.Now()
		require.NoError(t, end())
		assert.Equal(t, 10*time.Second, time.Since(began))
		assert.Equal(t, job.Done, look(t, s, short).State)
		given := look(t, s, long)
		assert.Equal(t, job.Ready, given.State)
		assert.Equal(t, 0, given.Tries)
		assert.Equal(t, job.OutcomeReleased, given.Attempts[0].Outcome)
		assert.Equal(t, 0, look(t, s, untouched).Attempt)
	})
}
