package store

import (
	"database/sql"
	"errors"

	"humblemule.example/job"
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

var sqlPutSchedule = statement(`INSERT INTO schedules (` + scheduleColumns + `) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14)
			ON CONFLICT (id) DO UPDATE SET name = ?2, body = ?3, version = ?4, paused_at = ?6, paused_by = ?7, next_at = ?8, runs = ?9, last = ?10, waiting = ?11, behind = ?12, failed = ?13, last_done = ?14`)

// PutSchedule writes a schedule, new or not.
func (s *Store) PutSchedule(x *Schedule) error {
	return s.exec(sqlPutSchedule, x.ID, x.Name, x.Body, x.Version, int64(x.MadeAt), int64(x.PausedAt), x.PausedBy, int64(x.NextAt), x.Runs, x.Last, x.Waiting, x.Behind, x.Failed, int64(x.LastDone))
}

var sqlDropSchedule = statement(`DELETE FROM schedules WHERE id = ?`)

var sqlDropRuns = statement(`DELETE FROM schedule_runs WHERE schedule = ?`)

// DropSchedule removes a schedule and its history.
func (s *Store) DropSchedule(id int64) error {
	return errors.Join(s.exec(sqlDropSchedule, id), s.exec(sqlDropRuns, id))
}

var sqlActiveOf = statement(`SELECT id FROM jobs {by jobs_of_schedule} WHERE schedule = ? AND schedule <> 0 AND state IN ({scheduled}, {ready}, {running}, {backoff}) AND (state < {done} OR state = {dead} AND reason = 'superseded') AND removed_by = 0 AND id <> ? LIMIT 1`)

// ActiveOf reads an unfinished job of a schedule that is not held, other than one; 0 for
// none.
func (s *Store) ActiveOf(schedule, other int64) (int64, error) {
	return s.number(sqlActiveOf, schedule, other)
}

var sqlHeldOf = statement(`SELECT ` + rowColumns + ` FROM ` + rowsBy("jobs_of_schedule") + ` WHERE schedule = ? AND schedule <> 0 AND state = {held} AND (state < {done} OR state = {dead} AND reason = 'superseded') AND removed_by = 0 AND id <> ? ORDER BY id LIMIT 1`)

// HeldOf reads the first held job of a schedule, other than one; nil for none.
func (s *Store) HeldOf(schedule, other int64) (*Row, error) {
	return one(s.queryRow(sqlHeldOf, schedule, other))
}

var sqlSupersededOf = statement(`SELECT ` + rowColumns + ` FROM ` + rowsBy("jobs_of_schedule") + ` WHERE schedule = ? AND schedule <> 0 AND state = {dead} AND (state < {done} OR state = {dead} AND reason = 'superseded') AND removed_by = 0 ORDER BY id DESC LIMIT 100 OFFSET ?`)

// SupersededOf reads the dead jobs of a schedule beyond the newest so many, whose places
// were taken by later runs.
func (s *Store) SupersededOf(schedule int64, kept int) ([]*Row, error) {
	return rows(s.query(sqlSupersededOf, schedule, kept))
}
