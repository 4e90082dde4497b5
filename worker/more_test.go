package worker_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.opentelemetry.io/otel/trace"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// pack is a handler that takes its time and ends early when its context does.
func pack(ctx context.Context, d time.Duration) (bool, error) {
	select {
	case <-time.After(d):
		return true, nil
	case <-ctx.Done():
		return false, ctx.Err()
	}
}

// What a handler tells is known within a second, stays with the attempt, survives
// an outage in order and once; follow-ups exist only where the job is done.
func TestReports(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		pool := worker.New(s, worker.Options{Log: silent, Slots: 2})
		worker.Handle(pool, "log.pack", func(ctx context.Context, fails bool) (string, error) {
			j := worker.Job(ctx)
			assert.NoError(t, j.FollowUp(job.Spec{Task: "notice.publish", Delay: job.Duration(time.Hour)}))
			assert.ErrorContains(t, j.FollowUp(job.Spec{Task: "Notice"}), "is not a valid name")
			assert.ErrorContains(t, j.Label("", "x"), "labels")
			for n := range 10 {
				j.Progress(float64(10*n), fmt.Sprint("block ", n))
				worker.Logger(ctx).With("tape", 7).Warn("block written", "n", n)
				assert.NoError(t, j.Label("block", fmt.Sprint(n)))
				time.Sleep(6 * time.Second)
			}
			assert.NoError(t, j.Label("block", ""))
			if fails {
				return "", errors.New("the tape broke")
			}
			return "packed", nil
		})
		end := running(t, pool)
		good := enqueue(t, s, job.Spec{Task: "log.pack", Payload: job.JSON(false), Labels: map[string]string{"berth": "3"}, Traceparent: "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"})
		once := 1
		bad := enqueue(t, s, job.Spec{Task: "log.pack", Payload: job.JSON(true), MaxAttempts: &once})
		time.Sleep(8 * time.Second)
		j := look(t, s, good)
		assert.Equal(t, &job.Progress{Percent: 10, Note: "block 1"}, j.Progress)
		assert.Equal(t, map[string]string{"berth": "3", "block": "1"}, j.Labels)
		assert.Equal(t, 2, j.Attempts[0].LogLines)

		s.away.Store(true)
		require.NoError(t, s.Close())
		time.Sleep(25 * time.Second)
		s.open(t)
		s.away.Store(false)
		time.Sleep(time.Minute)
		synctest.Wait()
		j = look(t, s, good)
		assert.Equal(t, job.Done, j.State)
		assert.Equal(t, map[string]string{"berth": "3"}, j.Labels)
		assert.Equal(t, float64(90), j.Attempts[0].Progress.Percent)
		var lines []string
		log, err := s.Log(t.Context(), good, engine.LogQuery{})
		require.NoError(t, err)
		for i, l := range log.Lines {
			assert.Equal(t, [2]int{1, i + 1}, [2]int{l.Attempt, l.Line})
			lines = append(lines, l.Text)
		}
		assert.Len(t, lines, 10)
		assert.Equal(t, "WARN block written tape=7 n=9", lines[9])
		assert.Equal(t, job.Dead, look(t, s, bad).State)
		page, err := s.Jobs(t.Context(), api.Filter{Tasks: []string{"notice.publish"}})
		require.NoError(t, err)
		require.Len(t, page.Jobs, 1, "of the one that is done, and not of the one that failed")
		assert.Equal(t, "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01", page.Jobs[0].Traceparent)
		require.NoError(t, end())
	})
}

// Middleware goes round every handler, the first given outermost; the context
// carries the trace of whoever enqueued the job.
func TestMiddleware(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		pool := worker.New(s, worker.Options{Log: silent})
		var mu sync.Mutex
		var order []string
		note := func(text string) {
			mu.Lock()
			defer mu.Unlock()
			order = append(order, text)
		}
		wrap := func(name string) worker.Middleware {
			return func(next worker.Handler) worker.Handler {
				return func(ctx context.Context, payload json.RawMessage) (json.RawMessage, error) {
					note(name + " before")
					defer note(name + " after")
					return next(ctx, payload)
				}
			}
		}
		pool.Use(wrap("outer"), wrap("inner"))
		worker.Handle(pool, "tide.predict", func(ctx context.Context, _ berth) (string, error) {
			note("trace " + trace.SpanContextFromContext(ctx).TraceID().String())
			return "", nil
		})
		end := running(t, pool)
		enqueue(t, s, job.Spec{Task: "tide.predict", Traceparent: "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"})
		synctest.Wait()
		require.NoError(t, end())
		assert.Equal(t, []string{"outer before", "inner before", "trace 4bf92f3577b34da6a3ce929d0e0e4736", "inner after", "outer after"}, order)
	})
}

