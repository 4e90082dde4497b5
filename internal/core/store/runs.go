package store

import (
	"context"
	"database/sql"
	"errors"

	"humblemule.example/api"
	"humblemule.example/job"
)

// RunsKept is how many lines of a schedule's history are kept.
const RunsKept = 1000

var sqlHasRun = statement(`SELECT id FROM schedule_runs WHERE schedule = ? AND planned_at = ?`)

// HasRun tells whether the history of a schedule has a line for a time.
func (s *Store) HasRun(schedule int64, at job.Time) (bool, error) {
	n, err := s.number(sqlHasRun, schedule, int64(at))
	return n != 0, err
}

var sqlAddRun = statement(`INSERT INTO schedule_runs (schedule, planned_at, n, asked, job, enqueued_at, reason, times) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`)

var sqlFoldRuns = statement(`DELETE FROM schedule_runs WHERE schedule = ?1 AND planned_at <= (SELECT planned_at FROM schedule_runs WHERE schedule = ?1 ORDER BY planned_at DESC LIMIT 1 OFFSET ?2)`)

// AddRun writes a planned time of a schedule and what became of it, and drops the oldest
// where there are too many.
func (s *Store) AddRun(schedule int64, r *api.Run) error {
	return errors.Join(
		s.exec(sqlAddRun, schedule, int64(r.PlannedAt), r.Number, r.Asked, r.Job, int64(r.EnqueuedAt), r.Reason, max(r.Times, 1)),
		s.exec(sqlFoldRuns, schedule, RunsKept),
	)
}

var sqlEndRun = statement(`UPDATE schedule_runs SET state = ?, started_at = ?, finished_at = ? WHERE job = ? AND job <> 0`)

// EndRun writes how the job of a run has ended.
func (s *Store) EndRun(r *Row) error {
	return s.exec(sqlEndRun, int64(r.State), int64(r.StartedAt), int64(r.FinishedAt), r.ID)
}

var sqlRunOf = statement(runOf)

// RunOf reads the number and the planned time of a job's run; zero where it has none.
func (s *Store) RunOf(id int64) (number int64, planned job.Time, err error) {
	return runFrom(s.queryRow(sqlRunOf, id))
}

// ReadRunOf is [Store.RunOf] outside of the transaction.
func (s *Store) ReadRunOf(ctx context.Context, id int64) (number int64, planned job.Time, err error) {
	return runFrom(s.askOne(ctx, runOf, id))
}

const runOf = "SELECT n, planned_at FROM schedule_runs WHERE job = ? AND job <> 0 LIMIT 1"

func runFrom(r interface{ Scan(...any) error }) (number int64, planned job.Time, err error) {
	err = r.Scan(&number, &planned)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return number, planned, err
}

// Runs reads the history of a schedule before a planned time, the latest first.
func (s *Store) Runs(ctx context.Context, schedule int64, before job.Time, enqueued bool, limit int) (all []api.Run, err error) {
	query := `SELECT r.n, r.planned_at, r.asked, r.job, r.enqueued_at, coalesce(nullif(r.started_at, 0), j.started_at, 0), coalesce(nullif(r.finished_at, 0), j.finished_at, 0),
		coalesce(nullif(r.state, 0), j.state, 0), r.reason, r.times, coalesce(m.batch, 0)
		FROM schedule_runs r LEFT JOIN jobs j ON j.id = r.job AND j.removed_by = 0 LEFT JOIN specs m ON m.job = r.job WHERE r.schedule = ? AND r.planned_at < ? `
	if enqueued {
		query += "AND r.n > 0 "
	}
	found, err := s.ask(ctx, query+"ORDER BY r.planned_at DESC LIMIT ?", schedule, int64(before), limit)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	for found.Next() {
		var r api.Run
		if err := found.Scan(&r.Number, &r.PlannedAt, &r.Asked, &r.Job, &r.EnqueuedAt, &r.StartedAt, &r.FinishedAt, &r.State, &r.Reason, &r.Times, &r.Batch); err != nil {
			return nil, err
		}
		if r.Times == 1 {
			r.Times = 0
		}
		all = append(all, r)
	}
	return all, found.Err()
}
