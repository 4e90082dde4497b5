package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"humblemule.example/job"
)

// InlineBytes is the longest payload kept in its job's row. A long row makes
// every update of it slow, so longer ones live in bodies.
const InlineBytes = 512

// The kinds of bodies.
const (
	PayloadBody = 1
	ResultBody  = 2
	StackBody   = 3
	RefusedBody = 6 // what a handler brought that was refused
	EditedBody  = 5 // a payload as it was before an action
)

var sqlInsertBody = statement(`INSERT INTO bodies (job, kind, n, bytes) VALUES (?, ?, ?, ?) ON CONFLICT (job, kind, n) DO UPDATE SET bytes = excluded.bytes`)

// payload writes a long payload into bodies and answers what belongs into the
// row.
func (s *Store) payload(r *Row) (inline []byte, err error) {
	if len(r.Payload) <= InlineBytes {
		return r.Payload, nil
	}
	return nil, s.execNow(sqlInsertBody, r.ID, PayloadBody, 0, r.Payload)
}

var sqlBodyOf = statement(`SELECT bytes FROM bodies WHERE job = ? AND kind = ? AND n = ?`)

// LoadPayload fills a row's payload from bodies where it is a long one.
func (s *Store) LoadPayload(r *Row) error {
	if r.PayloadBytes <= InlineBytes {
		return nil
	}
	return s.queryRow(sqlBodyOf, r.ID, PayloadBody, 0).Scan(&r.Payload)
}

var sqlDeleteBody = statement(`DELETE FROM bodies WHERE job = ? AND kind = ? AND n = ?`)

// editedPayload writes a payload in the place of another.
func (s *Store) editedPayload(r *Row) (inline []byte, err error) {
	if err := s.exec(sqlDeleteBody, r.ID, PayloadBody, 0); err != nil {
		return nil, err
	}
	return s.payload(r)
}

// Body reads a body; nil where there is none.
func (s *Store) Body(ctx context.Context, id int64, kind, n int) (bytes []byte, err error) {
	err = s.askOne(ctx, "SELECT bytes FROM bodies WHERE job = ? AND kind = ? AND n = ?", id, kind, n).Scan(&bytes)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return bytes, err
}

// Payloads reads the payloads of jobs that are too long for their rows, each up to so many
// bytes.
func (s *Store) Payloads(ctx context.Context, ids []int64, most int) (map[int64][]byte, error) {
	all := make(map[int64][]byte, len(ids))
	err := s.eachOf(ctx, fmt.Sprintf("SELECT job, substr(CAST(bytes AS BLOB), 1, %d) FROM bodies WHERE kind = %d AND n = 0 AND job IN (?)", most, PayloadBody), ids, func(r *sql.Rows) error {
		var id int64
		var head []byte
		err := r.Scan(&id, &head)
		all[id] = head
		return err
	})
	return all, err
}

// KeepRefused keeps what a job's handler brought that was refused, as JSON.
func (s *Store) KeepRefused(id int64, body []byte) error {
	return s.exec(sqlInsertBody, id, RefusedBody, 0, body)
}

// DropRefused removes what was refused of a job's outcome.
func (s *Store) DropRefused(id int64) error {
	return s.exec(sqlDeleteBody, id, RefusedBody, 0)
}

// editsKept is how many edits of a job's payload are kept.
const editsKept = 10

var sqlFoldEdits = statement(`DELETE FROM bodies WHERE job = ?1 AND kind = {edited} AND n <= (SELECT n FROM bodies WHERE job = ?1 AND kind = {edited} ORDER BY n DESC LIMIT 1 OFFSET ?2)`)

// KeepEdited keeps the payload that a job had before an action; of the latest edits.
func (s *Store) KeepEdited(id, action int64, before []byte) error {
	return errors.Join(s.exec(sqlInsertBody, id, EditedBody, action, before), s.exec(sqlFoldEdits, id, editsKept))
}

// Edits reads the edits of a job's payload, in order, each with the payload before it.
func (s *Store) Edits(ctx context.Context, id int64) (all []job.Edit, err error) {
	r, err := s.ask(ctx, "SELECT b.bytes, a.action, a.principal, a.at FROM bodies b JOIN actions a ON a.id = b.n WHERE b.job = ? AND b.kind = ? ORDER BY b.n", id, EditedBody)
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
