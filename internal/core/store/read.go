package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"humblemule/api"
	"humblemule/job"
)

// Facts are what the engine loads when it starts.
type Facts struct {
	StoreID string
	NextJob int64
	// Owned tells which settings come from a file, as JSON; empty where none do.
	Owned string
	// Served is how long the file had been served, in ms, as far as it tells.
	Served int64
}

// Facts reads the file's own facts.
func (s *Store) Facts() (f Facts, err error) {
	err = s.conn.QueryRowContext(background, `SELECT (SELECT value FROM facts WHERE name = 'store'), (SELECT CAST(value AS INTEGER) FROM facts WHERE name = 'next_job'),
		coalesce((SELECT value FROM facts WHERE name = 'owned'), ''),
		max(coalesce((SELECT CAST(value AS INTEGER) FROM facts WHERE name = 'served'), 0), coalesce((SELECT served FROM receipts ORDER BY id DESC LIMIT 1), 0),
			coalesce((SELECT removed_at FROM jobs WHERE removed_by <> 0 AND removed_at < 4000000000000000000 ORDER BY removed_at DESC, id DESC LIMIT 1), 0))`).Scan(&f.StoreID, &f.NextJob, &f.Owned, &f.Served)
	return f, err
}

// Queue is a queue's row.
type Queue struct {
	ID       int64
	Name     string
	NextRank int64
	PausedAt job.Time
	PausedBy string
	Settings string
	// Version counts how often the settings were set; Walked is told with
	// [Store.PutWalked].
	Version, Walked int64
	// IdleSince is since when it has had neither jobs nor settings; 0 where it has.
	IdleSince job.Time
	// MadeBy is who made it.
	MadeBy string
}

// Count is a kept count.
type Count struct {
	Queue, Task int64
	State       job.State
	N           int64
}

// Policy is a stored policy.
type Policy struct {
	ID   int64
	Body string
}

// Receipts is a commit's receipts, written at a time, when the file was served so long.
type Receipts struct {
	ID      int64
	At      job.Time
	Served  int64
	Entries []byte
}

