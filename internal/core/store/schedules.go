package store

import (
	"context"
	"database/sql"
	"errors"

	"humblemule/api"
	"humblemule/job"
)

// Schedule is the row of a schedule; Body is its rule, as JSON.
type Schedule struct {
	ID                  int64
	Name, Body          string
	Version             int64
	MadeAt, PausedAt    job.Time
	PausedBy            string
	NextAt              job.Time
	Runs, Last, Waiting int64
	// Behind is the job that Waiting waits for.
	Behind int64
	// Failed is how many runs have died in a row, and LastDone when one was last done.
	Failed   int64
	LastDone job.Time
}

const scheduleColumns = "id, name, body, version, made_at, paused_at, paused_by, next_at, runs, last, waiting, behind, failed, last_done"

// Schedules reads all schedules.
func (s *Store) Schedules() (all []Schedule, err error) {
	err = each(s, "SELECT "+scheduleColumns+" FROM schedules", func(r *sql.Rows) error {
		var x Schedule
		err := r.Scan(&x.ID, &x.Name, &x.Body, &x.Version, &x.MadeAt, &x.PausedAt, &x.PausedBy, &x.NextAt, &x.Runs, &x.Last, &x.Waiting, &x.Behind, &x.Failed, &x.LastDone)
		all = append(all, x)
		return err
	})
	return all, err
}

// PutSchedule writes a schedule, new or not.
func (s *Store) PutSchedule(x *Schedule) error {
	return s.exec(s.st.putSchedule, x.ID, x.Name, x.Body, x.Version, int64(x.MadeAt), int64(x.PausedAt), x.PausedBy, int64(x.NextAt), x.Runs, x.Last, x.Waiting, x.Behind, x.Failed, int64(x.LastDone))
}

// ActiveOf reads an unfinished job of a schedule that is not held, other than one; 0 for
// none.
func (s *Store) ActiveOf(schedule, other int64) (int64, error) {
	return s.number(s.st.activeOf, schedule, other)
}

// HeldOf reads the first held job of a schedule, other than one; nil for none.
func (s *Store) HeldOf(schedule, other int64) (*Row, error) {
	return one(s.st.heldOf.QueryRowContext(background, schedule, other))
}

// SupersededOf reads the dead jobs of a schedule beyond the newest so many, whose places
// were taken by later runs.
func (s *Store) SupersededOf(schedule int64, kept int) ([]*Row, error) {
	return rows(s.st.supersededOf.QueryContext(background, schedule, kept))
}

// DropSchedule removes a schedule and its history.
func (s *Store) DropSchedule(id int64) error {
	return errors.Join(s.exec(s.st.dropSchedule, id), s.exec(s.st.dropRuns, id))
}

// RunsKept is how many lines of a schedule's history are kept.
const RunsKept = 1000

// HasRun tells whether the history of a schedule has a line for a time.
func (s *Store) HasRun(schedule int64, at job.Time) (bool, error) {
	n, err := s.number(s.st.hasRun, schedule, int64(at))
	return n != 0, err
}

// AddRun writes a planned time of a schedule and what became of it, and drops the oldest
// where there are too many.
func (s *Store) AddRun(schedule int64, r *api.Run) error {
	return errors.Join(
		s.exec(s.st.addRun, schedule, int64(r.PlannedAt), r.Number, r.Asked, r.Job, int64(r.EnqueuedAt), r.Reason, max(r.Times, 1)),
		s.exec(s.st.foldRuns, schedule, RunsKept),
	)
}

// EndRun writes how the job of a run has ended.
func (s *Store) EndRun(r *Row) error {
	return s.exec(s.st.endRun, int64(r.State), int64(r.StartedAt), int64(r.FinishedAt), r.ID)
}

// RunOf reads the number and the planned time of a job's run; zero where it has none.
func (s *Store) RunOf(id int64) (number int64, planned job.Time, err error) {
	return aRun(s.st.runOf.QueryRowContext(background, id))
}

// ReadRunOf is [Store.RunOf] outside of the transaction.
func (s *Store) ReadRunOf(ctx context.Context, id int64) (number int64, planned job.Time, err error) {
	return aRun(s.read.Load().QueryRowContext(ctx, runOf, id))
}

const runOf = "SELECT n, planned_at FROM schedule_runs WHERE job = ? AND job <> 0 LIMIT 1"

func aRun(r *sql.Row) (number int64, planned job.Time, err error) {
	err = r.Scan(&number, &planned)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return number, planned, err
}

// Runs reads the history of a schedule before a planned time, the latest first.
func (s *Store) Runs(ctx context.Context, schedule int64, before job.Time, enqueued bool, limit int) (all []api.Run, err error) {
	query := `SELECT r.n, r.planned_at, r.asked, r.job, r.enqueued_at, coalesce(nullif(r.started_at, 0), j.started_at, 0), coalesce(nullif(r.finished_at, 0), j.finished_at, 0),
		coalesce(nullif(r.state, 0), j.state, 0), r.reason, r.times
		FROM schedule_runs r LEFT JOIN jobs j ON j.id = r.job AND j.removed_by = 0 WHERE r.schedule = ? AND r.planned_at < ? `
	if enqueued {
		query += "AND r.n > 0 "
	}
	found, err := s.read.Load().QueryContext(ctx, query+"ORDER BY r.planned_at DESC LIMIT ?", schedule, int64(before), limit)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	for found.Next() {
		var r api.Run
		if err := found.Scan(&r.Number, &r.PlannedAt, &r.Asked, &r.Job, &r.EnqueuedAt, &r.StartedAt, &r.FinishedAt, &r.State, &r.Reason, &r.Times); err != nil {
			return nil, err
		}
		if r.Times == 1 {
			r.Times = 0
		}
		all = append(all, r)
	}
	return all, found.Err()
}

// Waiter is a job that waits for its time.
type Waiter struct {
	ID, Queue, Task int64
	State           job.State
	At              job.Time
}

// ComingJobs reads jobs that become due within a span, in time order.
func (s *Store) ComingJobs(ctx context.Context, from, until job.Time, limit int) (all []Waiter, err error) {
	found, err := s.read.Load().QueryContext(ctx, `SELECT id, queue, task, state, next_at FROM jobs WHERE state IN (2, 5) AND removed_by = 0 AND next_at >= ? AND next_at < ? ORDER BY next_at, id LIMIT ?`, int64(from), int64(until), limit)
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
