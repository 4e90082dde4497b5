package store

import (
	"database/sql"
	"errors"

	"humblemule.example/job"
)

// Receipts is a commit's receipts, written at a time, when the file was served so long.
type Receipts struct {
	ID      int64
	At      job.Time
	Served  int64
	Entries []byte
}

// Receipts reads the receipts, oldest first, and when the last one was written that is no
// longer kept.
func (s *Store) Receipts() (all []Receipts, reach job.Time, err error) {
	err = s.conn.QueryRowContext(background, "SELECT coalesce((SELECT CAST(value AS INTEGER) FROM facts WHERE name = 'receipts_from'), 0)").Scan(&reach)
	if err != nil {
		return nil, 0, err
	}
	err = each(s, "SELECT id, at, served, entries FROM receipts ORDER BY id", func(r *sql.Rows) error {
		var x Receipts
		err := r.Scan(&x.ID, &x.At, &x.Served, &x.Entries)
		all = append(all, x)
		return err
	})
	return all, reach, err
}

var sqlInsertReceipts = statement(`INSERT INTO receipts (at, served, entries) VALUES (?, ?, ?) RETURNING id`)

// InsertReceipts writes a commit's receipts and answers their row's id.
func (s *Store) InsertReceipts(now job.Time, served int64, entries []byte) (id int64, err error) {
	return s.execID(sqlInsertReceipts, int64(now), served, entries)
}

var sqlDeleteReceipts = statement(`DELETE FROM receipts WHERE id <= ?`)

// DeleteReceipts removes receipts up to a row, which was written at a time.
func (s *Store) DeleteReceipts(upTo int64, at job.Time) error {
	return errors.Join(s.exec(sqlDeleteReceipts, upTo), s.exec(sqlSetFact, "receipts_from", int64(at)))
}
