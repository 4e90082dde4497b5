package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/place"
	"humblemule.example/job"
)

// exportOf gives an export as it comes over the wire.
func exportOf(t require.TestingT, e *Engine) (head api.ExportHead, lines []api.ExportLine) {
	head = e.ExportHead("test", "")
	first, err := e.ExportSetup(context.Background())
	require.NoError(t, err)
	lines = append(lines, first)
	for after, more := int64(0), true; more; {
		var next []api.ExportLine
		next, after, _, more, err = e.Export(context.Background(), api.Filter{}, after, head.Through)
		require.NoError(t, err)
		lines = append(lines, next...)
	}
	text, err := json.Marshal(lines)
	require.NoError(t, err)
	lines = nil
	require.NoError(t, json.Unmarshal(text, &lines))
	return head, lines
}

// importInto takes an export in, in calls of so many lines.
func importInto(t require.TestingT, e *Engine, head api.ExportHead, lines []api.ExportLine, ids string, atOnce int) (told api.Imported) {
	ctx := context.Background()
	_, err := e.BeginImport(ctx, api.ImportRequest{Export: head, IDs: ids})
	require.NoError(t, err)
	for part := range slices.Chunk(lines, atOnce) {
		if part[0].Setup != nil {
			_, err := e.ImportSetup(ctx, *part[0].Setup, part[0].Paused, false)
			require.NoError(t, err)
			part = part[1:]
		}
		now, err := e.Import(ctx, head.Store, part, false)
		require.NoError(t, err)
		require.Empty(t, now.Refused)
		told.Jobs, told.There, told.IDs = told.Jobs+now.Jobs, told.There+now.There, append(told.IDs, now.IDs...)
	}
	return told
}

// becameOf tells what each id has become.
func becameOf(told api.Imported) map[int64]int64 {
	all := map[int64]int64{}
	for _, r := range told.IDs {
		for id := r.First; id <= r.Last; id++ {
			all[id] = r.Job + id - r.First
		}
	}
	return all
}

// linesOf writes the lines of an export so that they can be compared: jobs under the ids that they
// have become, those that ran as ready as they are after an import, and ranks as places among others.
func linesOf(t require.TestingT, lines []api.ExportLine, ids map[int64]int64) (all []string) {
	type ranked struct {
		rank int64
		id   int64
	}
	waiting := map[string][]ranked{}
	for _, l := range lines {
		if l.Log != nil && ids != nil {
			l.Log = &api.ExportLog{Job: ids[l.Log.Job], Lines: l.Log.Lines}
		}
		if l.Job != nil {
			j := *l.Job
			if ids != nil {
				j.ID = ids[j.ID]
			}
			if j.State == job.Running {
				j.State, j.Attempt, j.Tries = job.Ready, j.Attempt-1, j.Tries-1
				if j.CancelAskedAt != 0 {
					j.State, j.Reason, j.FinishedAt, l.Rank, l.HasLane = job.Cancelled, job.Asked, max(j.CancelAskedAt, j.StartedAt), 0, false
				}
			}
			if l.Rank != 0 && l.Job.Task != "chart.draw" && (j.State == job.Ready || j.State == job.Held) {
				waiting[j.Queue] = append(waiting[j.Queue], ranked{l.Rank, j.ID})
			}
			if ids != nil {
				l.Behind = ids[l.Behind]
			}
			j.ReadyAt, j.ImportedFrom, l.Rank = 0, nil, 0
			l.Job = &j
		}
		text, err := json.Marshal(l)
		require.NoError(t, err)
		all = append(all, string(text))
	}
	for queue, jobs := range waiting {
		slices.SortFunc(jobs, func(a, b ranked) int { return cmp.Or(cmp.Compare(a.rank, b.rank), cmp.Compare(a.id, b.id)) })
		text := "order of " + queue
		for _, j := range jobs {
			text += fmt.Sprint(" ", j.id)
		}
		all = append(all, text)
	}
	slices.Sort(all)
	return all
}

// differ wants two lists to have the same lines, and shows some that they have not.
func differ(t require.TestingT, was, is []string) {
	only := func(in, out []string) (all []string) {
		for _, line := range in {
			if !slices.Contains(out, line) && len(all) < 2 {
				all = append(all, line)
			}
		}
		return all
	}
	require.Equal(t, only(was, is), only(is, was), "what was exported, and what is there after the import")
}

