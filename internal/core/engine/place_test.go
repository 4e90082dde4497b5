package engine

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Jobs of a lane run one at a time, in order; what a failed or dead one does to its lane
// is its queue's rule; a job that is not due yet blocks nobody.
func TestLanes(t *testing.T) {
	inYard(t, func(y *yard) {
		once := 1
		berth := func(lane string) job.Spec { return job.Spec{Task: "berth.plan", Queue: "berths", Lane: lane} }
		later := berth("berth-1")
		later.Delay = job.Duration(time.Hour)
		last := berth("berth-1")
		last.MaxAttempts = &once
		y.enqueue(later, berth("berth-1"), berth("berth-1"), last, berth("berth-1"), berth("berth-2"), berth(""))
		first := y.lease("berths", 10)
		require.Equal(t, []int64{2, 6, 7}, idsOf(first))
		assert.Equal(t, "Job 2 has lane berth-1 and is running; 1 job is before it in the lane.", y.why(4))
		y.settle(first[0], job.OutcomeFailed)
		assert.Empty(t, y.lease("berths", 10), "by default a job in backoff keeps its lane")
		assert.Contains(t, y.why(3), "Job 2 has lane berth-1 and is backoff until")
		require.ErrorContains(t, y.e.PassLane(context.Background(), "berths", "berth-2"), "goes on by itself: job 6 is running")
		time.Sleep(13 * time.Second)
		again := y.lease("berths", 10)
		require.Equal(t, []int64{2}, idsOf(again))
		y.rules("berths", api.Rules{LaneOnBackoff: api.LanePasses, LaneOnDead: api.LaneStops})
		y.settle(again[0], job.OutcomeFailed)
		third := y.lease("berths", 10)
		require.Equal(t, []int64{3}, idsOf(third))
		y.settle(third[0], job.OutcomeReleased)
		third = y.lease("berths", 10)
		require.Equal(t, []int64{3}, idsOf(third), "given back to its old place")
		y.settle(third[0], job.OutcomeDone)
		dying := y.lease("berths", 10)
		require.Equal(t, []int64{4}, idsOf(dying))
		y.settle(dying[0], job.OutcomeFailed)
		assert.Empty(t, y.lease("berths", 10))
		assert.Equal(t, "Job 4 has lane berth-1 and is dead, which stops the lane; requeue it, discard it, or let the lane pass.", y.why(5))
		require.NoError(t, y.e.PassLane(context.Background(), "berths", "berth-1"))
		assert.Equal(t, []int64{5}, idsOf(y.lease("berths", 10)))
	})
}

// Under ageing a job's priority is worth a time; changing the order gives those that
// wait their new places while the queue goes on.
func TestNewOrder(t *testing.T) {
	inYard(t, func(y *yard) {
		low, high := 0, 9
		for range 450 {
			y.enqueue(job.Spec{Task: "log.pack", Priority: &low})
		}
		time.Sleep(5 * time.Minute)
		y.enqueue(job.Spec{Task: "fog.bulletin", Priority: &high})
		time.Sleep(15 * time.Minute)
		y.enqueue(job.Spec{Task: "fog.bulletin", Priority: &high})
		y.rules("common", api.Rules{Order: api.OrderAgeing, Boost: job.Duration(time.Minute)})
		for q := true; q; {
			time.Sleep(10 * time.Millisecond)
			all, err := y.e.Queues(context.Background())
			require.NoError(t, err)
			q = all[0].NewPlaces
		}
		y.enqueue(job.Spec{Task: "log.pack", Priority: &low})
		require.Equal(t, []int64{451}, idsOf(y.lease("common", 1)))
		starts, err := y.e.Starts(context.Background(), "common")
		require.NoError(t, err)
		assert.Equal(t, []any{450, []int64{1, 2, 3}}, []any{starts[0].Overtook, starts[0].First}, "they still wait")
		first := append([]int64{451}, idsOf(y.lease("common", 451))...)
		require.Len(t, first, 452)
		assert.Equal(t, int64(451), first[0], "9 min before its time")
		assert.Equal(t, int64(452), first[451], "due 20 min after the others, 9 of which it gained")
		starts, err = y.e.Starts(context.Background(), "common")
		require.NoError(t, err)
		assert.Equal(t, 450, starts[451].Overtook)
		assert.Equal(t, []int64{1, 2, 3}, starts[451].First)
	})
}