// Several jobs are handed to one handler: up to the limit, or those that came
// within the time to gather, or at once when no slot is left; each ends by itself.
func TestHandleMany(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		pool := worker.New(s, worker.Options{Log: silent, Slots: 6})
		var calls [][]int
		worker.HandleMany(pool, "buoy.poll", worker.Many{Limit: 4, Gather: 2 * time.Second}, func(ctx context.Context, items []*worker.Item[berth, string]) error {
			var berths []int
			for _, i := range items {
				berths = append(berths, i.In.Berth)
				switch i.In.Berth {
				case 1:
					i.Fail(worker.Skip("the buoy is ashore"))
				case 2: // nothing is said of it
				case 3:
					panic("the radio is on fire")
				case 9:
					<-i.Context().Done()
					i.Fail(context.Cause(i.Context()))
				default:
					i.Job().Log("asked")
					i.Done(fmt.Sprint("sea at ", i.In.Berth))
				}
			}
			calls = append(calls, berths)
			return nil
		})
		end := running(t, pool)
		ask := func(berths ...any) (ids []int64) {
			for _, b := range berths {
				if n, ok := b.(int); ok {
					b = berth{n}
				}
				ids = append(ids, enqueue(t, s, job.Spec{Task: "buoy.poll", Payload: job.JSON(b)}))
			}
			return ids
		}
		states := func(ids []int64) (all []string) {
			for _, id := range ids {
				j := look(t, s, id)
				text := j.State.String()
				if n := len(j.Attempts); n > 0 && j.Attempts[n-1].Error != nil {
					text += " " + j.Attempts[n-1].Error.Message
				}
				all = append(all, text)
			}
			return all
		}
		ids := ask(10, 1, 2, "no berth")
		time.Sleep(time.Second)
		assert.Equal(t, []string{"done", "skipped", "backoff the handler returned without an outcome for this job"}, states(ids)[:3], "the limit was reached")
		assert.Contains(t, states(ids)[3], "dead the payload cannot be read")
		ids = ask(11, 3)
		time.Sleep(time.Second)
		assert.Equal(t, []string{"running", "running"}, states(ids), "they wait for others")
		time.Sleep(time.Second + time.Millisecond)
		synctest.Wait()
		assert.Equal(t, []string{"done", "backoff the radio is on fire"}, states(ids))
		assert.Equal(t, [][]int{{10, 1, 2}}, calls, "the second call panicked")

		stuck := ask(9)
		time.Sleep(3 * time.Second)
		_, err := s.Cancel(t.Context(), stuck[0])
		require.NoError(t, err)
		synctest.Wait()
		assert.Equal(t, []string{"cancelled somebody asked to cancel the job"}, states(stuck))
		require.NoError(t, end())
	})
}

// A pool is drained from afar: it gives back what it holds unstarted, finishes what
// runs, stays; it runs again when it is asked to, also by a service started anew;
// and it leaves.
func TestAskedFromAfar(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		pool := worker.New(s, worker.Options{Log: silent, Slots: 2, Ahead: 3, Name: "quay"})
		worker.Handle(pool, "log.pack", pack)
		var ids []int64
		for range 8 {
			ids = append(ids, enqueue(t, s, job.Spec{Task: "log.pack", Payload: job.JSON(10 * time.Second)}))
		}
		ended := make(chan error, 1)
		go func() { ended <- pool.Run(t.Context()) }()
		time.Sleep(time.Second)
		counts := func() [3]int64 {
			c := s.Counts(t.Context())[job.DefaultQueue]
			return [3]int64{c[job.Ready], c[job.Running], c[job.Done]}
		}
		assert.Equal(t, [3]int64{3, 5, 0}, counts(), "two run and three are held")
		ask := func(want api.Want) {
			_, err := s.AskWorker(t.Context(), pool.ID(), want)
			require.NoError(t, err)
			synctest.Wait()
		}
		ask(api.WantDrain)
		assert.Equal(t, [3]int64{6, 2, 0}, counts())
		time.Sleep(30 * time.Second)
		assert.Equal(t, [3]int64{6, 0, 2}, counts())
		s.away.Store(true)
		require.NoError(t, s.Close())
		time.Sleep(time.Minute)
		s.open(t)
		s.away.Store(false)
		time.Sleep(time.Minute)
		w, err := s.Worker(t.Context(), pool.ID())
		require.NoError(t, err)
		assert.Equal(t, api.WantDrain, w.Wanted, "a restart of the service does not undo it")
		assert.Equal(t, [3]int64{6, 0, 2}, counts())
		ask(api.WantRun)
		time.Sleep(15 * time.Second)
		ask(api.WantLeave)
		require.NoError(t, <-ended)
		assert.Equal(t, [3]int64{2, 0, 6}, counts())
		assert.Equal(t, job.OutcomeReleased, look(t, s, ids[4]).Attempts[0].Outcome)
		_, err = s.Worker(t.Context(), pool.ID())
		assert.ErrorContains(t, err, "is known here", "it has said good-bye")
	})
}

