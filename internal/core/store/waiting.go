package store

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"

	"humblemule.example/api"
	"humblemule.example/job"
)

var sqlHeads = statement(`SELECT ` + rowColumns + ` FROM ` + rowsFrom + ` WHERE queue = ? AND task = ? AND state = {ready} AND removed_by = 0 ORDER BY level DESC, rank, id LIMIT ?`)

// Most jobs wait with no more than this, and every value that is read costs two calls into C.
var sqlPlainHeads = statement(`SELECT id, level, rank, enqueued_at, ready_at, policy, priority, payload_bytes, payload,
			attempt > 0 OR round > 1 OR turn = 1 OR cause <> 0 OR schedule <> 0 OR operation <> 0 OR start_by > 0 OR run_at > 0 OR owner <> '' OR lane <> '' OR key <> '' OR labels <> '' OR traceparent <> '' OR awaited > 0 OR batch > 0 OR after > 0 OR host <> 0
			FROM ` + rowsFrom + ` WHERE queue = ? AND task = ? AND state = {ready} AND removed_by = 0 ORDER BY level DESC, rank, id LIMIT ?`)

// Heads reads the first ready jobs of a queue and task in their order.
func (s *Store) Heads(queue, task int64, limit int) ([]*Row, error) {
	all, plain, err := s.plainHeads(queue, task, limit)
	if err != nil || plain {
		return all, err
	}
	return rows(s.query(sqlHeads, queue, task, limit))
}

// plainHeads reads them where all are plain.
func (s *Store) plainHeads(queue, task int64, limit int) (all []*Row, plain bool, err error) {
	found, err := s.query(sqlPlainHeads, queue, task, limit)
	if err != nil {
		return nil, false, err
	}
	defer found.Close()
	v := newValues(10)
	for found.Next() {
		if err := v.scan(found); err != nil {
			return nil, false, err
		}
		r := &Row{
			Queue: queue, Task: task, State: job.Ready, Round: 1,
			ID: v.int64(), Level: v.int(), Rank: v.int64(), EnqueuedAt: v.time(), ReadyAt: v.time(), Policy: v.int64(), Priority: v.int(), PayloadBytes: v.int(), Payload: v.bytes(),
		}
		if v.int64() != 0 {
			return nil, false, nil
		}
		all = append(all, r)
	}
	return all, true, found.Err()
}

var sqlHeadsOf = statement(`SELECT ` + rowColumns + ` FROM ` + rowsFrom + ` WHERE queue = ? AND task = ? AND level = ? AND owner = ? AND state = {ready} AND turn = 1 AND removed_by = 0 AND id <> ? ORDER BY rank, id LIMIT ?`)

// HeadsOf reads the first ready jobs of the owner of a row in its queue, task and level,
// but the row itself.
func (s *Store) HeadsOf(r *Row, limit int) ([]*Row, error) {
	return rows(s.query(sqlHeadsOf, r.Queue, r.Task, r.Level, r.Owner, r.ID, limit))
}

var sqlWaiting = statement(`SELECT ` + rowColumns + ` FROM ` + rowsFrom + ` WHERE queue = ? AND task = ? AND state = ? AND state <> {running} AND id > ? AND removed_by = 0 ORDER BY id LIMIT ?`)

// Waiting reads jobs of a queue, task and state beyond an id, in the order of their ids.
func (s *Store) Waiting(queue, task int64, state job.State, after int64, limit int) ([]*Row, error) {
	return rows(s.query(sqlWaiting, queue, task, int64(state), after, limit))
}

var sqlPutPlace = statement(`UPDATE jobs SET level = ?, rank = ?, turn = ? WHERE id = ?`)

// PutPlace writes a waiting job's place.
func (s *Store) PutPlace(r *Row) error { return s.exec(sqlPutPlace, r.Level, r.Rank, r.Turn, r.ID) }

var sqlDue = statement(`SELECT ` + rowColumns + ` FROM ` + rowsFrom + ` WHERE state IN ({scheduled}, {backoff}) AND removed_by = 0 AND next_at <= ? ORDER BY next_at, id LIMIT ?`)

// Due reads jobs whose time has come, the longest due first.
func (s *Store) Due(now job.Time, limit int) ([]*Row, error) {
	return rows(s.query(sqlDue, int64(now), limit))
}

var sqlNextDue = statement(`SELECT next_at FROM jobs WHERE state IN ({scheduled}, {backoff}) AND removed_by = 0 ORDER BY next_at, id LIMIT 1`)

// NextDue tells when the next scheduled job or backoff is due; zero for never.
func (s *Store) NextDue() (job.Time, error) { return s.oneTime(sqlNextDue) }

var sqlTooLate = statement(`SELECT ` + rowColumns + ` FROM ` + rowsFrom + ` WHERE start_by > 0 AND started_at = 0 AND state IN ({held}, {scheduled}, {ready}) AND removed_by = 0 AND start_by <= ? ORDER BY start_by, id LIMIT ?`)

// TooLate reads jobs that have not been started by a time they had to be.
func (s *Store) TooLate(now job.Time, limit int) ([]*Row, error) {
	return rows(s.query(sqlTooLate, int64(now), limit))
}

var sqlNextTooLate = statement(`SELECT start_by FROM jobs WHERE start_by > 0 AND started_at = 0 AND state IN ({held}, {scheduled}, {ready}) AND removed_by = 0 ORDER BY start_by, id LIMIT 1`)

// NextTooLate reads the earliest time by which a job must be started; 0 where there is
// none.
func (s *Store) NextTooLate() (job.Time, error) { return s.oneTime(sqlNextTooLate) }

