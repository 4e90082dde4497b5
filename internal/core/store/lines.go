package store

import (
	"context"
	"math"

	"humblemule.example/api"
)

var sqlInsertLine = statement(`INSERT INTO log_lines (job, attempt, n, at, text) VALUES (?, ?, ?, ?, ?) ON CONFLICT (job, attempt, n) DO NOTHING`)

// InsertLine writes a line of an attempt's log.
func (s *Store) InsertLine(id int64, l api.LogLine) error {
	return s.exec(sqlInsertLine, id, l.Attempt, l.Line, int64(l.At), l.Text)
}

var sqlFoldLines = statement(`DELETE FROM log_lines WHERE job = ? AND attempt = ? AND n > ? AND n < ?`)

// FoldLines removes lines of an attempt's log between two, both not included.
func (s *Store) FoldLines(id int64, attempt, after, before int) error {
	return s.exec(sqlFoldLines, id, attempt, after, before)
}

// LogLines counts the lines that an attempt has written so far.
func (s *Store) LogLines(id int64, attempt int) (n int, err error) {
	err = s.conn.QueryRowContext(background, "SELECT coalesce(max(n), 0) FROM log_lines WHERE job = ? AND attempt = ?", id, attempt).Scan(&n)
	return n, err
}

// Log reads lines of a job's attempts that follow line n of an attempt; of that
// attempt alone where only is true.
func (s *Store) Log(ctx context.Context, id int64, attempt, n int, only bool, limit int) (all []api.LogLine, err error) {
	last := attempt
	if !only {
		last = math.MaxInt32
	}
	r, err := s.ask(ctx, "SELECT attempt, n, at, text FROM log_lines WHERE job = ? AND (attempt, n) > (?, ?) AND attempt <= ? ORDER BY attempt, n LIMIT ?", id, attempt, n, last, limit)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for r.Next() {
		var l api.LogLine
		if err := r.Scan(&l.Attempt, &l.Line, &l.At, &l.Text); err != nil {
			return nil, err
		}
		all = append(all, l)
	}
	return all, r.Err()
}
