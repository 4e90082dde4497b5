package engine

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/plan"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// schedule keeps a schedule of a task, in queue common.
func (y *yard) schedule(name string, s api.Schedule) api.ScheduleStatus {
	if s.Job.Task == "" && s.Batch == nil {
		s.Job.Task = "tide.predict"
	}
	told, err := y.e.SetSchedule(context.Background(), name, s)
	require.NoError(y, err)
	return told
}

// history writes the runs of a schedule, oldest first: the planned time of day, then what
// became of it.
func (y *yard) history(name string) (all []string) {
	synctest.Wait()
	runs, err := y.e.Runs(context.Background(), name, 0, 500)
	require.NoError(y, err)
	for i := len(runs) - 1; i >= 0; i-- {
		r := runs[i]
		what := r.State.String()
		if r.Reason != "" {
			what = fmt.Sprint(r.Reason, " ", max(r.Times, 1))
		}
		all = append(all, r.PlannedAt.Go().Format("15:04:05")+" "+what)
	}
	return all
}

// sleepUntil passes time until a time of the first day, and a moment more.
func sleepUntil(clock string) {
	at, err := time.Parse("2006-01-02 15:04:05", "2000-01-01 "+clock)
	if err != nil {
		panic(err)
	}
	time.Sleep(time.Until(at) + 10*time.Millisecond)
}

// What a run finds of the last one decides what becomes of it.
func TestRunsMeet(t *testing.T) {
	inYard(t, func(y *yard) {
		for _, rule := range []string{api.RunSkips, api.RunWaits, api.RunsAlso} {
			y.schedule(rule, api.Schedule{Every: job.Duration(time.Minute), IfStillRunning: rule, Job: job.Spec{Task: "buoy.poll", Queue: rule}})
		}
		sleepUntil("00:01:00")
		first := map[string]api.Lease{}
		for _, rule := range []string{api.RunSkips, api.RunWaits, api.RunsAlso} {
			first[rule] = y.take(rule, 10)[0]
			assert.Equal(t, &job.ScheduledBy{Name: rule, Run: 1, PlannedAt: job.At(time.Date(2000, 1, 1, 0, 1, 0, 0, time.UTC))}, first[rule].Job.Schedule)
		}
		sleepUntil("00:03:00")
		assert.Equal(t, []string{"00:01:00 running", "00:02:00 still_running 1", "00:03:00 still_running 1"}, y.history(api.RunSkips))
		assert.Equal(t, []string{"00:01:00 running", "00:02:00 held", "00:03:00 still_running 1"}, y.history(api.RunWaits))
		assert.Equal(t, []string{"00:01:00 running", "00:02:00 ready", "00:03:00 ready"}, y.history(api.RunsAlso))
		told, err := y.e.Schedule(context.Background(), api.RunWaits)
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf("It is the next run of schedule wait; job %d, the run before, is unfinished.", first[api.RunWaits].Job.ID), y.why(told.Waiting))
		_, err = y.e.RunSchedule(context.Background(), api.RunSkips)
		require.ErrorContains(t, err, "is unfinished; cancel it")

		// The end of the one lets the other go; over a restart, too.
		require.NoError(t, y.e.Close())
		y.open()
		y.settle(first[api.RunWaits], job.OutcomeDone)
		second := y.take(api.RunWaits, 10)
		require.Equal(t, []int64{told.Waiting}, idsOf(second))

		// One that waits for its next attempt gives way: at once, and when it fails while
		// another waits for it.
		sleepUntil("00:03:55")
		y.settle(first[api.RunSkips], job.OutcomeFailed)
		sleepUntil("00:04:00")
		assert.Equal(t, "00:01:00 dead", y.history(api.RunSkips)[0])
		j, err := y.e.Job(context.Background(), first[api.RunSkips].Job.ID)
		require.NoError(t, err)
		assert.Equal(t, job.Superseded, j.Reason)
		y.settle(second[0], job.OutcomeFailed)
		assert.Equal(t, []string{"00:01:00 done", "00:02:00 dead", "00:03:00 still_running 1", "00:04:00 ready"}, y.history(api.RunWaits))

		// Ending the one that waits leaves the way free.
		third := y.take(api.RunWaits, 1)
		require.Len(t, third, 1)
		sleepUntil("00:05:00")
		told, err = y.e.Schedule(context.Background(), api.RunWaits)
		require.NoError(t, err)
		_, err = y.e.Cancel(context.Background(), told.Waiting)
		require.NoError(t, err)
		y.settle(third[0], job.OutcomeDone)
		sleepUntil("00:06:00")
		assert.Equal(t, []string{"00:04:00 done", "00:05:00 cancelled", "00:06:00 ready"}, y.history(api.RunWaits)[3:])
	})
}

