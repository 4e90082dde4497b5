package engine

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/past"
	"humblemule.example/internal/core/trend"
	"humblemule.example/job"
)

// logbook is what a client notes of its jobs, by the minute.
type logbook map[job.Time]map[string]*api.Flow

func (l logbook) at(now job.Time, queue string) *api.Flow {
	minute := now - now%60_000
	if l[minute] == nil {
		l[minute] = map[string]*api.Flow{}
	}
	if l[minute][queue] == nil {
		l[minute][queue] = new(api.Flow)
	}
	return l[minute][queue]
}

func (l logbook) sum(from, to job.Time, queue string) (sum api.Flow) {
	for at, queues := range l {
		if f := queues[queue]; f != nil && at >= from && at < to {
			sum.Enqueued += f.Enqueued
			sum.Started += f.Started
			sum.Done += f.Done
			sum.Failed += f.Failed
			sum.Dead += f.Dead
		}
	}
	return sum
}

// What history tells is what a client has noted, minute by minute, hour by hour and day by day,
// through restarts in the middle of a minute, and where the clock is set forth and back.
func TestHistory(t *testing.T) {
	alone(t)
	t.Parallel() // it takes long
	path := filepath.Join(t.TempDir(), "history.db")
	synctest.Test(t, func(t *testing.T) {
		ctx := context.Background()
		random := rand.New(rand.NewPCG(6853, 16))
		var jump skew
		opts := Options{LookEvery: unwatched, Log: silent, Wall: jump.wall}
		e, err := Open(path, opts)
		require.NoError(t, err)
		book, queues := logbook{}, []string{"berths", "common", "bulletins"}
		began := e.c.Now()
		once := 1
		live := func() {
			queue := queues[random.IntN(len(queues))]
			n := 1 + random.IntN(5)
			specs := make([]job.Spec, n)
			for i := range specs {
				specs[i] = job.Spec{Task: "tide.predict", Queue: queue, MaxAttempts: &once}
			}
			_, err := e.EnqueueMany(ctx, specs, func(int) string { return "" })
			require.NoError(t, err)
			book.at(e.c.Now(), queue).Enqueued += int64(n)
			time.Sleep(time.Duration(random.IntN(20_000)) * time.Millisecond)
			a, err := e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{queue}, Limit: n})
			require.NoError(t, err)
			book.at(e.c.Now(), queue).Started += int64(len(a.Leases))
			for _, l := range a.Leases {
				time.Sleep(time.Duration(random.IntN(5_000)) * time.Millisecond)
				s := api.Settlement{Token: l.Token, Outcome: job.OutcomeDone}
				f := book.at(e.c.Now(), queue)
				if random.IntN(4) == 0 {
					s.Outcome, s.Error = job.OutcomeFailed, &job.Failure{Message: "fog"}
					f.Failed++
					f.Dead++
				} else {
					f.Done++
				}
				_, err := e.Settle(ctx, []api.Settlement{s})
				require.NoError(t, err)
			}
		}
		agrees := func(step time.Duration) {
			ms := job.Time(step.Milliseconds())
			from := max(began, e.c.Now().Add(-min(47*time.Hour, 2000*step)))
			from -= from % ms
			h, err := e.History(ctx, api.HistoryQuery{From: from, To: e.c.Now() + 1, Step: job.Duration(step), By: api.ByQueue})
			require.NoError(t, err)
			for _, s := range h.Series {
				for i := range s.Points.Done {
					at := h.From.Add(time.Duration(i) * step)
					want, p := book.sum(at, at+ms, s.Name), s.Points
					got := api.Flow{Enqueued: max(p.Enqueued[i], 0), Started: max(p.Started[i], 0), Done: max(p.Done[i], 0), Failed: max(p.Failed[i], 0), Dead: max(p.Dead[i], 0)}
					require.Equal(t, want, got, "%s at %s, by %s", s.Name, at, step)
				}
			}
		}
		for i := range rounds(160, 40) {
			live()
			switch random.IntN(12) {
			case 0: // killed: what was answered is in the file
				memoryAgrees(t, e)
				require.NoError(t, e.Close())
				e, err = Open(path, opts)
				require.NoError(t, err)
			case 1:
				time.Sleep(time.Duration(random.IntN(180)) * time.Minute)
			case 2:
				if i%8 == 0 {
					time.Sleep(30 * time.Hour)
				}
			}
			if i%20 == 19 {
				for _, step := range []time.Duration{time.Minute, 5 * time.Minute, time.Hour, 24 * time.Hour} {
					agrees(step)
				}
				memoryAgrees(t, e)
			}
		}
		agrees(24 * time.Hour)

		time.Sleep(40 * time.Hour)
		// A clock that is set back by two hours goes on there, in minutes that were folded before;
		// one that is set back by a little does not go back.
		for _, by := range []time.Duration{-2 * time.Hour, 5 * time.Second, -8 * time.Second, 3 * time.Hour, -26 * time.Hour, 40 * time.Hour} {
			jump.set(time.Duration(jump.Load()) + by)
			for range 5 {
				live()
				historyAgrees(t, e) // the memory of a day that is gone on with holds only what was added
			}
			agrees(24 * time.Hour)
			require.NoError(t, e.Close())
			e, err = Open(path, opts)
			require.NoError(t, err)
		}
		after, err := e.History(ctx, api.HistoryQuery{From: began, To: e.c.Now().Add(48 * time.Hour), Step: job.Duration(24 * time.Hour)})
		require.NoError(t, err)
		var all int64
		for _, queue := range queues {
			all += book.sum(0, 1<<50, queue).Enqueued
		}
		assert.Equal(t, all, after.Total.Sum.Enqueued)
		restarts := 0
		for _, m := range after.Marks {
			if m.Kind == api.MarkRestart {
				restarts++
			}
		}
		assert.Greater(t, restarts, 10, "each start is marked")
		require.NoError(t, e.Close())
	})
}