// trialExport is an export that was made in the middle of a trial.
type trialExport struct {
	head  api.ExportHead
	lines []api.ExportLine
	at    time.Time
}

// imported takes an export into a service that has had no job, or where ids are new some, and wants
// everything to be there as it was, once.
func (x *trialExport) imported(t *testing.T, ids string, atOnce int) {
	path := filepath.Join(t.TempDir(), "other.db")
	synctest.Test(t, func(t *testing.T) {
		began, ctx := time.Now(), context.Background()
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent, Wall: func() time.Time { return x.at.Add(time.Since(began)) }})
		require.NoError(t, err)
		defer func() { require.NoError(t, e.Close()) }()
		if ids == api.IDsNew {
			_, err := e.EnqueueMany(ctx, make10("chart.draw"), unplaced)
			require.NoError(t, err)
		}
		told := importInto(t, e, x.head, x.lines, ids, atOnce)
		again := importInto(t, e, x.head, x.lines, ids, 100)
		require.Zero(t, again.Jobs)
		require.Equal(t, told.Jobs, again.There)
		_, is := exportOf(t, e)
		is = slices.DeleteFunc(is, func(l api.ExportLine) bool { return l.Job != nil && l.Job.Task == "chart.draw" })
		differ(t, linesOf(t, x.lines, becameOf(told)), linesOf(t, is, nil))
		dumpAgrees(t, e)
		findingAgrees(t, e)
	})
}

// spoil puts a random value somewhere into a JSON value.
func spoil(random *rand.Rand, v any) any {
	values := []any{-1, 0, 1, int64(1) << 40, int64(1)<<53 - 1, 99_999_999_999, 1e300, nil, "", "x", strings.Repeat("x", 70_000), true, []any{}, map[string]any{}, "9999-12-31T23:59:59Z", "1970-01-01T00:00:00Z", "ready", "held", "backoff", "running", "dead", "common"}
	switch v := v.(type) {
	case map[string]any:
		if keys := slices.Sorted(maps.Keys(v)); len(keys) > 0 && random.IntN(8) > 0 {
			key := keys[random.IntN(len(keys))]
			v[key] = spoil(random, v[key])
			return v
		}
	case []any:
		if len(v) > 0 && random.IntN(4) > 0 {
			i := random.IntN(len(v))
			v[i] = spoil(random, v[i])
			return v
		}
	}
	return values[random.IntN(len(values))]
}

