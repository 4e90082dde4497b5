//go:build !cgo

package store

import (
	"errors"
	"fmt"

	"modernc.org/sqlite"
)

// Driver names what reads and writes data files.
const Driver = "modernc.org/sqlite (pure Go)"

const driverName = "sqlite"

// parameters say how to open the source, in the words of this driver.
func (s source) parameters() []string {
	all := []string{"_txlock=immediate"}
	if s.readOnly {
		all = []string{"mode=ro", "_pragma=query_only(1)"}
	}
	if s.synchronous != "" {
		all = append(all, fmt.Sprintf("_pragma=synchronous(%s)", s.synchronous))
	}
	if s.busy != 0 {
		all = append(all, fmt.Sprintf("_pragma=busy_timeout(%d)", s.busy.Milliseconds()))
	}
	if s.cacheKiB != 0 {
		all = append(all, fmt.Sprintf("_pragma=cache_size(-%d)", s.cacheKiB))
	}
	if s.unlogged {
		all = append(all, "_pragma=journal_mode(OFF)")
	}
	if s.still {
		all = append(all, "immutable=1")
	}
	return all
}

// pureCopy is a copy with the connection that writes it, which ends with it.
type pureCopy struct{ *sqlite.Backup }

func (c pureCopy) Step(n int) (all bool, err error) {
	more, err := c.Backup.Step(int32(n))
	return err == nil && !more, err
}

// copyTo begins a copy of the file that the writing connection has open.
func (s *Store) copyTo(to source) (c pages, err error) {
	err = s.conn.Raw(func(from any) error {
		b, err := from.(interface {
			NewBackup(into string) (*sqlite.Backup, error)
		}).NewBackup(to.uri())
		c = pureCopy{b}
		return err
	})
	return c, err
}

// faultOf is the number of the fault that an error of the driver tells; 0 where it is none.
func faultOf(err error) int {
	var e *sqlite.Error
	if errors.As(err, &e) {
		return e.Code() & 0xff
	}
	var told toldFault
	if errors.As(err, &told) {
		return int(told)
	}
	return 0
}

// toldFault is a fault that tests bring about.
type toldFault int

func (f toldFault) Error() string { return fmt.Sprintf("fault %d", int(f)) }

// DiskFault is an error as the driver tells it when the disk fails, for tests.
func DiskFault() error { return toldFault(faultIO) }
