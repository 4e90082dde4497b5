package faultfs_test

import (
	"context"
	"database/sql"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/store/faultfs"
	"humblemule.example/job"
)

var every = flag.Int("cuts.every", 29, "of the operations at which the power may be cut, every how many are tried")

var silent = slog.New(slog.DiscardHandler)

func TestMain(m *testing.M) {
	flag.Parse()
	faultfs.Register()
	os.Exit(m.Run())
}

// onDisk opens an engine whose disk can fail, at a new path.
func onDisk(t *testing.T) (e *engine.Engine, path string) {
	faultfs.Reset()
	path = filepath.Join(t.TempDir(), "jobs.db")
	return reopened(t, path), path
}

// reopened opens an engine on a file whose disk can fail. What the engine itself has
// written anew and synced, beside SQLite, is on the disk.
func reopened(t *testing.T, path string) *engine.Engine {
	defer store.OpenOn(faultfs.Name)()
	before := inodeOf(path + "-wal")
	e, err := engine.Open(path, engine.Options{Log: silent})
	require.NoError(t, err)
	if after := inodeOf(path + "-wal"); before != 0 && after != before {
		raw, err := os.ReadFile(path + "-wal")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path+"-wal.disk", raw, 0o600))
	}
	return e
}

func inodeOf(path string) uint64 {
	info, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return info.Sys().(*syscall.Stat_t).Ino
}

func keyed(key string) context.Context {
	return engine.WithCall(context.Background(), engine.Call{Path: "/v1/jobs", Key: key, Body: []byte(key)})
}

func enqueue(e *engine.Engine, key string) (int64, error) {
	j, err := e.Enqueue(keyed(key), job.Spec{Task: "tide.predict", Key: key})
	return j.ID, err
}

func kindOf(err error) job.Kind {
	var p *job.Problem
	if errors.As(err, &p) {
		return p.Kind
	}
	return ""
}

// found opens what is left of a file, on a sound disk, and tells how often each key stands
// there.
func found(t *testing.T, copyTo func(path, to string) error, path string) (e *engine.Engine, keys map[string]int) {
	to := filepath.Join(t.TempDir(), "left", "jobs.db")
	require.NoError(t, copyTo(path, to))
	e, err := engine.Open(to, engine.Options{Log: silent})
	require.NoError(t, err)
	page, err := e.Jobs(context.Background(), api.Filter{Limit: api.MaxPage})
	require.NoError(t, err)
	keys = map[string]int{}
	for _, j := range page.Jobs {
		keys[j.Key]++
	}
	return e, keys
}

// While the disk fails, writes are refused and it is said that one may be kept or not;
// reads go on. When it is back, the same key brings the truth; nothing acknowledged is
// lost by a power cut then, and nothing comes twice.
func TestFailedSyncs(t *testing.T) {
	e, path := onDisk(t)
	defer func() { require.NoError(t, e.Close()) }()
	_, err := enqueue(e, "before")
	require.NoError(t, err)
	faultfs.FailSyncs(1, 1_000_000)
	_, err = enqueue(e, "unknown")
	require.Equal(t, job.Uncertain, kindOf(err), "%v", err)
	require.Error(t, e.Ready(context.Background()))
	for range 3 {
		time.Sleep(50 * time.Millisecond) // probes fail meanwhile
		_, err = enqueue(e, "refused")
		require.Equal(t, job.Busy, kindOf(err), "%v", err)
		page, err := e.Jobs(context.Background(), api.Filter{})
		require.NoError(t, err)
		require.Len(t, page.Jobs, 1, "readers go on, and see what is acknowledged")
	}

	// Killed now, the commit may be there or not; the same key brings the truth.
	left, keys := found(t, faultfs.Killed, path)
	assert.Equal(t, 1, keys["before"])
	_, err = enqueue(left, "unknown")
	require.NoError(t, err)
	page, err := left.Jobs(context.Background(), api.Filter{Key: "unknown"})
	require.NoError(t, err)
	assert.Len(t, page.Jobs, 1)
	require.NoError(t, left.Close())

	faultfs.FailSyncs(1, 0)
	require.Eventually(t, func() bool { _, err := enqueue(e, "unknown"); return err == nil }, 10*time.Second, 20*time.Millisecond)
	require.NoError(t, e.Ready(context.Background()))
	for n := range 30 {
		_, err := enqueue(e, fmt.Sprint("after ", n))
		require.NoError(t, err)
	}
	left, keys = found(t, faultfs.PowerLost, path)
	assert.Len(t, keys, 32)
	for key, n := range keys {
		assert.Equal(t, 1, n, key)
	}
	require.NoError(t, left.Close())
}