// A pool grows while jobs wait and its slots are taken, and shrinks after quiet;
// the service tells when and why.
func TestElastic(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		pool := worker.New(s, worker.Options{Log: silent, Slots: 2, MaxSlots: 6})
		worker.Handle(pool, "log.pack", pack)
		end := running(t, pool)
		for range 40 {
			enqueue(t, s, job.Spec{Task: "log.pack", Payload: job.JSON(5 * time.Second)})
		}
		time.Sleep(20 * time.Second)
		assert.Equal(t, 6, pool.Slots())
		time.Sleep(5 * time.Minute)
		assert.Equal(t, 2, pool.Slots())
		w, err := s.Worker(t.Context(), pool.ID())
		require.NoError(t, err)
		assert.Equal(t, []int{2, 2, 6}, []int{w.Slots, w.MinSlots, w.MaxSlots})
		require.GreaterOrEqual(t, len(w.Sizes), 4)
		assert.Contains(t, w.Sizes[0].Why, "jobs wait and all 2 slots were taken")
		assert.Contains(t, w.Sizes[len(w.Sizes)-1].Why, "slots were taken for 30 s")
		require.NoError(t, end())
	})
}

// One job is run in the foreground, out of its turn.
func TestRunOnce(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		pool := worker.New(s, worker.Options{Log: silent})
		worker.Handle(pool, "log.pack", pack)
		for range 3 {
			enqueue(t, s, job.Spec{Task: "log.pack", Payload: job.JSON(time.Minute)})
		}
		got, err := pool.RunOnce(t.Context(), 2)
		require.NoError(t, err)
		assert.Equal(t, job.OutcomeDone, got.Outcome)
		assert.Equal(t, []job.State{job.Ready, job.Done, job.Ready}, []job.State{look(t, s, 1).State, look(t, s, 2).State, look(t, s, 3).State})
		_, err = worker.New(s, worker.Options{Log: silent}).RunOnce(t.Context(), 2)
		assert.ErrorContains(t, err, "job 2 is done; only a ready job")
		stranger := worker.New(s, worker.Options{Log: silent})
		worker.Handle(stranger, "tide.predict", pack)
		_, err = stranger.RunOnce(t.Context(), 3)
		assert.ErrorContains(t, err, "which this worker does not do")
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		defer cancel()
		pool = worker.New(s, worker.Options{Log: silent, Grace: time.Second})
		worker.Handle(pool, "log.pack", pack)
		got, err = pool.RunOnce(ctx, 3)
		require.NoError(t, err)
		assert.Equal(t, job.OutcomeReleased, got.Outcome)
		assert.Equal(t, job.Ready, look(t, s, 3).State)
	})
}

// A handler that does not return when it should is left behind: its job is given
// back all the same. A pool in a hurry does not wait for the grace time.
func TestHurry(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		pool := worker.New(s, worker.Options{Log: silent, Grace: time.Hour})
		deaf := make(chan struct{})
		worker.Handle(pool, "deaf", func(context.Context, berth) (bool, error) {
			<-deaf
			return true, nil
		})
		worker.Handle(pool, "log.pack", pack)
		end := running(t, pool)
		one, two := enqueue(t, s, job.Spec{Task: "deaf"}), enqueue(t, s, job.Spec{Task: "log.pack", Payload: job.JSON(2 * time.Hour)})
		synctest.Wait()
		time.AfterFunc(time.Minute, pool.EndNow)
		began := time.Now()
		require.NoError(t, end())
		assert.Equal(t, time.Minute+5*time.Second, time.Since(began))
		assert.Equal(t, []job.State{job.Ready, job.Ready}, []job.State{look(t, s, one).State, look(t, s, two).State})
		close(deaf)
		synctest.Wait()
		assert.Equal(t, job.Ready, look(t, s, one).State, "what it returns later is for nobody")
	})
}

