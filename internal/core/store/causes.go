package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"

	"humblemule.example/job"
)

// TextsKept is how many distinct messages of a cause are kept.
const TextsKept = 5

// Seen is what a transaction saw of a cause.
type Seen struct {
	ID             int64
	Type, Template string
	// Job is the latest job.
	Job int64
	// N is how many attempts failed, the first and the last of them at First and At.
	N         int64
	First, At job.Time
}

// CauseTexts are the latest distinct messages of a cause in a queue and a task, latest first.
type CauseTexts struct {
	Cause, Queue, Task int64
	Texts              []string
	// Job is the latest job.
	Job int64
	At  job.Time
}

var sqlSawCause = statement(`INSERT INTO causes (id, error_type, template, job, total, first_at, last_at) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)
			ON CONFLICT (id) DO UPDATE SET job = excluded.job, total = total + excluded.total, first_at = min(first_at, ?6), last_at = max(min(last_at, ?8), ?7)`)

// SawCause notes failures of a cause. What was noted when the clock was ahead is no later than now.
func (s *Store) SawCause(c Seen, now job.Time) error {
	return s.exec(sqlSawCause, c.ID, c.Type, c.Template, c.Job, c.N, int64(c.First), int64(c.At), int64(now))
}

var sqlTextsOf = statement(`SELECT texts FROM cause_texts WHERE cause = ? AND queue = ? AND task = ?`)

var sqlPutTexts = statement(`INSERT INTO cause_texts (cause, queue, task, texts, job, at) VALUES (?, ?, ?, ?, ?, ?)
			ON CONFLICT (cause, queue, task) DO UPDATE SET texts = excluded.texts, job = excluded.job, at = excluded.at`)

// SawTexts puts messages before those that are known.
func (s *Store) SawTexts(c CauseTexts) error {
	var known []string
	var raw string
	err := s.queryRow(sqlTextsOf, c.Cause, c.Queue, c.Task).Scan(&raw)
	if err == nil {
		err = json.Unmarshal([]byte(raw), &known)
	}
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	written, err := json.Marshal(LatestTexts(c.Texts, known))
	if err != nil {
		return err
	}
	return s.exec(sqlPutTexts, c.Cause, c.Queue, c.Task, string(written), c.Job, int64(c.At))
}

// LatestTexts adds distinct texts behind others, as many as are kept.
func LatestTexts(texts, more []string) []string {
	for _, text := range more {
		if len(texts) < TextsKept && !slices.Contains(texts, text) {
			texts = append(texts, text)
		}
	}
	return texts
}

// TextsOfCauses reads the messages of causes, the latest row of each first.
func (s *Store) TextsOfCauses(ctx context.Context, ids []int64) (all []CauseTexts, err error) {
	err = s.eachOf(ctx, "SELECT cause, queue, task, texts, job, at FROM cause_texts WHERE cause IN (?)", ids, func(r *sql.Rows) error {
		var c CauseTexts
		var texts string
		err := r.Scan(&c.Cause, &c.Queue, &c.Task, &texts, &c.Job, &c.At)
		if err == nil {
			err = json.Unmarshal([]byte(texts), &c.Texts)
		}
		all = append(all, c)
		return err
	})
	slices.SortFunc(all, func(a, b CauseTexts) int { return cmp.Or(cmp.Compare(b.At, a.At), cmp.Compare(b.Job, a.Job)) })
	return all, err
}

var sqlOldCauses = statement(`SELECT id FROM causes WHERE last_at < ? AND NOT EXISTS (SELECT 1 FROM cause_counts WHERE cause = causes.id) ORDER BY last_at LIMIT ?`)

var sqlDropCause = statement(`DELETE FROM causes WHERE id = ?`)

var sqlDropTexts = statement(`DELETE FROM cause_texts WHERE cause = ?`)

// DropCauses forgets causes that were seen last before a time and that no job is counted
// under, so many at most, and answers their ids.
func (s *Store) DropCauses(before job.Time, limit int) ([]int64, error) {
	old, err := ids(s.query(sqlOldCauses, int64(before), limit))
	for _, id := range old {
		err = errors.Join(err, s.exec(sqlDropCause, id), s.exec(sqlDropTexts, id))
	}
	return old, err
}

// CauseCount is how many jobs of a queue and task are in a state by a cause, which befell them
// in a version of a worker program on a host.
type CauseCount struct {
	Cause         int64
	State         job.State
	Queue, Task   int64
	Version, Host string
	N             int64
}

var (
	sqlCountCause = statement(`INSERT INTO cause_counts (cause, state, queue, task, version, host, n) VALUES (?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (cause, state, queue, task, version, host) DO UPDATE SET n = n + excluded.n`)
	sqlUncountCause = statement(`UPDATE cause_counts SET n = n - ? WHERE cause = ? AND state = ? AND queue = ? AND task = ? AND version = ? AND host = ? AND n >= ? RETURNING n`)
	sqlCountedOf    = statement(`SELECT version, host, n FROM cause_counts WHERE cause = ? AND state = ? AND queue = ? AND task = ? AND n > 0 LIMIT 1`)
	sqlDropCount    = statement(`DELETE FROM cause_counts WHERE cause = ? AND state = ? AND queue = ? AND task = ? AND version = ? AND host = ?`)
)

