// Package store keeps jobs in one SQLite file. All SQL of the service lives
// here; what a statement means for a job is decided in the engine.
//
// A Store has one writing connection, used by one goroutine at a time, and a
// pool of connections that only read. The first write opens a transaction;
// once [Store.Commit] has returned nil, all writes since the one before survive
// a power cut (WAL, synchronous=FULL).
package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/mattn/go-sqlite3"
)

//go:embed schema/*.sql
var schemas embed.FS

// appID marks a file as ours ("HMul" in ASCII).
const appID = 0x484d756c

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
	read atomic.Pointer[sql.DB]
	st   statements
	// written is when the file was last written before it was opened; zero where it is new.
	written time.Time
	// mark is the highest id that may have been used, as the lock file says.
	mark int64
	// open is true while a transaction is, and writes counts the statements that wrote.
	open   bool
	writes int64
	// failing is true once the disk has failed and the store is given up.
	failing bool
	// checkDB makes checkpoints beside the commits.
	checkDB *sql.DB
	checks  checkpoints
}

// Open opens the data file at path, creates it where there is none, and brings
// its tables up to date. The errors are sentences for the person who started
// the service.
func Open(path string) (*Store, error) {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real // one lock per file, by whatever name it is reached
	}
	lock, err := lockFile(path)
	if err != nil {
		return nil, err
	}
	s := &Store{path: path, lock: lock}
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
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("%s is in use by another service on this machine; stop that one, or give this one a file of its own with --data", path)
	}
	return f, nil
}

// LastWritten is when the file was last written before it was opened; the zero time where
// it is new.
func (s *Store) LastWritten() time.Time { return s.written }

// explain turns what the system says into what a person can act on.
func explain(path string, err error) error {
	var sqliteErr sqlite3.Error
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("the folder %s is not there; create it or choose another file with --data", filepath.Dir(path))
	case errors.Is(err, fs.ErrPermission), errors.Is(err, syscall.EROFS):
		return fmt.Errorf("%s cannot be written: %w; give the service a folder it may write to with --data", path, err)
	case errors.As(err, &sqliteErr):
		switch sqliteErr.Code {
		case sqlite3.ErrNotADB, sqlite3.ErrCorrupt:
			return fmt.Errorf("%s is damaged or no data file of ours (%w); nothing was changed: restore a backup, or start with a new file with --data", path, err)
		case sqlite3.ErrCantOpen, sqlite3.ErrReadonly, sqlite3.ErrPerm:
			return fmt.Errorf("%s cannot be written (%w); give the service a file and a folder it may write to with --data", path, err)
		}
	}
	return err
}

func (s *Store) connect() error {
	var err error
	escaped := uriPath.Replace(s.path)
	layer := ""
	if TestVFS != "" {
		layer = "&vfs=" + TestVFS
	}
	s.writeDB, err = sql.Open("sqlite3", "file:"+escaped+"?_synchronous=FULL&_busy_timeout=5000&_txlock=immediate&_cache_size=-65536"+layer)
	if err != nil {
		return err
	}
	s.writeDB.SetMaxOpenConns(1)
	if s.conn, err = s.writeDB.Conn(background); err != nil {
		return err
	}
	version, err := s.version()
	if err != nil {
		return err
	}
	// Only a file that is known to be ours is touched. Checkpoints are ours too:
	// between batches and when idle.
	if _, err := s.conn.ExecContext(background, "PRAGMA journal_mode=WAL; PRAGMA wal_autocheckpoint=0"); err != nil {
		return err
	}
	if version == 0 {
		s.mark = 0 // the mark of a file that was here before says nothing of a new one
	}
	if err := s.migrate(version); err != nil {
		return err
	}
	if err := s.prepare(); err != nil {
		return err
	}
	if s.checkDB, err = sql.Open("sqlite3", "file:"+escaped+"?_synchronous=FULL"+layer); err != nil {
		return err
	}
	s.checkDB.SetMaxOpenConns(1)
	if _, err := s.checkDB.ExecContext(background, "PRAGMA wal_autocheckpoint=0"); err != nil {
		return err
	}
	read, err := sql.Open("sqlite3", "file:"+escaped+"?mode=ro&_query_only=1&_busy_timeout=5000&_cache_size=-16384&_stmt_cache_size=64"+layer)
	if err != nil {
		return err
	}
	read.SetMaxOpenConns(4)
	read.SetMaxIdleConns(4)
	s.read.Store(read)
	return read.Ping()
}

