package engine

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/words"
	"humblemule.example/job"
)

// failureLog is what a test knows of the failures of each job.
type failureLog map[int64][]job.Failure

// with gives the jobs of which a failure holds all words of a text, newest first.
func (l failureLog) with(text string) (ids []int64) {
	for id, failures := range l {
		if slices.ContainsFunc(failures, func(f job.Failure) bool {
			has := map[string]bool{}
			for word := range words.In(strings.ToLower(f.Type + " " + f.Message[:min(len(f.Message), 500)])) {
				has[word] = true
			}
			for word := range words.In(strings.ToLower(text)) {
				if !has[word] {
					return false
				}
			}
			return true
		}) {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	slices.Reverse(ids)
	return ids
}

// found lists all that a filter matches, page by page.
func (y *yard) found(f api.Filter) (ids []int64) {
	f.Limit = cmp.Or(f.Limit, 200)
	for {
		page, err := y.e.Jobs(context.Background(), f)
		require.NoError(y, err)
		for _, j := range page.Jobs {
			ids = append(ids, j.ID)
		}
		if f.Cursor = page.NextCursor; f.Cursor == "" {
			return ids
		}
	}
}

// failWith lets the next jobs of common fail, each in its own way.
func (y *yard) failWith(n int, say func(id int64) job.Failure) (failed int) {
	a, err := y.e.Lease(context.Background(), api.LeaseRequest{Worker: y.worker, Queues: []string{"common"}, Limit: n})
	require.NoError(y, err)
	items := make([]api.Settlement, len(a.Leases))
	for i, l := range a.Leases {
		f := say(l.Job.ID)
		items[i] = api.Settlement{Token: l.Token, Outcome: job.OutcomeFailed, Error: &f}
	}
	_, err = y.e.Settle(context.Background(), items)
	require.NoError(y, err)
	return len(items)
}

// Whatever jobs failed by, whenever: each is found by the words of any of its failures, before and
// after words are folded, across restarts, and no other is.
func TestFindingByWords(t *testing.T) {
	alone(t)
	inYard(t, func(y *yard) {
		draw := rand.New(rand.NewPCG(3, uint64(time.Now().UnixNano())))
		ships := []string{"heron", "plover", "Curlew", "dunlin", "船舶", "knot", "Écluse", "ruff"}
		kinds := []string{"weather", "the tide gauge %q is silent", "bank %q keeps no account of %s", "berth %s is taken by %s since 06:12", "connection to %s refused", "line %s: no weight for %s"}
		log := failureLog{}
		say := func(id int64) job.Failure {
			kind := kinds[draw.IntN(len(kinds))]
			var args []any
			for range strings.Count(kind, "%") {
				args = append(args, fmt.Sprint(ships[draw.IntN(len(ships))], []string{"", " ", "-"}[draw.IntN(3)], draw.IntN(700)))
			}
			f := job.Failure{Type: []string{"", "bank", "Gauge_silent"}[draw.IntN(3)], Message: fmt.Sprintf(kind, args...)}
			if draw.IntN(20) == 0 { // what is said beyond the first bytes finds nothing
				f.Message = strings.Repeat("x ", 250) + f.Message
			}
			if id > 4000 && id < 4200 { // a swarm, across the border of two blocks
				f = job.Failure{Type: "gulls", Message: "a swarm of gulls"}
			}
			log[id] = append(log[id], f)
			return f
		}
		twice := 2
		_, err := y.e.EnqueueMany(context.Background(), slices.Repeat([]job.Spec{{Task: "log.pack", Queue: "archive"}}, 3500), unplaced)
		require.NoError(y, err) // they do not fail
		for round := range rounds(3, 2) {
			specs := make([]job.Spec, 900)
			for i := range specs {
				specs[i] = job.Spec{Task: "dues.charge", MaxAttempts: &twice, Retry: &job.Retry{First: job.For(time.Hour)}, Owner: ships[draw.IntN(len(ships))]}
			}
			_, err := y.e.EnqueueMany(context.Background(), specs, unplaced)
			require.NoError(y, err)
			for y.failWith(1+draw.IntN(400), say) > 0 {
			}
			if round%2 == 1 {
				require.NoError(y, y.e.Close())
				y.open()
			}
			time.Sleep(2 * time.Hour) // the second attempts come
			synctest.Wait()
			for range rounds(12, 6) {
				var text string
				for range 1 + draw.IntN(2) {
					switch draw.IntN(3) {
					case 0:
						text += " " + strings.ToUpper(ships[draw.IntN(len(ships))])
					case 1:
						text += fmt.Sprint(" ", draw.IntN(700))
					default:
						text += " " + strings.Fields(kinds[draw.IntN(len(kinds))])[0]
					}
				}
				want := log.with(text)
				require.Equal(y, want, y.found(api.Filter{Error: text}), "%q", text)
				slices.Reverse(want)
				require.Equal(y, want, y.found(api.Filter{Error: text, Order: api.OldestFirst}), "%q, oldest first", text)
			}
		}
		dead := y.found(api.Filter{Error: "weather", States: []job.State{job.Dead}})
		count, err := y.e.Reader.Count(context.Background(), api.Filter{Error: "weather", States: []job.State{job.Dead}})
		require.NoError(y, err)
		assert.EqualValues(y, len(dead), count.Matched)
		assert.NotEmpty(y, dead)

		assert.Equal(y, log.with("connection refused"), y.found(api.Filter{Error: "connecti REFUS"}), "what no template holds stands for what begins with it")
		for text, says := range map[string]string{"…—": "holds no word", strings.Join(strings.Split("abcdefghijklmnopqrstuvwxyz0123456789", ""), " "): "4 are too many"} {
			_, err := y.e.Jobs(context.Background(), api.Filter{Error: text})
			require.ErrorContains(y, err, says)
		}

		assert.Len(y, y.found(api.Filter{Error: "gulls"}), 199)
		rows := func(of string) (n int) {
			db, err := store.Look(y.path)
			require.NoError(y, err)
			defer db.Close()
			require.NoError(y, db.QueryRow("SELECT "+of).Scan(&n))
			return n
		}
		assert.Positive(y, rows("count(*) FROM failed_words"), "words are folded")
		assert.Less(y, rows("sum(n) FROM late_words"), 3000, "and do not pile up")

		// What is gone is found no longer, and its words go.
		for y.failWith(400, say) > 0 {
		}
		o, err := y.e.Act(context.Background(), api.ActRequest{Action: api.ActDiscard, Filter: &api.Selection{States: []job.State{job.Dead}}})
		require.NoError(y, err)
		y.await(o.ID, api.OpFinished)
		assert.Empty(y, y.found(api.Filter{Error: "weather"}))
		time.Sleep(2 * time.Hour)
		synctest.Wait()
		assert.Zero(y, rows("count(*) FROM failed_words"), "of jobs that are gone")
	})
}

// A list begins with any job, there or gone, or with those of a time, in either order, and goes on
// from there by its cursors; the filter stays as it is.
func TestBeginnings(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := y.Context()
		var ids []int64
		var times []job.Time
		for range 9 {
			j, err := y.e.Enqueue(ctx, job.Spec{Task: []string{"tide.predict", "dues.charge"}[len(ids)%2]})
			require.NoError(y, err)
			ids, times = append(ids, j.ID), append(times, job.At(time.Now()))
			time.Sleep(10 * time.Minute)
		}
		begun := func(f api.Filter) []int64 {
			f.Limit = 2
			return y.found(f)
		}
		down := func(all []int64) []int64 {
			all = slices.Clone(all)
			slices.Reverse(all)
			return all
		}
		for i, id := range ids {
			assert.Equal(y, down(ids[:i+1]), begun(api.Filter{From: id}))
			assert.Equal(y, ids[i:], begun(api.Filter{From: id, Order: api.OldestFirst}))
			assert.Equal(y, down(ids[:i+1]), begun(api.Filter{FromAt: times[i].Add(5 * time.Minute)}), "up to a time after it")
			assert.Equal(y, ids[i:], begun(api.Filter{FromAt: times[i], Order: api.OldestFirst}))
			var tides []int64
			for k := i; k >= 0; k-- {
				if k%2 == 0 {
					tides = append(tides, ids[k])
				}
			}
			assert.Equal(y, tides, begun(api.Filter{From: id, Tasks: []string{"tide.predict"}}))
		}
		assert.Equal(y, down(ids), begun(api.Filter{From: 1 << 50}))
		assert.Empty(y, begun(api.Filter{From: 1 << 50, Order: api.OldestFirst}))
		assert.Empty(y, begun(api.Filter{FromAt: times[0].Add(-time.Hour)}))
		assert.Empty(y, begun(api.Filter{FromAt: job.At(time.Now().Add(time.Hour)), Order: api.OldestFirst}))
		page, err := y.e.Jobs(ctx, api.Filter{From: ids[2], Limit: 1})
		require.NoError(y, err)
		assert.EqualValues(y, 9, *page.Matched, "all that match, wherever the list begins")
	})
}