// While the disk takes no writes, its alert is told without it, once; it is kept when the disk is back.
func TestAlertsWithoutDisk(t *testing.T) {
	faultfs.Reset()
	defer store.OpenOn(faultfs.Name)()
	e, err := engine.Open(filepath.Join(t.TempDir(), "jobs.db"), engine.Options{Log: silent, LookEvery: 20 * time.Millisecond, MayRun: func(string) error { return nil }})
	require.NoError(t, err)
	defer func() { require.NoError(t, e.Close()) }()
	_, err = e.Load(context.Background(), api.SetupRequest{Setup: api.Setup{Alerts: &api.Alerts{Channels: map[string]api.AlertChannel{"horn": {Command: "horn"}}, Tell: []string{"horn"}}}})
	require.NoError(t, err)
	told := make(chan api.Notice, 10)
	first := true
	e.TellBy(func(_ context.Context, n api.Notice) error {
		if first {
			first = false
			return errors.New("the horn is stuck") // and is tried again
		}
		told <- n
		return nil
	})
	faultfs.FailSyncs(1, 1_000_000)
	_, err = enqueue(e, "unknown")
	require.Equal(t, job.Uncertain, kindOf(err))
	n := <-told
	assert.Equal(t, "horn", n.Command)
	assert.Contains(t, n.Event.Subject, "The disk has taken no writes since")
	all, err := e.Alerts(context.Background(), nil)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, []any{int64(0), api.FactRefused, api.AlertOpen}, []any{all[0].ID, all[0].Rule, all[0].State})

	faultfs.FailSyncs(1, 0)
	require.Eventually(t, func() bool {
		all, err := e.Alerts(context.Background(), nil)
		return err == nil && len(all) == 1 && all[0].ID == 1 && all[0].ToldAt != 0
	}, 10*time.Second, 20*time.Millisecond)
	assert.Empty(t, told)
}

// A service that ends while its disk fails, and starts anew, reads its log from the
// system's cache: what it appends there is safe all the same.
func TestStartAfterFailedSyncs(t *testing.T) {
	e, path := onDisk(t)
	_, err := enqueue(e, "before")
	require.NoError(t, err)
	faultfs.FailSyncs(1, 1_000_000)
	_, err = enqueue(e, "unknown")
	require.Equal(t, job.Uncertain, kindOf(err))
	require.NoError(t, e.Close())
	faultfs.FailSyncs(1, 0)

	e = reopened(t, path)
	for n := range 200 {
		_, err := enqueue(e, fmt.Sprint("after ", n))
		require.NoError(t, err)
	}
	left, keys := found(t, faultfs.PowerLost, path)
	for n := range 200 {
		require.Equal(t, 1, keys[fmt.Sprint("after ", n)], "acknowledged %d", n)
	}
	require.NoError(t, left.Close())
	require.NoError(t, e.Close())
}

// A full disk refuses what needs room, and says that nothing was kept.
func TestFullDisk(t *testing.T) {
	e, _ := onDisk(t)
	defer func() { require.NoError(t, e.Close()) }()
	_, err := enqueue(e, "before")
	require.NoError(t, err)
	faultfs.Full(true)
	_, err = enqueue(e, "full")
	require.Equal(t, job.NoSpace, kindOf(err), "%v", err)
	faultfs.Full(false)
	id, err := enqueue(e, "full")
	require.NoError(t, err)
	assert.Equal(t, int64(2), id)
}

// work is what a client did, and what of it was acknowledged.
type work struct {
	e        *engine.Engine
	rounds   int
	enqueued map[string]bool
	done     map[int64]bool
	voyaged  map[int64]job.State // the jobs of voyages that have ended
}

func workOn(e *engine.Engine) *work {
	return &work{e: e, enqueued: map[string]bool{}, done: map[int64]bool{}, voyaged: map[int64]job.State{}}
}