// tiesAgree holds what stands of jobs that wait for others, and of batches, against the jobs: at rest,
// when nothing is left to be told.
func tiesAgree(none func(what, query string)) {
	none("ends that are not told", "SELECT of x FROM endings")
	none("jobs that wait for another number than their edges tell", `SELECT j.id x FROM jobs j WHERE j.unmet <> (SELECT count(*) FROM edges e WHERE e.job = j.id AND e.stands & 3 IN (0, 3)) + (SELECT count(*) FROM batches b WHERE b.last = j.id AND b.waits = 1)`)
	none("jobs that wait, and are not held", "SELECT id x FROM jobs WHERE unmet > 0 AND state BETWEEN 2 AND 5")
	none("held jobs that could go on", "SELECT j.id x FROM jobs j WHERE j.state = 1 AND j.unmet = 0 AND j.lane = '' AND j.schedule = 0 AND j.removed_by = 0")
	none("edges that do not know whether their job is finished", "SELECT e.job x FROM edges e LEFT JOIN jobs j ON j.id = e.job WHERE j.id IS NULL OR (e.stands >= 4) <> (j.state > 5 OR j.removed_by <> 0)")
	none("edges that could be met", `SELECT e.job x FROM edges e JOIN jobs n ON n.id = e.needs JOIN jobs j ON j.id = e.job WHERE e.stands & 3 = 0 AND n.removed_by = 0 AND n.state > 5
		AND (e.wants = 3 OR n.state = 6 OR n.state = 7 AND n.reason = 'by_handler' OR e.wants = 2 AND j.state = 1 AND j.removed_by = 0)`)
	none("jobs that do not know that others wait for them", "SELECT e.needs x FROM edges e JOIN jobs n ON n.id = e.needs WHERE n.awaited & 1 = 0 AND e.stands < 4")
	none("edges that are gone to a job that is there", "SELECT e.job x FROM edges e JOIN jobs n ON n.id = e.needs WHERE e.stands & 3 = 3")
	const states = "WITH kept AS (SELECT s.batch, CASE WHEN j.state = 7 AND j.reason <> 'by_handler' THEN 0 ELSE j.state END state, count(*) n FROM specs s JOIN jobs j ON j.id = s.job WHERE s.batch <> 0 GROUP BY 1, 2) "
	none("batches with fewer jobs in a state than are kept", states+"SELECT k.batch || ' ' || k.state x FROM kept k LEFT JOIN batch_counts c ON c.batch = k.batch AND c.state = k.state WHERE k.n > coalesce(c.n, 0)")
	none("batches of another number of jobs", `SELECT b.id x FROM batches b WHERE b.jobs <> (SELECT coalesce(sum(n), 0) FROM batch_counts c WHERE c.batch = b.id) OR b.jobs - b.gone <> (SELECT count(*) FROM specs s WHERE s.batch = b.id)`)
	none("batches that have ended and say otherwise", `SELECT b.id x FROM batches b WHERE (b.finished_at <> 0) <> (b.open = 0 AND NOT EXISTS (SELECT 1 FROM batch_counts c WHERE c.batch = b.id AND c.state BETWEEN 1 AND 5 AND c.n > 0)) OR (b.finished_at <> 0) <> (b.state <> 0)`)
	none("batches whose last job could go on", `SELECT b.id x FROM batches b JOIN jobs l ON l.id = b.last JOIN specs s ON s.job = l.id WHERE b.waits = 1 AND b.open = 0 AND l.state = 1 AND l.removed_by = 0
		AND NOT EXISTS (SELECT 1 FROM batch_counts c WHERE c.batch = b.id AND c.n > (c.state = 1) AND c.state BETWEEN 1 AND 5) AND (s.after = 3 OR NOT EXISTS (SELECT 1 FROM batch_counts c WHERE c.batch = b.id AND c.n > 0 AND c.state IN (0, 8, 9)))`)
	none("jobs kept for a last one that has ended", "SELECT j.id x FROM batches b JOIN specs s ON s.batch = b.id JOIN jobs j ON j.id = s.job WHERE b.finished_at <> 0 AND j.awaited & 2 <> 0")
}

