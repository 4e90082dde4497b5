// Package store keeps jobs in one SQLite file. All SQL of the service lives here, a file for
// each table; what a statement means for a job is decided in the rooms above.
//
// A Store has one writing connection, used by one goroutine at a time, and a pool of
// connections that only read. The first write opens a transaction; once [Store.Commit] has
// returned nil, all writes since the one before survive a power cut (WAL,
// synchronous=FULL).
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"humblemule.example/internal/machine"
)

//go:embed schema/*.sql schema/old/*.sql
var schemas embed.FS

// background is what statements of the writer run under: a context that can
// be cancelled costs the driver half as much again, and a write is never
// abandoned half way.
var background = context.Background()

// Store is an open data file.
type Store struct {
	path    string
	lock    *os.File
	writeDB *sql.DB
	conn    *sql.Conn
	// read is replaced when the file is opened again; queries under way then
	// fail.
	read     atomic.Pointer[sql.DB]
	prepared []*sql.Stmt // by the numbers of the statements
	// written is when the file was last written before it was opened; zero where it is new.
	written time.Time
	// mark is the highest id that may have been used, as the lock file says.
	mark int64
	// open is true while a transaction is.
	open bool
	// late are writes that have not gone out yet; values is room for those of a statement.
	late   late
	values []any
	// failing is true once the disk has failed and the store is given up.
	failing bool
	// checkDB makes checkpoints beside the commits.
	checkDB *sql.DB
	checks  checkpoints
	// opening is how it was opened, and older where the file stands as it was before its tables
	// were brought up to date.
	opening Opening
	older   string
}

// Opening says how a file is opened.
type Opening struct {
	// Moved is told while tables are brought up to date; nil for nobody.
	Moved Moved
	// DropOlder says that the file need not be kept as it was before that.
	DropOlder bool
}

// Open opens the data file at path, creates it where there is none, and brings
// its tables up to date. The errors are sentences for the person who started
// the service.
func Open(path string) (*Store, error) { return OpenAs(path, Opening{}) }

// OpenAs is [Open] with a say in how tables are brought up to date.
func OpenAs(path string, how Opening) (*Store, error) {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real // one lock per file, by whatever name it is reached
	}
	lock, err := lockFile(path)
	if err != nil {
		return nil, err
	}
	s := &Store{path: path, lock: lock, opening: how}
	err = s.readMark()
	for _, name := range []string{path, path + "-wal"} {
		if info, err := os.Stat(name); err == nil && info.Size() > 0 && info.ModTime().After(s.written) {
			s.written = info.ModTime()
		}
	}
	if err == nil {
		err = ready(path)
	}
	if err == nil {
		err = s.connect()
	}
	if err == nil {
		err = s.identify()
	}
	if err != nil {
		s.Close()
		return nil, explain(path, err)
	}
	return s, nil
}

func lockFile(path string) (*os.File, error) {
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		return nil, fmt.Errorf("%s is a folder; give the path of a file with --data", path)
	}
	f, err := os.OpenFile(path+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, explain(path, err)
	}
	if err := machine.Lock(f); err != nil {
		f.Close()
		return nil, fmt.Errorf("%s is in use by another service on this machine; stop that one, or give this one a file of its own with --data", path)
	}
	return f, nil
}

// LastWritten is when the file was last written before it was opened; the zero time where
// it is new.
func (s *Store) LastWritten() time.Time { return s.written }

// Older is where the file stands as it was before its tables were brought up to date; empty where
// they were not, or it was not to be kept.
func (s *Store) Older() string { return s.older }

// explain turns what the system says into what a person can act on.
func explain(path string, err error) error {
	fault := faultOf(err)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("the folder %s does not exist; create it or choose another file with --data", filepath.Dir(path))
	case errors.Is(err, fs.ErrPermission), machine.ReadOnlyDisk(err):
		return fmt.Errorf("%s cannot be written: %w; give the service a folder it may write to with --data", path, err)
	case fault != 0:
		switch fault {
		case faultNotADB, faultCorrupt:
			return fmt.Errorf("%s is damaged, or is not a data file of Humble Mule (%w); nothing was changed: restore a backup, or start with a new file with --data", path, err)
		case faultCantOpen, faultReadonly, faultPerm:
			return fmt.Errorf("%s cannot be written (%w); give the service a file and a folder it may write to with --data", path, err)
		}
	}
	return err
}

// Abandon closes the store after its disk has failed, without a checkpoint: what the log
// holds beyond the last commit that was acknowledged must not reach the data file.
func (s *Store) Abandon() error {
	s.failing = true
	return s.Close()
}

// Close closes every connection and gives the file free for another service.
func (s *Store) Close() error {
	err := s.disconnect()
	if s.lock != nil {
		err = errors.Join(err, s.lock.Close())
	}
	return err
}

func (s *Store) disconnect() error {
	errs := []error{s.checkpointed(true)}
	closeReaders := func() {
		if read := s.read.Load(); read != nil {
			errs = append(errs, read.Close())
		}
	}
	if s.checkDB != nil {
		errs = append(errs, s.checkDB.Close())
	}
	if !s.failing {
		closeReaders()
	}
	if s.conn != nil {
		if s.open {
			s.Rollback()
		}
		if !s.failing {
			s.emptyLog()
			errs = append(errs, s.settleMark())
		}
		s.unprepare()
		errs = append(errs, s.conn.Close())
	}
	if s.writeDB != nil {
		errs = append(errs, s.writeDB.Close())
	}
	if s.failing { // the last to close would make a checkpoint, and a reader cannot
		closeReaders()
	}
	s.conn, s.writeDB, s.checkDB = nil, nil, nil
	return errors.Join(errs...)
}

// Reopen closes and opens the connections again. It is the only safe answer
// to a failed fsync: what the system has in its cache is then not what is on
// the disk, and only a fresh read of the file tells what was kept.
func (s *Store) Reopen() error {
	if err := s.disconnect(); err != nil && !IsDiskFault(err) {
		return err
	}
	return s.connect()
}

var sqlBegin = statement("BEGIN IMMEDIATE")

// begin opens a transaction where none is open, before a statement that writes.
func (s *Store) begin() error {
	s.checks.written++
	if s.open {
		return nil
	}
	_, err := s.stmt(sqlBegin).ExecContext(background)
	s.open = err == nil
	return err
}

// Writing tells whether something was written since the last commit.
func (s *Store) Writing() bool { return s.open || !s.late.none() }

var sqlCommit = statement("COMMIT")

// Commit makes everything that was written since the last one durable. When it
// fails nothing is, and the transaction still has to be rolled back.
func (s *Store) Commit() error {
	if err := s.WriteLate(); err != nil {
		return err
	}
	_, err := s.stmt(sqlCommit).ExecContext(background)
	s.open = err != nil
	return err
}

// Rollback undoes everything since the last commit.
func (s *Store) Rollback() error {
	s.late = late{}
	s.open = false
	_, err := s.conn.ExecContext(background, "ROLLBACK")
	if err != nil && strings.Contains(err.Error(), "no transaction is active") {
		return nil // a full disk makes SQLite undo it by itself
	}
	return err
}

// Ping tells whether the file can be read.
func (s *Store) Ping(ctx context.Context) error {
	var n int
	return s.askOne(ctx, "SELECT count(*) FROM facts").Scan(&n)
}
