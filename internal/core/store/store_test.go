package store

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/job"
)

func open(t *testing.T) (*Store, string) {
	path := filepath.Join(t.TempDir(), "a file?of #100%.db")
	s, err := Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s, path
}

// Every statement finds its rows by an index: its cost does not grow with the
// backlog. (What it visits of a filled file is measured beside, in visits.)
func TestPlans(t *testing.T) {
	s, _ := open(t)
	firsts := []*sqlStatement{sqlNextDue, sqlNextSweep, sqlNextResult, sqlNextTooLate, sqlNextTurns} // which read the first rows of their index
	for _, q := range statements {
		for _, plan := range planOf(t, s, q.text) {
			assert.NotContains(t, plan, "TEMP B-TREE", q.text)
			if scans(plan) {
				assert.Contains(t, firsts, q, "%s: %s", q.text, plan)
			}
		}
	}
	bad := planOf(t, s, "SELECT id FROM jobs WHERE owner = ? ORDER BY cause LIMIT ?")
	assert.True(t, slices.ContainsFunc(bad, scans), "a scan is seen: %v", bad)
	assert.Contains(t, strings.Join(bad, "; "), "TEMP B-TREE", "a sort is seen")
}

func planOf(t *testing.T, s *Store, text string) (lines []string) {
	args := make([]any, strings.Count(text, "?"))
	for i := range args {
		args[i] = 1
	}
	rows, err := s.conn.QueryContext(t.Context(), "EXPLAIN QUERY PLAN "+text, args...)
	require.NoError(t, err, text)
	defer rows.Close()
	for rows.Next() {
		var id, parent, unused int
		var plan string
		require.NoError(t, rows.Scan(&id, &parent, &unused, &plan))
		lines = append(lines, plan)
	}
	return lines
}

// scans tells whether a line of a plan looks through a table or an index, but for the
// queues, which are few, and what a statement itself holds.
func scans(plan string) bool {
	return strings.HasPrefix(plan, "SCAN") && !strings.HasPrefix(plan, "SCAN q ") && !strings.HasSuffix(plan, "-ROW VALUES CLAUSE")
}

// The file tells states by the words of the table that the service goes by.
func TestStatesOfFile(t *testing.T) {
	s, _ := open(t)
	for _, state := range job.States() {
		var word string
		require.NoError(t, s.conn.QueryRowContext(t.Context(), "SELECT name FROM states WHERE id = ?", int64(state)).Scan(&word))
		assert.Equal(t, state.String(), word)
	}
}

// What only SQLite would take stands behind a token, or in the files of the dialect.
func TestStatementsArePlainSQL(t *testing.T) {
	foreign := regexp.MustCompile(`(?i)\b(INDEXED BY|NOT INDEXED|PRAGMA|INSERT OR|REPLACE INTO|GLOB|json_\w+|iif|ifnull|rowid)\b`)
	number := regexp.MustCompile(`\b(state|kind) (=|<>|<|>) \d`)
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	for _, name := range files {
		if slices.Contains([]string{"sqlite.go", "driver.go", "driver_cgo.go", "driver_pure.go", "identity.go", "checkpoint.go", "inspect.go", "migrate.go", "copy.go", "restore.go", "compact.go"}, name) || strings.HasSuffix(name, "_test.go") {
			continue
		}
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.Empty(t, foreign.FindString(string(text)), name)
		assert.Empty(t, number.FindString(string(text)), "%s: write a state or a kind as a token", name)
	}
}