// some does a little of everything, unless the disk fails.
func (w *work) some() error {
	ctx := context.Background()
	for range 6 {
		n := w.rounds
		w.rounds++
		key := fmt.Sprint("one ", n)
		if _, err := enqueue(w.e, key); err != nil {
			return err
		}
		w.enqueued[key] = true
		specs := make([]job.Spec, 5)
		for i := range specs {
			specs[i] = job.Spec{Task: "berth.plan", Queue: fmt.Sprint("berths-", n), Key: fmt.Sprint("many ", n, " ", i), Lane: "berth-3", Payload: job.JSON(fmt.Sprintf("%0600d", i))}
		}
		if _, err := w.e.EnqueueMany(ctx, specs, func(int) string { return "" }); err != nil {
			return err
		}
		for _, s := range specs {
			w.enqueued[s.Key] = true
		}
		a, err := w.e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{"common", fmt.Sprint("berths-", n)}, Limit: 3})
		if err != nil {
			return err
		}
		for i, l := range a.Leases {
			s := api.Settlement{Token: l.Token, Outcome: job.OutcomeDone, Result: []byte(`"moored"`)}
			follow := fmt.Sprint("follows ", l.Job.ID)
			if i == 1 {
				s = api.Settlement{Token: l.Token, Outcome: job.OutcomeGiveUp, Error: &job.Failure{Message: "the crane is stuck"}}
			} else {
				s.Enqueue = []api.FollowUp{{Spec: job.Spec{Task: "notice.publish", Key: follow}}}
			}
			results, err := w.e.Settle(ctx, []api.Settlement{s})
			if err != nil {
				return err
			}
			if w.done[l.Job.ID] = results[0].State == job.Done; w.done[l.Job.ID] {
				w.enqueued[follow] = true
			}
		}
		if err := w.voyage(ctx, n); err != nil {
			return err
		}
	}
	return nil
}

// voyage makes a batch of jobs that wait for one another, of which one adds another job as it ends.
func (w *work) voyage(ctx context.Context, n int) error {
	queue := fmt.Sprint("voyages-", n)
	part := func(name string, needs ...string) api.BatchJob {
		j := api.BatchJob{Ref: name, Spec: job.Spec{Task: "manifest.check", Queue: queue, Key: fmt.Sprint(name, " of ", n)}}
		if len(needs) > 0 {
			j.After = &job.After{Refs: needs, IfNot: job.IfNotCancel}
		}
		return j
	}
	b := api.NewBatch{Jobs: []api.BatchJob{part("north"), part("south"), part("berth", "north", "south"), part("dues", "berth")}, Last: &job.Spec{Task: "log.pack", Queue: queue}}
	if _, err := w.e.MakeBatch(engine.WithCall(ctx, engine.Call{Path: "/v1/batches", Key: queue, Body: []byte(queue)}), b, func(int) string { return "" }); err != nil {
		return err
	}
	for _, j := range b.Jobs {
		w.enqueued[j.Key] = true
	}
	for {
		a, err := w.e.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{queue}, Limit: 1})
		if err != nil || len(a.Leases) == 0 {
			return err
		}
		s := api.Settlement{Token: a.Leases[0].Token, Outcome: job.OutcomeDone}
		switch more := part("more", "berth"); {
		case a.Leases[0].Job.Batch.Ref == "berth":
			s.Enqueue = []api.FollowUp{{Spec: more.Spec, Ref: more.Ref, Join: true}}
		case a.Leases[0].Job.Batch.Ref == "more" && n%2 == 1:
			s.Outcome = job.OutcomeGiveUp
		}
		results, err := w.e.Settle(ctx, []api.Settlement{s})
		if err != nil {
			return err
		}
		if len(results[0].Errors) > 0 {
			return fmt.Errorf("what %s adds was refused: %v", a.Leases[0].Job.Batch.Ref, results[0].Errors)
		}
		w.voyaged[a.Leases[0].Job.ID] = results[0].State
	}
}

