package engine

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// fillFailed makes n dead jobs, each of which failed in words of its own, in a file whose tables
// are from before there was an index of words.
const fillFailed = `
INSERT INTO queues (id, name, created_at) VALUES (1, 'common', 1);
INSERT INTO tasks (id, name, created_at) VALUES (1, 'manifest.check', 1);
INSERT INTO policies (id, body) VALUES (1, '{}');
INSERT INTO causes (id, error_type, template, job, total, first_at, last_at) VALUES (77, 'manifest_malformed', 'line #: the weight “…” of container # is not a valid number of kilograms', %[1]d, %[1]d, 1, %[2]d);
WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %[1]d)
	INSERT INTO jobs (id, queue, task, state, level, enqueued_at, attempt, tries, finished_at, cause, reason) SELECT i, 1, 1, 9, 4, %[2]d, 1, 1, %[2]d, 77, 'attempts_used_up' FROM n;
INSERT INTO specs (job, policy, priority) SELECT id, 1, 4 FROM jobs;
INSERT INTO attempts (job, n, round, worker, token, started_at, ended_at, outcome, counted, error_type, error_message)
	SELECT id, 1, 1, 1, id, %[2]d, %[2]d, 'failed', 1, 'manifest_malformed', printf('line %%d: the weight "%%dt" of container HUMU%%07d of vessel %%s-%%d is not a valid number of kilograms', id %% 90, id, id * 7919 %% 9999999, substr('heronplovercurlewdunlin', 1 + id %% 18, 6), id %% 1000) FROM jobs;
INSERT INTO counts (queue, task, state, n) VALUES (1, 1, 9, %[1]d);
UPDATE facts SET value = '%[3]d' WHERE name = 'next_job';
DROP TABLE failed_words; DROP TABLE late_words; PRAGMA user_version = 10;`

func BenchmarkSearch(b *testing.B) {
	const n = 1_000_000
	path := filepath.Join(b.TempDir(), "failed.db")
	e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
	require.NoError(b, err)
	require.NoError(b, e.Close())
	db, err := sql.Open("sqlite3", "file:"+path)
	require.NoError(b, err)
	_, err = db.Exec(fmt.Sprintf(fillFailed, n, job.At(time.Now()), n+1))
	require.NoError(b, err)
	require.NoError(b, db.Close())
	began := time.Now()
	e, err = Open(path, Options{LookEvery: unwatched, Log: silent})
	require.NoError(b, err)
	b.Cleanup(func() { require.NoError(b, e.Close()) })
	b.Logf("the words of %d failures were indexed in %s, with all tables built anew", n, time.Since(began))
	for name, text := range map[string]string{
		"one of all":        "HUMU0055433",
		"a word of all":     "kilograms",
		"a word of many":    "heronp 123",
		"of the oldest":     "7t line",
		"of none":           "unheard",
		"never the two":     "heronp 500t",
		"never, both often": "heronp cranes plover",
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				page, err := e.Jobs(b.Context(), api.Filter{Error: text, Limit: 50})
				require.NoError(b, err)
				b.ReportMetric(float64(len(page.Jobs)), "jobs")
				b.ReportMetric(float64(page.SearchedTo), "searched_to")
			}
		})
	}
}
