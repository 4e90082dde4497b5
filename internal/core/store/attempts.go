package store

import (
	"context"
	"database/sql"
	"errors"

	"humblemule.example/job"
)

// Attempt is a row of an ended attempt.
type Attempt struct {
	Job                int64
	N, Round           int
	Worker, Token      int64
	StartedAt, EndedAt job.Time
	RunMS              int64
	Outcome            job.Outcome
	Counted            bool
	ErrorType          string
	ErrorMessage       string
	Stack              string
	// Percent is -1 where no progress was told.
	Percent  float64
	Note     string
	LogLines int
}

// The first and the last attempts of a job that are kept whole.
const (
	FirstKept = 10
	LastKept  = 90
)

var sqlInsertAttempt = statement(`INSERT INTO attempts (job, n, round, worker, token, started_at, ended_at, run_ms, outcome, counted, error_type, error_message, percent, note, log_lines)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`)

var sqlFoldAttempt = statement(`DELETE FROM attempts WHERE job = ? AND n = ?`)

var sqlDeleteLines = statement(`DELETE FROM log_lines WHERE job = ? AND attempt = ?`)

// InsertAttempt writes an ended attempt and folds the one that is then neither
// among the first nor among the last.
func (s *Store) InsertAttempt(a *Attempt) error {
	err := s.PutAttempt(a)
	if folded := a.N - LastKept; err == nil && folded > FirstKept {
		err = errors.Join(s.exec(sqlFoldAttempt, a.Job, folded), s.exec(sqlDeleteBody, a.Job, StackBody, folded), s.exec(sqlDeleteLines, a.Job, folded))
	}
	return err
}

// PutAttempt writes an ended attempt of which others are not folded.
func (s *Store) PutAttempt(a *Attempt) error {
	err := s.exec(sqlInsertAttempt, a.Job, a.N, a.Round, a.Worker, a.Token, int64(a.StartedAt), int64(a.EndedAt), a.RunMS, string(a.Outcome), a.Counted, a.ErrorType, a.ErrorMessage, a.Percent, a.Note, a.LogLines)
	if err == nil && a.Stack != "" {
		err = s.execNow(sqlInsertBody, a.Job, StackBody, a.N, []byte(a.Stack))
	}
	return err
}

// KeepAttempt writes the attempt that a row holds, before the row begins a new round.
func (s *Store) KeepAttempt(r *Row) error {
	if !r.HoldsAttempt() {
		return nil
	}
	a := r.attempt()
	r.Token, r.RunMS = 0, 0
	return errors.Join(s.exec(sqlLetAttemptGo, r.ID), s.InsertAttempt(a))
}

var sqlLetAttemptGo = statement(`UPDATE jobs SET token = 0, run_ms = 0 WHERE id = ?`)

var sqlAttempt = statement(`SELECT token, outcome, error_type FROM attempts WHERE job = ?1 AND n = ?2
			UNION ALL SELECT token, 'done', '' FROM jobs WHERE id = ?1 AND attempt = ?2 AND state = {done} AND token <> 0`)

// EndedAttempt finds the token, outcome and error type of an ended attempt; nil
// where there is none.
func (s *Store) EndedAttempt(id int64, n int) (*Attempt, error) {
	a := &Attempt{Job: id, N: n}
	err := s.queryRow(sqlAttempt, id, n).Scan(&a.Token, &a.Outcome, &a.ErrorType)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return a, err
}

// Attempts reads the kept attempts of jobs, each in order.
func (s *Store) Attempts(ctx context.Context, of []*Row) (map[int64][]Attempt, error) {
	all := make(map[int64][]Attempt, len(of))
	var ids []int64
	for _, r := range of {
		if r.Attempt > 1 || r.Attempt == 1 && !r.HoldsAttempt() {
			ids = append(ids, r.ID)
		}
	}
	err := s.eachOf(ctx, `SELECT a.job, a.n, a.round, a.worker, a.token, a.started_at, a.ended_at, a.run_ms, a.outcome, a.counted, a.error_type, a.error_message, a.percent, a.note, a.log_lines, coalesce(b.bytes, '')
		FROM attempts a LEFT JOIN bodies b ON b.job = a.job AND b.kind = {stack} AND b.n = a.n WHERE a.job IN (?) ORDER BY a.job, a.n`, ids, func(r *sql.Rows) error {
		var a Attempt
		err := r.Scan(&a.Job, &a.N, &a.Round, &a.Worker, &a.Token, &a.StartedAt, &a.EndedAt, &a.RunMS, &a.Outcome, &a.Counted, &a.ErrorType, &a.ErrorMessage, &a.Percent, &a.Note, &a.LogLines, &a.Stack)
		all[a.Job] = append(all[a.Job], a)
		return err
	})
	for _, r := range of {
		if r.HoldsAttempt() {
			all[r.ID] = append(all[r.ID], *r.attempt())
		}
	}
	return all, err
}

// LastFailures reads by what the latest ended attempts of jobs have failed, without stacks;
// nothing of one that has not failed.
func (s *Store) LastFailures(ctx context.Context, ids []int64) (map[int64]*job.Failure, error) {
	all := make(map[int64]*job.Failure, len(ids))
	err := s.eachOf(ctx, `SELECT j.id, a.error_type, a.error_message FROM jobs j CROSS JOIN attempts a ON a.job = j.id
		AND a.n = (SELECT n FROM attempts WHERE job = j.id ORDER BY n DESC LIMIT 1) WHERE NOT (j.state = {done} AND j.token <> 0) AND j.id IN (?)`, ids, func(r *sql.Rows) error {
		var id int64
		f := new(job.Failure)
		err := r.Scan(&id, &f.Type, &f.Message)
		if f.Type != "" || f.Message != "" {
			all[id] = f
		}
		return err
	})
	return all, err
}
