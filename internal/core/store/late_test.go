package store

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/job"
)

// Writes that go out together change the rows that are meant, and no other, however the ids
// lie: those in between, those beside, and those of a statement that is not full.
func TestLateWrites(t *testing.T) {
	s, _ := open(t)
	draw := rand.New(rand.NewPCG(6853, 14))
	want := map[int64]*Row{}
	var waiting, running []*Row
	for id, round := int64(0), 0; round < 60; round++ {
		for range draw.IntN(40) {
			id += 1 + int64(draw.IntN(3)*draw.IntN(30))
			r := &Row{ID: id, Queue: 1 + id%3/2, Task: 1, State: job.Ready, Level: 4, Priority: 4, Rank: id, Round: 1, Policy: 1 + id%7/6, EnqueuedAt: 1000, ReadyAt: 1000}
			if r.Payload = []byte(`"harbour"`)[:2*draw.IntN(5)]; id%11 == 0 {
				r.Owner, r.Traceparent, r.Labels = "Teal & Sons", "00-trace", `{"berth":"3"}`
			}
			r.PayloadBytes = len(r.Payload)
			require.NoError(t, s.InsertJob(r))
			want[id], waiting = r, append(waiting, r)
		}
		draw.Shuffle(len(waiting), func(i, j int) { waiting[i], waiting[j] = waiting[j], waiting[i] })
		taken := waiting[:draw.IntN(len(waiting)+1)]
		waiting = waiting[len(taken):]
		for _, r := range taken {
			r.State, r.Attempt, r.Tries, r.StartedAt, r.LeasedAt = job.Running, r.Attempt+1, r.Tries+1, 2000, 2000
			r.Worker, r.Token, r.LeaseMS = 1+int64(draw.IntN(4)), draw.Int64(), 45_000+int64(draw.IntN(2))
			require.NoError(t, s.Lease(r))
			running = append(running, r)
		}
		running = slices.DeleteFunc(running, func(r *Row) bool {
			if draw.IntN(2) == 0 {
				return false
			}
			r.State, r.FinishedAt, r.RunMS = job.Done, 3000, int64(draw.IntN(1000))
			require.NoError(t, s.Finish(r))
			require.NoError(t, s.Result(r.ID, []byte(`"moored"`)))
			return true
		})
		if draw.IntN(3) == 0 {
			require.NoError(t, s.Commit())
		}
	}
	for id := range want {
		if id%5 == 0 {
			require.NoError(t, s.Remove(id, 7+id%2, 5000))
		}
	}
	require.NoError(t, s.Commit())
	for id, r := range want {
		if id%5 == 0 {
			got, err := s.Row(id)
			require.NoError(t, err)
			require.Nil(t, got, "job %d is removed", id)
			require.NoError(t, s.Restore(id))
		}
		got, err := s.Row(id)
		require.NoError(t, err)
		if len(r.Payload) == 0 {
			r.Payload, got.Payload = nil, nil
		}
		require.Equal(t, r, got, "job %d", id)
		result, err := s.Body(t.Context(), id, ResultBody, 0)
		require.NoError(t, err)
		assert.Equal(t, r.State == job.Done, result != nil, "job %d", id)
		all, err := s.Attempts(t.Context(), []*Row{r})
		require.NoError(t, err)
		attempts := all[id]
		if r.State == job.Done {
			require.Len(t, attempts, 1)
			assert.Equal(t, *r.attempt(), attempts[0])
		} else {
			assert.Empty(t, attempts)
		}
	}
	require.Greater(t, len(want), 300)
}

// What was not written yet is undone with all else.
func TestLateWritesRollBack(t *testing.T) {
	s, _ := open(t)
	require.NoError(t, s.InsertJob(&Row{ID: 1, Queue: 1, Task: 1, State: job.Ready, Policy: 1, EnqueuedAt: 1000}))
	require.True(t, s.Writing())
	require.NoError(t, s.Rollback())
	require.False(t, s.Writing())
	r, err := s.Row(1)
	require.NoError(t, err)
	assert.Nil(t, r)
}

// A lease that cannot be written is told apart from those that it goes out with.
func TestLateLeaseFails(t *testing.T) {
	s, _ := open(t)
	for id := range int64(20) {
		require.NoError(t, s.InsertJob(&Row{ID: id + 1, Queue: 1, Task: 1, State: job.Ready, Policy: 1, EnqueuedAt: 1000}))
	}
	require.NoError(t, s.Commit())
	require.NoError(t, s.Exec("CREATE TRIGGER stuck BEFORE UPDATE ON jobs WHEN new.id = 13 BEGIN SELECT RAISE(ABORT, 'stuck'); END"))
	for id := range int64(20) {
		require.NoError(t, s.Lease(&Row{ID: id + 1, Worker: 1, Token: id + 1, LeasedAt: 2000, LeaseMS: 45_000}))
	}
	err := s.Commit()
	var late *LateError
	require.ErrorAs(t, err, &late)
	assert.Equal(t, int64(13), late.Job)
	require.NoError(t, s.Rollback())
}
