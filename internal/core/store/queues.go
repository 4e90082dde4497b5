package store

import (
	"database/sql"
	"errors"

	"humblemule.example/job"
)

// Queue is a queue's row.
type Queue struct {
	ID       int64
	Name     string
	NextRank int64
	PausedAt job.Time
	PausedBy string
	Settings string
	// Version counts how often the settings were set; Walked goes with
	// [Store.PutWalked].
	Version, Walked int64
	// IdleSince is since when it has had neither jobs nor settings; 0 where it has.
	IdleSince job.Time
	// MadeBy is who made it.
	MadeBy string
}

// Queues reads every queue.
func (s *Store) Queues() (all []Queue, err error) {
	err = each(s, "SELECT id, name, next_rank, paused_at, paused_by, settings, version, walked, idle_since, made_by FROM queues", func(r *sql.Rows) error {
		var q Queue
		defer func() { all = append(all, q) }()
		return r.Scan(&q.ID, &q.Name, &q.NextRank, &q.PausedAt, &q.PausedBy, &q.Settings, &q.Version, &q.Walked, &q.IdleSince, &q.MadeBy)
	})
	return all, err
}

var sqlAddQueue = statement(`INSERT INTO queues (id, name, created_at, made_by) VALUES (?, ?, ?, ?)`)

// AddQueue writes a new queue's name.
func (s *Store) AddQueue(id int64, name, by string, now job.Time) error {
	return s.exec(sqlAddQueue, id, name, int64(now), by)
}

var sqlSetQueue = statement(`UPDATE queues SET settings = ?, version = version + 1 WHERE id = ?`)

// SetQueue and SetTask write the defaults of a queue's or a task's jobs, as JSON.
func (s *Store) SetQueue(id int64, settings string) error { return s.exec(sqlSetQueue, settings, id) }

var sqlPauseQueue = statement(`UPDATE queues SET paused_at = ?, paused_by = ? WHERE id = ?`)

// PauseQueue writes who has paused a queue and when; zero and empty where nobody
// has.
func (s *Store) PauseQueue(id int64, at job.Time, by string) error {
	return s.exec(sqlPauseQueue, int64(at), by, id)
}

var sqlPutRank = statement(`UPDATE queues SET next_rank = ? WHERE id = ?`)

// PutRank writes a queue's next rank.
func (s *Store) PutRank(queue, next int64) error { return s.exec(sqlPutRank, next, queue) }

var sqlPutWalked = statement(`UPDATE queues SET walked = ? WHERE id = ?`)

// PutWalked writes how far the walk has come that gives a queue's jobs new places; -1
// where there is none.
func (s *Store) PutWalked(queue, id int64) error { return s.exec(sqlPutWalked, id, queue) }

var sqlIdleQueue = statement(`UPDATE queues SET idle_since = ? WHERE id = ?`)

// PutIdleQueue and PutIdleTask write since when a name has had no use; 0 where it has.
func (s *Store) PutIdleQueue(id int64, since job.Time) error {
	return s.exec(sqlIdleQueue, int64(since), id)
}

var sqlDropQueue = statement(`DELETE FROM queues WHERE id = ?`)

var sqlDropQueueCounts = statement(`DELETE FROM counts WHERE queue = ?`)

var sqlDropQueuePast = statement(`DELETE FROM past_counts WHERE queue = ?`)

var sqlDropQueueStarts = statement(`DELETE FROM starts WHERE queue = ?`)

var sqlDropQueueTurns = statement(`DELETE FROM turns WHERE queue = ?`)

// DropQueue removes a queue without jobs, with what is counted of those it had.
func (s *Store) DropQueue(id int64) error {
	return errors.Join(s.exec(sqlDropQueue, id), s.exec(sqlDropQueueCounts, id), s.exec(sqlDropQueuePast, id), s.exec(sqlDropQueueTurns, id), s.exec(sqlDropQueueStarts, id))
}