// each runs a query on the writing connection and gives every row to scan.
func each(s *Store, query string, scan func(r *sql.Rows) error, args ...any) error {
	r, err := s.conn.QueryContext(background, query, args...)
	if err != nil {
		return err
	}
	defer r.Close()
	for r.Next() {
		if err := scan(r); err != nil {
			return err
		}
	}
	return r.Err()
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

// Task is a task's row.
type Task struct {
	ID             int64
	Name, Settings string
	Version        int64
	IdleSince      job.Time
	MadeBy         string
}

// Tasks reads every task.
func (s *Store) Tasks() (all []Task, err error) {
	err = each(s, "SELECT id, name, settings, version, idle_since, made_by FROM tasks", func(r *sql.Rows) error {
		var t Task
		err := r.Scan(&t.ID, &t.Name, &t.Settings, &t.Version, &t.IdleSince, &t.MadeBy)
		all = append(all, t)
		return err
	})
	return all, err
}

// Counts reads every kept count.
func (s *Store) Counts() (all []Count, err error) {
	err = each(s, "SELECT queue, task, state, n FROM counts", func(r *sql.Rows) error {
		var c Count
		defer func() { all = append(all, c) }()
		return r.Scan(&c.Queue, &c.Task, &c.State, &c.N)
	})
	return all, err
}

// PastCounts reads how many jobs were removed after they had been kept long enough.
func (s *Store) PastCounts() (all []Count, err error) {
	err = each(s, "SELECT queue, task, state, n FROM past_counts", func(r *sql.Rows) error {
		var c Count
		err := r.Scan(&c.Queue, &c.Task, &c.State, &c.N)
		all = append(all, c)
		return err
	})
	return all, err
}

// Receipts reads the receipts, oldest first, and when the last one was written that is no
// longer kept.
func (s *Store) Receipts() (all []Receipts, reach job.Time, err error) {
	err = s.conn.QueryRowContext(background, "SELECT coalesce((SELECT CAST(value AS INTEGER) FROM facts WHERE name = 'receipts_from'), 0)").Scan(&reach)
	if err != nil {
		return nil, 0, err
	}
	err = each(s, "SELECT id, at, served, entries FROM receipts ORDER BY id", func(r *sql.Rows) error {
		var x Receipts
		err := r.Scan(&x.ID, &x.At, &x.Served, &x.Entries)
		all = append(all, x)
		return err
	})
	return all, reach, err
}

// Workers reads who the workers of some numbers are.
func (s *Store) Workers(ctx context.Context, numbers []int64) (map[int64]api.Worker, error) {
	all := make(map[int64]api.Worker, len(numbers))
	err := s.eachOf(ctx, "SELECT id, uid, name, host, pid, version FROM workers WHERE id IN (?)", numbers, func(r *sql.Rows) error {
		var n int64
		var w api.Worker
		err := r.Scan(&n, &w.ID, &w.Name, &w.Host, &w.PID, &w.Version)
		all[n] = w
		return err
	})
	return all, err
}

// WorkerByNumber reads who a worker is; the zero value where there is none.
func (s *Store) WorkerByNumber(n int64) (w api.Worker, err error) {
	err = s.conn.QueryRowContext(background, "SELECT uid, name, host, pid, version FROM workers WHERE id = ?", n).Scan(&w.ID, &w.Name, &w.Host, &w.PID, &w.Version)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return w, err
}

// WantedOf reads what a worker was asked to do; empty for nothing.
func (s *Store) WantedOf(uid string) (want api.Want, err error) {
	err = s.conn.QueryRowContext(background, "SELECT wanted FROM workers WHERE uid = ?", uid).Scan(&want)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return want, err
}

// PolicyBody reads a policy.
func (s *Store) PolicyBody(id int64) (body string, err error) {
	err = s.read.Load().QueryRow("SELECT body FROM policies WHERE id = ?", id).Scan(&body)
	return body, err
}

// NthFinished reads the place of the n-th of a queue's jobs in a state, in the order in which
// they finished; the zero one where there are fewer.
func (s *Store) NthFinished(ctx context.Context, queue int64, state job.State, n int64) (c api.UpTo, err error) {
	err = s.read.Load().QueryRowContext(ctx, "SELECT finished_at, id FROM jobs INDEXED BY jobs_finished WHERE queue = ? AND state = ? AND state > 5 AND removed_by = 0 ORDER BY finished_at, id LIMIT 1 OFFSET ?", queue, int64(state), n-1).Scan(&c.At, &c.Job)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return c, err
}

// CountFinished counts a queue's jobs in a state up to a place in the order in which they
// finished.
func (s *Store) CountFinished(ctx context.Context, queue int64, state job.State, to api.UpTo) (n int64, err error) {
	last := to.Job
	if last == 0 {
		last = math.MaxInt64
	}
	err = s.read.Load().QueryRowContext(ctx, "SELECT count(*) FROM jobs INDEXED BY jobs_finished WHERE queue = ? AND state = ? AND state > 5 AND removed_by = 0 AND (finished_at, id) <= (?, ?)", queue, int64(state), int64(to.At), last).Scan(&n)
	return n, err
}

// RunningNow reads every running job; groups are the queues and tasks that
// have any.
func (s *Store) RunningNow(groups []Count) (all []*Row, err error) {
	for _, g := range groups {
		if g.State != job.Running || g.N == 0 {
			continue
		}
		found, err := s.Running(g.Queue, g.Task)
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
	}
	return all, nil
}

// Read reads the rows of ids in their order; ids that are gone are left out.
func (s *Store) Read(ctx context.Context, ids []int64) ([]*Row, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	byID := make(map[int64]*Row, len(ids))
	err := s.eachOf(ctx, "SELECT "+rowColumns+" FROM jobs WHERE removed_by = 0 AND id IN (?)", ids, func(found *sql.Rows) error {
		r := new(Row)
		err := r.scan(found)
		byID[r.ID] = r
		return err
	})
	if err != nil {
		return nil, err
	}
	ordered := make([]*Row, 0, len(byID))
	for _, id := range ids {
		if r := byID[id]; r != nil {
			ordered = append(ordered, r)
			delete(byID, id)
		}
	}
	return ordered, nil
}

// eachOf runs a query for ids, some at a time, and gives every row to scan. The query's only
// parameter, IN (?), stands for them.
func (s *Store) eachOf(ctx context.Context, query string, ids []int64, scan func(r *sql.Rows) error) error {
	const atOnce = 500
	for part := range slices.Chunk(slices.Compact(slices.Sorted(slices.Values(ids))), atOnce) {
		args := make([]any, len(part))
		for i, id := range part {
			args[i] = id
		}
		r, err := s.read.Load().QueryContext(ctx, strings.Replace(query, "IN (?)", "IN (?"+strings.Repeat(",?", len(part)-1)+")", 1), args...)
		if err != nil {
			return err
		}
		for r.Next() && err == nil {
			err = scan(r)
		}
		if err := errors.Join(err, r.Err(), r.Close()); err != nil {
			return err
		}
	}
	return nil
}

// Group is a queue, task and state.
type Group struct {
	Queue, Task int64
	State       job.State
}

// ids reads a column of ids.
func ids(r *sql.Rows, err error) ([]int64, error) {
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var all []int64
	for r.Next() {
		var id int64
		if err := r.Scan(&id); err != nil {
			return nil, err
		}
		all = append(all, id)
	}
	return all, r.Err()
}

// beyond gives the comparison and direction of a list by id.
func beyond(newest bool) (comparison, direction string) {
	if newest {
		return "<", "DESC"
	}
	return ">", "ASC"
}

// IDsInGroup reads ids of a group beyond after, newest or oldest first.
func (s *Store) IDsInGroup(ctx context.Context, g Group, after int64, newest bool, limit int) ([]int64, error) {
	cmp, dir := beyond(newest)
	return ids(s.read.Load().QueryContext(ctx, "SELECT id FROM jobs WHERE queue = ? AND task = ? AND state = ? AND removed_by = 0 AND id "+cmp+" ? ORDER BY id "+dir+" LIMIT ?",
		g.Queue, g.Task, int64(g.State), after, limit))
}

// IDs reads ids of all jobs beyond after, newest or oldest first.
func (s *Store) IDs(ctx context.Context, after int64, newest bool, limit int) ([]int64, error) {
	cmp, dir := beyond(newest)
	return ids(s.read.Load().QueryContext(ctx, "SELECT id FROM jobs WHERE id "+cmp+" ? ORDER BY id "+dir+" LIMIT ?", after, limit))
}

// IDsWithKey reads ids of the jobs with a key beyond after.
func (s *Store) IDsWithKey(ctx context.Context, key string, after int64, newest bool, limit int) ([]int64, error) {
	cmp, dir := beyond(newest)
	return ids(s.read.Load().QueryContext(ctx, "SELECT id FROM jobs WHERE key <> '' AND key = ? AND removed_by = 0 AND id "+cmp+" ? ORDER BY id "+dir+" LIMIT ?", key, after, limit))
}

// Coming is a job and the time for which it is planned.
type Coming struct {
	At job.Time
	ID int64
}

// Coming reads what is planned after a time and id, in time order.
func (s *Store) Coming(ctx context.Context, after Coming, limit int) (all []Coming, err error) {
	r, err := s.read.Load().QueryContext(ctx, "SELECT next_at, id FROM jobs WHERE state IN (2, 5) AND removed_by = 0 AND (next_at, id) > (?, ?) ORDER BY next_at, id LIMIT ?", int64(after.At), after.ID, limit)
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

// Attempts reads a job's kept attempts in order, the last ones only where last
// is not 0.
func (s *Store) Attempts(ctx context.Context, id int64, last int) ([]Attempt, error) {
	if last == 0 {
		last = FirstKept + LastKept
	}
	r, err := s.read.Load().QueryContext(ctx, `SELECT a.n, a.round, a.worker, a.token, a.started_at, a.ended_at, a.run_ms, a.outcome, a.counted, a.error_type, a.error_message, a.percent, a.note, a.log_lines, coalesce(b.bytes, '')
		FROM attempts a LEFT JOIN bodies b ON b.job = a.job AND b.kind = 3 AND b.n = a.n WHERE a.job = ? ORDER BY a.n DESC LIMIT ?`, id, last)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var all []Attempt
	for r.Next() {
		a := Attempt{Job: id}
		if err := r.Scan(&a.N, &a.Round, &a.Worker, &a.Token, &a.StartedAt, &a.EndedAt, &a.RunMS, &a.Outcome, &a.Counted, &a.ErrorType, &a.ErrorMessage, &a.Percent, &a.Note, &a.LogLines, &a.Stack); err != nil {
			return nil, err
		}
		all = append(all, a)
	}
	for i, j := 0, len(all)-1; i < j; i, j = i+1, j-1 {
		all[i], all[j] = all[j], all[i]
	}
	return all, r.Err()
}

// Body reads a body; nil where there is none.
func (s *Store) Body(ctx context.Context, id int64, kind, n int) (bytes []byte, err error) {
	err = s.read.Load().QueryRowContext(ctx, "SELECT bytes FROM bodies WHERE job = ? AND kind = ? AND n = ?", id, kind, n).Scan(&bytes)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return bytes, err
}

// Payloads reads the payloads of jobs that are too long for their rows, each up to so many
// bytes.
func (s *Store) Payloads(ctx context.Context, ids []int64, most int) (map[int64][]byte, error) {
	all := make(map[int64][]byte, len(ids))
	err := s.eachOf(ctx, fmt.Sprintf("SELECT job, substr(CAST(bytes AS BLOB), 1, %d) FROM bodies WHERE kind = %d AND n = 0 AND job IN (?)", most, PayloadBody), ids, func(r *sql.Rows) error {
		var id int64
		var head []byte
		err := r.Scan(&id, &head)
		all[id] = head
		return err
	})
	return all, err
}

// Log reads lines of a job's attempts that follow line n of an attempt; of that
// attempt alone where only is true.
func (s *Store) Log(ctx context.Context, id int64, attempt, n int, only bool, limit int) (all []api.LogLine, err error) {
	last := attempt
	if !only {
		last = math.MaxInt32
	}
	r, err := s.read.Load().QueryContext(ctx, "SELECT attempt, n, at, text FROM log_lines WHERE job = ? AND (attempt, n) > (?, ?) AND attempt <= ? ORDER BY attempt, n LIMIT ?", id, attempt, n, last, limit)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for r.Next() {
		var l api.LogLine
		if err := r.Scan(&l.Attempt, &l.N, &l.At, &l.Text); err != nil {
			return nil, err
		}
		all = append(all, l)
	}
	return all, r.Err()
}

// Past is when a job came and went, and how long its last attempt took.
type Past struct {
	EnqueuedAt, FinishedAt job.Time
	RunMS                  int64
}

// Recent reads the newest jobs of a group.
func (s *Store) Recent(g Group, limit int) (all []Past, err error) {
	err = each(s, `SELECT j.enqueued_at, j.finished_at, coalesce(nullif(a.run_ms, 0), a.ended_at - a.started_at, 0) FROM jobs j LEFT JOIN attempts a ON a.job = j.id AND a.n = j.attempt
		WHERE j.queue = ? AND j.task = ? AND j.state = ? AND j.removed_by = 0 ORDER BY j.id DESC LIMIT ?`, func(r *sql.Rows) error {
		var p Past
		err := r.Scan(&p.EnqueuedAt, &p.FinishedAt, &p.RunMS)
		all = append(all, p)
		return err
	}, g.Queue, g.Task, int64(g.State), limit)
	return all, err
}

// LogLines counts the lines that an attempt has written so far.
func (s *Store) LogLines(id int64, attempt int) (n int, err error) {
	err = s.conn.QueryRowContext(background, "SELECT coalesce(max(n), 0) FROM log_lines WHERE job = ? AND attempt = ?", id, attempt).Scan(&n)
	return n, err
}

// OldestReady tells since when the first ready job of a group has been ready;
// zero where there is none.
func (s *Store) OldestReady(ctx context.Context, queue, task int64) (at job.Time, err error) {
	err = s.read.Load().QueryRowContext(ctx, "SELECT ready_at FROM jobs WHERE queue = ? AND task = ? AND state = 3 AND removed_by = 0 ORDER BY level DESC, rank, id LIMIT 1", queue, task).Scan(&at)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return at, err
}

// Ahead counts the ready jobs of a queue and task that go before a level, rank
// and id, up to most.
func (s *Store) Ahead(ctx context.Context, queue, task int64, level int, rank, id int64, most int) (n int, err error) {
	err = s.read.Load().QueryRowContext(ctx, `SELECT
		(SELECT count(*) FROM (SELECT 1 FROM jobs WHERE queue = ?1 AND task = ?2 AND state = 3 AND removed_by = 0 AND level > ?3 LIMIT ?6)) +
		(SELECT count(*) FROM (SELECT 1 FROM jobs WHERE queue = ?1 AND task = ?2 AND state = 3 AND removed_by = 0 AND level = ?3 AND (rank, id) < (?4, ?5) LIMIT ?6))`,
		queue, task, level, rank, id, most).Scan(&n)
	return min(n, most), err
}

// OldestWaiting reads ready jobs of a queue and task, the first enqueued first.
func (s *Store) OldestWaiting(ctx context.Context, queue, task int64, limit int) (all []api.Start, err error) {
	found, err := s.read.Load().QueryContext(ctx, "SELECT id, ready_at FROM jobs WHERE queue = ? AND task = ? AND state = 3 AND removed_by = 0 ORDER BY id LIMIT ?", queue, task, limit)
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
	err = s.read.Load().QueryRowContext(ctx, `SELECT count(*) FROM (SELECT 1 FROM jobs WHERE queue = ? AND task = ? AND level = ? AND owner = ? AND state = 3 AND turn = 1 AND removed_by = 0 AND (rank, id) < (?, ?) LIMIT ?)`,
		r.Queue, r.Task, r.Level, r.Owner, r.Rank, r.ID, most).Scan(&n)
	return n, err
}

// LaneOf reads which job has a row's lane, 0 for none, and how many wait for it that go
// before the row, to at most most.
func (s *Store) LaneOf(ctx context.Context, r *Row, most int) (holder int64, ahead int, err error) {
	err = s.read.Load().QueryRowContext(ctx, `SELECT coalesce((SELECT job FROM lanes WHERE queue = ?1 AND lane = ?2), 0),
		(SELECT count(*) FROM (SELECT 1 FROM jobs WHERE queue = ?1 AND lane = ?2 AND lane <> '' AND state = 1 AND removed_by = 0 AND rank > 0 AND (rank, id) < (?3, ?4) LIMIT ?5))`,
		r.Queue, r.Lane, r.Rank, r.ID, most).Scan(&holder, &ahead)
	return holder, ahead, err
}

// Ping tells whether the file can be read.
func (s *Store) Ping(ctx context.Context) error {
	var n int
	return s.read.Load().QueryRowContext(ctx, "SELECT count(*) FROM facts").Scan(&n)
}
