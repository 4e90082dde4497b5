package store

import (
	"context"
	"database/sql"
	"errors"

	"humblemule.example/job"
)

// Result writes a job's result.
func (s *Store) Result(id int64, result []byte) error {
	s.late.results.add(id, result)
	return nil
}

// Results reads the results of jobs.
func (s *Store) Results(ctx context.Context, ids []int64) (map[int64][]byte, error) {
	all := map[int64][]byte{}
	err := s.eachOf(ctx, "SELECT job, bytes FROM bodies WHERE kind = {result} AND n = 0 AND job IN (?)", ids, func(r *sql.Rows) error {
		var id int64
		var result []byte
		err := r.Scan(&id, &result)
		all[id] = result
		return err
	})
	return all, err
}

var sqlKeepResult = statement(`INSERT INTO results_kept (job, until) VALUES (?, ?) ON CONFLICT (job) DO UPDATE SET until = excluded.until`)

// KeepResult notes until when a job's result is kept.
func (s *Store) KeepResult(id int64, until job.Time) error {
	return s.exec(sqlKeepResult, id, int64(until))
}

var sqlDropResult = statement(`DELETE FROM results_kept WHERE job = ?`)

// DropResult removes a job's result.
func (s *Store) DropResult(id int64) error {
	return errors.Join(s.exec(sqlDeleteBody, id, ResultBody, 0), s.exec(sqlDropResult, id))
}

var sqlResultsOver = statement(`SELECT job FROM results_kept WHERE until <= ? ORDER BY until, job LIMIT ?`)

// ResultsOver reads the ids of jobs whose results are kept no longer than up to a
// time.
func (s *Store) ResultsOver(upTo job.Time, limit int) ([]int64, error) {
	return ids(s.query(sqlResultsOver, int64(upTo), limit))
}

var sqlNextResult = statement(`SELECT until FROM results_kept ORDER BY until, job LIMIT 1`)

// NextResult tells when the next result is to be removed; zero for never.
func (s *Store) NextResult() (job.Time, error) { return s.oneTime(sqlNextResult) }