// OldestReady tells since when the first ready job of a group has been ready;
// zero where there is none.
func (s *Store) OldestReady(ctx context.Context, queue, task int64) (at job.Time, err error) {
	err = s.askOne(ctx, "SELECT ready_at FROM jobs WHERE queue = ? AND task = ? AND state = {ready} AND removed_by = 0 ORDER BY level DESC, rank, id LIMIT 1", queue, task).Scan(&at)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return at, err
}

// OldestReadyOf is [Store.OldestReady] for many groups, some at a time: what each statement costs by
// itself is more than what it reads.
func (s *Store) OldestReadyOf(ctx context.Context, groups []Group, each func(g Group, since job.Time)) error {
	const atOnce = 200
	for part := range slices.Chunk(groups, atOnce) {
		args := make([]any, 0, 2*len(part))
		for _, g := range part {
			args = append(args, g.Queue, g.Task)
		}
		rows, err := s.ask(ctx, "WITH g (queue, task) AS (VALUES (?, ?)"+strings.Repeat(", (?, ?)", len(part)-1)+`) SELECT g.queue, g.task, coalesce(
			(SELECT ready_at FROM jobs j WHERE j.queue = g.queue AND j.task = g.task AND j.state = {ready} AND j.removed_by = 0 ORDER BY j.level DESC, j.rank, j.id LIMIT 1), 0) FROM g`, args...)
		if err != nil {
			return err
		}
		for rows.Next() && err == nil {
			g := Group{State: job.Ready}
			var since job.Time
			if err = rows.Scan(&g.Queue, &g.Task, &since); err == nil && since != 0 {
				each(g, since)
			}
		}
		if err := errors.Join(err, rows.Err(), rows.Close()); err != nil {
			return err
		}
	}
	return nil
}

// Ahead counts the ready jobs of a queue and task that go before a level, rank
// and id, up to most.
func (s *Store) Ahead(ctx context.Context, queue, task int64, level int, rank, id int64, most int) (n int, err error) {
	err = s.askOne(ctx, `SELECT
		(SELECT count(*) FROM (SELECT 1 FROM jobs WHERE queue = ?1 AND task = ?2 AND state = {ready} AND removed_by = 0 AND level > ?3 LIMIT ?6)) +
		(SELECT count(*) FROM (SELECT 1 FROM jobs WHERE queue = ?1 AND task = ?2 AND state = {ready} AND removed_by = 0 AND level = ?3 AND (rank, id) < (?4, ?5) LIMIT ?6))`,
		queue, task, level, rank, id, most).Scan(&n)
	return min(n, most), err
}

// OldestWaiting reads ready jobs of a queue and task, the first enqueued first.
func (s *Store) OldestWaiting(ctx context.Context, queue, task int64, limit int) (all []api.Start, err error) {
	found, err := s.ask(ctx, "SELECT id, ready_at FROM jobs {by jobs_listed} WHERE queue = ? AND task = ? AND state = {ready} AND state <> {running} AND removed_by = 0 ORDER BY id LIMIT ?", queue, task, limit)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	for found.Next() {
		var w api.Start
		if err := found.Scan(&w.Job, &w.ReadyAt); err != nil {
			return nil, err
		}
		all = append(all, w)
	}
	return all, found.Err()
}

// AheadOfOwner counts ready jobs of an owner that go before a rank, to at most most.
func (s *Store) AheadOfOwner(ctx context.Context, r *Row, most int) (n int, err error) {
	err = s.askOne(ctx, `SELECT count(*) FROM (SELECT 1 FROM jobs WHERE queue = ? AND task = ? AND level = ? AND owner = ? AND state = {ready} AND turn = 1 AND removed_by = 0 AND (rank, id) < (?, ?) LIMIT ?)`,
		r.Queue, r.Task, r.Level, r.Owner, r.Rank, r.ID, most).Scan(&n)
	return n, err
}

// Waiter is a job that waits for its time.
type Waiter struct {
	ID, Queue, Task int64
	State           job.State
	At              job.Time
}

// ComingJobs reads jobs that become due within a span, in time order.
func (s *Store) ComingJobs(ctx context.Context, from, until job.Time, limit int) (all []Waiter, err error) {
	found, err := s.ask(ctx, `SELECT id, queue, task, state, next_at FROM jobs WHERE state IN ({scheduled}, {backoff}) AND removed_by = 0 AND next_at >= ? AND next_at < ? ORDER BY next_at, id LIMIT ?`, int64(from), int64(until), limit)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	for found.Next() {
		var w Waiter
		if err := found.Scan(&w.ID, &w.Queue, &w.Task, &w.State, &w.At); err != nil {
			return nil, err
		}
		all = append(all, w)
	}
	return all, found.Err()
}

// Coming is a job and the time for which it is planned.
type Coming struct {
	At job.Time
	ID int64
}

// Coming reads what is planned after a time and id, in time order.
func (s *Store) Coming(ctx context.Context, after Coming, limit int) (all []Coming, err error) {
	r, err := s.ask(ctx, "SELECT next_at, id FROM jobs WHERE state IN ({scheduled}, {backoff}) AND removed_by = 0 AND (next_at, id) > (?, ?) ORDER BY next_at, id LIMIT ?", int64(after.At), after.ID, limit)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for r.Next() {
		var c Coming
		if err := r.Scan(&c.At, &c.ID); err != nil {
			return nil, err
		}
		all = append(all, c)
	}
	return all, r.Err()
}