// Jobs are found by the worker that runs them or ran them last, by its id and by its name, which
// several may have; alone, and together with other filters, across a restart.
func TestFindingByWorker(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := y.Context()
		draw := rand.New(rand.NewPCG(5, 12))
		workers := []api.Worker{{ID: "crane-1", Name: "crane"}, {ID: "crane-2", Name: "crane"}, {ID: "tug-1", Name: "tug"}, {ID: "raw-1"}}
		for _, w := range workers {
			w.Queues = []string{"common"}
			_, err := y.e.PutWorker(ctx, w)
			require.NoError(y, err)
		}
		ran, states := map[int64]string{}, map[int64]job.State{}
		once := 1
		for range 60 {
			j, err := y.e.Enqueue(ctx, job.Spec{Task: []string{"tide.predict", "dues.charge"}[draw.IntN(2)], Owner: []string{"acme", "heron-lines"}[draw.IntN(2)], MaxAttempts: &once})
			require.NoError(y, err)
			if draw.IntN(6) == 0 {
				_, err := y.e.Cancel(ctx, j.ID) // nobody ran it
				require.NoError(y, err)
				continue
			}
			uid := workers[draw.IntN(len(workers))].ID
			a, err := y.e.Lease(ctx, api.LeaseRequest{Worker: uid, Queues: []string{"common"}, Limit: 1, Lease: job.For(time.Hour)})
			require.NoError(y, err)
			ran[j.ID], states[j.ID] = uid, job.Running
			items := []api.Settlement{{Token: a.Leases[0].Token, Outcome: job.OutcomeDone}}
			switch draw.IntN(3) {
			case 0:
				items[0].Outcome, items[0].Error = job.OutcomeFailed, &job.Failure{Message: "fog"}
				states[j.ID] = job.Dead
			case 1:
				states[j.ID] = job.Done
			default:
				continue
			}
			_, err = y.e.Settle(ctx, items)
			require.NoError(y, err)
		}
		of := func(match func(id int64, uid string) bool) (ids []int64) {
			for id, uid := range ran {
				if match(id, uid) {
					ids = append(ids, id)
				}
			}
			slices.Sort(ids)
			slices.Reverse(ids)
			return ids
		}
		for range 2 {
			for _, w := range workers {
				want := of(func(_ int64, uid string) bool { return uid == w.ID })
				require.NotEmpty(y, want)
				require.Equal(y, want, y.found(api.Filter{Worker: w.ID, Limit: 3}), w.ID)
				dead := of(func(id int64, uid string) bool { return uid == w.ID && states[id] == job.Dead })
				require.Equal(y, dead, y.found(api.Filter{Worker: w.ID, States: []job.State{job.Dead}}), w.ID)
			}
			cranes := of(func(_ int64, uid string) bool { return strings.HasPrefix(uid, "crane") })
			require.Equal(y, cranes, y.found(api.Filter{Worker: "crane", Limit: 4}))
			slices.Reverse(cranes)
			require.Equal(y, cranes, y.found(api.Filter{Worker: "crane", Order: api.OldestFirst, Limit: 4}))
			require.Empty(y, y.found(api.Filter{Worker: "barge"}))
			running := of(func(id int64, uid string) bool { return uid == "tug-1" && states[id] == job.Running })
			require.Equal(y, running, y.found(api.Filter{Worker: "tug", States: []job.State{job.Running}}))
			count, err := y.e.Reader.Count(ctx, api.Filter{Worker: "crane"})
			require.NoError(y, err)
			require.EqualValues(y, len(cranes), count.Matched)
			require.NoError(y, y.e.Close())
			y.open()
		}
		o, err := y.e.Act(ctx, api.ActRequest{Action: api.ActRequeue, Filter: &api.Selection{States: []job.State{job.Dead}, Worker: "crane"}})
		require.NoError(y, err)
		y.await(o.ID, api.OpFinished)
		for id, state := range states {
			j, err := y.e.Job(ctx, id)
			require.NoError(y, err)
			if state == job.Dead && strings.HasPrefix(ran[id], "crane") {
				state = job.Ready
			}
			require.Equal(y, state, j.State, "job %d of %s", id, ran[id])
		}
		for n := range api.MaxNamesakes {
			_, err := y.e.PutWorker(ctx, api.Worker{ID: fmt.Sprint("crane-", n+3), Name: "crane", Queues: []string{"common"}})
			require.NoError(y, err)
		}
		_, err = y.e.Jobs(ctx, api.Filter{Worker: "crane"})
		require.ErrorContains(y, err, "more than 500 workers")
	})
}
