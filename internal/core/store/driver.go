package store

import (
	"context"
	"database/sql"
	"errors"
	"runtime"
	"strings"
	"time"
)

// source is how a connection to a data file is opened. Transactions begin as writing ones
// unless it is read only.
type source struct {
	path        string
	readOnly    bool
	synchronous string
	busy        time.Duration
	cacheKiB    int
	// unlogged says that a fault may leave the file as it may be, since nobody else knows it.
	unlogged bool
	// still says that nobody writes the file, so that no lock and no log is looked for.
	still bool
}

func (s source) uri() string {
	return "file:" + uriPath.Replace(s.path) + "?" + strings.Join(s.parameters(), "&")
}

// open opens a pool of connections by the driver of this build.
func (s source) open() (*sql.DB, error) {
	db, err := sql.Open(driverName, s.uri())
	if err != nil || !syncsWeakly || s.readOnly {
		return db, err
	}
	db.SetMaxOpenConns(1) // the pragma is of one connection
	_, err = db.ExecContext(context.Background(), "PRAGMA fullfsync = 1; PRAGMA checkpoint_fullfsync = 1")
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return db, nil
}

// syncsWeakly tells that fsync of this system leaves what was written in the disk's own cache,
// so that SQLite has to be told to use more.
const syncsWeakly = runtime.GOOS == "darwin"

// The faults that SQLite tells of, by their numbers (https://sqlite.org/rescode.html).
const (
	faultPerm     = 3
	faultBusy     = 5
	faultReadonly = 8
	faultIO       = 10
	faultCorrupt  = 11
	faultFull     = 13
	faultCantOpen = 14
	faultNotADB   = 26
)

// Look opens a data file for reading alone, beside whoever has it open.
func Look(path string) (*sql.DB, error) {
	return source{path: path, readOnly: true, busy: time.Second}.open()
}