// Times that could not be kept are skipped, made up for once, or all, as the schedule says;
// those within a pause are not missed, and nothing comes after its end.
func TestMissedRuns(t *testing.T) {
	inYard(t, func(y *yard) {
		for _, missed := range []string{api.MissedSkip, api.MissedOnce, api.MissedAll} {
			y.schedule(missed, api.Schedule{Cron: "*/10 * * * *", Missed: missed, IfStillRunning: api.RunsAlso})
		}
		y.schedule("paused", api.Schedule{Cron: "*/10 * * * *"})
		y.schedule("short", api.Schedule{Cron: "*/10 * * * *", Until: job.At(time.Now().Add(15 * time.Minute))})
		sleepUntil("00:10:00")
		_, err := y.e.PauseSchedule(context.Background(), "paused")
		require.NoError(t, err)
		require.NoError(t, y.e.Close())
		sleepUntil("00:50:30") // 00:50 is late by less than its limit
		y.open()
		sleepUntil("00:55:00")
		assert.Equal(t, []string{"00:10:00 ready", "00:40:00 missed 3", "00:50:00 ready"}, y.history(api.MissedSkip))
		assert.Equal(t, []string{"00:10:00 ready", "00:39:59 missed 2", "00:40:00 ready", "00:50:00 ready"}, y.history(api.MissedOnce))
		assert.Equal(t, []string{"00:10:00 ready", "00:20:00 ready", "00:30:00 ready", "00:40:00 ready", "00:50:00 ready"}, y.history(api.MissedAll))
		_, err = y.e.ResumeSchedule(context.Background(), "paused")
		require.NoError(t, err)
		sleepUntil("01:00:00")
		assert.Equal(t, []string{"00:10:00 ready", "01:00:00 still_running 1"}, y.history("paused"))
		assert.Equal(t, []string{"00:10:00 ready"}, y.history("short"))
		told, err := y.e.Schedule(context.Background(), "short")
		require.NoError(t, err)
		assert.Empty(t, told.Next)

		// Of very many, the latest thousand are made up for and the rest are one line.
		y.schedule("often", api.Schedule{Cron: "* * * * * *", Missed: api.MissedAll, IfStillRunning: api.RunsAlso})
		require.NoError(t, y.e.Close())
		time.Sleep(72 * time.Hour)
		y.open()
		time.Sleep(10 * time.Millisecond)
		synctest.Wait()
		runs, err := y.e.Runs(context.Background(), "often", 0, 2000)
		require.NoError(t, err)
		assert.LessOrEqual(t, len(runs), 1000, "and no longer history is kept")
		told, err = y.e.Schedule(context.Background(), "often")
		require.NoError(t, err)
		assert.InDelta(t, 1000+61, told.Last.Number, 2)
	})
}

