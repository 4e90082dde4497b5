package store

import (
	"context"
	"database/sql"
	"errors"

	"humblemule/api"
	"humblemule/job"
)

// Operation is the row of an action on many jobs: Body is what it is, as JSON, and
// Position the last job that it has looked at.
type Operation struct {
	ID, Action  int64
	State, Body string
	Position    int64
}

// AddOperation writes an operation of an action and answers its id.
func (s *Store) AddOperation(action int64, state, body string) (int64, error) {
	return s.execID(s.st.addOperation, action, state, body)
}

// PutOperation writes how far an operation has come.
func (s *Store) PutOperation(o Operation) error {
	return s.exec(s.st.putOperation, o.State, o.Body, o.Position, o.ID)
}

// RemovedBy reads jobs that an action has removed.
func (s *Store) RemovedBy(action int64, limit int) ([]*Row, error) {
	return rows(s.st.removedBy.QueryContext(background, action, limit))
}

// CountBecame adds to what became of the jobs that an operation has requeued.
func (s *Store) CountBecame(operation int64, state job.State, n int64) error {
	return s.exec(s.st.countBecame, operation, int64(state), n)
}

// Became reads what became of the jobs that an operation has requeued.
func (s *Store) Became(ctx context.Context, operation int64) (map[job.State]int64, error) {
	r, err := s.read.Load().QueryContext(ctx, "SELECT state, n FROM operation_counts WHERE operation = ? AND n > 0", operation)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	became := map[job.State]int64{}
	for r.Next() {
		var state job.State
		var n int64
		if err := r.Scan(&state, &n); err != nil {
			return nil, err
		}
		became[state] = n
	}
	return became, r.Err()
}

// Removals reads the operations that have removed jobs which are not swept yet.
func (s *Store) Removals() (all []Operation, err error) {
	for action := int64(0); ; {
		err := s.conn.QueryRowContext(background, "SELECT removed_by FROM jobs INDEXED BY jobs_removed_by WHERE removed_by > ? AND removed_by <> 0 ORDER BY removed_by LIMIT 1", action).Scan(&action)
		if errors.Is(err, sql.ErrNoRows) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		found, err := operations(s.conn.QueryContext(background, operationColumns+"WHERE action = ?", action))
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
	}
}

const operationColumns = "SELECT id, action, state, filter, CAST(position AS INTEGER) FROM operations "

// Operations reads operations, the latest first.
func (s *Store) Operations(ctx context.Context, limit int) ([]Operation, error) {
	return operations(s.read.Load().QueryContext(ctx, operationColumns+"ORDER BY id DESC LIMIT ?", limit))
}

// OperationsIn reads the operations in a state, from the writing connection.
func (s *Store) OperationsIn(states ...string) (all []Operation, err error) {
	for _, state := range states {
		found, err := operations(s.conn.QueryContext(background, operationColumns+"WHERE state = ?", state))
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
	}
	return all, nil
}

// Operation reads an operation; nil where there is none.
func (s *Store) Operation(ctx context.Context, id int64) (*Operation, error) {
	all, err := operations(s.read.Load().QueryContext(ctx, operationColumns+"WHERE id = ?", id))
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

func operations(r *sql.Rows, err error) (all []Operation, _ error) {
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for r.Next() {
		var o Operation
		if err := r.Scan(&o.ID, &o.Action, &o.State, &o.Body, &o.Position); err != nil {
			return nil, err
		}
		all = append(all, o)
	}
	return all, r.Err()
}

// Actions reads what operators did, the latest first, before an action's number; to
// one job where it is not 0.
func (s *Store) Actions(ctx context.Context, before, id int64, limit int) (all []api.Action, err error) {
	query, args := "SELECT id, at, principal, action, job, detail FROM actions WHERE id < ? ORDER BY id DESC LIMIT ?", []any{before, limit}
	if id != 0 {
		query, args = "SELECT id, at, principal, action, job, detail FROM actions INDEXED BY actions_job WHERE job = ? AND job <> 0 AND id < ? ORDER BY id DESC LIMIT ?", []any{id, before, limit}
	}
	r, err := s.read.Load().QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, r.Close()) }()
	for r.Next() {
		var a api.Action
		var detail string
		if err := r.Scan(&a.ID, &a.At, &a.Principal, &a.Action, &a.Job, &detail); err != nil {
			return nil, err
		}
		a.Detail = []byte(detail)
		all = append(all, a)
	}
	return all, r.Err()
}

// editsKept is how many edits of a job's payload are kept.
const editsKept = 10

// KeepEdited keeps the payload that a job had before an action; of the latest edits.
func (s *Store) KeepEdited(id, action int64, before []byte) error {
	return errors.Join(s.exec(s.st.insertBody, id, EditedBody, action, before), s.exec(s.st.foldEdits, id, editsKept))
}

// Edits reads the edits of a job's payload, in order, each with the payload before it.
func (s *Store) Edits(ctx context.Context, id int64) (all []job.Edit, err error) {
	r, err := s.read.Load().QueryContext(ctx, "SELECT b.bytes, a.action, a.principal, a.at FROM bodies b JOIN actions a ON a.id = b.n WHERE b.job = ? AND b.kind = ? ORDER BY b.n", id, EditedBody)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for r.Next() {
		var e job.Edit
		var before []byte
		if err := r.Scan(&before, &e.Action, &e.By, &e.At); err != nil {
			return nil, err
		}
		e.Before = before
		all = append(all, e)
	}
	return all, r.Err()
}