// Whatever stands in the lines of an export, an import refuses a line or takes it in, and what is
// there then agrees with itself: memory and file, counts and jobs; everything that is ready can be
// taken, and new jobs come in their order.
func TestImportOfSpoiledLines(t *testing.T) {
	alone(t)
	inYard(t, func(y *yard) {
		ctx, random := context.Background(), rand.New(rand.NewPCG(6853, 17))
		y.fails = func(payload string) bool { return strings.Contains(payload, "heron-1") }
		y.dead(12)
		_, err := y.e.SetSchedule(ctx, "tides", api.Schedule{Every: job.For(time.Minute), IfStillRunning: api.RunWaits, Job: job.Spec{Task: "tide.predict", Lane: "a"}})
		require.NoError(y, err)
		for i := range 10 {
			_, err := y.e.Enqueue(ctx, job.Spec{Task: "dues.charge", Lane: "a", Owner: fmt.Sprint("agent-", i%2), Labels: map[string]string{"berth": "3"}, Key: fmt.Sprint("key-", i)})
			require.NoError(y, err)
		}
		y.lease("common", 1)
		time.Sleep(3 * time.Minute)
		head, lines := exportOf(y, y.e)
		whole, err := json.Marshal(lines[1:])
		require.NoError(y, err)

		head.Store, head.Through = "elsewhere", 1000
		_, err = y.e.BeginImport(ctx, api.ImportRequest{Export: head})
		require.NoError(y, err)
		y.e.c.MinFree = math.MaxInt64 // the disk is full
		time.Sleep(time.Second)
		_, err = y.e.Import(ctx, "elsewhere", lines[1:3], false)
		require.ErrorIs(y, err, job.ErrNoSpace)
		y.e.c.MinFree = 1
		time.Sleep(time.Second)
		taken, refused := int64(0), 0
		for id := range int64(rounds(3000, 600)) {
			var all []any
			require.NoError(y, json.Unmarshal(whole, &all))
			line := all[random.IntN(len(all))]
			if j, has := line.(map[string]any)["job"].(map[string]any); has {
				j["id"] = id + 1
			}
			if random.IntN(10) == 0 {
				line.(map[string]any)["rank"] = 99_999_999_999
			}
			for range random.IntN(4) {
				line = spoil(random, line)
			}
			raw, err := json.Marshal(line)
			require.NoError(y, err)
			var l api.ExportLine
			if json.Unmarshal(raw, &l) != nil {
				continue
			}
			now, err := y.e.Import(ctx, "elsewhere", []api.ExportLine{l}, id%7 == 0)
			require.NoError(y, err, "%.2000s", raw)
			taken, refused = taken+now.Jobs, refused+len(now.Refused)
		}
		require.Greater(y, taken, int64(50))
		require.Greater(y, refused, 20)
		dumpAgrees(y, y.e)
		findingAgrees(y, y.e)
		y.fails = func(string) bool { return false }
		for range 20 {
			y.work()
			time.Sleep(10 * time.Minute)
		}
		require.NoError(y, y.e.Close())
		y.open()
		dumpAgrees(y, y.e)
		var ids, got []int64
		for range 3 {
			j, err := y.e.Enqueue(ctx, job.Spec{Task: "chart.draw", Queue: "common"})
			require.NoError(y, err)
			ids = append(ids, j.ID)
		}
		rows, err := y.e.c.Store.Read(ctx, ids)
		require.NoError(y, err)
		for _, r := range rows {
			require.Less(y, r.Rank, int64(place.LeastTime), "a rank, and no time")
		}
		for range 3 {
			for _, l := range leaseOf(y.T, y.e, 1, "chart.draw") {
				got = append(got, l.Job.ID)
			}
		}
		require.Equal(y, ids, got)
	})
}

// What waits for others there waits for them here; what it waited for and was not imported holds it until
// somebody acts.
func TestImportOfTies(t *testing.T) {
	var head api.ExportHead
	var lines []api.ExportLine
	inYard(t, func(y *yard) {
		y.enqueue(job.Spec{Task: "tide.predict"}, job.Spec{Task: "tide.predict"})
		y.enqueue(afterJobs(job.After{}, 1, 2), afterJobs(job.After{IfNot: job.IfNotCancel}, 2))
		y.batch(api.NewBatch{Jobs: []api.BatchJob{member("a", "b"), member("b")}, Last: &job.Spec{Task: "notice.publish"}})
		y.end(1, job.OutcomeDone, "")
		head, lines = exportOf(y.T, y.e)
	})
	for _, all := range []bool{true, false} {
		inYard(t, func(y *yard) {
			ctx := context.Background()
			_, err := y.e.BeginImport(ctx, api.ImportRequest{Export: head})
			require.NoError(y, err)
			var some []api.ExportLine
			for _, l := range lines {
				if l.Job != nil && (all || l.Job.ID != 2) {
					some = append(some, l)
				}
			}
			told, err := y.e.Import(ctx, head.Store, some, false)
			require.NoError(y, err)
			require.Empty(y, told.Refused)
			if all {
				assert.Equal(y, []string{"done", "ready", "held", "held", "held", "ready", "held"}, y.states(1, 2, 3, 4, 5, 6, 7))
				y.end(2, job.OutcomeGiveUp, "")
				assert.Equal(y, []string{"held", "cancelled dependency_dead"}, y.states(3, 4))
				assert.Contains(y, y.why(5), "It waits until a job that was not imported is done; start this one now", "it came before what it waits for")
				y.must(y.e.StartNow(ctx, 5))
				y.end(5, job.OutcomeDone, "")
				y.end(6, job.OutcomeDone, "")
				assert.Equal(y, []string{"ready"}, y.states(7))
			} else {
				assert.Equal(y, []string{"done", "held", "held"}, y.states(1, 2, 3))
			}
			tablesAgree(y.T, y.e)
		})
	}
}