// However often the service is restarted, whatever the clock does, no planned time comes
// twice and none is lost.
func TestEachPlannedTimeOnce(t *testing.T) {
	alone(t)
	for seed := range uint64(3) {
		inYard(t, func(y *yard) {
			draw := rand.New(rand.NewPCG(seed, 7))
			y.schedule("tides", api.Schedule{Cron: "*/5 * * * * *", Missed: api.MissedAll, IfStillRunning: api.RunsAlso, LateLimit: job.Duration(30 * time.Second), Spread: job.Duration(7 * time.Second)})
			began := time.Now()
			for range 60 {
				time.Sleep(time.Duration(draw.IntN(20_000)) * time.Millisecond)
				switch draw.IntN(4) {
				case 0:
					require.NoError(t, y.e.Close())
					time.Sleep(time.Duration(draw.IntN(90_000)) * time.Millisecond)
					y.open()
				case 1:
					y.schedule("tides", api.Schedule{Cron: "*/5 * * * * *", Missed: api.MissedAll, IfStillRunning: api.RunsAlso, LateLimit: job.Duration(30 * time.Second), Spread: job.Duration(7 * time.Second), Note: fmt.Sprint(draw.IntN(3))})
				case 2:
					for _, l := range y.lease("common", 5) {
						y.settle(l, job.OutcomeDone)
					}
				}
			}
			time.Sleep(10 * time.Second)
			synctest.Wait()
			runs, err := y.e.Runs(context.Background(), "tides", 0, 1000)
			require.NoError(t, err)
			next := job.At(began.Add(5 * time.Second))
			for i := len(runs) - 1; i >= 0; i-- {
				require.Equal(t, next, runs[i].PlannedAt)
				require.NotZero(t, runs[i].Job)
				next = next.Add(5 * time.Second)
			}
			require.Less(t, time.Since(next.Go()), 10*time.Second)
		})
	}
}

// A clock that is set back lets nothing come twice.
func TestClockSetBack(t *testing.T) {
	y := &yard{T: t, worker: "w"}
	synctest.Test(t, func(t *testing.T) {
		var shift atomic.Int64
		e, err := Open(t.TempDir()+"/clock.db", Options{LookEvery: unwatched, Log: silent, Wall: func() time.Time { return time.Now().Add(time.Duration(shift.Load())) }})
		require.NoError(t, err)
		defer func() { require.NoError(t, e.Close()) }()
		y.e, y.T = e, t
		y.schedule("tides", api.Schedule{Cron: "*/10 * * * *", IfStillRunning: api.RunsAlso})
		sleepUntil("00:25:00")
		shift.Store(int64(-time.Hour))
		sleepUntil("01:15:00") // the clock reads 00:15
		assert.Equal(t, []string{"00:10:00 ready", "00:20:00 ready"}, y.history("tides"))
		sleepUntil("01:31:00")
		assert.Equal(t, []string{"00:10:00 ready", "00:20:00 ready", "00:30:00 ready"}, y.history("tides"))
		shift.Store(int64(time.Hour))
		time.Sleep(2 * time.Second)
		assert.Equal(t, []string{"00:30:00 ready", "02:19:59 missed 11", "02:20:00 ready", "02:30:00 ready"}[:1], y.history("tides")[2:3])
		assert.Contains(t, strings.Join(y.history("tides"), "\n"), "missed")
	})
}