func TestOpenRefuses(t *testing.T) {
	_, used := open(t)
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	newer := filepath.Join(dir, "newer.db")
	s, err := Open(newer)
	require.NoError(t, err)
	_, err = s.conn.ExecContext(t.Context(), "PRAGMA user_version = 999")
	require.NoError(t, err)
	require.NoError(t, s.Close())
	other := filepath.Join(dir, "other.db")
	db, err := sql.Open(driverName, other)
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE berths (id)")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	damaged := filepath.Join(dir, "damaged.db")
	s, err = Open(damaged)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	whole, err := os.ReadFile(damaged)
	require.NoError(t, err)
	for i := 100; i < len(whole); i++ {
		whole[i] = byte(i)
	}
	require.NoError(t, os.WriteFile(damaged, whole, 0o600))

	for path, want := range map[string]string{
		used:    "is in use by another service",
		newer:   "was written by a newer hmule (schema 999",
		other:   "is an SQLite file of another program",
		damaged: "is damaged, or is not a data file of Humble Mule",
		file("text.db", "not a data file, but a long enough text of some other kind"): "is damaged, or is not a data file of Humble Mule",
		filepath.Join(dir, "no", "where.db"):                                          "no does not exist; create it",
		dir:                                                                           "is a folder",
	} {
		before, _ := os.ReadFile(path)
		_, err := Open(path)
		require.ErrorContains(t, err, want)
		after, _ := os.ReadFile(path)
		assert.True(t, bytes.Equal(before, after), "%s was changed", path)
	}
}

// A closed store holds nothing: no file is left open, and no log beside it.
func TestClose(t *testing.T) {
	s, path := open(t)
	require.NoError(t, s.PutNextJob(7))
	require.NoError(t, s.Commit())
	require.NoError(t, s.Reopen())
	require.NoError(t, s.Close())
	assert.NoFileExists(t, path+"-wal")
	open, err := filepath.Glob("/proc/self/fd/*")
	require.NoError(t, err)
	for _, fd := range open {
		file, _ := os.Readlink(fd)
		assert.False(t, strings.HasPrefix(file, path), "%s is still open", file)
	}
}

// A file of every schema there ever was is opened, brought up to date, and holds
// what it held. HMULE_WRITE_FIXTURE=1 writes the one of the present schema.
func TestFixtures(t *testing.T) {
	current := filepath.Join("testdata", fmt.Sprintf("schema-%d.db", schema))
	if os.Getenv("HMULE_WRITE_FIXTURE") != "" {
		writeFixture(t, current)
	}
	require.FileExists(t, current, "a change of the schema needs a fixture of its own")
	files, err := filepath.Glob("testdata/schema-*.db")
	require.NoError(t, err)
	for _, file := range files {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		path := filepath.Join(t.TempDir(), "fixture.db")
		require.NoError(t, os.WriteFile(path, raw, 0o600))
		s, err := Open(path)
		require.NoError(t, err, file)
		var sound string
		require.NoError(t, s.conn.QueryRowContext(t.Context(), "PRAGMA integrity_check").Scan(&sound))
		assert.Equal(t, "ok", sound, file)
		facts, err := s.Facts()
		require.NoError(t, err)
		assert.Equal(t, Facts{StoreID: facts.StoreID, NextJob: 3}, facts, file)
		first, err := s.Row(1)
		require.NoError(t, err)
		assert.Equal(t, []any{job.Ready, 4, "heron-0291", `{"manifest":"heron-0291"}`}, []any{first.State, first.Priority, first.Key, string(first.Payload)}, file)
		dead, err := s.Row(2)
		require.NoError(t, err)
		assert.Equal(t, []any{job.Dead, "gave_up", 1}, []any{dead.State, dead.Reason, dead.Attempt}, file)
		attempts, err := s.Attempts(t.Context(), []*Row{{ID: 2, Attempt: 2}})
		require.NoError(t, err)
		assert.Equal(t, "line 4: the weight is no number", attempts[2][0].ErrorMessage, file)
		for view, want := range map[string]int{"v_jobs": 2, "v_attempts": 1, "v_queues": 2, "v_actions": 0} {
			var n int
			require.NoError(t, s.conn.QueryRowContext(t.Context(), "SELECT count(*) FROM "+view).Scan(&n))
			assert.Equal(t, want, n, "%s of %s", view, file)
		}
		require.NoError(t, s.Close())
	}
}

