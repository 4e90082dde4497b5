package main

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"humblemule.example/internal/core/store"
)

// rebuild measures how long a file of each older schema takes to be brought to its new
// tables, with a backlog.
func rebuild(ctx context.Context, dir string) error {
	for schema := 1; schema <= 7; schema++ {
		path := filepath.Join(dir, fmt.Sprintf("schema-%d.db", schema))
		raw, err := os.ReadFile(fmt.Sprintf("../internal/core/store/testdata/schema-%d.db", schema))
		if err != nil {
			return fmt.Errorf("%w: run it in the folder bench", err)
		}
		if err := os.WriteFile(path, raw, 0o600); err != nil {
			return err
		}
		if err := fillOlder(ctx, path, schema, *backlog); err != nil {
			return err
		}
		info, err := os.Stat(path)
		if err != nil {
			return err
		}
		began := time.Now()
		s, err := store.Open(path)
		if err != nil {
			return err
		}
		took := time.Since(began)
		if err := s.Close(); err != nil {
			return err
		}
		say("from schema %d: %d jobs, %d MB, %.1f s (< 60)\n", schema, *backlog, info.Size()>>20, took.Seconds())
		os.Remove(path)
	}
	return nil
}

// fillOlder adds jobs to an older file: half of them wait, half are done.
func fillOlder(ctx context.Context, path string, schema, n int) error {
	db, err := sql.Open("sqlite3", "file:"+path+"?_synchronous=OFF")
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	const (
		numbers = `WITH RECURSIVE n (i) AS (SELECT 3 UNION ALL SELECT i + 1 FROM n WHERE i < ?1) INSERT INTO `
		stands  = `id, queue, task, state, level, rank, enqueued_at, ready_at, finished_at, attempt, owner`
		at      = `i, 1, 1, iif(i % 2 = 0, 3, 6), 4, i, 1795000000000 + i, 1795000000000 + i, iif(i % 2 = 0, 0, 1795000000000 + i), i % 2, 'agent-' || (i % 50)`
		asked   = `priority, policy, payload_bytes, payload`
		so      = `4, 1, 200, CAST(printf('%0200d', i) AS BLOB)`
	)
	jobs := []string{numbers + "jobs (" + stands + ", " + asked + ") SELECT " + at + ", " + so + " FROM n"}
	if schema > 6 {
		jobs = []string{numbers + "jobs (" + stands + ") SELECT " + at + " FROM n", numbers + "specs (job, " + asked + ") SELECT i, " + so + " FROM n"}
	}
	for _, text := range append(jobs,
		`INSERT INTO attempts (job, n, round, worker, token, started_at, ended_at, outcome, counted) SELECT id, 1, 1, 1, id, ready_at, finished_at, 'done', 1 FROM jobs WHERE state = 6 AND id < ?1`) {
		if _, err := db.ExecContext(ctx, text, n); err != nil {
			return err
		}
	}
	return nil
}
