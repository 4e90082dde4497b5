package main

import (
	"context"
	"database/sql"
	"strings"
	"time"

	"humblemule.example/internal/measure"
)

// plain is a plain table of jobs and the statements that one would write oneself, through
// the same driver, in one thread: what a life costs that keeps nothing but the job.
type plain struct {
	conn *sql.Conn
	next int64
	// made are statements by their texts.
	made map[string]*sql.Stmt
}

const plainTable = `PRAGMA journal_mode = WAL; PRAGMA wal_autocheckpoint = 0;
CREATE TABLE jobs (
	id INTEGER PRIMARY KEY, queue TEXT NOT NULL, task TEXT NOT NULL, priority INTEGER NOT NULL, state INTEGER NOT NULL, payload BLOB,
	attempt INTEGER NOT NULL DEFAULT 0, token INTEGER, worker TEXT, enqueued_at INTEGER NOT NULL, started_at INTEGER, finished_at INTEGER
);
CREATE INDEX jobs_ready ON jobs (queue, priority DESC, id) WHERE state = 3`

func openPlain(path string) (*plain, error) {
	db, err := sql.Open("sqlite3", "file:"+path+"?_synchronous=FULL&_txlock=immediate&_cache_size=-65536")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	conn, err := db.Conn(context.Background())
	if err == nil {
		_, err = conn.ExecContext(context.Background(), plainTable)
	}
	return &plain{conn: conn, next: 1, made: map[string]*sql.Stmt{}}, err
}

func (p *plain) close() { p.conn.Close() }

func (p *plain) stmt(text string) (s *sql.Stmt, err error) {
	if s = p.made[text]; s == nil {
		s, err = p.conn.PrepareContext(context.Background(), text)
		p.made[text] = s
	}
	return s, err
}

func (p *plain) exec(text string, args ...any) error {
	s, err := p.stmt(text)
	if err == nil {
		_, err = s.ExecContext(context.Background(), args...)
	}
	return err
}

// lives lives whole lives in batches, each of three transactions.
func (p *plain) lives(span time.Duration, do func() error) (n int, err error) {
	for began := time.Now(); time.Since(began) < span; n += batch {
		if err := do(); err != nil {
			return n, err
		}
		if n/batch%50 == 0 {
			if _, err := p.conn.ExecContext(context.Background(), "PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

// transaction runs do in one.
func (p *plain) transaction(do func() error) error {
	if err := p.exec("BEGIN IMMEDIATE"); err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	return p.exec("COMMIT")
}

const (
	plainInsert = "INSERT INTO jobs (id, queue, task, priority, state, payload, enqueued_at) VALUES "
	plainRow    = "(?, ?, ?, ?, 3, ?, ?)"
)

func (p *plain) values() []any {
	p.next++
	return []any{p.next, "common", "tide.predict", int64(4), []byte(measure.Payload()), time.Now().UnixMilli()}
}

// heads reads the first jobs.
func (p *plain) heads() (all []int64, err error) {
	s, err := p.stmt("SELECT id, task, payload, attempt FROM jobs WHERE queue = +? AND state = 3 ORDER BY priority DESC, id LIMIT +?")
	if err != nil {
		return nil, err
	}
	rows, err := s.QueryContext(context.Background(), "common", batch)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id, attempt int64
		var task string
		var payload []byte
		if err := rows.Scan(&id, &task, &payload, &attempt); err != nil {
			return nil, err
		}
		all = append(all, id)
	}
	return all, rows.Err()
}

func (p *plain) byRow() error {
	err := p.transaction(func() error {
		for range batch {
			if err := p.exec(plainInsert+plainRow, p.values()...); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	var taken []int64
	each := func(do func(id int64) error) error {
		for _, id := range taken {
			if err := do(id); err != nil {
				return err
			}
		}
		return nil
	}
	err = p.transaction(func() (err error) {
		if taken, err = p.heads(); err != nil {
			return err
		}
		return each(func(id int64) error {
			return p.exec("UPDATE jobs SET state = 4, attempt = attempt + 1, token = ?, worker = ?, started_at = ? WHERE id = ?", id*7919, "bench", time.Now().UnixMilli(), id)
		})
	})
	if err != nil {
		return err
	}
	return p.transaction(func() error {
		return each(func(id int64) error {
			return p.exec("UPDATE jobs SET state = 6, finished_at = ? WHERE id = ? AND state = 4", time.Now().UnixMilli(), id)
		})
	})
}

func (p *plain) bySet() error {
	err := p.transaction(func() error {
		var values []any
		for range batch {
			values = append(values, p.values()...)
		}
		return p.exec(plainInsert+plainRow+strings.Repeat(", "+plainRow, batch-1), values...)
	})
	if err != nil {
		return err
	}
	in := " WHERE id IN (?" + strings.Repeat(", ?", batch-1) + ")"
	var taken []int64
	with := func(first ...any) []any {
		for _, id := range taken {
			first = append(first, id)
		}
		return first
	}
	err = p.transaction(func() (err error) {
		if taken, err = p.heads(); err != nil {
			return err
		}
		return p.exec("UPDATE jobs SET state = 4, attempt = attempt + 1, token = random(), worker = ?, started_at = ?"+in, with("bench", time.Now().UnixMilli())...)
	})
	if err != nil {
		return err
	}
	return p.transaction(func() error {
		return p.exec("UPDATE jobs SET state = 6, finished_at = ?"+in, with(time.Now().UnixMilli())...)
	})
}