// A schedule is kept by its name: the same again changes nothing, another version is
// refused, and one of a file cannot be deleted.
func TestKeepSchedules(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		tides := api.Schedule{Cron: "30 3 * * *", Zone: "Europe/Lisbon", Note: "before the first ship", Job: job.Spec{Task: "tide.predict", Payload: job.JSON(map[string]any{"berth": 3})}}
		told := y.schedule("tides", tides)
		assert.Equal(t, []any{int64(1), "at 03:30 every day", "hand", 10}, []any{told.Version, told.Summary, told.DefinedBy, len(told.Next)})
		assert.Equal(t, int64(1), y.schedule("tides", tides).Version)
		yes := true
		tides.Paused = &yes
		told = y.schedule("tides", tides)
		assert.Equal(t, int64(2), told.Version)
		assert.Empty(t, told.Next)
		tides.Paused = nil
		assert.True(t, *y.schedule("tides", tides).Paused, "what is not said stays")
		tides.Cron = "31 3 * * *"
		_, err := y.e.SetSchedule(WithCall(ctx, Call{If: Condition{Versions: []int64{1}}}), "tides", tides)
		require.ErrorIs(t, err, job.ErrOutdated)
		require.ErrorContains(t, err, "has changed since you read it")
		actions, err := y.e.Actions(ctx, 0, 0, 10)
		require.NoError(t, err)
		assert.Len(t, actions, 2, "what changes nothing is not a valid action")

		for _, c := range []struct {
			s    api.Schedule
			want string
		}{
			{api.Schedule{}, "cron is missing"},
			{api.Schedule{Cron: "* * * * *", Every: job.Duration(time.Minute)}, "every cannot be combined with cron"},
			{api.Schedule{Cron: "61 * * * *"}, "cron minute, at position 1: 61 is outside 0 to 59"},
			{api.Schedule{Cron: "* * * * *", Zone: "Europe/Lisbn"}, "the nearest is Europe/Lisbon"},
			{api.Schedule{Cron: "* * * * *", Until: job.At(time.Now().Add(-time.Hour))}, "until 1999-12-31T23:00:00.000Z leaves no time to come"},
			{api.Schedule{Cron: "* * * * *", Until: job.At(time.Now().Add(time.Second))}, "leaves no time to come"},
			{api.Schedule{Cron: "* * * * *", IfStillRunning: "kill"}, "if_still_running \"kill\" is unknown; it is skip, wait or also"},
			{api.Schedule{Cron: "* * * * *", Job: job.Spec{Task: "x", Delay: 5}}, "job.delay cannot be set in a schedule"},
			{api.Schedule{Every: 5}, "every 5ns is outside 1s to 366d"},
		} {
			if c.s.Job.Task == "" {
				c.s.Job.Task = "tide.predict"
			}
			_, err := y.e.SetSchedule(ctx, "tides", c.s)
			assert.ErrorContains(t, err, c.want)
		}

		file := api.Setup{Schedules: map[string]api.Schedule{"dues": {Cron: "@monthly", Job: job.Spec{Task: "dues.charge"}}}}
		d, err := y.e.Load(ctx, api.SetupRequest{Setup: file})
		require.NoError(t, err)
		assert.Equal(t, []any{"schedule", "dues", "add", []string{"schedule tides"}}, []any{d.Changes[0].Kind, d.Changes[0].Name, d.Changes[0].Change, d.Others})
		require.ErrorContains(t, y.e.DeleteSchedule(ctx, "dues"), "comes from a set-up file")
		_, err = y.e.PauseSchedule(ctx, "dues")
		require.NoError(t, err)
		require.NoError(t, y.e.Close())
		y.open()
		d, err = y.e.Load(ctx, api.SetupRequest{Setup: file})
		require.NoError(t, err)
		assert.Equal(t, 1, d.Same)
		told, err = y.e.Schedule(ctx, "dues")
		require.NoError(t, err)
		assert.Equal(t, []any{"file", true}, []any{told.DefinedBy, *told.Paused}, "a load does not resume it")
		_, err = y.e.Load(ctx, api.SetupRequest{})
		require.ErrorContains(t, err, "empty is not true, and the set-up defines nothing")
		_, err = y.e.Load(ctx, api.SetupRequest{Setup: api.Setup{Empty: true}})
		require.NoError(t, err)
		_, err = y.e.Schedule(ctx, "dues")
		require.ErrorContains(t, err, "there is no schedule")
		require.NoError(t, y.e.DeleteSchedule(ctx, "tides"))
	})
}

// What is coming is told in time order, runs and jobs together.
func TestComing(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		y.schedule("tides", api.Schedule{Cron: "30 3 * * *"})
		y.schedule("buoys", api.Schedule{Every: job.Duration(20 * time.Second), Job: job.Spec{Task: "buoy.poll"}})
		j, err := y.e.Enqueue(ctx, job.Spec{Task: "tide.predict", Delay: job.Duration(30 * time.Second)})
		require.NoError(t, err)
		c, err := y.e.Coming(ctx, 24*time.Hour, "", "", 3)
		require.NoError(t, err)
		require.Len(t, c.Items, 3)
		assert.Equal(t, []any{"buoys", j.ID, "buoys", true}, []any{c.Items[0].Schedule, c.Items[1].Job, c.Items[2].Schedule, c.More})
		total := int64(0)
		for i := range c.Runs {
			total += c.Runs[i] + c.Jobs[i]
		}
		assert.Equal(t, int64(24*180-1+1+1), total)
		c, err = y.e.Coming(ctx, 24*time.Hour, "", "tide.predict", 9)
		require.NoError(t, err)
		assert.Len(t, c.Items, 2)
	})
}

