package worker_test

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// mortal is a service as a worker's process sees it that may be killed at any moment:
// from then on nothing that the process says arrives.
type mortal struct {
	*source
	killed atomic.Bool
}

var errKilled = errors.New("this process was killed")

func (m *mortal) Extend(ctx context.Context, items api.ExtendRequest) (api.ExtendAnswer, error) {
	if m.killed.Load() {
		return api.ExtendAnswer{}, errKilled
	}
	return m.source.Extend(ctx, items)
}

func (m *mortal) Settle(ctx context.Context, items []api.Settlement) ([]api.SettleResult, error) {
	if m.killed.Load() {
		return nil, errKilled
	}
	return m.source.Settle(ctx, items)
}

func (m *mortal) Lease(ctx context.Context, r api.LeaseRequest) (api.LeaseAnswer, error) {
	if m.killed.Load() {
		return api.LeaseAnswer{}, errKilled
	}
	return m.source.Lease(ctx, r)
}

// A worker is killed at every point of a charge. A bank that honours keys books it
// once; for one that does not, a charge that may have been made before is begun in
// doubt, never silently.
func TestOnce(t *testing.T) {
	for point := range 5 {
		for _, honours := range []bool{true, false} {
			t.Run(fmt.Sprintf("killed at point %d, keys honoured %v", point, honours), func(t *testing.T) {
				bubble(t, func(t *testing.T, s *source) {
					booked := map[string]int{} // by key, or by call where keys are not honoured
					var doubts []bool
					calls := 0
					start := func(dies bool) (end func() error) {
						m := &mortal{source: s}
						pool := worker.New(m, worker.Options{Log: silent, Grace: time.Second})
						at := func(ctx context.Context, here int) error {
							if !dies || here != point {
								return nil
							}
							m.killed.Store(true)
							<-ctx.Done()
							return context.Cause(ctx)
						}
						worker.Handle(pool, "dues.charge", func(ctx context.Context, cents int) (string, error) {
							if err := at(ctx, 0); err != nil {
								return "", err
							}
							receipt, err := worker.Once(ctx, "charge", func(ctx context.Context, step worker.Step) (string, error) {
								if err := at(ctx, 1); err != nil {
									return "", err
								}
								doubts = append(doubts, step.InDoubt)
								key := step.Key
								if calls++; !honours {
									key = fmt.Sprint("call ", calls)
								}
								booked[key]++
								return "receipt", at(ctx, 2)
							})
							if err != nil {
								return "", err
							}
							return receipt, errors.Join(at(ctx, 3), func() error { // a second step, told after the first
								_, err := worker.Once(ctx, "notify", func(ctx context.Context, _ worker.Step) (int, error) { return 1, at(ctx, 4) })
								return err
							}())
						})
						return running(t, pool)
					}
					endFirst := start(true)
					id := enqueue(t, s, job.Spec{Task: "dues.charge", Payload: job.JSON(1200)})
					time.Sleep(time.Second)
					assert.Equal(t, job.Running, look(t, s, id).State)
					endSecond := start(false)
					time.Sleep(10 * time.Minute)
					synctest.Wait()
					j := look(t, s, id)
					require.Equal(t, job.Done, j.State)
					assert.Equal(t, `"receipt"`, string(j.Result))
					if honours {
						assert.Len(t, booked, 1, "bookings")
					}
					for n := range doubts {
						assert.Equal(t, n > 0 || point == 1, doubts[n], "the charge was made %d times, so told", n+1)
					}
					assert.Equal(t, map[bool]int{true: 2, false: 1}[point == 2], len(doubts))
					for _, step := range j.Steps {
						assert.Equal(t, job.StepDone, step.State)
					}
					assert.Len(t, j.Steps, 2)
					require.NoError(t, endSecond())
					endFirst() // its outcomes never arrive
				})
			})
		}
	}
}

// A step that is in doubt is listed; one that was certainly not done is not; a requeue
// does what was done again only where it is told to.
func TestDoubt(t *testing.T) {
	bubble(t, func(t *testing.T, s *source) {
		pool := worker.New(s, worker.Options{Log: silent})
		var refuses atomic.Bool
		var calls atomic.Int32
		refuses.Store(true)
		worker.Handle(pool, "dues.charge", func(ctx context.Context, sure bool) (int, error) {
			return worker.Once(ctx, "charge", func(context.Context, worker.Step) (int, error) {
				n := calls.Add(1)
				switch {
				case !refuses.Load():
					return int(n), nil
				case sure:
					return 0, worker.NotDone(errors.New("the bank refuses"))
				}
				return 0, errors.New("the line was cut")
			})
		})
		end := running(t, pool)
		once := 1
		cut := enqueue(t, s, job.Spec{Task: "dues.charge", Payload: job.JSON(false), MaxAttempts: &once})
		refused := enqueue(t, s, job.Spec{Task: "dues.charge", Payload: job.JSON(true), MaxAttempts: &once})
		synctest.Wait()
		listed := func() (ids []int64) {
			page, err := s.Jobs(t.Context(), api.Filter{InDoubt: true})
			require.NoError(t, err)
			for _, j := range page.Jobs {
				ids = append(ids, j.ID)
			}
			return ids
		}
		assert.Equal(t, []int64{cut}, listed())
		assert.Equal(t, job.StepInDoubt, look(t, s, cut).Steps[0].State)
		assert.Empty(t, look(t, s, refused).Steps)
		refuses.Store(false)
		requeue := func(forget bool) string {
			_, err := s.Requeue(t.Context(), cut, api.Requeue{ForgetSteps: forget})
			require.NoError(t, err)
			synctest.Wait()
			return string(look(t, s, cut).Result)
		}
		assert.Equal(t, "3", requeue(false))
		assert.Equal(t, "3", requeue(false), "it is done")
		assert.Equal(t, "4", requeue(true))
		assert.Empty(t, listed())
		require.NoError(t, end())
	})
}
