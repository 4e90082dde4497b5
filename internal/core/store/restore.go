package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"humblemule.example/internal/machine"
	"humblemule.example/job"
)

// Restored tells what a restore has done.
type Restored struct {
	// From is the backup.
	From CopyInfo `json:"from"`
	// Store is the new id of the store, and NextJob the id that its next job gets.
	Store   string `json:"store"`
	NextJob int64  `json:"next_job"`
	// Aside is where the file stands now that was there before; empty where none was.
	Aside string `json:"before,omitzero"`
	// Lacks tells what the backup lacks against that file, and Unread why that is not known; both
	// are empty where there was none.
	Lacks  *Lacks `json:"lacks,omitzero"`
	Unread string `json:"unread,omitzero"`
}

// Lacks is what a backup lacks against the file whose place it takes.
type Lacks struct {
	// IDs is how many job ids were given out since, and Kept how many of those jobs are there.
	IDs  int64 `json:"ids"`
	Kept int64 `json:"kept"`
	// Ended counts jobs that have ended since, but not in the backup: they run again. Some are
	// their ids, the lowest first.
	Ended int64   `json:"ended"`
	Some  []int64 `json:"some"`
	// Actions counts what operators did since.
	Actions int64 `json:"actions"`
}

// mostEnded is how many ids of jobs that run again are told.
const mostEnded = 20

// restoredFact is the fact under which a file tells when it was restored.
const restoredFact = "restored_at"

// Restore puts a backup in the place of the data file at path, which no service may have open.
// The file that was there is kept under another name, and nothing has changed where it answers an
// error. The store gets a new id, and ids of jobs go on far above all that are known to have been
// given out; see [Store.identify]. A dry run checks and compares, and changes nothing.
func Restore(ctx context.Context, backup, path string, now time.Time, dry bool) (r Restored, err error) {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	if same(backup, path) {
		return r, fmt.Errorf("%s is the data file itself; name a backup to restore, and the data file with --data", backup)
	}
	if r.From, err = LookAtCopy(ctx, backup); err != nil {
		return r, err
	}
	if err := CheckCopy(ctx, backup); err != nil {
		return r, fmt.Errorf("%w; nothing was changed: restore another backup", err)
	}
	if used, err := inUse(path); err != nil || used {
		return r, errors.Join(err, fmt.Errorf("a service has %s open; stop it, then restore: nothing was changed", path))
	}
	s := &Store{path: path}
	if s.lock, err = lockFile(path); err != nil {
		return r, err
	}
	defer s.lock.Close()
	if err := s.readMark(); err != nil {
		return r, err
	}
	known := max(s.mark, r.From.NextJob)
	there, err := exists(path)
	if err != nil {
		return r, err
	}
	if there {
		next, err := r.compare(ctx, backup, path)
		if err != nil {
			r.Lacks, r.Unread = nil, err.Error()
		}
		known = max(known, next)
	}
	if r.NextJob, r.Store = known+farAbove, newStoreID(); dry {
		return r, nil
	}
	to := path + ".new"
	err = s.buildRestored(ctx, backup, to, r, job.At(now))
	if err == nil && there {
		r.Aside = path + ".before-" + stampOf(job.At(now))
		err = putAside(path, r.Aside)
	}
	if err == nil {
		err = Rename(to, path)
	}
	if err != nil {
		return r, errors.Join(fmt.Errorf("%s was not restored: %w", path, err), gone(to), gone(to+"-journal"), onlyName(path))
	}
	return r, s.writeMark(r.NextJob)
}

func same(a, b string) bool {
	first, err := os.Stat(a)
	if err != nil {
		return false
	}
	second, err := os.Stat(b)
	return err == nil && os.SameFile(first, second)
}

func exists(path string) (bool, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil && info.Size() > 0, err
}