// tablesAgree holds the tables against each other: lanes against jobs, turns against jobs,
// places against the rules of now, and what is kept in memory against the counts.
func tablesAgree(t *testing.T, e *Engine) {
	db, err := store.Look(e.c.Store.Path())
	require.NoError(t, err)
	defer db.Close()
	none := func(what, query string) {
		var found sql.NullString
		err := db.QueryRow("SELECT group_concat(x) FROM (" + query + ")").Scan(&found)
		require.NoError(t, err, what)
		require.Empty(t, found.String, what)
	}
	const jobs = "jobs j JOIN queues q ON q.id = j.queue WHERE j.removed_by = 0 AND "
	none("ready or running in a lane that another has", "SELECT j.id x FROM "+jobs+"j.lane <> '' AND j.state IN (3, 4) AND NOT EXISTS (SELECT 1 FROM lanes l WHERE l.queue = j.queue AND l.lane = j.lane AND l.job = j.id)")
	none("held in a lane that nobody has", "SELECT j.id x FROM "+jobs+"j.state = 1 AND j.rank > 0 AND NOT EXISTS (SELECT 1 FROM lanes l WHERE l.queue = j.queue AND l.lane = j.lane)")
	none("lanes of jobs that are finished or scheduled anew", `SELECT l.lane x FROM lanes l LEFT JOIN jobs j ON j.id = l.job AND j.queue = l.queue AND j.lane = l.lane AND j.removed_by = 0 WHERE j.id IS NULL OR j.state IN (1, 6, 7, 8)`)
	none("turns that are not the ready jobs'", `SELECT t.owner || t.active x FROM turns t WHERE active <> (SELECT count(*) > 0 FROM jobs j WHERE j.queue = t.queue AND j.task = t.task AND j.level = t.level AND j.owner = t.owner AND j.state = 3 AND j.turn = 1 AND j.removed_by = 0)`)
	none("ready jobs without a turn's row", `SELECT j.id x FROM jobs j WHERE j.state = 3 AND j.turn = 1 AND j.removed_by = 0 AND NOT EXISTS (SELECT 1 FROM turns t WHERE t.queue = j.queue AND t.task = j.task AND t.level = j.level AND t.owner = j.owner)`)
	tiesAgree(none)
	queues, err := e.Queues(t.Context())
	require.NoError(t, err)
	for _, q := range queues {
		name := q.Name
		if q.NewPlaces {
			continue
		}
		where := fmt.Sprintf("SELECT j.id x FROM %sq.name = '%s' AND j.state = 3 AND ", jobs, name)
		none("wrong turns in "+name, where+fmt.Sprintf("j.turn <> %d", map[bool]int{true: 1}[q.Rules.Turns != ""]))
		if q.Rules.Order == api.OrderAgeing {
			none("wrong ranks in "+name, where+fmt.Sprintf("(j.level <> 0 OR j.rank < %d)", place.LeastTime))
		} else {
			none("wrong ranks in "+name, where+fmt.Sprintf("(j.level <> (SELECT priority FROM specs WHERE job = j.id) OR j.rank >= %d)", place.LeastTime))
		}
		assert.Equal(t, q.Counts[job.Running], q.Running)
	}
}

// Whatever is done in whatever order, over restarts and changes of the rules, the tables
// agree, no lane has two running, and in the end everything finishes.
func TestPlacesHold(t *testing.T) {
	t.Parallel() // it takes long
	for seed := range uint64(rounds(4, 1)) {
		inYard(t, func(y *yard) { runPlaces(y, rand.New(rand.NewPCG(seed, 6853))) })
	}
}

