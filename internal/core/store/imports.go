package store

import (
	"context"
	"database/sql"
	"errors"

	"humblemule.example/job"
)

// Import is another store, of which jobs were imported.
type Import struct {
	ID    int64
	Store string
	// Below is the id below which jobs have the ids that they have there; 0 where none has.
	Below  int64
	MadeAt job.Time
	MadeBy string
	// Jobs is how many were imported so far, and Ranks what was added to the ranks of a queue's
	// jobs, as JSON.
	Jobs  int64
	Ranks string
}

// Imports reads all of them.
func (s *Store) Imports() (all []Import, err error) {
	err = each(s, "SELECT id, store, below, made_at, made_by, jobs, ranks FROM imports", func(r *sql.Rows) error {
		var i Import
		err := r.Scan(&i.ID, &i.Store, &i.Below, &i.MadeAt, &i.MadeBy, &i.Jobs, &i.Ranks)
		all = append(all, i)
		return err
	})
	return all, err
}

var sqlPutImport = statement(`INSERT INTO imports (id, store, below, made_at, made_by, jobs, ranks) VALUES (?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (id) DO UPDATE SET jobs = excluded.jobs, ranks = excluded.ranks`)

// PutImport writes one; of one that is there, how far it has come.
func (s *Store) PutImport(i *Import) error {
	return s.exec(sqlPutImport, i.ID, i.Store, i.Below, int64(i.MadeAt), i.MadeBy, i.Jobs, i.Ranks)
}

// Imported are jobs of another store that follow one another there and here.
type Imported struct{ First, Last, Job int64 }

var (
	sqlImported    = statement(importedUpTo)
	sqlPutImported = statement(`INSERT INTO imported (import, first, last, job) VALUES (?, ?, ?, ?)`)
	// Where they follow those that were noted last, there and here, they are added to their line.
	sqlAddImported = statement(`UPDATE imported SET last = ?3 WHERE import = ?1 AND first = (SELECT first FROM imported WHERE import = ?1 AND first < ?2 ORDER BY first DESC LIMIT 1)
			AND last = ?2 - 1 AND job + (?2 - first) = ?4 RETURNING 1`)
)

const importedUpTo = "SELECT first, last, job FROM imported WHERE import = ? AND first <= ? ORDER BY first DESC LIMIT 1"

// ImportedAs tells which job one of another store has become; 0 where it was not imported.
func (s *Store) ImportedAs(number, id int64) (int64, error) {
	return importedAs(s.queryRow(sqlImported, number, id), id)
}

// ReadImportedAs is [Store.ImportedAs] outside of the transaction.
func (s *Store) ReadImportedAs(ctx context.Context, number, id int64) (int64, error) {
	return importedAs(s.askOne(ctx, importedUpTo, number, id), id)
}

func importedAs(r interface{ Scan(...any) error }, id int64) (int64, error) {
	var i Imported
	err := r.Scan(&i.First, &i.Last, &i.Job)
	switch {
	case errors.Is(err, sql.ErrNoRows), err == nil && id > i.Last:
		return 0, nil
	case err != nil:
		return 0, err
	}
	return i.Job + id - i.First, nil
}

// AddImported notes what jobs of another store have become.
func (s *Store) AddImported(number int64, i Imported) error {
	if err := s.begin(); err != nil {
		return err
	}
	added, err := s.number(sqlAddImported, number, i.First, i.Last, i.Job)
	if err != nil || added != 0 {
		return err
	}
	return s.exec(sqlPutImported, number, i.First, i.Last, i.Job)
}

// ImportedFrom tells which job of which other store a job was; zero where it was enqueued here.
func (s *Store) ImportedFrom(ctx context.Context, id int64) (from job.ImportedFrom, err error) {
	var i Imported
	err = s.askOne(ctx, "SELECT i.store, r.first, r.last, r.job FROM imported AS r {by imported_job} CROSS JOIN imports AS i ON i.id = r.import WHERE r.job <= ? ORDER BY r.job DESC LIMIT 1", id).
		Scan(&from.Store, &i.First, &i.Last, &i.Job)
	if errors.Is(err, sql.ErrNoRows) || err == nil && id-i.Job > i.Last-i.First {
		return job.ImportedFrom{}, nil
	}
	from.Job = i.First + id - i.Job
	return from, err
}

var sqlLived = statement(`UPDATE jobs SET attempt = ?2, tries = ?3, round = ?4, started_at = ?5, finished_at = ?6, worker = ?7, cancel_asked_at = ?8, cause = ?9, reason = ?10, reason_text = ?11 WHERE id = ?1`)

// PutLived writes what a job has gone through elsewhere into its row, which is there.
func (s *Store) PutLived(r *Row) error {
	return s.exec(sqlLived, r.ID, r.Attempt, r.Tries, r.Round, int64(r.StartedAt), int64(r.FinishedAt), r.Worker, int64(r.CancelAskedAt), r.Cause, r.Reason, r.ReasonText)
}

var sqlPutStep = statement(`INSERT INTO steps (job, name, attempt, begun_at, done_at, result) VALUES (?, ?, ?, ?, ?, ?)`)

// PutStep writes a step of a job as it stood elsewhere.
func (s *Store) PutStep(x *Step) error {
	return s.exec(sqlPutStep, x.Job, x.Name, x.Attempt, int64(x.BegunAt), int64(x.DoneAt), x.Result)
}
