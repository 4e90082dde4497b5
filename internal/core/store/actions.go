package store

import (
	"context"
	"errors"
	"slices"

	"humblemule.example/api"
	"humblemule.example/job"
)

var sqlInsertAction = statement(`INSERT INTO actions (at, principal, action, job, detail) VALUES (?, ?, ?, ?, ?) RETURNING id`)

// InsertAction records what an operator did to a job, and answers the action's
// number.
func (s *Store) InsertAction(now job.Time, principal, action string, id int64, detail string) (int64, error) {
	return s.execID(sqlInsertAction, int64(now), principal, action, id, detail)
}

// Actions reads what operators did, the latest first, before an action's number; to
// one job where it is not 0.
func (s *Store) Actions(ctx context.Context, before, id int64, limit int) (all []api.Action, err error) {
	query, args := "SELECT id, at, principal, action, job, detail FROM actions WHERE id < ? ORDER BY id DESC LIMIT ?", []any{before, limit}
	if id != 0 {
		query, args = "SELECT id, at, principal, action, job, detail FROM actions {by actions_job} WHERE job = ? AND job <> 0 AND id < ? ORDER BY id DESC LIMIT ?", []any{id, before, limit}
	}
	return s.readActions(ctx, query, args...)
}

// ActionsBetween reads the latest of what operators did from a time on and before another, the
// first one first, of what concerned no single job.
func (s *Store) ActionsBetween(ctx context.Context, from, to job.Time, limit int) (all []api.Action, err error) {
	all, err = s.readActions(ctx, "SELECT id, at, principal, action, job, detail FROM actions WHERE at >= ? AND at < ? AND job = 0 ORDER BY at DESC, id DESC LIMIT ?", int64(from), int64(to), limit)
	slices.Reverse(all)
	return all, err
}

func (s *Store) readActions(ctx context.Context, query string, args ...any) (all []api.Action, err error) {
	r, err := s.ask(ctx, query, args...)
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

var sqlOldActions = statement(`SELECT id, at FROM actions WHERE id > 0 ORDER BY id LIMIT ?`)

var sqlDropActions = statement(`DELETE FROM actions WHERE id <= ?`)

var sqlDropOperations = statement(`DELETE FROM operations WHERE action <= ? AND state NOT IN ('trial', 'running')`)

// DropActions removes actions, and the operations that belong to them, that were made
// before a time, and tells how many of the first it found.
func (s *Store) DropActions(before job.Time, limit int) (n int, err error) {
	n, last, err := oldest(s, sqlOldActions, before, limit)
	if err != nil || n == 0 {
		return 0, err
	}
	return n, errors.Join(s.exec(sqlDropOperations, last), s.exec(sqlDropActions, last))
}

// oldest reads ids and times, the oldest first, and tells how many are from before a time, and the
// last of them.
func oldest(s *Store, q *sqlStatement, before job.Time, limit int) (n int, last int64, err error) {
	found, err := s.query(q, limit)
	if err != nil {
		return 0, 0, err
	}
	defer found.Close()
	for found.Next() {
		var id int64
		var at job.Time
		if err := found.Scan(&id, &at); err != nil {
			return 0, 0, err
		}
		if at >= before {
			break
		}
		last = id
		n++
	}
	return n, last, errors.Join(found.Err(), found.Close())
}
