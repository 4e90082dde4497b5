package store

import (
	"context"
	"database/sql"
	"errors"
	"strconv"

	"humblemule.example/job"
)

// Folded tells how far what moved is folded into history: up to the n-th delta, the last of
// which was folded into the minute that began then; and when the hour under way began.
type Folded struct {
	N            int64
	Minute, Hour job.Time
}

// Folded reads how far the deltas are folded, and since when there is history; 0 where there
// is none.
func (s *Store) Folded() (f Folded, since job.Time, err error) {
	facts, err := s.facts("folded", "folded_minute", "folded_hour", "history_since")
	if err != nil {
		return f, 0, err
	}
	for name, into := range map[string]*int64{"folded": &f.N, "folded_minute": (*int64)(&f.Minute), "folded_hour": (*int64)(&f.Hour), "history_since": (*int64)(&since)} {
		if facts[name] == "" {
			continue
		}
		if *into, err = strconv.ParseInt(facts[name], 10, 64); err != nil {
			return f, 0, err
		}
	}
	return f, since, nil
}

// PutFolded writes how far the deltas are folded.
func (s *Store) PutFolded(f Folded) error {
	return errors.Join(s.exec(sqlSetFact, "folded", f.N), s.exec(sqlSetFact, "folded_minute", int64(f.Minute)), s.exec(sqlSetFact, "folded_hour", int64(f.Hour)))
}

// PutHistorySince writes since when there is history.
func (s *Store) PutHistorySince(at job.Time) error {
	return s.exec(sqlSetFact, "history_since", int64(at))
}

// Deltas reads what the slots of deltas hold. It reads them all.
func (s *Store) Deltas() (all [][]byte, err error) {
	err = each(s, "SELECT moved FROM deltas", func(r *sql.Rows) error {
		var moved []byte
		err := r.Scan(&moved)
		all = append(all, moved)
		return err
	})
	return all, err
}

var sqlPutDelta = statement(`INSERT INTO deltas (slot, moved) VALUES (?, ?) ON CONFLICT (slot) DO UPDATE SET moved = excluded.moved`)

// PutDelta writes what a commit has moved over what stood in a slot and is folded.
func (s *Store) PutDelta(slot int64, moved []byte) error { return s.exec(sqlPutDelta, slot, moved) }

// SeriesName is what a series is called.
type SeriesName struct {
	ID, Kind int64
	Name     string
}

// SeriesNames reads all names of series.
func (s *Store) SeriesNames() (all []SeriesName, err error) {
	err = each(s, "SELECT id, kind, name FROM series", func(r *sql.Rows) error {
		var n SeriesName
		err := r.Scan(&n.ID, &n.Kind, &n.Name)
		all = append(all, n)
		return err
	})
	return all, err
}

var sqlAddSeries = statement(`INSERT INTO series (id, kind, name, seen) VALUES (?, ?, ?, ?)`)

// AddSeries writes the name of a series.
func (s *Store) AddSeries(n SeriesName, at job.Time) error {
	return s.exec(sqlAddSeries, n.ID, n.Kind, n.Name, int64(at))
}

var sqlSawSeries = statement(`UPDATE series SET seen = ? WHERE id = ?`)

// SawSeries writes when something of a series moved.
func (s *Store) SawSeries(id int64, at job.Time) error { return s.exec(sqlSawSeries, int64(at), id) }

var (
	sqlOldSeries  = statement(`SELECT id FROM series WHERE kind = ? AND seen < ? ORDER BY seen LIMIT ?`)
	sqlDropSeries = statement(`DELETE FROM series WHERE id = ?`)
)

// OldSeries reads the series of a kind in which nothing has moved since a time, the longest
// one first.
func (s *Store) OldSeries(kind int64, before job.Time, limit int) ([]int64, error) {
	return ids(s.query(sqlOldSeries, kind, int64(before), limit))
}

// DropSeries removes the name of a series. Its figures belong to the rest from then on.
func (s *Store) DropSeries(id int64) error { return s.exec(sqlDropSeries, id) }

// HistoryRow is what moved in a step of time, of all series of a kind.
type HistoryRow struct {
	Kind, Step    int64
	At            job.Time
	Counts, Spans []byte
}

var sqlHistoryRows = statement(`SELECT at, counts, spans FROM history WHERE kind = ? AND step = ? AND at >= ? AND at < ? ORDER BY at`)

// HistoryRows reads the rows of a kind and a step from a time on and before another, as the
// writer sees them.
func (s *Store) HistoryRows(kind, step int64, from, to job.Time, do func(HistoryRow) error) error {
	found, err := s.query(sqlHistoryRows, kind, step, int64(from), int64(to))
	if err != nil {
		return err
	}
	defer found.Close()
	for found.Next() {
		r := HistoryRow{Kind: kind, Step: step}
		if err := found.Scan(&r.At, &r.Counts, &r.Spans); err != nil {
			return err
		}
		if err := do(r); err != nil {
			return err
		}
	}
	return found.Err()
}