// uriPath writes a path so that SQLite's URI parser reads it back whole.
var uriPath = strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23")

// TestVFS names the file layer that stores are opened on, where a test has registered
// one; empty for the system's.
var TestVFS string

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
			s.conn.ExecContext(background, "PRAGMA wal_checkpoint(TRUNCATE)")
			errs = append(errs, s.settleMark())
		}
		s.st.close() // SQLite keeps the file open for as long as one is
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

// IsDiskFault tells whether err came from the disk under the file, so that
// the connection must not be used any more.
func IsDiskFault(err error) bool {
	var e sqlite3.Error
	return errors.As(err, &e) && (e.Code == sqlite3.ErrIoErr || e.Code == sqlite3.ErrCorrupt)
}

// IsCorrupt tells whether err says that the file itself is damaged.
func IsCorrupt(err error) bool {
	var e sqlite3.Error
	return errors.As(err, &e) && (e.Code == sqlite3.ErrCorrupt || e.Code == sqlite3.ErrNotADB)
}

// Probe commits a little that was never written before, to find out whether the disk
// takes writes.
func (s *Store) Probe(mark int64) error {
	if err := s.exec(s.st.setFact, "probed", mark); err != nil {
		return err
	}
	return s.Commit()
}

// IsFull tells whether err says that the disk is full.
func IsFull(err error) bool {
	var e sqlite3.Error
	return errors.As(err, &e) && e.Code == sqlite3.ErrFull
}

func (s *Store) pragma(name string) (n int64, err error) {
	err = s.conn.QueryRowContext(background, "PRAGMA "+name).Scan(&n)
	return n, err
}

// migrations are the scripts that bring the tables from each version to the
// next.
func migrations() []string {
	files, err := fs.Glob(schemas, "schema/*.sql")
	if err != nil {
		panic(err) // the pattern is constant
	}
	return files
}

// version tells the version of the file's tables; a file that is not ours to
// change is refused.
func (s *Store) version() (int, error) {
	id, err := s.pragma("application_id")
	if err != nil {
		return 0, err
	}
	version, err := s.pragma("user_version")
	if err != nil {
		return 0, err
	}
	var tables int
	if err := s.conn.QueryRowContext(background, "SELECT count(*) FROM sqlite_master").Scan(&tables); err != nil {
		return 0, err
	}
	if id != appID && tables > 0 {
		return 0, fmt.Errorf("%s is an SQLite file of another program; nothing was changed: choose another file with --data", s.path)
	}
	if known := len(migrations()); int(version) > known {
		return 0, fmt.Errorf("%s was written by a newer hmule (schema %d; this one knows %d); nothing was changed: start that newer hmule, or choose another file with --data", s.path, version, known)
	}
	return int(version), nil
}

// migrate brings the tables from the file's version to this program's, one
// version per transaction.
func (s *Store) migrate(version int) error {
	files := migrations()
	for v := version; v < len(files); v++ {
		if err := s.migrateTo(v+1, files[v]); err != nil {
			return fmt.Errorf("the tables could not be brought to schema %d: %w", v+1, err)
		}
	}
	return nil
}

func (s *Store) migrateTo(version int, file string) error {
	text, err := schemas.ReadFile(file)
	if err != nil {
		return err
	}
	script := fmt.Sprintf("BEGIN IMMEDIATE;\n%s\nPRAGMA application_id=%d;\nPRAGMA user_version=%d;\n", text, appID, version)
	if version == 1 {
		script += fmt.Sprintf("INSERT INTO facts VALUES ('store','%s'), ('next_job','1');\n", newStoreID())
	}
	if _, err := s.conn.ExecContext(background, script+"COMMIT;"); err != nil {
		s.conn.ExecContext(background, "ROLLBACK")
		return err
	}
	return nil
}

func newStoreID() string {
	var b [8]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}
