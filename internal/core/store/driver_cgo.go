//go:build cgo

package store

import (
	"database/sql"
	"errors"
	"fmt"

	"github.com/mattn/go-sqlite3"
)

// Driver names what reads and writes data files.
const Driver = "go-sqlite3 (cgo)"

const driverName = "sqlite3"

// parameters say how to open the source, in the words of this driver.
func (s source) parameters() []string {
	all := []string{"_txlock=immediate"}
	if s.readOnly {
		all = []string{"mode=ro", "_query_only=1", "_stmt_cache_size=64"}
	}
	if s.synchronous != "" {
		all = append(all, "_synchronous="+s.synchronous)
	}
	if s.busy != 0 {
		all = append(all, fmt.Sprintf("_busy_timeout=%d", s.busy.Milliseconds()))
	}
	if s.cacheKiB != 0 {
		all = append(all, fmt.Sprintf("_cache_size=-%d", s.cacheKiB))
	}
	if s.unlogged {
		all = append(all, "_journal_mode=OFF")
	}
	if s.still {
		all = append(all, "immutable=1")
	}
	if fileLayer != "" {
		all = append(all, "vfs="+fileLayer)
	}
	return all
}

// cgoCopy is a copy with the connection that writes it.
type cgoCopy struct {
	*sqlite3.SQLiteBackup
	db   *sql.DB
	conn *sql.Conn
}

func (c cgoCopy) Finish() error {
	return errors.Join(c.SQLiteBackup.Finish(), c.conn.Close(), c.db.Close())
}

// copyTo begins a copy of the file that the writing connection has open.
func (s *Store) copyTo(to source) (pages, error) {
	db, err := to.open()
	if err != nil {
		return nil, err
	}
	c := cgoCopy{db: db}
	if c.conn, err = db.Conn(background); err == nil {
		err = c.conn.Raw(func(into any) error {
			return s.conn.Raw(func(from any) (err error) {
				c.SQLiteBackup, err = into.(*sqlite3.SQLiteConn).Backup("main", from.(*sqlite3.SQLiteConn), "main")
				return err
			})
		})
	}
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return c, nil
}

// faultOf is the number of the fault that an error of the driver tells; 0 where it is none.
func faultOf(err error) int {
	var e sqlite3.Error
	if errors.As(err, &e) {
		return int(e.Code)
	}
	return 0
}

// DiskFault is an error as the driver tells it when the disk fails, for tests.
func DiskFault() error { return sqlite3.Error{Code: sqlite3.ErrIoErr} }
