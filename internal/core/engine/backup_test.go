package engine

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// backedUp makes a backup and waits until it is over.
func backedUp(t require.TestingT, e *Engine) api.Backup {
	b, err := e.MakeBackup(context.Background())
	require.NoError(t, err)
	return whenOver(t, e, b.Name)
}

func whenOver(t require.TestingT, e *Engine, name string) api.Backup {
	for {
		b, err := e.Backup(context.Background(), name)
		require.NoError(t, err)
		if b.Over() {
			return b
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// enqueue enqueues a job under a call of its own.
func enqueueAs(t require.TestingT, e *Engine, key string, spec job.Spec) api.Enqueued {
	j, err := e.Enqueue(WithCall(context.Background(), Call{Path: "/v1/jobs", Key: key, Body: []byte(spec.Task)}), spec)
	require.NoError(t, err)
	return j
}

// Backups that are made while others write are whole: each holds everything that was acknowledged
// before it was begun, nothing that came after its end, and what is kept beside the jobs agrees
// with them.
func TestBackupsUnderLoad(t *testing.T) {
	path := filepath.Join(t.TempDir(), "jobs.db")
	e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
	require.NoError(t, err)
	defer func() { require.NoError(t, e.Close()) }()
	specs := make([]job.Spec, 1500)
	for i := range specs {
		specs[i] = job.Spec{Task: "log.pack", Payload: job.JSON(strings.Repeat("tide ", 1600)), Owner: fmt.Sprint("agent-", i%7), Labels: map[string]string{"berth": fmt.Sprint(i % 5)}}
	}
	_, err = e.EnqueueMany(t.Context(), specs, unplaced)
	require.NoError(t, err)
	require.NoError(t, e.SetBackupRules(api.BackupRules{MiBPerSecond: 40}))

	ctx, stop := context.WithCancel(t.Context())
	var last atomic.Int64
	var writers sync.WaitGroup
	for w := range 3 {
		writers.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				spec := job.Spec{Task: "log.pack", Payload: job.JSON(n), Owner: fmt.Sprint("agent-", n%7), Labels: map[string]string{"berth": fmt.Sprint(n % 5)}}
				j := enqueueAs(t, e, "", spec)
				for is := last.Load(); j.ID > is && !last.CompareAndSwap(is, j.ID); is = last.Load() {
				}
				a, err := e.Lease(context.Background(), api.LeaseRequest{Worker: fmt.Sprint("w", w), Queues: []string{"common"}, Limit: 3})
				require.NoError(t, err)
				var items []api.Settlement
				for i, l := range a.Leases {
					s := api.Settlement{Token: l.Token, Outcome: job.OutcomeDone, Result: job.JSON(strings.Repeat("r", 900))}
					if i == 2 {
						s = api.Settlement{Token: l.Token, Outcome: job.OutcomeGiveUp, Error: &job.Failure{Type: "tape", Message: fmt.Sprintf("tape %d is full", n)}}
					}
					items = append(items, s)
				}
				if len(items) > 0 {
					_, err = e.Settle(context.Background(), items)
					require.NoError(t, err)
				}
			}
		})
	}
	require.Eventually(t, func() bool { return last.Load() > 0 }, 10*time.Second, time.Millisecond)
	for range rounds(6, 3) {
		before := last.Load()
		b := backedUp(t, e)
		after := last.Load()
		require.Equal(t, api.BackupDone, b.State, b.Why)
		require.Greater(t, after, before, "others write meanwhile")
		require.NoError(t, store.CheckCopy(t.Context(), b.Path))
		to := filepath.Join(t.TempDir(), "copy.db")
		raw, err := os.ReadFile(b.Path)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(to, raw, 0o600))
		second, err := Open(to, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		assert.NotEqual(t, e.StoreID(), second.StoreID())
		for _, id := range []int64{1, 1500, before} {
			_, err := second.Job(t.Context(), id)
			assert.NoError(t, err, "job %d was acknowledged before", id)
		}
		page, err := second.Jobs(t.Context(), api.Filter{Limit: 1, Order: api.NewestFirst})
		require.NoError(t, err)
		assert.LessOrEqual(t, page.Jobs[0].ID, after)
		memoryAgrees(t, second)
		require.NoError(t, second.Close())
		require.NoError(t, e.DeleteBackup(t.Context(), b.Name))
		assert.NoFileExists(t, b.Path)
	}
	stop()
	writers.Wait()
	memoryAgrees(t, e)
}

