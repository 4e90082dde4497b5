package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
)

// large fills a service with some megabytes.
func large(t *testing.T, m *client.Client, megabytes int) {
	specs := make([]job.Spec, 100)
	for i := range specs {
		specs[i] = job.Spec{Task: "log.pack", Queue: "archive", Payload: job.JSON(strings.Repeat("x", 10_000))}
	}
	for range megabytes {
		_, err := m.EnqueueMany(t.Context(), specs)
		require.NoError(t, err)
	}
}

// A service is backed up and restored by its commands alone, while others enqueue: what was
// acknowledged before the backup is there, what came later runs under new ids.
func TestBackupAndRestore(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := serve(t)
	m := s.mule()
	large(t, m, 5)
	ctx, stop := context.WithCancel(t.Context())
	var last api.Enqueued
	var callers sync.WaitGroup
	callers.Go(func() {
		for ctx.Err() == nil {
			if e, err := m.Enqueue(ctx, job.Spec{Task: "tide.predict"}); err == nil {
				last = e
			}
		}
	})
	file := filepath.Join(dir, "monday.db")
	out, errs, status := run(t, s.url, "backup", "create", file, "-o", "json")
	require.Zero(t, status, errs)
	stop()
	callers.Wait()
	var b api.Backup
	require.NoError(t, json.Unmarshal([]byte(out), &b))
	assert.Equal(t, file, b.Path)
	assert.GreaterOrEqual(t, b.Counts[job.Ready], int64(500))
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	backups, err := m.Backups(t.Context())
	require.NoError(t, err)
	assert.Empty(t, backups.Backups, "it is not kept at the service too")
	for _, path := range []string{file, s.data} { // which is the live one
		before, err := os.ReadFile(path)
		require.NoError(t, err)
		_, errs, status = run(t, s.url, "backup", "create", path)
		assert.Equal(t, 2, status)
		assert.Contains(t, errs, "exists already; no file is replaced")
		if path == file {
			after, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.Equal(t, before, after)
		}
		assert.NoFileExists(t, path+".part")
	}
	_, errs, status = run(t, s.url, "backup", "create", filepath.Join(dir, "no", "where.db"))
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "cannot be written")

	for want, args := range map[string][]string{
		"a service has " + s.data + " open; stop it, then restore": {file, "--data", s.data, "--yes"},
		"is the data file itself":                                  {s.data, "--data", s.data, "--yes"},
		"There is no terminal to ask on":                           {file, "--data", filepath.Join(dir, "new.db")},
		"does not exist":                                           {filepath.Join(dir, "none", "b.db"), "--data", s.data, "--yes"},
	} {
		_, errs, status = run(t, s.url, append([]string{"backup", "restore"}, args...)...)
		assert.NotZero(t, status, args)
		assert.Contains(t, errs, want)
	}
	about, err := m.About(t.Context())
	require.NoError(t, err)
	require.NoError(t, s.stop())
	broken := filepath.Join(dir, "broken.db")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	for i := len(raw) / 2; i < len(raw)/2+20_000; i++ {
		raw[i] = 7
	}
	require.NoError(t, os.WriteFile(broken, raw, 0o600))
	_, errs, status = run(t, s.url, "backup", "restore", broken, "--data", s.data, "--yes")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "it is damaged")
	assert.Contains(t, errs, "nothing was changed: restore another backup")

	out, errs, status = run(t, s.url, "backup", "restore", file, "--data", s.data, "--yes", "-o", "json")
	require.Zero(t, status, errs)
	var told struct {
		Before  string `json:"before"`
		NextJob int64  `json:"next_job"`
		Lacks   struct {
			IDs int64 `json:"ids"`
		} `json:"lacks"`
	}
	require.NoError(t, json.Unmarshal([]byte(out), &told))
	assert.GreaterOrEqual(t, told.Lacks.IDs, last.ID-b.Counts[job.Ready])
	assert.FileExists(t, told.Before)
	s.start()
	now, err := m.About(t.Context())
	require.NoError(t, err)
	assert.NotEqual(t, about.Store, now.Store)
	e, err := m.Enqueue(t.Context(), job.Spec{Task: "tide.predict"})
	require.NoError(t, err)
	assert.Equal(t, told.NextJob, e.ID)
	assert.Greater(t, e.ID, last.ID+1<<32)
	_, err = m.Job(t.Context(), b.Counts[job.Ready])
	assert.NoError(t, err)
	_, err = m.Job(t.Context(), last.ID)
	assert.ErrorIs(t, err, job.ErrNotFound)
}

