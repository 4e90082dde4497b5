package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"humblemule.example/job"
)

// Each statement is kept with the method that runs it. Those of the writing connection are
// prepared once for each connection ([statement]); what is only read goes through the
// reading pool ([Store.ask]).
//
// Their texts are SQL that another database would take too, with tokens in braces for what
// is not SQL: {ready} is the number of a state, {stack} that of a kind of bodies, and
// {by INDEX} names the index that a statement must go by. The dialect fills them in.

// What a statement of the writing connection costs is a walk down one index and the rows it
// gives or changes, whatever the backlog: TestPlans lets none scan or sort. A method that
// reads a whole table says so.

// sqlStatement is a statement of the writing connection.
type sqlStatement struct {
	// text is as it was declared until fillAll has filled it in.
	text string
	n    int
	// late tells that it is to see what late writes have written.
	late bool
}

// statements are all of them, in the order of their declarations.
var statements []*sqlStatement

// statement declares one.
func statement(text string) *sqlStatement {
	s := &sqlStatement{text: text, n: len(statements)}
	statements = append(statements, s)
	return s
}

// fillAll fills all statements in when the first file is opened: a client, which opens none,
// starts without it.
var fillAll = sync.OnceFunc(func() {
	for _, s := range statements {
		s.late = lately.MatchString(s.text)
		s.text = steady(filled(s.text))
	}
})

// Statements are the texts of all of them.
func Statements() (all []string) {
	fillAll()
	for _, s := range statements {
		all = append(all, s.text)
	}
	return all
}

// prepare prepares all statements for the writing connection.
func (s *Store) prepare() error {
	fillAll()
	for _, q := range statements {
		stmt, err := s.conn.PrepareContext(background, q.text)
		if err != nil {
			return fmt.Errorf("%s: %w", q.text, err)
		}
		s.prepared = append(s.prepared, stmt)
	}
	return nil
}

// unprepare closes them. SQLite keeps the file open for as long as one is.
func (s *Store) unprepare() {
	for _, stmt := range s.prepared {
		stmt.Close()
	}
	s.prepared = nil
}

func (s *Store) stmt(q *sqlStatement) *sql.Stmt { return s.prepared[q.n] }

// query runs a statement that answers rows, and queryRow one that answers a row, on the
// writing connection: they see what the transaction under way has written.
func (s *Store) query(q *sqlStatement, args ...any) (*sql.Rows, error) {
	if err := s.before(q); err != nil {
		return nil, err
	}
	return s.stmt(q).QueryContext(background, args...)
}

// queryRow goes with [Store.query].
func (s *Store) queryRow(q *sqlStatement, args ...any) aRow {
	if err := s.before(q); err != nil {
		return aRow{err: err}
	}
	return aRow{row: s.stmt(q).QueryRowContext(background, args...)}
}

// aRow is the answer of a query for a row.
type aRow struct {
	row *sql.Row
	err error
}

// Scan is that of [sql.Row].
func (r aRow) Scan(into ...any) error {
	if r.err != nil {
		return r.err
	}
	return r.row.Scan(into...)
}

// before has late writes go out before a statement that is to see them.
func (s *Store) before(q *sqlStatement) error {
	if !q.late {
		return nil
	}
	return s.WriteLate()
}

// ask runs a query that answers rows on the reading pool, and askOne one that answers a row:
// they see what was committed.
func (s *Store) ask(ctx context.Context, text string, args ...any) (*sql.Rows, error) {
	return s.read.Load().QueryContext(ctx, known(text), args...)
}

// askOne goes with [Store.ask].
func (s *Store) askOne(ctx context.Context, text string, args ...any) *sql.Row {
	return s.read.Load().QueryRowContext(ctx, known(text), args...)
}

func (s *Store) exec(q *sqlStatement, args ...any) error {
	if err := s.before(q); err != nil {
		return err
	}
	return s.execNow(q, args...)
}

func (s *Store) execNow(q *sqlStatement, args ...any) error {
	if err := s.begin(); err != nil {
		return err
	}
	_, err := s.stmt(q).ExecContext(background, args...)
	return err
}

// execID executes a statement that returns an id.
func (s *Store) execID(q *sqlStatement, args ...any) (id int64, err error) {
	if err := s.before(q); err != nil {
		return 0, err
	}
	if err := s.begin(); err != nil {
		return 0, err
	}
	err = s.queryRow(q, args...).Scan(&id)
	return id, err
}

func (s *Store) number(q *sqlStatement, args ...any) (n int64, err error) {
	err = s.queryRow(q, args...).Scan(&n)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return n, err
}

func (s *Store) oneTime(q *sqlStatement) (at job.Time, err error) {
	err = s.queryRow(q).Scan(&at)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return at, err
}

func (s *Store) oneRow(q *sqlStatement, id int64) (*Row, error) {
	return one(s.queryRow(q, id))
}

func one(r aRow) (*Row, error) {
	v := newValues(rowWidth)
	err := v.scan(r)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return v.row(), err
}

func rows(r *sql.Rows, err error) ([]*Row, error) {
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var all []*Row
	v := newValues(rowWidth)
	for r.Next() {
		if err := v.scan(r); err != nil {
			return nil, err
		}
		all = append(all, v.row())
	}
	return all, r.Err()
}

// ids reads a column of ids.
func ids(r *sql.Rows, err error) ([]int64, error) {
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var all []int64
	for r.Next() {
		var id int64
		if err := r.Scan(&id); err != nil {
			return nil, err
		}
		all = append(all, id)
	}
	return all, r.Err()
}

// each runs a query on the writing connection and gives every row to scan.
func each(s *Store, query string, scan func(r *sql.Rows) error, args ...any) error {
	if err := s.WriteLate(); err != nil {
		return err
	}
	r, err := s.conn.QueryContext(background, known(query), args...)
	if err != nil {
		return err
	}
	defer r.Close()
	for r.Next() {
		if err := scan(r); err != nil {
			return err
		}
	}
	return r.Err()
}

// eachOf runs a query for ids, some at a time, and gives every row to scan. The query's only
// parameter, IN (?), stands for them.
func (s *Store) eachOf(ctx context.Context, query string, ids []int64, scan func(r *sql.Rows) error) error {
	const atOnce = 500
	for part := range slices.Chunk(slices.Compact(slices.Sorted(slices.Values(ids))), atOnce) {
		args := make([]any, len(part))
		for i, id := range part {
			args[i] = id
		}
		r, err := s.ask(ctx, strings.Replace(query, "IN (?)", "IN (?"+strings.Repeat(",?", len(part)-1)+")", 1), args...)
		if err != nil {
			return err
		}
		for r.Next() && err == nil {
			err = scan(r)
		}
		if err := errors.Join(err, r.Err(), r.Close()); err != nil {
			return err
		}
	}
	return nil
}

// beyond gives the comparison and direction of a list by id.
func beyond(newest bool) (comparison, direction string) {
	if newest {
		return "<", "DESC"
	}
	return ">", "ASC"
}

// Exec executes a statement of a test's own.
func (s *Store) Exec(query string) error {
	if err := s.WriteLate(); err != nil {
		return err
	}
	if err := s.begin(); err != nil {
		return err
	}
	_, err := s.conn.ExecContext(background, query)
	return err
}
