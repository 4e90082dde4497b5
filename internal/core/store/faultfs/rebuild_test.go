package faultfs_test

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/store/faultfs"
	"humblemule.example/job"
)

// olderFile writes a file of an older schema with n jobs, as it stands on its disk too. A
// part of it stands in its log.
func olderFile(t *testing.T, schema, n int) (path string) {
	faultfs.Reset()
	path = filepath.Join(t.TempDir(), "jobs.db")
	raw, err := os.ReadFile(fmt.Sprintf("../testdata/schema-%d.db", schema))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, raw, 0o600))
	db, err := sql.Open("sqlite3", "file:"+path)
	require.NoError(t, err)
	defer db.Close()
	db.SetMaxOpenConns(1)
	stands, asked := "id, queue, task, state, level, rank, enqueued_at, ready_at", "policy, priority, payload_bytes, payload"
	standing, asking := "i, 1, 1, 3, 4, i, 1795000000000, 1795000000000", `1, 4, 9, CAST('"harbour"' AS BLOB)`
	rows := fmt.Sprintf("INSERT INTO jobs (%s, %s) SELECT %s, %s FROM n", stands, asked, standing, asking)
	if schema > 6 {
		rows = fmt.Sprintf("INSERT INTO jobs (%s) SELECT %s FROM n; INSERT INTO specs (job, %s) SELECT i, %s FROM n", stands, standing, asked, asking)
	}
	_, err = db.Exec(`PRAGMA journal_mode = WAL; PRAGMA wal_autocheckpoint = 0; CREATE TEMP TABLE n (i INTEGER PRIMARY KEY);
		WITH RECURSIVE s (i) AS (SELECT 3 UNION ALL SELECT i + 1 FROM s WHERE i < ?) INSERT INTO n SELECT i FROM s;
		`+rows+`;
		UPDATE counts SET n = n + ? - 2 WHERE state = 3; UPDATE facts SET value = ? WHERE name = 'next_job'`, n, n, n+1)
	require.NoError(t, err)
	for _, part := range []string{"", "-wal"} {
		raw, err := os.ReadFile(path + part)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path+part+".kept", raw, 0o600))
	}
	require.NoError(t, db.Close())
	for _, part := range []string{"", "-wal"} { // as a killed service leaves them
		raw, err := os.ReadFile(path + part + ".kept")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path+part, raw, 0o600))
		require.NoError(t, os.Rename(path+part+".kept", path+part+".disk"))
	}
	return path
}

// whole wants all jobs of a file there, whatever its schema is.
func whole(t *testing.T, path string, n int, what string) {
	s, err := store.Open(path)
	require.NoError(t, err, what)
	defer s.Close()
	for _, id := range []int64{1, 2, 3, int64(n / 2), int64(n)} {
		r, err := s.Row(id)
		require.NoError(t, err, what)
		require.NotNil(t, r, "%s: job %d", what, id)
	}
	counts, err := s.Counts()
	require.NoError(t, err)
	for _, c := range counts {
		ids, err := s.IDsInGroup(t.Context(), store.Group{Queue: c.Queue, Task: c.Task, State: c.State}, 0, false, 2*n)
		require.NoError(t, err)
		require.Len(t, ids, int(c.N), "%s: %s", what, c.State)
	}
	dead, err := s.Attempts(t.Context(), []*store.Row{{ID: 2, Attempt: 2}})
	require.NoError(t, err)
	require.Equal(t, job.OutcomeGiveUp, dead[2][0].Outcome, what)
}

// Whatever write or sync the power is cut at while a file is brought to its new tables, it
// is found as before or as after, by a process that was killed there and by a machine without
// power.
func TestCutsWhileRebuilt(t *testing.T) {
	const jobs = 200
	defer store.OpenOn("")()
	for _, schema := range []int{1, 7} {
		path := olderFile(t, schema, jobs)
		undo := store.OpenOn(faultfs.Name)
		s, err := store.Open(path)
		undo()
		require.NoError(t, err)
		operations := faultfs.Operations()
		require.NoError(t, s.Close())
		require.Greater(t, operations, 50)
		step := *every
		if testing.Short() {
			step = 10 * *every
		}
		for at := 1; at <= operations; at += step {
			path := olderFile(t, schema, jobs)
			before := inodeOf(path)
			faultfs.CutAt(at)
			undo := store.OpenOn(faultfs.Name)
			s, err := store.Open(path)
			undo()
			what := fmt.Sprintf("of schema %d, cut at %d of %d", schema, at, operations)
			if err == nil { // the cut comes while it is closed
				s.Close()
			}
			to := filepath.Join(t.TempDir(), "left", "jobs.db")
			require.NoError(t, faultfs.Killed(path, to))
			whole(t, to, jobs, "killed "+what)
			to = filepath.Join(t.TempDir(), "left", "jobs.db")
			if inodeOf(path) == before {
				require.NoError(t, faultfs.PowerLost(path, to))
			} else { // the new file was on its disk before it took the name
				require.NoError(t, faultfs.PowerLost(path+".new", to))
			}
			whole(t, to, jobs, "without power "+what)
			assert.NoFileExists(t, path+".copy")
		}
	}
}

// A file that cannot be brought to its new tables stays as it was, and the error says why.
func TestRebuildRefused(t *testing.T) {
	path := olderFile(t, 6, 200)
	defer store.OpenOn(faultfs.Name)()
	faultfs.Full(true)
	_, err := store.Open(path)
	require.ErrorContains(t, err, "full")
	require.ErrorContains(t, err, "are unchanged")
	require.ErrorContains(t, err, "twice the size of the file must be free on its disk")
	faultfs.Full(false)
	other, err := sql.Open("sqlite3", "file:"+path)
	require.NoError(t, err)
	var n int
	require.NoError(t, other.QueryRow("SELECT count(*) FROM jobs").Scan(&n))
	assert.Equal(t, 200, n)
	_, err = other.Exec("PRAGMA journal_mode = WAL") // as the sqlite3 shell has it open
	require.NoError(t, err)
	_, err = store.Open(path)
	require.ErrorContains(t, err, "the file is open in another program; close it there first")
	require.NoError(t, other.Close())
	left, err := filepath.Glob(path + ".[cn]*")
	require.NoError(t, err)
	assert.Empty(t, left, "what was begun is removed")
	whole(t, path, 200, "later")
}
