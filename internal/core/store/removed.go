package store

import (
	"database/sql"
	"errors"
	"slices"
)

var sqlRestore = statement(`UPDATE jobs SET removed_by = 0, removed_at = 0 WHERE id = ?`)

// Restore takes back a removal.
func (s *Store) Restore(id int64) error { return s.exec(sqlRestore, id) }

var sqlRemoved = statement(`SELECT ` + rowColumns + ` FROM ` + rowsFrom + ` WHERE id = ? AND removed_by <> 0`)

// Removed reads the row of a removed job; nil where there is none.
func (s *Store) Removed(id int64) (*Row, error) { return s.oneRow(sqlRemoved, id) }

var sqlSweepable = statement(`SELECT ` + rowColumns + ` FROM ` + rowsFrom + ` WHERE removed_by <> 0 AND removed_at <= ? ORDER BY removed_at, id LIMIT ?`)

// Sweepable reads jobs that were removed before the file was served so long.
func (s *Store) Sweepable(upTo int64, limit int) ([]*Row, error) {
	return rows(s.query(sqlSweepable, upTo, limit))
}

// HeldByOperation stands for the time of the removal of jobs that an operation removes:
// they are swept when the time after its last removal is over.
const HeldByOperation = 4_000_000_000_000_000_000

var sqlNextSweep = statement(`SELECT removed_at FROM jobs WHERE removed_by <> 0 AND removed_at < 4000000000000000000 ORDER BY removed_at, id LIMIT 1`)

// FirstRemoved tells how long the file was served when the first job that is not swept
// yet was removed.
func (s *Store) FirstRemoved() (served int64, found bool, err error) {
	err = s.queryRow(sqlNextSweep).Scan(&served)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return served, err == nil, err
}

var sqlSweepJobs = statement(`DELETE FROM jobs WHERE id` + among)

var sqlSweepSpecs = statement(`DELETE FROM specs WHERE job` + among)

var sqlSweepAttempts = statement(`DELETE FROM attempts WHERE job` + among)

var sqlSweepBodies = statement(`DELETE FROM bodies WHERE job` + among)

var sqlSweepLines = statement(`DELETE FROM log_lines WHERE job` + among)

var sqlSweepResults = statement(`DELETE FROM results_kept WHERE job` + among)

var sqlSweepSteps = statement(`DELETE FROM steps WHERE job` + among)

// Sweep deletes jobs with all that belongs to them.
func (s *Store) Sweep(all ...int64) error {
	for ids := range slices.Chunk(all, AtOnce) {
		labels, err := s.labelsOf(ids...)
		if err != nil {
			return err
		}
		for id, text := range labels {
			if err := s.label(id, text, ""); err != nil {
				return err
			}
		}
		values := padded(ids)
		for _, stmt := range []*sqlStatement{sqlSweepJobs, sqlSweepSpecs, sqlSweepAttempts, sqlSweepBodies, sqlSweepLines, sqlSweepResults, sqlSweepSteps, sqlSweepEdges} {
			if err := s.exec(stmt, values...); err != nil {
				return err
			}
		}
	}
	return nil
}

var sqlRemovedOfQueue = statement(`SELECT id FROM jobs {by jobs_removed_of} WHERE queue = ? AND removed_by <> 0 LIMIT 1`)

var sqlRemovedOfTask = statement(`SELECT j.id FROM queues q CROSS JOIN jobs j {by jobs_removed_of} WHERE j.queue = q.id AND j.task = ? AND j.removed_by <> 0 LIMIT 1`)

// HasRemoved tells whether a queue or a task, 0 for none, has jobs that were removed and
// can still be brought back.
func (s *Store) HasRemoved(queue, task int64) (has bool, err error) {
	stmt, id := sqlRemovedOfQueue, queue
	if queue == 0 {
		stmt, id = sqlRemovedOfTask, task
	}
	found, err := s.number(stmt, id)
	return found != 0, err
}

var sqlRemovedBy = statement(`SELECT ` + rowColumns + ` FROM ` + rowsFrom + ` WHERE removed_by = ? AND removed_by <> 0 ORDER BY id LIMIT ?`)

// RemovedBy reads jobs that an action has removed.
func (s *Store) RemovedBy(action int64, limit int) ([]*Row, error) {
	return rows(s.query(sqlRemovedBy, action, limit))
}