func writeFixture(t *testing.T, path string) {
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	os.Remove(path)
	s, err := Open(path)
	require.NoError(t, err)
	const at = job.Time(1_795_000_000_000)
	require.NoError(t, errors.Join(s.AddQueue(1, "berths", "local", at), s.AddTask(1, "manifest.check", "local", at)))
	policy, err := s.AddPolicy(`{"retry":{"curve":"exponential","first":"10s","factor":2.5,"ceiling":"8h","jitter":0.2},"max_attempts":17}`)
	require.NoError(t, err)
	for id := range int64(2) {
		r := &Row{ID: id + 1, Queue: 1, Task: 1, State: job.Ready, Priority: 4, Level: 4, Rank: id + 1, Policy: policy, EnqueuedAt: at, ReadyAt: at, Key: "heron-0291", PayloadBytes: 25, Payload: []byte(`{"manifest":"heron-0291"}`)}
		require.NoError(t, s.InsertJob(r))
	}
	dead := &Row{ID: 2, Attempt: 1, Tries: 1, StartedAt: at, Worker: 1, Token: 1, LeasedAt: at, LeaseMS: 45000, State: job.Dead, FinishedAt: at, Reason: "gave_up"}
	require.NoError(t, errors.Join(s.Lease(dead), s.Finish(dead), s.PutNextJob(3), s.PutRank(1, 3), s.PutCount(1, 1, job.Ready, 1), s.PutCount(1, 1, job.Dead, 1)))
	require.NoError(t, s.InsertAttempt(&Attempt{Job: 2, N: 1, Round: 1, Worker: 1, Token: 1, StartedAt: at, EndedAt: at, Outcome: job.OutcomeGiveUp, Counted: true, ErrorType: "manifest_malformed", ErrorMessage: "line 4: the weight is no number"}))
	_, err = s.conn.ExecContext(t.Context(), "DELETE FROM facts WHERE name IN ('inode', 'birth')") // those of the copies differ
	require.NoError(t, err)
	require.NoError(t, s.Commit())
	require.NoError(t, s.Close())
	os.Remove(path + ".lock")
}

// A file is kept as it was before it is converted, under a name that no other has, unless it need not
// be.
func TestKeepsOlder(t *testing.T) {
	old := fmt.Sprintf("testdata/schema-%d.db", schema-1)
	raw, err := os.ReadFile(old)
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "jobs.db")
	convert := func(how Opening) string {
		require.NoError(t, os.WriteFile(path, raw, 0o600))
		s, err := OpenAs(path, how)
		require.NoError(t, err)
		require.NoError(t, s.Close())
		version, err := Inspect(path)
		require.NoError(t, err)
		require.Equal(t, schema, version.Schema)
		require.NoError(t, os.Remove(path))
		return s.Older()
	}
	first := convert(Opening{})
	assert.Equal(t, fmt.Sprintf("%s.schema-%d", path, schema-1), first)
	second := convert(Opening{})
	assert.Regexp(t, regexp.QuoteMeta(first)+`-\d{8}T\d{6}Z?$`, second)
	for _, kept := range []string{first, second} {
		is, err := Inspect(kept)
		require.NoError(t, err)
		assert.Equal(t, schema-1, is.Schema, "it is what an older program reads")
		require.NoError(t, CheckCopy(t.Context(), kept))
	}
	assert.Empty(t, convert(Opening{DropOlder: true}))
	left, err := filepath.Glob(path + ".*")
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{first, second, path + ".lock"}, left)
}