// CountCause adds c.N, which may be negative, to a kept count. Jobs that are no longer to be
// counted are taken out wherever they are counted: who ran them may have been forgotten since.
func (s *Store) CountCause(c CauseCount) error {
	if c.N >= 0 {
		return s.exec(sqlCountCause, c.Cause, int64(c.State), c.Queue, c.Task, c.Version, c.Host, c.N)
	}
	for c.N < 0 {
		left, err := s.uncount(&c, -c.N)
		if err != nil {
			return err
		}
		if left >= 0 {
			return nil
		}
		most := c
		err = s.queryRow(sqlCountedOf, c.Cause, int64(c.State), c.Queue, c.Task).Scan(&most.Version, &most.Host, &most.N)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		some := min(most.N, -c.N)
		if _, err := s.uncount(&most, some); err != nil || some <= 0 {
			return err
		}
		c.N += some
	}
	return nil
}

// uncount takes jobs out of a count, and tells how many it then counts; -1 where it does not
// count as many.
func (s *Store) uncount(c *CauseCount, n int64) (left int64, err error) {
	if err := s.begin(); err != nil {
		return 0, err
	}
	err = s.queryRow(sqlUncountCause, n, c.Cause, int64(c.State), c.Queue, c.Task, c.Version, c.Host, n).Scan(&left)
	if errors.Is(err, sql.ErrNoRows) {
		return -1, nil
	}
	if err == nil && left == 0 {
		err = s.exec(sqlDropCount, c.Cause, int64(c.State), c.Queue, c.Task, c.Version, c.Host)
	}
	return left, err
}

// EachCause visits the type and the template of each cause. It reads them all.
func (s *Store) EachCause(visit func(id int64, errorType, template string)) error {
	return each(s, everyCause, func(r *sql.Rows) error { return visitCause(r, visit) })
}

// Wordings goes with [Store.EachCause], for readers.
func (s *Store) Wordings(ctx context.Context, visit func(id int64, errorType, template string)) error {
	r, err := s.ask(ctx, everyCause)
	if err != nil {
		return err
	}
	defer r.Close()
	for r.Next() {
		if err := visitCause(r, visit); err != nil {
			return err
		}
	}
	return r.Err()
}

// everyCause reads them all, of which there is a bounded number.
const everyCause = "SELECT id, error_type, template FROM causes"

func visitCause(r *sql.Rows, visit func(id int64, errorType, template string)) error {
	var id int64
	var errorType, template string
	err := r.Scan(&id, &errorType, &template)
	visit(id, errorType, template)
	return err
}

// Cause is a cause's row.
type Cause struct {
	ID              int64
	Type, Template  string
	Total           int64
	FirstAt, LastAt job.Time
}

// CauseCounts reads the kept counts of a cause, or of all where it is 0.
func (s *Store) CauseCounts(ctx context.Context, cause int64) (all []CauseCount, err error) {
	query, args := "SELECT cause, state, queue, task, version, host, n FROM cause_counts WHERE n > 0", []any(nil)
	if cause != 0 {
		query, args = query+" AND cause = ?", []any{cause}
	}
	r, err := s.ask(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for r.Next() {
		var c CauseCount
		if err := r.Scan(&c.Cause, &c.State, &c.Queue, &c.Task, &c.Version, &c.Host, &c.N); err != nil {
			return nil, err
		}
		all = append(all, c)
	}
	return all, r.Err()
}

// SupersededRun is a dead run of a schedule whose place a later run took.
type SupersededRun struct{ Cause, Schedule, Queue, Task int64 }

// SupersededRuns reads those of the schedules that are there, few of each.
func (s *Store) SupersededRuns(ctx context.Context) (all []SupersededRun, err error) {
	r, err := s.ask(ctx, `SELECT j.cause, j.schedule, j.queue, j.task FROM schedules s CROSS JOIN jobs j {by jobs_of_schedule}
		WHERE j.schedule = s.id AND j.schedule <> 0 AND j.state = {dead} AND (j.state < {done} OR j.state = {dead} AND j.reason = 'superseded') AND j.removed_by = 0`)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for r.Next() {
		var run SupersededRun
		if err := r.Scan(&run.Cause, &run.Schedule, &run.Queue, &run.Task); err != nil {
			return nil, err
		}
		all = append(all, run)
	}
	return all, r.Err()
}

// Causes reads causes by their ids.
func (s *Store) Causes(ctx context.Context, ids []int64) (map[int64]Cause, error) {
	all := map[int64]Cause{}
	err := s.eachOf(ctx, "SELECT id, error_type, template, total, first_at, last_at FROM causes WHERE id IN (?)", ids, func(r *sql.Rows) error {
		var c Cause
		err := r.Scan(&c.ID, &c.Type, &c.Template, &c.Total, &c.FirstAt, &c.LastAt)
		all[c.ID] = c
		return err
	})
	return all, err
}

// IDsWithCause reads ids of the jobs in backoff or dead by a cause beyond after.
func (s *Store) IDsWithCause(ctx context.Context, cause, after int64, newest bool, limit int) ([]int64, error) {
	cmp, dir := beyond(newest)
	return ids(s.ask(ctx, "SELECT id FROM jobs WHERE cause = ? AND cause <> 0 AND state IN ({backoff}, {dead}) AND removed_by = 0 AND id "+cmp+" ? ORDER BY id "+dir+" LIMIT ?", cause, after, limit))
}

// CausesWithJobs counts, for dead jobs and for those in backoff, by how many causes they are so. It
// reads all counts of causes.
func (s *Store) CausesWithJobs(ctx context.Context) (map[job.State]int, error) {
	rows, err := s.ask(ctx, "SELECT state, count(DISTINCT cause) FROM cause_counts WHERE n > 0 GROUP BY state")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	counts := map[job.State]int{}
	for rows.Next() {
		var state job.State
		var n int
		if err := rows.Scan(&state, &n); err != nil {
			return nil, err
		}
		counts[state] = n
	}
	return counts, rows.Err()
}
