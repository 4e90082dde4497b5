package store

import (
	"context"
	"database/sql"
	"errors"

	"humblemule.example/job"
)

// Batch is the row of jobs that belong together.
type Batch struct {
	ID                  int64
	Name, Owner, Labels string
	MadeAt              job.Time
	MadeBy              string
	// Open tells that more may be added from outside.
	Open bool
	// Last is the job that waits for all others, 0 for none, and Waits whether it still does.
	Last  int64
	Waits bool
	// Jobs is how many there are, and Gone how many of them are no longer kept.
	Jobs, Gone int64
	// State is how it stands, as a number; Idle tells that none of its jobs goes on by itself.
	State      BatchState
	Idle       bool
	FinishedAt job.Time
	// Notify says who is told of its end, as JSON; empty for nobody.
	Notify string
}

// BatchState is how a batch stands.
type BatchState uint8

// How a batch may stand; the numbers are stored.
const (
	BatchRunning BatchState = iota
	BatchDone
	BatchFailed
	BatchCancelled
)

// TooLateState stands in counts by state for jobs that were skipped because they came too late; those
// that their handlers have skipped are counted as such.
const TooLateState = job.Unplaced

const batchColumns = "id, name, owner, labels, made_at, made_by, open, last, waits, jobs, gone, state, idle, finished_at, notify"

var sqlInsertBatch = statement(`INSERT INTO batches (` + batchColumns + `) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`)

// InsertBatch writes a new batch.
func (s *Store) InsertBatch(b *Batch) error {
	return s.exec(sqlInsertBatch, b.ID, b.Name, b.Owner, b.Labels, int64(b.MadeAt), b.MadeBy, b.Open, b.Last, b.Waits, b.Jobs, b.Gone, int64(b.State), b.Idle, int64(b.FinishedAt), b.Notify)
}

var sqlPutBatch = statement(`UPDATE batches SET open = ?, waits = ?, jobs = ?, gone = ?, state = ?, idle = ?, finished_at = ? WHERE id = ?`)

// PutBatch writes how a batch stands.
func (s *Store) PutBatch(b *Batch) error {
	return s.exec(sqlPutBatch, b.Open, b.Waits, b.Jobs, b.Gone, int64(b.State), b.Idle, int64(b.FinishedAt), b.ID)
}

var sqlBatch = statement(`SELECT ` + batchColumns + ` FROM batches WHERE id = ?`)

// Batch reads a batch inside the transaction; nil where there is none.
func (s *Store) Batch(id int64) (*Batch, error) { return oneBatch(s.queryRow(sqlBatch, id)) }

// ReadBatch is [Store.Batch] outside of the transaction.
func (s *Store) ReadBatch(ctx context.Context, id int64) (*Batch, error) {
	return oneBatch(s.askOne(ctx, "SELECT "+batchColumns+" FROM batches WHERE id = ?", id))
}

func oneBatch(r interface{ Scan(...any) error }) (*Batch, error) {
	b, err := scanBatch(r)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &b, err
}

func scanBatch(r interface{ Scan(...any) error }) (b Batch, err error) {
	err = r.Scan(&b.ID, &b.Name, &b.Owner, &b.Labels, &b.MadeAt, &b.MadeBy, &b.Open, &b.Last, &b.Waits, &b.Jobs, &b.Gone, &b.State, &b.Idle, &b.FinishedAt, &b.Notify)
	return b, err
}

var sqlNewestCalled = statement(`SELECT ` + batchColumns + ` FROM batches {by batches_name} WHERE name = ? AND name <> '' ORDER BY id DESC LIMIT 1`)

// NewestCalled reads the newest batch of a name; nil where there is none.
func (s *Store) NewestCalled(name string) (*Batch, error) {
	return oneBatch(s.queryRow(sqlNewestCalled, name))
}

var sqlDropBatch = statement(`DELETE FROM batches WHERE id = ?`)

var sqlDropBatchCounts = statement(`DELETE FROM batch_counts WHERE batch = ?`)

// DropBatch deletes a batch, of which no job is kept.
func (s *Store) DropBatch(id int64) error {
	return errors.Join(s.exec(sqlDropBatch, id), s.exec(sqlDropBatchCounts, id))
}

var sqlCountBatch = sized(func(n int) string {
	return marks("INSERT INTO batch_counts (batch, state, n) VALUES ", "(?, ?, ?)", n) + " ON CONFLICT (batch, state) DO UPDATE SET n = n + excluded.n"
})

// CountBatch adds n, which may be negative, to the count of a batch's jobs in a state.
func (s *Store) CountBatch(id int64, state job.State, n int64) { s.late.count(countOf{id, state}, n) }

