package store

import (
	"context"
	"database/sql"
	"errors"
	"math"

	"humblemule.example/job"
)

// Operation is the row of an action on many jobs: Body is what it is, as JSON, and
// Position the last job that it has looked at.
type Operation struct {
	ID, Action  int64
	State, Body string
	Position    int64
}

var sqlAddOperation = statement(`INSERT INTO operations (action, state, filter) VALUES (?, ?, ?) RETURNING id`)

// AddOperation writes an operation of an action and answers its id.
func (s *Store) AddOperation(action int64, state, body string) (int64, error) {
	return s.execID(sqlAddOperation, action, state, body)
}

var sqlPutOperation = statement(`UPDATE operations SET state = ?, filter = ?, position = ? WHERE id = ?`)

// PutOperation writes how far an operation has come.
func (s *Store) PutOperation(o Operation) error {
	return s.exec(sqlPutOperation, o.State, o.Body, o.Position, o.ID)
}

var sqlCountBecame = statement(`INSERT INTO operation_counts (operation, state, n) VALUES (?, ?, ?) ON CONFLICT (operation, state) DO UPDATE SET n = n + excluded.n`)

// CountBecame adds to what became of the jobs that an operation has requeued.
func (s *Store) CountBecame(operation int64, state job.State, n int64) error {
	return s.exec(sqlCountBecame, operation, int64(state), n)
}

// Became reads what became of the jobs that an operation has requeued.
func (s *Store) Became(ctx context.Context, operation int64) (map[job.State]int64, error) {
	r, err := s.ask(ctx, "SELECT state, n FROM operation_counts WHERE operation = ? AND n > 0", operation)
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
		err := s.conn.QueryRowContext(background, known("SELECT removed_by FROM jobs {by jobs_removed_by} WHERE removed_by > ? AND removed_by <> 0 ORDER BY removed_by LIMIT 1"), action).Scan(&action)
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

// Operations reads operations before one, the latest first; before 0 means all.
func (s *Store) Operations(ctx context.Context, before int64, limit int) ([]Operation, error) {
	if before == 0 {
		before = math.MaxInt64
	}
	return operations(s.ask(ctx, operationColumns+"WHERE id < ? ORDER BY id DESC LIMIT ?", before, limit))
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
	all, err := operations(s.ask(ctx, operationColumns+"WHERE id = ?", id))
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