// Whatever happens to the jobs of schedules, of those that skip or wait at most one is
// under way and at most one more waits for it; one that waits is held exactly as long.
func TestRunsOfSchedulesStand(t *testing.T) {
	t.Parallel() // it takes long
	for seed := range uint64(rounds(4, 1)) {
		inYard(t, func(y *yard) {
			ctx := context.Background()
			draw := rand.New(rand.NewPCG(seed, 1))
			names := []string{api.RunSkips, api.RunWaits, api.RunsAlso}
			for i, rule := range names {
				y.schedule(rule, api.Schedule{Every: job.Duration(time.Duration(7+i) * time.Second), IfStillRunning: rule, Missed: api.MissedAll, Job: job.Spec{Task: "buoy.poll", Lane: []string{"", "bar"}[draw.IntN(2)]}})
			}
			var leases []api.Lease
			for range 200 {
				time.Sleep(time.Duration(draw.IntN(5000)) * time.Millisecond)
				synctest.Wait()
				switch draw.IntN(12) {
				case 0, 1, 2:
					leases = append(leases, y.take("common", 1+draw.IntN(2))...)
				case 3, 4, 5, 6:
					if len(leases) > 0 {
						outcome := []job.Outcome{job.OutcomeDone, job.OutcomeDone, job.OutcomeFailed, job.OutcomeGiveUp, job.OutcomePostponed, job.OutcomeReleased, job.OutcomeSkipped}[draw.IntN(7)]
						y.settle(leases[0], outcome)
						leases = leases[1:]
					}
				case 7:
					y.cancelOne(draw)
				case 8:
					y.e.RunSchedule(ctx, names[draw.IntN(3)]) // which may be refused
				case 9:
					set := y.e.PauseSchedule
					if draw.IntN(2) == 0 {
						set = y.e.ResumeSchedule
					}
					_, err := set(ctx, names[draw.IntN(3)])
					require.NoError(t, err)
				case 10:
					require.NoError(t, y.e.Close())
					time.Sleep(time.Duration(draw.IntN(20)) * time.Second)
					y.open()
				case 11:
					y.patchOne(draw)
				}
				for _, name := range names {
					y.standing(name)
				}
			}
		})
	}
}

// unfinished are the jobs that are not finished.
func (y *yard) unfinished() []job.Job {
	page, err := y.e.Jobs(context.Background(), api.Filter{States: []job.State{job.Held, job.Scheduled, job.Ready, job.Running, job.Backoff}, Limit: 500})
	require.NoError(y, err)
	return page.Jobs
}

func (y *yard) cancelOne(draw *rand.Rand) {
	if all := y.unfinished(); len(all) > 0 {
		if j := all[draw.IntN(len(all))]; j.State != job.Running {
			_, err := y.e.Cancel(context.Background(), j.ID)
			require.NoError(y, err)
		}
	}
}

// patchOne gives a waiting job another priority, for which it is placed anew.
func (y *yard) patchOne(draw *rand.Rand) {
	if all := y.unfinished(); len(all) > 0 {
		if j := all[draw.IntN(len(all))]; j.State != job.Running {
			_, err := y.e.Patch(context.Background(), j.ID, job.Patch{Spec: job.Spec{Priority: ptr(draw.IntN(10))}, Named: []string{"priority"}})
			require.NoError(y, err)
		}
	}
}

// standing holds the history of a schedule against its jobs.
func (y *yard) standing(name string) {
	synctest.Wait()
	s, err := y.e.Schedule(context.Background(), name)
	require.NoError(y, err)
	runs, err := y.e.Runs(context.Background(), name, 0, 500)
	require.NoError(y, err)
	open := map[job.State]int{}
	last := int64(0)
	for i, r := range runs {
		if i > 0 {
			require.Less(y, r.PlannedAt, runs[i-1].PlannedAt)
		}
		if r.Number > 0 && last == 0 {
			last = r.Number
		} else if r.Number > 0 {
			require.Equal(y, last-1, r.Number, "runs are counted without a gap")
			last = r.Number
		}
		if r.State != 0 && !r.State.Finished() {
			open[r.State]++
		}
	}
	if name == api.RunsAlso {
		require.Zero(y, s.Waiting)
		return
	}
	total := 0
	for _, n := range open {
		total += n
	}
	if name == api.RunSkips {
		require.LessOrEqual(y, total, 1, "%s: %v", name, open)
		require.Zero(y, s.Waiting)
		return
	}
	require.LessOrEqual(y, total, 2, "%s: %v", name, open)
	if s.Waiting == 0 {
		require.LessOrEqual(y, total, 1, "%s: %v", name, open)
		return
	}
	j, err := y.e.Job(context.Background(), s.Waiting)
	require.NoError(y, err)
	require.Equal(y, job.Held, j.State)
	require.Contains(y, j.WaitingBecause, "It is the next run of schedule wait;")
	require.Equal(y, 2, total, "it waits for one that is under way: %v", open)
}

