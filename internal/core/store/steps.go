package store

import (
	"context"
	"database/sql"
	"errors"

	"humblemule.example/job"
)

// Step is the row of a part of a job's work.
type Step struct {
	Job             int64
	Name            string
	Attempt         int
	BegunAt, DoneAt job.Time
	Result          []byte
}

var sqlBeginStep = statement(`INSERT INTO steps (job, name, attempt, begun_at) VALUES (?1, ?2, ?3, ?4) ON CONFLICT (job, name) DO UPDATE SET attempt = ?3, begun_at = ?4 WHERE done_at = 0`)

// BeginStep writes that an attempt begins a step; one that is done stays so.
func (s *Store) BeginStep(id int64, name string, attempt int, now job.Time) error {
	return s.exec(sqlBeginStep, id, name, attempt, int64(now))
}

var sqlEndStep = statement(`INSERT INTO steps (job, name, attempt, begun_at, done_at, result) VALUES (?1, ?2, ?3, ?4, ?4, ?5) ON CONFLICT (job, name) DO UPDATE SET done_at = ?4, result = ?5 WHERE done_at = 0`)

// EndStep writes a step's result.
func (s *Store) EndStep(id int64, name string, attempt int, result []byte, now job.Time) error {
	return s.exec(sqlEndStep, id, name, attempt, int64(now), result)
}

var sqlDropStep = statement(`DELETE FROM steps WHERE job = ? AND name = ? AND done_at = 0`)

// DropStep forgets a step that was not done.
func (s *Store) DropStep(id int64, name string) error { return s.exec(sqlDropStep, id, name) }

var sqlForgetSteps = statement(`DELETE FROM steps WHERE job = ?`)

// ForgetSteps forgets all steps of a job.
func (s *Store) ForgetSteps(id int64) error { return s.exec(sqlForgetSteps, id) }

var sqlStepsOf = statement(stepColumns)

// StepsOf reads the steps of a job inside the transaction.
func (s *Store) StepsOf(id int64) ([]Step, error) {
	return steps(s.query(sqlStepsOf, id))
}

const stepColumns = "SELECT job, name, attempt, begun_at, done_at, result FROM steps WHERE job = ? ORDER BY name"

// Steps reads the steps of jobs, each job's by their names.
func (s *Store) Steps(ctx context.Context, ids []int64) (map[int64][]Step, error) {
	all := map[int64][]Step{}
	err := s.eachOf(ctx, "SELECT job, name, attempt, begun_at, done_at, result FROM steps WHERE job IN (?) ORDER BY job, name", ids, func(r *sql.Rows) error {
		x, err := step(r)
		all[x.Job] = append(all[x.Job], x)
		return err
	})
	return all, err
}

func steps(r *sql.Rows, err error) (all []Step, _ error) {
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for r.Next() {
		x, err := step(r)
		if err != nil {
			return nil, err
		}
		all = append(all, x)
	}
	return all, errors.Join(r.Err(), r.Close())
}

func step(r *sql.Rows) (x Step, err error) {
	err = r.Scan(&x.Job, &x.Name, &x.Attempt, &x.BegunAt, &x.DoneAt, &x.Result)
	return x, err
}

// IDsInDoubt reads ids of jobs beyond after with a step that is begun and not done.
func (s *Store) IDsInDoubt(ctx context.Context, after int64, newest bool, limit int) ([]int64, error) {
	cmp, dir := beyond(newest)
	return ids(s.ask(ctx, "SELECT DISTINCT job FROM steps WHERE done_at = 0 AND job "+cmp+" ? ORDER BY job "+dir+" LIMIT ?", after, limit))
}

// InDoubt counts the jobs that do not run and have a step that is begun and not done, up to a
// number.
func (s *Store) InDoubt(ctx context.Context, most int64) (n int64, err error) {
	err = s.askOne(ctx, "SELECT count(*) FROM (SELECT DISTINCT s.job FROM steps s JOIN jobs j ON j.id = s.job WHERE s.done_at = 0 AND j.state <> {running} AND j.removed_by = 0 LIMIT ?) AS doubtful", most).Scan(&n)
	return n, err
}