// A service that is restored goes on: no id comes twice, no planned time is enqueued again, and
// receipts and keys are as they were at the moment of the backup.
func TestRestore(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "jobs.db")
	synctest.Test(t, func(t *testing.T) {
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		_, err = e.SetSchedule(t.Context(), "tides", api.Schedule{Cron: "*/10 * * * *", Missed: api.MissedAll, IfStillRunning: api.RunsAlso, Job: job.Spec{Task: "tide.predict"}})
		require.NoError(t, err)
		early := enqueueAs(t, e, "early", job.Spec{Task: "dues.charge", Key: "heron-0291", Dedupe: job.Unfinished})
		ended := enqueueAs(t, e, "ended", job.Spec{Task: "fog.bulletin", Queue: "bulletins"})
		time.Sleep(35 * time.Minute)
		b := backedUp(t, e)
		require.Equal(t, api.BackupDone, b.State, b.Why)
		time.Sleep(time.Hour)
		late := enqueueAs(t, e, "late", job.Spec{Task: "dues.charge"})
		a, err := e.Lease(t.Context(), api.LeaseRequest{Worker: "w", Queues: []string{"bulletins"}, Limit: 1})
		require.NoError(t, err)
		_, err = e.Settle(t.Context(), []api.Settlement{{Token: a.Leases[0].Token, Outcome: job.OutcomeDone}})
		require.NoError(t, err)
		was := e.StoreID()
		runs, err := e.Runs(t.Context(), "tides", 0, 100)
		require.NoError(t, err)
		require.Len(t, runs, 9, "one each ten minutes")

		_, err = Restore(t.Context(), b.Path, path, time.Now(), false)
		require.ErrorContains(t, err, "a service has "+path+" open; stop it, then restore")
		require.NoError(t, e.Close())
		time.Sleep(5 * time.Minute)
		dry, err := Restore(t.Context(), b.Path, path, time.Now(), true)
		require.NoError(t, err)
		r, err := Restore(t.Context(), b.Path, path, time.Now(), false)
		require.NoError(t, err)
		assert.Equal(t, dry.Lacks, r.Lacks)
		assert.Equal(t, b.At, r.From.At)
		assert.Equal(t, &store.Lacks{IDs: 7, Kept: 7, Ended: 1, Some: []int64{ended.ID}, Actions: 0}, r.Lacks)
		before, err := Open(r.Aside, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err, "the file that was there is whole")
		_, err = before.Job(t.Context(), late.ID)
		require.NoError(t, err)
		require.NoError(t, before.Close())

		time.Sleep(20 * time.Minute) // two planned times more, which nobody has enqueued
		e, err = Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		defer func() { require.NoError(t, e.Close()) }()
		assert.NotEqual(t, was, e.StoreID())
		time.Sleep(time.Minute)
		runs, err = e.Runs(t.Context(), "tides", 0, 100)
		require.NoError(t, err)
		var became []string
		for _, r := range runs {
			became = append(became, fmt.Sprint(r.PlannedAt.Go().UTC().Format("15:04"), " ", r.Reason, r.Times))
		}
		assert.Equal(t, []string{"02:00 0", "01:50 0", "01:40 restored7", "00:30 0", "00:20 0", "00:10 0"}, became)

		assert.Equal(t, early.ID, enqueueAs(t, e, "early", job.Spec{Task: "dues.charge", Key: "heron-0291", Dedupe: job.Unfinished}).ID, "the receipt of a call before the backup")
		again := enqueueAs(t, e, "late", job.Spec{Task: "dues.charge"})
		assert.Greater(t, again.ID, late.ID+1<<32-1, "the receipt of a call after it is gone, and its id comes never again")
		same := enqueueAs(t, e, "other", job.Spec{Task: "dues.charge", Key: "heron-0291", Dedupe: job.Unfinished})
		assert.Equal(t, early.ID, same.ID, "the key is taken")
		j, err := e.Job(t.Context(), ended.ID)
		require.NoError(t, err)
		assert.Equal(t, job.Ready, j.State, "it runs again")
		memoryAgrees(t, e)
	})
}