// check reads the tables of what is left and wants all that was acknowledged there, once,
// and the counts to be those of the rows.
func (w *work) check(t *testing.T, path string) {
	db, err := sql.Open("sqlite3", "file:"+path+"?mode=ro")
	require.NoError(t, err)
	defer db.Close()
	number := func(query string, args ...any) (n int64) {
		require.NoError(t, db.QueryRow(query, args...).Scan(&n), query)
		return n
	}
	for key := range w.enqueued {
		require.Equal(t, int64(1), number("SELECT count(*) FROM jobs WHERE key = ?", key), "the acknowledged %s", key)
	}
	for id, done := range w.done {
		if done {
			require.Equal(t, int64(6), number("SELECT state FROM jobs WHERE id = ?", id), "job %d is done", id)
		}
	}
	for id, state := range w.voyaged {
		require.Equal(t, int64(state), number("SELECT state FROM jobs WHERE id = ?", id), "job %d of a voyage", id)
	}
	for _, unsound := range []string{
		"SELECT count(*) FROM batches b WHERE jobs <> (SELECT count(*) FROM specs WHERE batch = b.id)",
		"SELECT count(*) FROM batches b CROSS JOIN (SELECT DISTINCT state FROM jobs) s WHERE coalesce((SELECT n FROM batch_counts c WHERE c.batch = b.id AND c.state = s.state), 0) <> (SELECT count(*) FROM specs m JOIN jobs j ON j.id = m.job WHERE m.batch = b.id AND j.state = s.state)",
		"SELECT count(*) FROM jobs j JOIN specs m ON m.job = j.id WHERE m.after <> 0 AND j.state < 6 AND unmet <> (SELECT count(*) FROM edges WHERE job = j.id AND stands & 3 = 0) + (SELECT count(*) FROM batches WHERE last = j.id AND waits = 1)",
		"SELECT count(*) FROM edges e JOIN jobs n ON n.id = e.needs WHERE e.stands & 3 = 1 AND n.state <> 6",
		"SELECT count(*) FROM edges e JOIN jobs j ON j.id = e.job WHERE e.stands & 3 = 0 AND j.state IN (3, 4, 5, 6)",
		"SELECT count(*) FROM jobs WHERE state = 1 AND unmet = 0 AND lane = ''",
		"SELECT count(*) FROM jobs j JOIN batches b ON b.last = j.id WHERE j.attempt > 1",
		"SELECT count(*) FROM (SELECT queue, task, state, count(*) n FROM jobs WHERE removed_by = 0 GROUP BY 1, 2, 3) j LEFT JOIN counts c USING (queue, task, state) WHERE coalesce(c.n, 0) <> j.n",
		"SELECT count(*) FROM counts c WHERE n <> (SELECT count(*) FROM jobs j WHERE j.queue = c.queue AND j.task = c.task AND j.state = c.state AND removed_by = 0)",
		"SELECT count(*) FROM jobs WHERE key <> '' GROUP BY key HAVING count(*) > 1 UNION ALL SELECT 0 LIMIT 1",
		"SELECT count(*) FROM jobs j WHERE state = 6 AND token = 0 AND NOT EXISTS (SELECT 1 FROM attempts a WHERE a.job = j.id AND a.outcome = 'done')",
		"SELECT count(*) FROM jobs j WHERE state = 6 AND (SELECT name FROM tasks WHERE id = j.task) IN ('tide.predict', 'berth.plan') AND NOT EXISTS (SELECT 1 FROM jobs f WHERE f.key = 'follows ' || j.id)",
		"SELECT count(*) FROM (SELECT queue, lane FROM jobs WHERE lane <> '' AND state IN (3, 4) AND removed_by = 0 GROUP BY 1, 2 HAVING count(*) > 1)",
	} {
		require.Equal(t, int64(0), number(unsound), unsound)
	}
}

// Whatever write or sync the power is cut at, what was acknowledged is there, and what is
// there fits together: to a process that was killed there, and to a machine without power.
func TestCuts(t *testing.T) {
	if testing.Short() {
		t.Skip("every cut is a start")
	}
	e, _ := onDisk(t)
	began := faultfs.Operations()
	require.NoError(t, workOn(e).some())
	operations := faultfs.Operations() - began
	require.NoError(t, e.Close())
	require.Greater(t, operations, 100)
	for at := 1; at <= operations; at += *every {
		e, path := onDisk(t)
		w := workOn(e)
		faultfs.CutAt(faultfs.Operations() + at)
		// How many operations the same work takes depends on how commands share commits,
		// so it goes on until it meets the cut.
		for w.some() == nil {
		}
		for name, copyTo := range map[string]func(path, to string) error{"killed": faultfs.Killed, "without power": faultfs.PowerLost} {
			to := filepath.Join(t.TempDir(), "left", "jobs.db")
			require.NoError(t, copyTo(path, to))
			again, err := engine.Open(to, engine.Options{Log: silent})
			require.NoError(t, err, "%s at %d", name, at)
			w.check(t, to)
			_, err = enqueue(again, "more")
			require.NoError(t, err)
			require.NoError(t, again.Close())
		}
		faultfs.CutAt(1)
		e.Close()
	}
}
