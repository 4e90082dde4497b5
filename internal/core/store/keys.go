package store

import (
	"context"
	"database/sql"
	"errors"

	"humblemule.example/job"
)

var sqlOpenByKey = statement(`SELECT ` + rowColumns + ` FROM ` + rowsBy("jobs_open") + ` WHERE task = ? AND key = ? AND (started_at > 0) = ? AND key <> '' AND state < {done} AND removed_by = 0 AND id <> ? ORDER BY id DESC LIMIT 1`)

// OpenByKey reads the newest unfinished job of a task with a key, other than one; only
// one that was not started in its round where unstarted is true. nil for none.
func (s *Store) OpenByKey(key string, task, other int64, unstarted bool) (*Row, error) {
	newest, err := one(s.queryRow(sqlOpenByKey, task, key, false, other))
	if err != nil || unstarted {
		return newest, err
	}
	started, err := one(s.queryRow(sqlOpenByKey, task, key, true, other))
	if newest == nil || started != nil && started.ID > newest.ID {
		newest = started
	}
	return newest, err
}

var sqlRecentByKey = statement(`SELECT ` + rowColumns + ` FROM ` + rowsBy("jobs_recent") + ` WHERE task = ? AND key = ? AND key <> '' AND removed_by = 0 AND id <> ? AND enqueued_at > ? AND state NOT IN ({cancelled}, {dead}) ORDER BY enqueued_at DESC, id DESC LIMIT 1`)

// RecentByKey reads the newest job of a task with a key, other than one, that was
// enqueued after a time and is neither dead nor cancelled; nil for none.
func (s *Store) RecentByKey(key string, task, other int64, after job.Time) (*Row, error) {
	return one(s.queryRow(sqlRecentByKey, task, key, other, int64(after)))
}

var sqlKeepKey = statement(`INSERT INTO keys (task, key, job, enqueued_at) VALUES (?, ?, ?, ?) ON CONFLICT (task, key, job) DO NOTHING`)

// KeepKey keeps the key of a job that is removed, so that it answers on.
func (s *Store) KeepKey(r *Row) error {
	return s.exec(sqlKeepKey, r.Task, r.Key, r.ID, int64(r.EnqueuedAt))
}

var sqlKeptKey = statement(`SELECT job, enqueued_at FROM keys {by keys_recent} WHERE task = ? AND key = ? AND enqueued_at > ? ORDER BY enqueued_at DESC, job DESC LIMIT 1`)

// KeptKey finds a removed job of a task with a key that was enqueued after a time; nil
// for none. Of its row only id, task and time are known.
func (s *Store) KeptKey(key string, task int64, after job.Time) (*Row, error) {
	r := &Row{Task: task, Key: key, State: job.Done}
	err := s.queryRow(sqlKeptKey, task, key, int64(after)).Scan(&r.ID, &r.EnqueuedAt)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return r, err
}

var sqlDropKeys = statement(`DELETE FROM keys WHERE (task, key, job) IN (SELECT task, key, job FROM keys WHERE enqueued_at < ? ORDER BY enqueued_at LIMIT ?)`)

// DropKeys removes kept keys of jobs that were enqueued before a time.
func (s *Store) DropKeys(before job.Time, limit int) error {
	return s.exec(sqlDropKeys, int64(before), limit)
}

// IDsWithKey reads ids of the jobs with a key beyond after.
func (s *Store) IDsWithKey(ctx context.Context, key string, after int64, newest bool, limit int) ([]int64, error) {
	cmp, dir := beyond(newest)
	return ids(s.ask(ctx, "SELECT id FROM jobs WHERE key <> '' AND key = ? AND removed_by = 0 AND id "+cmp+" ? ORDER BY id "+dir+" LIMIT ?", key, after, limit))
}
