package store

import (
	"context"
	"database/sql"
	"errors"
	"math"

	"humblemule.example/api"
	"humblemule.example/job"
)

var sqlFirstFinished = statement(`SELECT ` + rowColumns + ` FROM ` + rowsBy("jobs_finished") + ` WHERE queue = ? AND state = ? AND state > {backoff} AND removed_by = 0 AND awaited = 0 ORDER BY finished_at, id LIMIT ?`)

// FirstFinished reads the jobs of a queue and state that have finished first.
func (s *Store) FirstFinished(queue int64, state job.State, limit int) ([]*Row, error) {
	return rows(s.query(sqlFirstFinished, queue, int64(state), limit))
}

// NthFinished reads the place of the n-th of a queue's jobs in a state, in the order in which
// they finished; the zero one where there are fewer. It walks n entries of an index.
func (s *Store) NthFinished(ctx context.Context, queue int64, state job.State, n int64) (c api.UpTo, err error) {
	err = s.askOne(ctx, "SELECT finished_at, id FROM jobs {by jobs_finished} WHERE queue = ? AND state = ? AND state > {backoff} AND removed_by = 0 AND awaited = 0 ORDER BY finished_at, id LIMIT 1 OFFSET ?", queue, int64(state), n-1).Scan(&c.At, &c.Job)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return c, err
}

// CountFinished counts a queue's jobs in a state up to a place in the order in which they
// finished, and walks an entry of an index for each.
func (s *Store) CountFinished(ctx context.Context, queue int64, state job.State, to api.UpTo) (n int64, err error) {
	last := to.Job
	if last == 0 {
		last = math.MaxInt64
	}
	err = s.askOne(ctx, "SELECT count(*) FROM jobs {by jobs_finished} WHERE queue = ? AND state = ? AND state > {backoff} AND removed_by = 0 AND awaited = 0 AND (finished_at, id) <= (?, ?)", queue, int64(state), int64(to.At), last).Scan(&n)
	return n, err
}