// A fault of the disk loses no planned time and brings none twice: what was enqueued in a
// transaction that failed is enqueued by the next.
func TestSchedulesOverFaults(t *testing.T) {
	inYard(t, func(y *yard) {
		draw := rand.New(rand.NewPCG(6853, 9))
		y.schedule("often", api.Schedule{Cron: "* * * * * *", IfStillRunning: api.RunsAlso, Missed: api.MissedAll})
		began := time.Now()
		for range 40 {
			time.Sleep(time.Duration(draw.IntN(1500)) * time.Millisecond)
			err := y.e.c.Do(context.Background(), commit.Unchecked(func(tx *commit.Tx) error {
				if err := plan.Fire().Do(tx); err != nil { // in the transaction that fails
					return err
				}
				return store.DiskFault()
			}))
			require.ErrorContains(t, err, "nothing of this was kept")
		}
		time.Sleep(2 * time.Second)
		synctest.Wait()
		runs, err := y.e.Runs(context.Background(), "often", 0, 500)
		require.NoError(t, err)
		require.InDelta(t, time.Since(began).Seconds(), len(runs), 1)
		seen := map[int64]bool{}
		for i, r := range runs {
			require.False(t, seen[r.Job])
			seen[r.Job] = true
			require.Equal(t, int64(len(runs)-i), r.Number)
			if i > 0 {
				require.Equal(t, time.Second, runs[i-1].PlannedAt.Sub(r.PlannedAt))
			}
		}
		assert.Equal(t, int64(len(runs)), y.e.Counts(y.Context())["common"][job.Ready], "each has its job, and no job is of none")
	})
}

// Names may pass from one owner to another within one load, and schedules keep their runs
// over what is loaded again.
func TestLoadSchedules(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		every := api.Schedule{Every: job.Duration(time.Minute), IfStillRunning: api.RunsAlso, Job: job.Spec{Task: "buoy.poll", Payload: job.JSON(map[string]any{"buoy": "bar-head"})}}
		file := api.Setup{Schedules: map[string]api.Schedule{"buoys": every, "tides": {Cron: "@daily", Job: job.Spec{Task: "tide.predict"}}}}
		load := func() api.SetupDiff {
			d, err := y.e.Load(ctx, api.SetupRequest{Setup: file})
			require.NoError(t, err)
			return d
		}
		require.Len(t, load().Changes, 2)
		sleepUntil("00:03:00")
		require.Equal(t, 2, load().Same)
		sleepUntil("00:04:30")
		every.Note = "asked by the pilots"
		file.Schedules["buoys"] = every
		d := load()
		require.Len(t, d.Changes, 1)
		assert.Equal(t, "note", d.Changes[0].Fields[0].Field)
		sleepUntil("00:05:00")
		assert.Equal(t, []string{"00:01:00 ready", "00:02:00 ready", "00:03:00 ready", "00:04:00 ready", "00:05:00 ready"}, y.history("buoys"), "a note moves no time")
		delete(file.Schedules, "tides")
		d = load()
		assert.Equal(t, []any{api.SetupRemoves, "tides", 1}, []any{d.Changes[0].Change, d.Changes[0].Name, d.Same})
		y.schedule("tides", api.Schedule{Cron: "@weekly"}) // by hand
		file.Schedules["tides"] = api.Schedule{Cron: "@daily", Job: job.Spec{Task: "tide.predict"}}
		_, err := y.e.Load(ctx, api.SetupRequest{Setup: file})
		require.ErrorContains(t, err, "schedules.tides was not set by a file")
		d, err = y.e.Load(ctx, api.SetupRequest{Setup: file, Adopt: true})
		require.NoError(t, err)
		assert.Equal(t, api.SetupAdopts, d.Changes[0].Change)
		told, more, err := y.e.Schedules(ctx, "", 1)
		require.NoError(t, err)
		assert.Equal(t, []any{1, true, "buoys", "file"}, []any{len(told), more, told[0].Name, told[0].DefinedBy})
	})
}

