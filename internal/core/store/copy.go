package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"humblemule.example/internal/machine"
	"humblemule.example/job"
)

// A copy of the file is made while it is written: some pages at a time, between two transactions,
// through SQLite's backup interface. Its source is the writing connection, so that pages which
// change after they were copied are written to the copy with the same commit; a copy from another
// connection would begin anew with each one. The copy shows the file as it was when the last page
// was copied.

// Copy is a copy under way. It belongs to whoever owns the writing connection, but for [Copy.Sync]
// and [Copy.Close], which are another's.
type Copy struct {
	path  string
	pages pages
	disk  *os.File
	// pageBytes is how long a page is.
	pageBytes int64
}

// pages are the pages of a copy, as a driver copies them.
type pages interface {
	// Step copies so many more, and tells whether all were copied.
	Step(n int) (all bool, err error)
	// Remaining are those that are left, and PageCount all, as of the last step.
	Remaining() int
	PageCount() int
	// Finish ends the copy, whole or not.
	Finish() error
}

// copyCacheKiB is how many pages of a copy wait to be written to it.
const copyCacheKiB = 2 << 10

// BeginCopy begins a copy of the file into a new one at path.
func (s *Store) BeginCopy(path string) (*Copy, error) {
	disk, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	c := &Copy{path: path, disk: disk}
	c.pageBytes, err = s.pragma("page_size")
	if err == nil {
		c.pages, err = s.copyTo(source{path: path, synchronous: "OFF", cacheKiB: copyCacheKiB, unlogged: true})
	}
	if err != nil {
		return nil, errors.Join(err, disk.Close(), os.Remove(path))
	}
	return c, nil
}

// Step copies so many bytes more, at least a page, and tells whether all were copied.
func (c *Copy) Step(bytes int64) (all bool, err error) {
	return c.pages.Step(int(max(bytes/c.pageBytes, 1)))
}

// Bytes tells how many bytes were copied, and how many there are.
func (c *Copy) Bytes() (copied, all int64) {
	all = int64(c.pages.PageCount())
	return (all - int64(c.pages.Remaining())) * c.pageBytes, all * c.pageBytes
}

// PageBytes is how long a page is.
func (c *Copy) PageBytes() int64 { return c.pageBytes }

// Sync writes what was copied to the disk, so that little is left at the end: much at once would
// hold up the commits.
func (c *Copy) Sync() error { return c.disk.Sync() }

// Finish ends the copying. The file is only good where all was copied.
func (c *Copy) Finish() error { return c.pages.Finish() }

// Close gives the file up, after the copying has ended.
func (c *Copy) Close() error { return c.disk.Close() }

// Origin is what a copy tells of where it comes from.
type Origin struct {
	// Store is the id of the store that was copied, and At when.
	Store string   `json:"store"`
	At    job.Time `json:"at"`
	// Version is the program's that has made it.
	Version string `json:"version"`
	// NextJob is the id that the next job would have had.
	NextJob int64 `json:"next_job"`
	// Counts are its jobs by state.
	Counts map[job.State]int64 `json:"counts"`
}

// originFact is the fact under which a copy tells where it comes from.
const originFact = "copy_of"

// sealed are facts of a file that are of no copy: a copy which is opened as a data file is never
// taken for the file that it was made of.
// Nobody is signed in to it either.
const sealed = "UPDATE facts SET value = 'copy' WHERE name IN ('inode', 'birth'); DELETE FROM sessions"

// SealCopy makes a copy whose pages are there a file of its own: it needs no log, says what it
// is a copy of, was checked, and is on the disk. The error says what is wrong with it.
func SealCopy(ctx context.Context, path string, of Origin) (Origin, error) {
	err := onFile(path, "OFF", func(conn *sql.Conn) error {
		var mode string
		if err := conn.QueryRowContext(ctx, "PRAGMA journal_mode = DELETE").Scan(&mode); err != nil {
			return err
		}
		if mode != "delete" {
			return fmt.Errorf("its journal is %s", mode)
		}
		if err := conn.QueryRowContext(ctx, "SELECT (SELECT value FROM facts WHERE name = 'store'), (SELECT CAST(value AS INTEGER) FROM facts WHERE name = 'next_job')").Scan(&of.Store, &of.NextJob); err != nil {
			return err
		}
		counts, err := reconciled(ctx, conn)
		if err != nil {
			return err
		}
		of.Counts = counts
		words, err := json.Marshal(of)
		if err != nil {
			return err
		}
		_, err = conn.ExecContext(ctx, sealed+"; INSERT INTO facts (name, value) VALUES ('"+originFact+"', ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value", string(words))
		return err
	})
	if err == nil {
		err = syncFile(path)
	}
	return of, err
}