func runPlaces(y *yard, draw *rand.Rand) {
	ctx := context.Background()
	live := map[int64]api.Lease{}
	queues, lanes := []string{"common", "berths"}, []string{"", "", "a", "b"}
	owners, tasks := []string{"", "Marsh", "Gull"}, []string{"x", "y"}
	ids := int64(0)
	some := func(all []string) string { return all[draw.IntN(len(all))] }
	anyID := func() int64 { return 1 + draw.Int64N(max(ids, 1)) }
	for n := range 1200 {
		switch draw.IntN(12) {
		case 0, 1, 2:
			p := draw.IntN(10)
			s := job.Spec{Task: some(tasks), Queue: some(queues), Lane: some(lanes), Owner: some(owners), Priority: &p}
			if draw.IntN(4) == 0 {
				s.Delay = job.Duration(draw.Int64N(int64(20 * time.Second)))
			}
			if draw.IntN(6) == 0 {
				s.StartBy = job.At(time.Now()).Add(time.Duration(draw.Int64N(int64(time.Minute))) + 20*time.Second)
			}
			y.enqueue(s)
			ids++
		case 3, 4:
			for _, l := range y.lease(some(queues), 1+draw.IntN(4)) {
				live[l.Job.ID] = l
			}
			held := map[string]int64{}
			for id, l := range live {
				if l.Job.Lane == "" {
					continue
				}
				at := l.Job.Queue + " " + l.Job.Lane
				require.Zero(y, held[at], "two run in lane %s: %d and %d", at, held[at], id)
				held[at] = id
			}
		case 5, 6:
			for id, l := range live {
				outcomes := []job.Outcome{job.OutcomeDone, job.OutcomeDone, job.OutcomeFailed, job.OutcomeGiveUp, job.OutcomePostponed, job.OutcomeReleased, job.OutcomeSkipped}
				y.settle(l, outcomes[draw.IntN(len(outcomes))])
				delete(live, id)
				break
			}
		case 7:
			named := [][2]string{{"lane", `"` + some(lanes) + `"`}, {"queue", `"` + some(queues) + `"`}, {"priority", fmt.Sprint(draw.IntN(10))}, {"owner", `"` + some(owners) + `"`}}[draw.IntN(4)]
			p, err := job.ReadPatch([]byte(`{"` + named[0] + `":` + named[1] + `}`))
			require.NoError(y, err)
			y.e.Patch(ctx, anyID(), p) // some cannot be changed
		case 8:
			[]func(){
				func() { y.e.Cancel(ctx, anyID()) }, func() { y.e.Requeue(ctx, anyID(), api.Requeue{}) }, func() { y.e.StartNow(ctx, anyID()) },
				func() { y.e.Discard(ctx, anyID()) }, func() { y.e.Undiscard(ctx, anyID()) }, func() { y.e.PassLane(ctx, some(queues), some(lanes)) },
				func() {
					o, err := y.e.Act(ctx, api.ActRequest{Action: api.ActPurge, Filter: &api.Selection{Queues: []string{some(queues)}, Owner: some(owners)}})
					if err == nil && draw.IntN(2) == 0 {
						_, err = y.e.UndoOperation(ctx, o.ID)
						require.NoError(y, err)
					}
				},
			}[draw.IntN(7)]()
		case 9:
			time.Sleep(time.Duration(draw.Int64N(int64(15 * time.Second))))
			y.e.Ready(ctx)
			live = y.stillLive(live)
		case 10:
			all := []api.Rules{{}, {Order: api.OrderAgeing}, {Turns: api.TurnsOwner}, {LaneOnBackoff: api.LanePasses}, {LaneOnDead: api.LaneStops}, {MaxRunning: ptr(1 + draw.IntN(3))}}
			y.rules(some(queues), all[draw.IntN(len(all))])
		case 11:
			if draw.IntN(4) == 0 {
				require.NoError(y, y.e.Close())
				y.open()
			}
		}
		if n%25 == 0 {
			tablesAgree(y.T, y.e)
		}
	}
	for _, q := range queues {
		y.rules(q, api.Rules{})
		for _, lane := range lanes {
			y.e.PassLane(ctx, q, lane)
		}
	}
	for _, l := range live {
		y.settle(l, job.OutcomeDone)
	}
	unfinished := func() (n int64) {
		for _, counts := range y.e.Counts(y.Context()) {
			for s := range counts {
				if !s.Finished() {
					n += counts[s]
				}
			}
		}
		return n
	}
	for range 100 {
		if unfinished() == 0 {
			break
		}
		for _, q := range queues {
			for _, l := range y.lease(q, 100) {
				y.settle(l, job.OutcomeDone)
			}
		}
		time.Sleep(5 * time.Minute)
	}
	tablesAgree(y.T, y.e)
	require.Zero(y, unfinished())
}

// stillLive drops leases that have ended meanwhile.
func (y *yard) stillLive(live map[int64]api.Lease) map[int64]api.Lease {
	kept := map[int64]api.Lease{}
	for id, l := range live {
		a, err := y.e.Extend(context.Background(), api.ExtendRequest{Leases: []api.Extension{{Token: l.Token}}})
		require.NoError(y, err)
		if a.Results[0].Status != api.StatusLost {
			kept[id] = l
		}
	}
	return kept
}