// More deltas than wait are folded within the minute, and more queues than are kept apart are
// told as the rest, so that the whole stays right.
func TestHistoryBounds(t *testing.T) {
	alone(t)
	path := filepath.Join(t.TempDir(), "history.db")
	synctest.Test(t, func(t *testing.T) {
		ctx := context.Background()
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		const many = 4500
		for i := range many {
			_, err := e.Enqueue(ctx, job.Spec{Task: "tide.predict", Queue: fmt.Sprint("berth-", i%230), Delay: job.Duration(i%7) * job.Duration(time.Hour)})
			require.NoError(t, err)
		}
		historyAgrees(t, e) // what is folded keeps fewer series apart than what is under way
		time.Sleep(2 * time.Minute)
		synctest.Wait()
		historyAgrees(t, e)
		h, err := e.History(ctx, api.HistoryQuery{By: api.ByQueue})
		require.NoError(t, err)
		assert.Len(t, h.Series, 201)
		last := h.Series[200]
		assert.True(t, last.Rest)
		assert.InDelta(t, 30*many/230, last.Sum.Enqueued, 30)
		assert.Equal(t, int64(many), h.Total.Sum.Enqueued)
		require.NoError(t, e.Close())
	})
}

// A run time is usual from thirty runs on, is known after a restart, and forgets what is older
// than a week.
func TestUsual(t *testing.T) {
	inYard(t, func(y *yard) {
		y.fails = func(string) bool { return false }
		run := func(n int, ms int64) {
			for range n {
				_, err := y.e.Enqueue(y.Context(), job.Spec{Task: "tide.predict"})
				require.NoError(y, err)
				l := y.lease("common", 1)[0]
				_, err = y.e.Settle(y.Context(), []api.Settlement{{Token: l.Token, Outcome: job.OutcomeDone, RunMS: ms}})
				require.NoError(y, err)
			}
		}
		usual := func() *api.Spans {
			told, err := y.e.Task(y.Context(), "tide.predict")
			require.NoError(y, err)
			return told.Run
		}
		began := y.e.c.Now()
		run(29, 400)
		assert.Nil(y, usual(), "of 29 runs nothing is claimed")
		run(1, 400)
		assert.InEpsilon(y, 400, usual().P50MS, 0.02)
		assert.Equal(y, int64(30), usual().Count)
		assert.Equal(y, began, usual().Since)
		restart := func(after time.Duration) {
			was := usual()
			require.NoError(y, y.e.Close())
			time.Sleep(after)
			y.open()
			assert.Equal(y, was, usual(), "after a restart")
		}
		for range 6 {
			restart(24 * time.Hour)
			run(30, 100)
		}
		restart(0)
		assert.Equal(y, int64(210), usual().Count)
		require.NoError(y, y.e.Close())
		time.Sleep(3 * 24 * time.Hour)
		y.open()
		run(1, 100)
		assert.InEpsilon(y, 100, usual().MaxMS, 0.02, "the first day is forgotten")
		restart(0)
	})
}