// A schedule that always fails is seen: its runs die though the next ones take their
// places, of which the newest 20 stay dead, and the schedule tells how many in a row.
func TestFailingSchedule(t *testing.T) {
	inYard(t, func(y *yard) {
		y.schedule("dues", api.Schedule{Every: job.Duration(time.Minute), IfStillRunning: api.RunSkips, Spread: job.Duration(30 * time.Second), Job: job.Spec{Task: "dues.charge", Retry: &job.Retry{Curve: job.Fixed, First: job.Duration(5 * time.Minute)}}})
		for range 25 {
			time.Sleep(time.Minute)
			for _, l := range y.take("common", 10) {
				y.settle(l, job.OutcomeFailed)
			}
		}
		time.Sleep(time.Minute)
		synctest.Wait()
		told, err := y.e.Schedule(context.Background(), "dues")
		require.NoError(t, err)
		counts := y.e.Counts(y.Context())["common"]
		assert.Equal(t, []int64{20, counts[job.Cancelled] + 20, 0}, []int64{counts[job.Dead], told.FailedInARow, int64(told.LastDoneAt)})
		assert.Greater(t, counts[job.Cancelled], int64(2))
		causes, err := y.e.Causes(context.Background(), api.CauseFilter{})
		require.NoError(t, err)
		require.Len(t, causes, 1)
		assert.Equal(t, []int64{20, 20, 1}, []int64{causes[0].Count, causes[0].Superseded, causes[0].Schedules})
		for range 2 { // two jobs of another cause weigh more than all those runs
			y.enqueue(job.Spec{Task: "berth.plan", Queue: "berths"})
			_, err := y.e.Settle(context.Background(), []api.Settlement{{Token: y.take("berths", 1)[0].Token, Outcome: job.OutcomeGiveUp, Error: &job.Failure{Type: "silt", Message: "too shallow"}}})
			require.NoError(y, err)
		}
		causes, err = y.e.Causes(context.Background(), api.CauseFilter{})
		require.NoError(t, err)
		assert.Equal(t, []int64{2, 20}, []int64{causes[0].Count, causes[1].Count})
		stats, err := y.e.Stats(context.Background(), "")
		require.NoError(t, err)
		assert.Condition(t, func() bool {
			return slices.ContainsFunc(stats.Facts, func(s api.Fact) bool {
				return s.Text == fmt.Sprintf("The last %d runs of schedule dues failed; no run was ever done.", told.FailedInARow)
			})
		}, "%v", stats.Facts)
		memoryAgrees(t, y.e)

		l := y.take("common", 1)
		y.settle(l[0], job.OutcomeDone)
		told, err = y.e.Schedule(context.Background(), "dues")
		require.NoError(t, err)
		assert.Equal(t, []any{int64(0), job.At(time.Now())}, []any{told.FailedInARow, told.LastDoneAt})
		assert.Less(t, told.Last.LateMS, int64(61_000), "its part of the spread is not a lateness")
	})
}

