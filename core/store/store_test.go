package store

import (
	"bytes"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule/core/job"
)

func open(t *testing.T) (*Store, string) {
	path := filepath.Join(t.TempDir(), "a file?of #100%.db")
	s, err := Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s, path
}

// Every statement finds its rows by an index: its cost does not grow with the
// backlog.
func TestPlans(t *testing.T) {
	s, _ := open(t)
	for _, p := range s.st.list() {
		args := make([]any, strings.Count(p.text, "?"))
		for i := range args {
			args[i] = 1
		}
		rows, err := s.conn.QueryContext(t.Context(), "EXPLAIN QUERY PLAN "+p.text, args...)
		require.NoError(t, err, p.text)
		for rows.Next() {
			var id, parent, unused int
			var plan string
			require.NoError(t, rows.Scan(&id, &parent, &unused, &plan))
			assert.NotContains(t, plan, "TEMP B-TREE", p.text)
			if p.stmt != &s.st.nextDue && p.stmt != &s.st.nextSweep { // which read the first row of their index
				assert.NotContains(t, plan, "SCAN", p.text)
			}
		}
		require.NoError(t, rows.Close())
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
	db, err := sql.Open("sqlite3", other)
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
		damaged: "is damaged or no data file of ours",
		file("text.db", "not a data file, but a long enough text of some other kind"): "is damaged or no data file of ours",
		filepath.Join(dir, "no", "where.db"):                                          "no is not there; create it",
		dir:                                                                           "is a folder",
	} {
		before, _ := os.ReadFile(path)
		_, err := Open(path)
		require.ErrorContains(t, err, want)
		after, _ := os.ReadFile(path)
		assert.True(t, bytes.Equal(before, after), "%s was changed", path)
	}
}

// Of a job with many attempts the first ten and the last ninety are kept whole.
func TestAttemptsAreFolded(t *testing.T) {
	s, _ := open(t)
	for n := 1; n <= 250; n++ {
		require.NoError(t, s.InsertAttempt(&Attempt{Job: 7, N: n, Outcome: job.OutcomeFailed, Stack: "main.go:1"}))
	}
	require.NoError(t, s.Commit())
	kept, err := s.Attempts(t.Context(), 7, 0)
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