// What stops a backup leaves nothing of it, and harms nothing else.
func TestBackupStopped(t *testing.T) {
	path := filepath.Join(t.TempDir(), "jobs.db")
	synctest.Test(t, func(t *testing.T) {
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		defer func() { require.NoError(t, e.Close()) }()
		specs := make([]job.Spec, 400)
		for i := range specs {
			specs[i] = job.Spec{Task: "log.pack", Payload: job.JSON(strings.Repeat("tide ", 1600))}
		}
		_, err = e.EnqueueMany(t.Context(), specs, unplaced)
		require.NoError(t, err)
		require.NoError(t, e.SetBackupRules(api.BackupRules{MiBPerSecond: 1}))
		begun := func() api.Backup {
			b, err := e.MakeBackup(t.Context())
			require.NoError(t, err)
			time.Sleep(time.Second)
			b, err = e.Backup(t.Context(), b.Name)
			require.NoError(t, err)
			require.Equal(t, api.BackupCopying, b.State)
			require.Greater(t, b.CopiedBytes, int64(0))
			require.FileExists(t, b.Path+".part")
			return b
		}
		left := func() []string {
			all, err := filepath.Glob(path + ".backups/*")
			require.NoError(t, err)
			return all
		}
		b := begun()
		_, err = e.MakeBackup(t.Context())
		require.ErrorContains(t, err, "backup "+b.Name+" is under way")
		require.NoError(t, e.DeleteBackup(t.Context(), b.Name))
		b = whenOver(t, e, b.Name)
		assert.Equal(t, "it was deleted meanwhile", b.Why)
		assert.Empty(t, left())

		call := WithCall(t.Context(), Call{Path: "/v1/backups", Key: "once"})
		first, err := e.MakeBackup(call)
		require.NoError(t, err)
		second, err := e.MakeBackup(call)
		require.NoError(t, err)
		assert.Equal(t, first.Name, second.Name, "the same call again begins no other")
		require.NoError(t, e.DeleteBackup(t.Context(), first.Name))
		whenOver(t, e, first.Name)

		begun()
		require.NoError(t, e.Close())
		assert.Empty(t, left(), "the service was stopped")
		stale := []string{".part", ".part-journal", ".sha256"}
		for _, end := range stale { // as a killed service leaves them
			require.NoError(t, os.WriteFile(filepath.Join(path+".backups", "backup-20261130T030000Z.db"+end), nil, 0o600))
		}
		mine := filepath.Join(path+".backups", "mine.db.part")
		require.NoError(t, os.WriteFile(mine, nil, 0o600))
		e, err = Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		assert.Equal(t, []string{mine}, left())
		require.NoError(t, e.SetBackupRules(api.BackupRules{MiBPerSecond: 1}))

		b = begun()
		f, err := os.OpenFile(b.Path+".part", os.O_RDWR, 0)
		require.NoError(t, err)
		_, err = f.WriteAt([]byte("not a page"), 0) // the disk has gone bad
		require.NoError(t, err)
		require.NoError(t, f.Close())
		if b = whenOver(t, e, b.Name); b.State == api.BackupDone { // the page was written again
			require.NoError(t, store.CheckCopy(t.Context(), b.Path))
		}
		_, err = e.Enqueue(t.Context(), job.Spec{Task: "tide.predict"})
		require.NoError(t, err)
		memoryAgrees(t, e)
	})
}