// A service that is killed while it is backed up leaves nothing of that, and one whose disk is full
// of a backup goes on.
func TestBackupKilled(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	setup := filepath.Join(dir, "hmule.yaml")
	require.NoError(t, os.WriteFile(setup, []byte("backups: {folder: kept, mib_per_second: 1}\n"), 0o600))
	s := serve(t, "--config", setup)
	m := s.mule()
	large(t, m, 5)
	b, err := m.MakeBackup(t.Context())
	require.NoError(t, err)
	kept := filepath.Join(dir, "kept")
	require.Eventually(t, func() bool {
		b, err = m.Backup(t.Context(), b.Name)
		return err == nil && b.CopiedBytes > 1<<20
	}, 20*time.Second, 20*time.Millisecond)
	require.FileExists(t, filepath.Join(kept, b.Name+".part"))
	s.kill()
	s.start()
	left, err := os.ReadDir(kept)
	require.NoError(t, err)
	assert.Empty(t, left)
	found, err := m.Check(t.Context())
	require.NoError(t, err)
	for _, f := range found {
		assert.NotEqual(t, "backups", f.What)
	}

	require.NoError(t, os.WriteFile(setup, []byte("backups: {folder: kept, every: 1h, mib_per_second: 1, kep: 3}\n"), 0o600))
	s.cmd.Process.Signal(syscall.SIGHUP)
	s.log.find(t, `hmule.yaml:1:\d+: backups has no setting .*kep.* the nearest is keep`)
	require.NoError(t, os.WriteFile(setup, []byte("backups: {folder: kept, every: 1h, mib_per_second: 1000, keep: 3}\n"), 0o600))
	s.cmd.Process.Signal(syscall.SIGHUP)
	s.log.find(t, `a backup is done and was checked" backup=\S+/kept/scheduled-\d+T\d+Z.db`)
}

// On a small disk a backup is refused, or fails, and the service goes on taking jobs.
func TestBackupOnFullDisk(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("a small disk is made by root alone")
	}
	t.Parallel()
	dir := t.TempDir()
	small := filepath.Join(dir, "small")
	require.NoError(t, os.Mkdir(small, 0o700))
	if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=80m"); err != nil {
		t.Skip("a small disk cannot be made here: ", err)
	}
	t.Cleanup(func() { assert.NoError(t, syscall.Unmount(small, syscall.MNT_DETACH)) })
	setup := filepath.Join(dir, "hmule.yaml")
	require.NoError(t, os.WriteFile(setup, fmt.Appendf(nil, "backups: {folder: %s, mib_per_second: 4}\n", small), 0o600))
	s := serve(t, "--config", setup)
	m := s.mule()
	large(t, m, 12)
	b, err := m.MakeBackup(t.Context())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(small, "other"), make([]byte, 75<<20), 0o600)) // another program fills it
	require.Eventually(t, func() bool {
		b, err = m.Backup(t.Context(), b.Name)
		return err == nil && b.Over()
	}, 30*time.Second, 50*time.Millisecond)
	assert.Equal(t, api.BackupFailed, b.State)
	assert.Contains(t, b.Why, "full")
	assert.NoFileExists(t, b.Path)
	assert.NoFileExists(t, b.Path+".part")
	_, err = m.Enqueue(t.Context(), job.Spec{Task: "tide.predict"})
	assert.NoError(t, err)
	_, err = m.MakeBackup(t.Context())
	assert.ErrorContains(t, err, "free some space, or name another folder with backups.folder")
	into := filepath.Join(small, "monday.db")
	require.NoError(t, os.WriteFile(setup, []byte("backups: {folder: roomy}\n"), 0o600))
	s.cmd.Process.Signal(syscall.SIGHUP)
	require.Eventually(t, func() bool {
		all, err := m.Backups(t.Context())
		return err == nil && strings.HasSuffix(all.Folder, "/roomy")
	}, 10*time.Second, 20*time.Millisecond)
	_, errs, status := run(t, s.url, "backup", "create", into)
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, into+" was not written")
	assert.Contains(t, errs, "the backup is kept at the service: hmule backup get backup-")
	assert.NoFileExists(t, into)
	assert.NoFileExists(t, into+".part")
}
