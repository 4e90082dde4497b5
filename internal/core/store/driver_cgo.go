//go:build cgo

package store

import (
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
	if fileLayer != "" {
		all = append(all, "vfs="+fileLayer)
	}
	return all
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
