// Package machine is all that differs between the systems that the program runs on, but for
// processes and their groups, which package shell starts.
package machine

import (
	"errors"
	"os"
)

// ErrLocked is the error of a file that another process has locked.
var ErrLocked = errors.New("another process has locked the file")

// Identity tells one file from another that has its name later: a number of the file system
// for it, and when it was made, 0 where the system does not tell.
type Identity struct {
	Number uint64
	Made   int64
}

// SyncFolder makes names that were written into a folder last over a power cut.
func SyncFolder(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(syncFolder(d), d.Close())
}