var sqlPutHistory = statement(`INSERT INTO history (kind, step, at, counts, spans) VALUES (?, ?, ?, ?, ?) ON CONFLICT (kind, step, at) DO UPDATE SET counts = excluded.counts, spans = excluded.spans`)

// PutHistory writes a row, over the one that stood there.
func (s *Store) PutHistory(r HistoryRow) error {
	return s.exec(sqlPutHistory, r.Kind, r.Step, int64(r.At), filledBlob(r.Counts), filledBlob(r.Spans))
}

// filledBlob is bytes that are not null, as the driver takes none for.
func filledBlob(b []byte) []byte {
	if b == nil {
		return []byte{}
	}
	return b
}

var sqlDropHistory = statement(`DELETE FROM history WHERE kind = ? AND step = ? AND at < ?`)

// DropHistory removes the rows of a kind and a step before a time.
func (s *Store) DropHistory(kind, step int64, before job.Time) error {
	return s.exec(sqlDropHistory, kind, step, int64(before))
}

// History reads the rows of a kind and a step from a time on and before another, without how
// long things took where that is not asked for, and tells how far the deltas were folded
// then.
func (s *Store) History(ctx context.Context, kind, step int64, from, to job.Time, spans bool, do func(HistoryRow) error) (folded int64, err error) {
	text := `SELECT at, counts, spans FROM history WHERE kind = ? AND step = ? AND at >= ? AND at < ?`
	if !spans {
		text = `SELECT at, counts, NULL FROM history WHERE kind = ? AND step = ? AND at >= ? AND at < ?`
	}
	// One statement sees one state of the file.
	rows, err := s.ask(ctx, `SELECT -1, (SELECT CAST(value AS INTEGER) FROM facts WHERE name = 'folded'), NULL UNION ALL `+text+` ORDER BY 1`, kind, step, int64(from), int64(to))
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	for rows.Next() {
		r := HistoryRow{Kind: kind, Step: step}
		var first any
		if err := rows.Scan(&r.At, &first, &r.Spans); err != nil {
			return 0, err
		}
		if r.At == -1 {
			folded, _ = first.(int64)
			continue
		}
		r.Counts, _ = first.([]byte)
		if err := do(r); err != nil {
			return 0, err
		}
	}
	return folded, rows.Err()
}

// Mark is a moment that is drawn on charts.
type Mark struct {
	ID        int64
	At        job.Time
	Kind      string
	Text      string
	Principal string
	Since     job.Time
}

var sqlAddMark = statement(`INSERT INTO marks (at, kind, text, principal, since) VALUES (?, ?, ?, ?, ?) RETURNING id`)

// AddMark writes a mark and answers its id.
func (s *Store) AddMark(m Mark) (id int64, err error) {
	return s.execID(sqlAddMark, int64(m.At), m.Kind, m.Text, m.Principal, int64(m.Since))
}

var sqlMark = statement(`SELECT id, at, kind, text, principal, since FROM marks WHERE id = ?`)

// Mark reads a mark; the zero value where there is none.
func (s *Store) Mark(id int64) (m Mark, err error) {
	err = s.queryRow(sqlMark, id).Scan(&m.ID, &m.At, &m.Kind, &m.Text, &m.Principal, &m.Since)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return m, err
}

var sqlDropMark = statement(`DELETE FROM marks WHERE id = ?`)

// DropMark removes a mark.
func (s *Store) DropMark(id int64) error { return s.exec(sqlDropMark, id) }

// Marks reads the latest marks from a time on and before another, the first one first.
func (s *Store) Marks(ctx context.Context, from, to job.Time, limit int) (all []Mark, err error) {
	rows, err := s.ask(ctx, `SELECT id, at, kind, text, principal, since FROM (SELECT id, at, kind, text, principal, since FROM marks WHERE at >= ? AND at < ? ORDER BY at DESC LIMIT ?) ORDER BY at, id`, int64(from), int64(to), limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var m Mark
		if err := rows.Scan(&m.ID, &m.At, &m.Kind, &m.Text, &m.Principal, &m.Since); err != nil {
			return nil, err
		}
		all = append(all, m)
	}
	return all, rows.Err()
}

var sqlDropMarks = statement(`DELETE FROM marks WHERE at < ?`)

// DropMarks removes marks before a time.
func (s *Store) DropMarks(before job.Time) error { return s.exec(sqlDropMarks, int64(before)) }

var sqlPutStarts = statement(`INSERT INTO starts (queue, latest) VALUES (?, ?) ON CONFLICT (queue) DO UPDATE SET latest = excluded.latest`)

// PutStarts writes the latest starts of a queue.
func (s *Store) PutStarts(queue int64, latest []byte) error {
	return s.exec(sqlPutStarts, queue, latest)
}

// Starts reads the latest starts of all queues.
func (s *Store) Starts() (map[int64][]byte, error) {
	all := map[int64][]byte{}
	err := each(s, "SELECT queue, latest FROM starts", func(r *sql.Rows) error {
		var queue int64
		var latest []byte
		err := r.Scan(&queue, &latest)
		all[queue] = latest
		return err
	})
	return all, err
}