// A handler that cannot work here gives its job back and ends the pool; and with
// StopWithoutLease no handler runs on without a lease.
func TestStopping(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		pool := worker.New(s, worker.Options{Log: silent, Lease: 10 * time.Second, StopWithoutLease: true})
		var cause atomic.Value
		worker.Handle(pool, "log.pack", func(ctx context.Context, d time.Duration) (bool, error) {
			_, err := pack(ctx, d)
			if err != nil {
				cause.Store(context.Cause(ctx))
			}
			return true, err
		})
		worker.Handle(pool, "press.print", func(context.Context, berth) (bool, error) {
			return false, worker.StopPool(errors.New("there is no press"))
		})
		ended := make(chan error, 1)
		go func() { ended <- pool.Run(t.Context()) }()
		enqueue(t, s, job.Spec{Task: "log.pack", Payload: job.JSON(time.Hour)})
		time.Sleep(time.Minute)
		assert.Nil(t, cause.Load(), "renewed in time")
		s.away.Store(true)
		time.Sleep(10 * time.Second)
		assert.Equal(t, worker.ErrLeaseLost, cause.Load())
		s.away.Store(false)
		id := enqueue(t, s, job.Spec{Task: "press.print"})
		assert.EqualError(t, <-ended, "there is no press")
		assert.Equal(t, []any{job.Ready, 0}, []any{look(t, s, id).State, look(t, s, id).Tries})
	})
}

// Slots are shared by weights while every queue has work, and go where work is.
func TestWeights(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		for range 60 {
			for _, q := range []string{"berths", "common", "archive"} {
				enqueue(t, s, job.Spec{Task: "log.pack", Queue: q, Payload: job.JSON(time.Second)})
			}
		}
		pool := worker.New(s, worker.Options{Log: silent, Slots: 1, Queues: []string{"archive", "berths", "common"}, Weights: map[string]int{"berths": 3, "common": 2}})
		worker.Handle(pool, "log.pack", pack)
		end := running(t, pool)
		time.Sleep(60*time.Second + time.Millisecond)
		done := func(q string) int64 { return s.Counts(t.Context())[q][job.Done] }
		assert.Equal(t, []int64{30, 20, 10}, []int64{done("berths"), done("common"), done("archive")})
		time.Sleep(120 * time.Second)
		assert.Equal(t, []int64{60, 60, 60}, []int64{done("berths"), done("common"), done("archive")})
		require.NoError(t, end())
	})
}

// Schedules, pools and handlers together: each run reaches a handler with its planned time,
// a run that outlasts its interval keeps the next ones away, and one that was taken before
// settings were changed marks its worker until it takes anew.
func TestScheduledRuns(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		ctx, cancel := context.WithCancel(t.Context())
		pool := worker.New(s, worker.Options{Slots: 2, Log: silent, Name: "office"})
		var mu sync.Mutex
		var planned []string
		worker.Handle(pool, "tide.predict", func(ctx context.Context, _ struct{}) (string, error) {
			by := worker.Job(ctx).Schedule
			mu.Lock()
			planned = append(planned, fmt.Sprintf("%s %d %s", by.Name, by.Run, by.PlannedAt.Go().Format("15:04:05")))
			mu.Unlock()
			time.Sleep(25 * time.Second)
			return "", nil
		})
		ended := make(chan error, 1)
		go func() { ended <- pool.Run(ctx) }()
		_, err := s.SetSchedule(ctx, "tides", api.Schedule{Cron: "*/10 * * * * *", Job: job.Spec{Task: "tide.predict"}})
		require.NoError(t, err)
		time.Sleep(15 * time.Second)
		require.NoError(t, s.SetTask(ctx, "tide.predict", api.Defaults{Timeout: job.Duration(time.Minute)}))
		outdated := func() bool {
			all := s.Workers(t.Context())
			return len(all) == 1 && all[0].Outdated
		}
		assert.True(t, outdated(), "its job runs by older settings")
		time.Sleep(30 * time.Second)
		assert.False(t, outdated(), "it has taken another since")
		time.Sleep(20 * time.Second)
		mu.Lock()
		assert.Equal(t, []string{"tides 1 00:00:10", "tides 2 00:00:40"}, planned)
		mu.Unlock()
		runs, err := s.Runs(ctx, "tides", 0, 10)
		require.NoError(t, err)
		require.Len(t, runs, 6)
		for i, reason := range []string{api.RunStillRunning, api.RunStillRunning, "", api.RunStillRunning, api.RunStillRunning, ""} {
			assert.Equal(t, reason, runs[i].Reason, runs[i].PlannedAt)
		}
		cancel()
		require.NoError(t, <-ended)
	})
}