// Backups are made by themselves, as the rules say: the first at once, the latest stay, and what
// goes wrong is told until one has succeeded.
func TestBackupRules(t *testing.T) {
	path := filepath.Join(t.TempDir(), "jobs.db")
	folder := filepath.Join(filepath.Dir(path), "kept")
	synctest.Test(t, func(t *testing.T) {
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		defer func() { require.NoError(t, e.Close()) }()
		asked := backedUp(t, e)
		list := func() (names []string) {
			all, err := e.Backups(t.Context())
			require.NoError(t, err)
			for _, b := range all.Backups {
				if b.State == api.BackupDone {
					names = append(names, b.Name)
				}
			}
			return names
		}
		require.NoError(t, os.WriteFile(folder, nil, 0o600)) // which is no folder
		require.NoError(t, e.SetBackupRules(api.BackupRules{Folder: folder, Cron: "0 */2 * * *", Keep: 2}))
		time.Sleep(time.Minute)
		found, err := e.Check(t.Context())
		require.NoError(t, err)
		require.Len(t, found, 1)
		assert.Contains(t, found[0].Summary, "The latest scheduled backup failed (the folder of backups "+folder+" cannot be made")
		require.NoError(t, os.Remove(folder))
		time.Sleep(11 * time.Minute)
		assert.Equal(t, []string{"scheduled-20000101T001000Z.db"}, list(), "it is retried")
		found, err = e.Check(t.Context())
		require.NoError(t, err)
		assert.Empty(t, found)
		time.Sleep(7 * time.Hour)
		assert.Equal(t, []string{"scheduled-20000101T060000Z.db", "scheduled-20000101T040000Z.db"}, list())
		assert.FileExists(t, asked.Path, "what was asked for stays")
		require.NoError(t, e.Close())
		time.Sleep(3 * time.Hour)
		e, err = Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		require.NoError(t, e.SetBackupRules(api.BackupRules{Folder: folder, Cron: "0 */2 * * *", Keep: 2}))
		time.Sleep(time.Minute)
		assert.Equal(t, "scheduled-20000101T101200Z.db", list()[0], "the one that was missed is made at the start")
	})
}

// The data file shrinks while it is written, and what is in it stays as it is.
func TestCompact(t *testing.T) {
	path := filepath.Join(t.TempDir(), "jobs.db")
	synctest.Test(t, func(t *testing.T) {
		e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
		require.NoError(t, err)
		defer func() { require.NoError(t, e.Close()) }()
		specs := make([]job.Spec, 1000)
		for i := range specs {
			specs[i] = job.Spec{Task: []string{"log.pack", "tide.predict"}[i%2], Payload: job.JSON(strings.Repeat("tide ", 1600))}
		}
		_, err = e.EnqueueMany(t.Context(), specs, unplaced)
		require.NoError(t, err)
		_, err = e.Act(t.Context(), api.ActRequest{Action: api.ActPurge, Filter: &api.Selection{Queues: []string{"common"}, Tasks: []string{"log.pack"}}})
		require.NoError(t, err)
		time.Sleep(15 * time.Minute) // until they are swept
		d, err := e.DataFile(t.Context())
		require.NoError(t, err)
		require.Greater(t, d.FreeBytes, int64(3<<20))
		require.NoError(t, e.Compact(t.Context()))
		require.NoError(t, e.Compact(t.Context()), "the same again goes on")
		_, err = e.Enqueue(t.Context(), job.Spec{Task: "tide.predict"})
		require.NoError(t, err)
		backup := backedUp(t, e)
		require.Equal(t, api.BackupDone, backup.State, backup.Why)
		time.Sleep(time.Minute)
		after, err := e.DataFile(t.Context())
		require.NoError(t, err)
		require.Equal(t, api.CompactDone, after.Compaction.State)
		assert.Zero(t, after.FreeBytes)
		assert.LessOrEqual(t, after.Bytes, d.Bytes-d.FreeBytes+64<<10)
		require.NoError(t, store.CheckCopy(t.Context(), backup.Path))
		require.ErrorContains(t, e.StopCompact(t.Context()), "is not being compacted")
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, after.Bytes, info.Size(), "the disk has it back")
		memoryAgrees(t, e)
	})
}