// The order of starts is known after a restart, of those before the last minute was folded and
// of those after.
func TestStartsAreKept(t *testing.T) {
	inYard(t, func(y *yard) {
		y.fails = func(string) bool { return false }
		for i := range 40 {
			_, err := y.e.Enqueue(y.Context(), job.Spec{Task: "tide.predict", Owner: fmt.Sprint("agent-", i), Lane: fmt.Sprint(i)})
			require.NoError(y, err)
			y.work()
			if i == 20 {
				time.Sleep(2 * time.Minute)
			}
		}
		starts := func() []api.Start {
			all, err := y.e.Starts(y.Context(), "common")
			require.NoError(y, err)
			return all
		}
		was := starts()
		require.Len(y, was, 40)
		require.NoError(y, y.e.Close())
		y.open()
		assert.Equal(y, was, starts())
	})
}

// A deployment is marked where a worker brings another version than the last of its name, also
// an older one; a note can be made twice by one call and is one, and can be deleted.
func TestMarks(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := y.Context()
		for i, w := range []api.Worker{
			{Name: "quay", Host: "quay-1", Version: "2.3"}, {Name: "quay", Host: "quay-2", Version: "2.3"}, {Name: "quay", Host: "quay-1", Version: "2.4"},
			{Name: "other", Version: "2.4"}, {Name: "quay", Host: "quay-1", Version: "2.3"}, {Name: "quay"},
		} {
			w.ID, w.Queues = fmt.Sprint(i), []string{"common"}
			_, err := y.e.PutWorker(ctx, w)
			require.NoError(y, err)
			time.Sleep(time.Second)
		}
		call := WithCall(ctx, Call{Principal: "ada", Path: "/v1/marks", Key: "one"})
		first, err := y.e.Mark(call, "new crane", 0)
		require.NoError(y, err)
		again, err := y.e.Mark(call, "new crane", 0)
		require.NoError(y, err)
		assert.Equal(y, first, again)
		_, err = y.e.Enqueue(ctx, job.Spec{Task: "tide.predict"})
		require.NoError(y, err)
		require.NoError(y, y.e.PauseQueue(ctx, "common"))
		told := func() (all []string) {
			marks, err := y.e.Marks(ctx, 0, y.e.c.Now()+1)
			require.NoError(y, err)
			for _, m := range marks {
				all = append(all, m.Kind+" "+m.Text+" "+m.By)
			}
			return all
		}
		want := []string{"deploy version 2.3 quay-1", "deploy version 2.4 quay-1", "deploy version 2.3 quay-1", "note new crane ada", "pause queue common paused local"}
		assert.Equal(y, want, told())
		for _, at := range []job.Time{-1, y.e.c.Now() + 1000} {
			_, err = y.e.Mark(ctx, "later", at)
			require.ErrorContains(y, err, "at is not in the past")
		}
		_, err = y.e.Mark(ctx, "", 0)
		require.ErrorContains(y, err, "1 to 100 characters")
		require.NoError(y, y.e.Unmark(ctx, first.ID))
		require.Error(y, y.e.Unmark(ctx, first.ID), "it is gone")
		require.Error(y, y.e.Unmark(ctx, 1), "a deployment is nobody's")
		assert.Equal(y, slices.Delete(want, 3, 4), told())
	})
}