// Of a job with many attempts the first ten and the last ninety are kept whole.
func TestAttemptsAreFolded(t *testing.T) {
	s, _ := open(t)
	for n := 1; n <= 250; n++ {
		require.NoError(t, s.InsertAttempt(&Attempt{Job: 7, N: n, Outcome: job.OutcomeFailed, Stack: "main.go:1"}))
	}
	require.NoError(t, s.Commit())
	all, err := s.Attempts(t.Context(), []*Row{{ID: 7, Attempt: 2}})
	kept := all[7]
	require.NoError(t, err)
	var numbers []int
	for _, a := range kept {
		numbers = append(numbers, a.N)
	}
	var want []int
	for n := 1; n <= 250; n++ {
		if n <= 10 || n > 160 {
			want = append(want, n)
		}
	}
	assert.Equal(t, want, numbers)
	var stacks int
	require.NoError(t, s.read.Load().QueryRow(fmt.Sprintf("SELECT count(*) FROM bodies WHERE kind = %d", StackBody)).Scan(&stacks))
	assert.Equal(t, 100, stacks)
}

// A data file is its owner's alone to read, and has one name.
func TestRights(t *testing.T) {
	s, path := open(t)
	require.NoError(t, s.PutNextJob(7))
	require.NoError(t, s.Commit())
	for _, name := range []string{path, path + "-wal", path + "-shm", path + ".lock"} {
		info, err := os.Stat(name)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), name)
	}
	require.NoError(t, s.Close())
	require.NoError(t, os.Chmod(path, 0o644))
	require.NoError(t, os.Link(path, path+"2"))
	_, err := Open(path)
	require.ErrorContains(t, err, "has 2 names (hard links)")
	require.NoError(t, os.Remove(path+"2"))
	s, err = Open(path)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "an older one is made so")
	require.NoError(t, s.Close())
}

// A file that was copied, or put back as it was earlier, gets a new store id and goes on
// with ids that nobody has used; one that was moved, or whose service was killed, does not.
func TestIdentity(t *testing.T) {
	s, path := open(t)
	facts := func(s *Store) Facts {
		f, err := s.Facts()
		require.NoError(t, err)
		return f
	}
	use := func(s *Store, upTo int64) {
		require.NoError(t, s.PutNextJob(upTo))
		require.NoError(t, s.Commit())
	}
	use(s, 500)
	first := facts(s)
	require.NoError(t, s.Close())
	early, err := os.ReadFile(path)
	require.NoError(t, err)

	s, err = Open(path)
	require.NoError(t, err)
	assert.Equal(t, []any{first.StoreID, int64(500)}, []any{facts(s).StoreID, facts(s).NextJob}, "after an end in order")
	use(s, 2000)
	require.NoError(t, s.Close())

	moved := filepath.Join(t.TempDir(), "moved.db")
	require.NoError(t, os.Rename(path, moved))
	require.NoError(t, os.Rename(path+".lock", moved+".lock"))
	s, err = Open(moved)
	require.NoError(t, err)
	assert.Equal(t, []any{first.StoreID, int64(2000)}, []any{facts(s).StoreID, facts(s).NextJob})
	require.NoError(t, s.Close())

	f, err := os.OpenFile(moved, os.O_WRONLY|os.O_TRUNC, 0) // put back into the same file
	require.NoError(t, err)
	_, err = f.Write(early)
	require.NoError(t, errors.Join(err, f.Close()))
	s, err = Open(moved)
	require.NoError(t, err)
	back := facts(s)
	assert.NotEqual(t, first.StoreID, back.StoreID)
	assert.Equal(t, int64(2000+farAbove), back.NextJob)
	require.NoError(t, s.Close())

	copied := filepath.Join(t.TempDir(), "copied.db")
	require.NoError(t, os.WriteFile(copied, early, 0o600))
	s, err = Open(copied)
	require.NoError(t, err)
	assert.NotEqual(t, first.StoreID, facts(s).StoreID)
	assert.Equal(t, int64(500+farAbove), facts(s).NextJob)
	require.NoError(t, s.Close())
	s, err = Open(copied)
	require.NoError(t, err)
	assert.Equal(t, int64(500+farAbove), facts(s).NextJob, "once")
	require.NoError(t, s.Close())
}