// Runs that are requeued under skip and wait come one at a time, beside the planned ones
// too; and a schedule that is deleted does not let its waiting run start beside another.
func TestRequeuedRuns(t *testing.T) {
	for _, rule := range []string{api.RunSkips, api.RunWaits} {
		inYard(t, func(y *yard) {
			ctx := context.Background()
			y.schedule("dues", api.Schedule{Every: job.Duration(10 * time.Minute), IfStillRunning: rule})
			for range 3 {
				time.Sleep(10*time.Minute + time.Second)
				y.settle(y.take("common", 1)[0], job.OutcomeGiveUp)
			}
			for id := range int64(3) {
				_, err := y.e.Requeue(ctx, id+1, api.Requeue{})
				require.NoError(t, err)
			}
			first := y.take("common", 10)
			require.Equal(t, []int64{1}, idsOf(first), "one of the three")
			time.Sleep(10 * time.Minute) // a planned run finds it unfinished
			require.Empty(t, y.take("common", 10))
			y.settle(first[0], job.OutcomeDone)
			for n := 2; ; n++ {
				one := y.take("common", 10)
				if len(one) == 0 {
					require.Greater(t, n, 3)
					break
				}
				require.Len(t, one, 1)
				memoryAgrees(t, y.e)
				y.settle(one[0], job.OutcomeDone)
			}
			counts := y.e.Counts(y.Context())["common"]
			assert.Equal(t, int64(0), counts[job.Held]+counts[job.Ready]+counts[job.Running])
			if rule == api.RunSkips {
				return
			}

			time.Sleep(10 * time.Minute)
			running := y.take("common", 10)
			require.Len(t, running, 1)
			time.Sleep(10 * time.Minute)
			require.Equal(t, int64(1), y.e.Counts(y.Context())["common"][job.Held])
			require.NoError(t, y.e.DeleteSchedule(ctx, "dues"))
			require.Empty(t, y.take("common", 10), "the one before it is not over")
			all, _, err := y.e.Schedules(ctx, "", 10)
			require.NoError(t, err)
			require.Empty(t, all)
			require.NoError(t, y.e.Close())
			y.open()
			memoryAgrees(t, y.e)
			y.schedule("dues", api.Schedule{Every: job.Duration(10 * time.Minute), IfStillRunning: rule}) // another of that name
			y.settle(running[0], job.OutcomeDone)
			require.Len(t, y.take("common", 10), 1)
			memoryAgrees(t, y.e)
		})
	}
}

// A run that waits for another goes on when that is removed; and what is removed after its
// end is not counted again.
func TestRemovedRuns(t *testing.T) {
	inYard(t, func(y *yard) {
		ctx := context.Background()
		once := 1
		y.schedule("silt", api.Schedule{Every: job.Duration(time.Minute), IfStillRunning: api.RunWaits, Job: job.Spec{Task: "buoy.poll", MaxAttempts: &once}})
		time.Sleep(2*time.Minute + time.Second)
		synctest.Wait()
		told := func() api.ScheduleStatus {
			s, err := y.e.Schedule(ctx, "silt")
			require.NoError(t, err)
			return s
		}
		require.Equal(t, int64(2), told().Waiting)
		o, err := y.e.Act(ctx, api.ActRequest{Action: api.ActPurge, Filter: &api.Selection{Queues: []string{"common"}, States: []job.State{job.Ready}}})
		require.NoError(t, err)
		require.Equal(t, int64(1), o.Changed)
		l := y.lease("common", 5)
		require.Equal(t, []int64{2}, idsOf(l))
		y.settle(l[0], job.OutcomeFailed)
		assert.Equal(t, int64(1), told().FailedInARow)
		_, err = y.e.Discard(ctx, 2)
		require.NoError(t, err)
		assert.Equal(t, int64(1), told().FailedInARow, "it has died once")
	})
}

// A run that is asked for at the very time of another, asked for or planned, comes beside it.
func TestRunsAtOneTime(t *testing.T) {
	inYard(t, func(y *yard) {
		y.schedule("tides", api.Schedule{Every: job.Duration(time.Minute), IfStillRunning: api.RunsAlso, Job: job.Spec{Task: "tide.predict"}})
		next, err := y.e.Schedule(context.Background(), "tides")
		require.NoError(t, err)
		time.Sleep(time.Until(next.Next[0].UTC.Go()))
		for range 3 { // before or after the planned one, as it happens
			_, err := y.e.RunSchedule(context.Background(), "tides")
			require.NoError(t, err)
		}
		time.Sleep(time.Minute)
		synctest.Wait()
		assert.Equal(t, int64(5), y.count(job.Ready), "three were asked for, two were planned")
		assert.Empty(t, y.e.SetAside())
	})
}