// Whatever span is asked for, the answer is figures or what is wrong with it.
func TestHistoryOfAnySpan(t *testing.T) {
	e := listing(t, 3)
	last := job.At(time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC))
	for _, q := range []api.HistoryQuery{
		{To: last}, {To: last - 86_400_000}, {From: 1, To: last}, {From: last - 1, To: last}, {From: last - 60_000, To: last, Step: job.For(time.Minute)}, {From: 1}, {From: 1, Step: job.For(time.Minute)},
		{From: -5}, {To: 1}, {From: last, To: 1}, {Step: job.Duration(1)}, {Step: job.Duration(math.MaxInt64 / 60_000_000_000 * 60_000_000_000)}, {Step: -job.For(time.Minute)},
	} {
		h, err := e.History(t.Context(), q)
		if err != nil {
			require.ErrorIs(t, err, job.ErrInvalid, "%+v", q)
			continue
		}
		assert.NotEmpty(t, h.Total.Points.Done, "%+v", q)
		assert.NoError(t, new(job.Time).UnmarshalText([]byte(h.To.String())), "%+v", q)
		assert.LessOrEqual(t, len(h.Total.Points.Done), 3001)
	}
}

// Where more moves in a minute than there is room for, how long things took is left out of the
// series with the fewest moves, and an answer says of how many starts.
func TestUnmeasured(t *testing.T) {
	path, now := filepath.Join(t.TempDir(), "busy.db"), time.Now().Truncate(time.Hour)
	const tasks, each = 150, 40
	draw := rand.New(rand.NewPCG(6853, 150))
	require.NoError(t, past.Write(path, func(w *past.Writer) error {
		if err := w.At(now.Add(-time.Hour)); err != nil {
			return err
		}
		for i := range tasks {
			n := int64(each + i)
			f := &trend.Figures{N: [trend.NumCounts]int64{trend.Enqueued: n, trend.Started: n, trend.Done: n}}
			for range n {
				f.Waits.Add(math.Exp(4 + 2*draw.NormFloat64()))
				f.Runs.Add(math.Exp(4 + 2*draw.NormFloat64()))
			}
			if err := w.Ran("common", fmt.Sprintf("task-%03d", i), 0, f); err != nil {
				return err
			}
		}
		return w.At(now)
	}))
	e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
	require.NoError(t, err)
	defer e.Close()
	h, err := e.History(t.Context(), api.HistoryQuery{From: job.At(now.Add(-time.Hour)), To: job.At(now), Step: job.Duration(time.Minute), By: api.ByTask, Times: true})
	require.NoError(t, err)
	require.Len(t, h.Series, tasks)
	var unmeasured, started int64
	for i, s := range h.Series {
		started += s.Sum.Started
		if i == 0 {
			assert.Zero(t, s.Sum.Unmeasured, "the busiest")
		}
		if s.Sum.Unmeasured > 0 {
			assert.Equal(t, s.Sum.Started, s.Sum.Unmeasured)
			assert.Nil(t, s.Sum.Wait)
			assert.EqualValues(t, -1, s.Points.WaitP50MS[0])
			assert.Equal(t, s.Sum.Started, s.Points.Started[0])
		}
		unmeasured += s.Sum.Unmeasured
	}
	assert.Positive(t, unmeasured)
	assert.Less(t, unmeasured, started)
	assert.Equal(t, unmeasured, h.Total.Sum.Unmeasured)
	h, err = e.History(t.Context(), api.HistoryQuery{From: job.At(now.Add(-time.Hour)), To: job.At(now), Step: job.Duration(time.Minute), By: api.ByTask})
	require.NoError(t, err)
	assert.Zero(t, h.Total.Sum.Unmeasured, "nobody asked")
}