var sqlEmptyBatches = statement(`SELECT id FROM batches {by batches_empty} WHERE jobs = gone AND open = ? AND made_at < ? LIMIT ?`)

// EmptyBatches reads ids of batches of which no job is kept and that were made before a time.
func (s *Store) EmptyBatches(open bool, before job.Time, limit int) ([]int64, error) {
	return ids(s.query(sqlEmptyBatches, open, int64(before), limit))
}

// BatchCounts are the jobs of a batch by state; those too late stand at [TooLateState].
type BatchCounts [job.NumStates]int64

var sqlBatchCounts = statement(`SELECT state, n FROM batch_counts WHERE batch = ?`)

// BatchCounts reads the counts of a batch inside the transaction.
func (s *Store) BatchCounts(id int64) (BatchCounts, error) {
	return batchCounts(s.query(sqlBatchCounts, id))
}

// ReadBatchCounts is [Store.BatchCounts] outside of the transaction.
func (s *Store) ReadBatchCounts(ctx context.Context, id int64) (BatchCounts, error) {
	return batchCounts(s.ask(ctx, "SELECT state, n FROM batch_counts WHERE batch = ?", id))
}

func batchCounts(r *sql.Rows, err error) (all BatchCounts, _ error) {
	if err != nil {
		return all, err
	}
	defer r.Close()
	for r.Next() {
		var state, n int64
		if err := r.Scan(&state, &n); err != nil {
			return all, err
		}
		all[state] = n
	}
	return all, r.Err()
}

var sqlOfRef = statement(`SELECT job FROM specs {by specs_ref} WHERE batch = ? AND ref = ? AND ref <> ''`)

// OfRef finds the job of a batch by its name there; 0 where there is none.
func (s *Store) OfRef(batch int64, ref string) (int64, error) { return s.number(sqlOfRef, batch, ref) }

var sqlMembers = statement(`SELECT job FROM specs {by specs_batch} WHERE batch = ? AND batch <> 0 AND job > ? ORDER BY job LIMIT ?`)

// Members reads ids of a batch's jobs beyond one, removed ones too.
func (s *Store) Members(batch, after int64, limit int) ([]int64, error) {
	return ids(s.query(sqlMembers, batch, after, limit))
}

// IDsOfBatch reads ids of a batch's jobs beyond after.
func (s *Store) IDsOfBatch(ctx context.Context, batch, after int64, newest bool, limit int) ([]int64, error) {
	cmp, dir := beyond(newest)
	return ids(s.ask(ctx, "SELECT job FROM specs {by specs_batch} WHERE batch = ? AND batch <> 0 AND job "+cmp+" ? ORDER BY job "+dir+" LIMIT ?", batch, after, limit))
}

// BatchFilter says which batches are listed; what is zero is not asked for.
type BatchFilter struct {
	Name, Owner string
	// States are those asked for, in which Idle ones alone are where it is true.
	State         BatchState
	ByState, Idle bool
	// Before is the id before which they come.
	Before int64
}

// Batches lists batches, newest first.
func (s *Store) Batches(ctx context.Context, f BatchFilter, limit int) (all []Batch, err error) {
	where, args := "id < ?", []any{f.Before}
	switch {
	case f.Name != "":
		where, args = where+" AND name = ? AND name <> ''", append(args, f.Name)
	case f.Owner != "":
		where, args = where+" AND owner = ? AND owner <> ''", append(args, f.Owner)
	}
	if f.ByState {
		where, args = where+" AND state = ?", append(args, int64(f.State))
	}
	if f.Idle {
		where += " AND idle = 1"
	}
	r, err := s.ask(ctx, "SELECT "+batchColumns+" FROM batches WHERE "+where+" ORDER BY id DESC LIMIT ?", append(args, limit)...)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for r.Next() {
		b, err := scanBatch(r)
		if err != nil {
			return nil, err
		}
		all = append(all, b)
	}
	return all, r.Err()
}

// RunningBatches counts batches that have not ended, by whether they are idle.
func (s *Store) RunningBatches(ctx context.Context) (byIdle map[bool]int64, err error) {
	r, err := s.ask(ctx, "SELECT idle, count(*) FROM batches {by batches_state} WHERE state = ? GROUP BY idle", int64(BatchRunning))
	if err != nil {
		return nil, err
	}
	defer r.Close()
	byIdle = map[bool]int64{}
	for r.Next() {
		var idle bool
		var n int64
		if err := r.Scan(&idle, &n); err != nil {
			return nil, err
		}
		byIdle[idle] = n
	}
	return byIdle, r.Err()
}