func gone(path string) error {
	if err := os.Remove(path); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// buildRestored copies a backup, and gives the copy what makes it the data file.
func (s *Store) buildRestored(ctx context.Context, backup, to string, r Restored, now job.Time) error {
	if err := errors.Join(gone(to), copyFile(backup, to)); err != nil {
		return err
	}
	inode, birth, err := identityOf(to)
	if err != nil {
		return err
	}
	return onFile(to, "FULL", func(conn *sql.Conn) error {
		for name, value := range map[string]any{"store": r.Store, "next_job": r.NextJob, "inode": inode, "birth": birth, restoredFact: int64(now)} {
			if _, err := conn.ExecContext(ctx, "INSERT INTO facts (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value", name, value); err != nil {
				return err
			}
		}
		_, err := conn.ExecContext(ctx, "DELETE FROM facts WHERE name = ?", originFact)
		return err
	})
}

// copyFile copies a file whole, to the disk.
func copyFile(from, to string) error {
	source, err := os.Open(from)
	if err != nil {
		return err
	}
	defer source.Close()
	into, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(into, source)
	return errors.Join(err, into.Sync(), into.Close())
}

// putAside gives a data file another name beside its own, which another file takes then. Where it
// cannot be opened its log goes with it.
func putAside(path, aside string) error {
	folded := onFile(path, "FULL", func(conn *sql.Conn) error { // which moves its log into it
		_, err := conn.ExecContext(background, "PRAGMA journal_mode = DELETE")
		return err
	})
	if folded == nil {
		return nameAlso(path, aside)
	}
	if err := os.Rename(path, aside); err != nil {
		return err
	}
	err := os.Rename(path+"-wal", aside+"-wal")
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return errors.Join(err, gone(path+"-shm"))
}

// nameAlso gives a file a second name, or makes a copy where its disk knows none.
func nameAlso(path, name string) error {
	if os.Link(path, name) == nil {
		return machine.SyncFolder(filepath.Dir(name))
	}
	return copyFile(path, name)
}

// asides are the names that a file is given while another takes its own.
var asides = []string{".before-*", ".schema-*"}

// onlyName takes from a data file a second name that it was given when something stopped before
// another file took its own.
func onlyName(path string) error {
	for _, pattern := range asides {
		for _, name := range besides(path, pattern) {
			if same(name, path) {
				return os.Remove(name)
			}
		}
	}
	return nil
}

// besides lists the files that have the name of a data file and more, by a pattern.
func besides(path, pattern string) (all []string) {
	entries, err := os.ReadDir(filepath.Dir(path))
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if rest, is := strings.CutPrefix(e.Name(), filepath.Base(path)); is {
			if fits, err := filepath.Match(pattern, rest); err == nil && fits {
				all = append(all, filepath.Join(filepath.Dir(path), e.Name()))
			}
		}
	}
	return all
}

// compare tells what a backup lacks against the data file at path, and the id that the next job
// would get there.
func (r *Restored) compare(ctx context.Context, backup, path string) (next int64, err error) {
	db, err := source{path: path, readOnly: true, busy: time.Second}.open()
	if err != nil {
		return 0, err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	conn, err := db.Conn(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	s := &Store{path: path, conn: conn}
	if _, err := s.version(); err != nil {
		return 0, err
	}
	facts, err := s.facts("store", "next_job")
	if err != nil {
		return 0, err
	}
	if _, err := fmt.Sscan(facts["next_job"], &next); err != nil {
		return 0, err
	}
	if facts["store"] != r.From.Store {
		return next, fmt.Errorf("the file that was there is of another store, %s", facts["store"])
	}
	if _, err := conn.ExecContext(ctx, "ATTACH ? AS copy", source{path: backup, readOnly: true, still: true}.uri()); err != nil {
		return next, err
	}
	r.Lacks = &Lacks{IDs: max(next-r.From.NextJob, 0), Some: []int64{}}
	if err := conn.QueryRowContext(ctx, `SELECT (SELECT count(*) FROM main.jobs WHERE id >= ?), (SELECT count(*) FROM main.actions WHERE id > (SELECT coalesce(max(id), 0) FROM copy.actions))`, r.From.NextJob).Scan(&r.Lacks.Kept, &r.Lacks.Actions); err != nil {
		return next, err
	}
	rows, err := conn.QueryContext(ctx, filled(`SELECT c.id FROM copy.jobs c LEFT JOIN main.jobs n ON n.id = c.id
		WHERE c.state < {done} AND c.removed_by = 0 AND (n.id IS NULL OR n.state >= {done}) ORDER BY c.id`))
	if err != nil {
		return next, err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return next, err
		}
		if r.Lacks.Ended++; len(r.Lacks.Some) < mostEnded {
			r.Lacks.Some = append(r.Lacks.Some, id)
		}
	}
	return next, rows.Err()
}
