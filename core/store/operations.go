package store

import (
	"context"
	"database/sql"
	"errors"

	"humblemule/core/job"
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
func (s *Store) Actions(ctx context.Context, before, id int64, limit int) (all []job.Action, err error) {
	r, err := s.read.Load().QueryContext(ctx, "SELECT id, at, principal, action, job, detail FROM actions WHERE id < ? AND (? = 0 OR job = ?) ORDER BY id DESC LIMIT ?", before, id, id, limit)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, r.Close()) }()
	for r.Next() {
		var a job.Action
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