// WaitsOutside tells whether a held job of a batch waits for something that may go on without the
// batch: its lane, an earlier run of its schedule, or an unfinished job that is not of the batch.
func (s *Store) WaitsOutside(ctx context.Context, batch int64) (waits bool, err error) {
	err = s.askOne(ctx, `SELECT EXISTS (SELECT 1 FROM specs m {by specs_batch} CROSS JOIN jobs j ON j.id = m.job WHERE m.batch = ?1 AND m.batch <> 0 AND j.state = {held} AND j.removed_by = 0 AND (j.unmet = 0
		OR EXISTS (SELECT 1 FROM edges e CROSS JOIN jobs n ON n.id = e.needs CROSS JOIN specs o ON o.job = n.id WHERE e.job = j.id AND e.stands = 0 AND o.batch <> ?1 AND n.state < {done} AND n.removed_by = 0)))`, batch).Scan(&waits)
	return waits, err
}

// BlockingIn reads ids of jobs that have ended and are waited for in vain by a batch: by one of its held
// jobs or, where there are none of these, by its last one.
func (s *Store) BlockingIn(ctx context.Context, batch int64, limit int) ([]int64, error) {
	found, err := ids(s.ask(ctx, `SELECT DISTINCT e.needs FROM specs m {by specs_batch} CROSS JOIN jobs j ON j.id = m.job CROSS JOIN edges e ON e.job = j.id CROSS JOIN jobs n ON n.id = e.needs
		WHERE m.batch = ? AND m.batch <> 0 AND j.state = {held} AND j.removed_by = 0 AND e.stands = 0 AND n.state >= {done} LIMIT ?`, batch, limit))
	if err != nil || len(found) > 0 {
		return found, err
	}
	return ids(s.ask(ctx, `SELECT m.job FROM specs m {by specs_batch} CROSS JOIN jobs j ON j.id = m.job WHERE m.batch = ? AND m.batch <> 0 AND j.state IN ({cancelled}, {dead}) LIMIT ?`, batch, limit))
}

// AwaitingCause reads ids of unfinished jobs that wait for one of the latest thousand dead jobs of a
// cause, the last jobs of their batches among them.
func (s *Store) AwaitingCause(ctx context.Context, cause int64, limit int) ([]int64, error) {
	return ids(s.ask(ctx, `WITH d AS MATERIALIZED (SELECT id, awaited FROM jobs {by jobs_cause} WHERE cause = ? AND cause <> 0 AND state IN ({backoff}, {dead}) AND state = {dead} AND removed_by = 0 ORDER BY id DESC LIMIT 1000)
		SELECT e.job FROM d CROSS JOIN edges e ON e.needs = d.id CROSS JOIN jobs w ON w.id = e.job WHERE d.awaited <> 0 AND e.stands = 0 AND w.state < {done} AND w.removed_by = 0
		UNION SELECT b.last FROM d CROSS JOIN specs m ON m.job = d.id CROSS JOIN batches b ON b.id = m.batch CROSS JOIN jobs w ON w.id = b.last WHERE d.awaited <> 0 AND m.batch <> 0 AND b.waits = 1 AND w.state < {done} AND w.removed_by = 0
		ORDER BY 1 LIMIT ?`, cause, limit))
}

// Member is a job of a batch as it is laid out.
type Member struct {
	ID, Queue, Task int64
	State           job.State
	Ref             string
	// NextAt and LeasedAt are those of its row.
	NextAt, LeasedAt job.Time
}

// BatchMembers reads jobs of a batch, those with the lowest ids first.
func (s *Store) BatchMembers(ctx context.Context, batch int64, limit int) (all []Member, err error) {
	r, err := s.ask(ctx, "SELECT j.id, j.queue, j.task, j.state, m.ref, j.next_at, j.leased_at FROM specs m {by specs_batch} CROSS JOIN jobs j ON j.id = m.job WHERE m.batch = ? AND m.batch <> 0 AND j.removed_by = 0 ORDER BY m.job LIMIT ?", batch, limit)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for r.Next() {
		var m Member
		if err := r.Scan(&m.ID, &m.Queue, &m.Task, &m.State, &m.Ref, &m.NextAt, &m.LeasedAt); err != nil {
			return nil, err
		}
		all = append(all, m)
	}
	return all, r.Err()
}

// EdgesIn reads edges between jobs of a batch up to one, at most so many.
func (s *Store) EdgesIn(ctx context.Context, batch, upTo int64, limit int) ([]Edge, error) {
	return edges(s.ask(ctx, `SELECT e.job, e.needs, e.stands & 3, e.wants, e.gone FROM specs m {by specs_batch} CROSS JOIN edges e ON e.job = m.job CROSS JOIN specs n ON n.job = e.needs
		WHERE m.batch = ?1 AND m.batch <> 0 AND m.job <= ?2 AND n.batch = ?1 LIMIT ?3`, batch, upTo, limit))
}