func syncFile(path string) error {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// ErrDamaged is the error of a copy that is not what it should be.
var ErrDamaged = errors.New("it is damaged")

// intact is SQLite's own check of every table and its indexes. It goes on for long: it can be ended
// between two tables, and runs on the thread of whoever calls, who may let others go before it
// ([machine.StepBack]); the driver would take another where a statement can be ended.
func intact(ctx context.Context, conn *sql.Conn) error {
	var tables []string
	rows, err := conn.QueryContext(ctx, "SELECT 'sqlite_schema' UNION ALL SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%'")
	if err != nil {
		return err
	}
	for rows.Next() && err == nil {
		var name string
		err = rows.Scan(&name)
		tables = append(tables, name)
	}
	if err := errors.Join(err, rows.Err(), rows.Close()); err != nil {
		return err
	}
	for _, name := range tables {
		var fault string
		err := conn.QueryRowContext(background, fmt.Sprintf("PRAGMA integrity_check(%q)", name)).Scan(&fault)
		if err == nil && fault != "ok" {
			err = fmt.Errorf("%w: %s", ErrDamaged, fault)
		}
		if err := errors.Join(err, ctx.Err()); err != nil {
			return err
		}
	}
	return nil
}

// reconciled checks a file whole: SQLite's own check of every page and index, and that the jobs
// which are there are those that were counted. It answers how many there are.
func reconciled(ctx context.Context, conn *sql.Conn) (map[job.State]int64, error) {
	if err := intact(ctx, conn); err != nil {
		return nil, err
	}
	const counted = `SELECT queue, task, state, sum(n), sum(kept) FROM (
		SELECT queue, task, state, count(*) AS n, 0 AS kept FROM jobs WHERE removed_by = 0 GROUP BY queue, task, state
		UNION ALL SELECT queue, task, state, 0, n FROM counts) GROUP BY queue, task, state`
	rows, err := conn.QueryContext(background, counted)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	counts := map[job.State]int64{}
	for rows.Next() {
		var queue, task, n, kept int64
		var state job.State
		if err := rows.Scan(&queue, &task, &state, &n, &kept); err != nil {
			return nil, err
		}
		if n != kept {
			return nil, fmt.Errorf("%w: queue %d holds %d jobs of task %d that are %s, and %d are counted", ErrDamaged, queue, n, task, state, kept)
		}
		if n > 0 {
			counts[state] += n
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	var torn, last, next int64
	if err := conn.QueryRowContext(background, `SELECT (SELECT count(*) FROM jobs) - (SELECT count(*) FROM jobs JOIN specs ON job = id),
		(SELECT coalesce(max(id), 0) FROM jobs), (SELECT CAST(value AS INTEGER) FROM facts WHERE name = 'next_job')`).Scan(&torn, &last, &next); err != nil {
		return nil, err
	}
	if torn != 0 || last >= next {
		return nil, fmt.Errorf("%w: %d jobs lack what was asked for, job %d is the last and %d the next", ErrDamaged, torn, last, next)
	}
	return counts, nil
}

// CopyInfo is what can be told of a copy by its file alone.
type CopyInfo struct {
	Origin
	Bytes  int64 `json:"bytes"`
	Schema int   `json:"schema"`
}

// LookAtCopy tells what a file is a copy of. One that was not made by [SealCopy], such as a data
// file that was copied while no service had it open, tells what it can.
func LookAtCopy(ctx context.Context, path string) (i CopyInfo, err error) {
	info, err := os.Stat(path)
	if err != nil {
		return i, explain(path, err)
	}
	if info.IsDir() {
		return i, fmt.Errorf("%s is a folder; give the path of a backup", path)
	}
	i.Bytes = info.Size()
	if log, err := os.Stat(path + "-wal"); err == nil && log.Size() > 0 {
		return i, fmt.Errorf("%s has a log (%s-wal): it is a data file that was not closed, and no backup; start a service on it, or make a backup with: hmule backup create", path, path)
	}
	err = lookInto(path, func(conn *sql.Conn) error {
		s := &Store{path: path, conn: conn}
		if i.Schema, err = s.version(); err != nil {
			return err
		}
		if i.Schema == 0 {
			return fmt.Errorf("%s holds no tables; give the path of a backup", path)
		}
		facts, err := s.facts("store", "next_job", originFact)
		if err != nil {
			return err
		}
		if text := facts[originFact]; text != "" {
			return json.Unmarshal([]byte(text), &i.Origin)
		}
		i.Store, i.At = facts["store"], job.At(info.ModTime())
		_, err = fmt.Sscan(facts["next_job"], &i.NextJob)
		return err
	})
	if err != nil {
		err = explain(path, err)
	}
	return i, err
}

// lookInto opens a file that nobody writes for reading.
func lookInto(path string, look func(conn *sql.Conn) error) error {
	db, err := source{path: path, readOnly: true, still: true, busy: time.Second}.open()
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1)
	conn, err := db.Conn(background)
	if err == nil {
		err = errors.Join(look(conn), conn.Close())
	}
	return errors.Join(err, db.Close())
}

// CheckCopy checks a copy whole. The error says what is wrong with it.
func CheckCopy(ctx context.Context, path string) error {
	i, err := LookAtCopy(ctx, path)
	if err != nil {
		return err
	}
	return lookInto(path, func(conn *sql.Conn) error {
		var err error
		if i.Schema < schema { // its counts may mean something else
			err = intact(ctx, conn)
		} else {
			_, err = reconciled(ctx, conn)
		}
		if err != nil {
			err = fmt.Errorf("%s: %w", path, err)
		}
		return err
	})
}

// Rename gives a file that is on the disk another name, also after a power cut.
func Rename(from, to string) error {
	if err := os.Rename(from, to); err != nil {
		return err
	}
	return machine.SyncFolder(filepath.Dir(to))
}

// stampOf writes a time as a part of a file's name.
func stampOf(at job.Time) string {
	return strings.NewReplacer("-", "", ":", "").Replace(at.Go().UTC().Format("2006-01-02T15:04:05")) + "Z"
}
