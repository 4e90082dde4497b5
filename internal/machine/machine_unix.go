//go:build unix

package machine

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Lock locks a file for this process alone, until it is closed. It never waits: the error is
// [ErrLocked] where another process has it.
func Lock(f *os.File) error { return flock(f, unix.LOCK_EX) }

// Locked tells whether another process has locked a file.
func Locked(f *os.File) bool { return errors.Is(flock(f, unix.LOCK_SH), ErrLocked) }

func flock(f *os.File, how int) error {
	err := unix.Flock(int(f.Fd()), how|unix.LOCK_NB)
	if errors.Is(err, unix.EWOULDBLOCK) {
		return ErrLocked
	}
	return err
}

// RangeLocked tells whether another process holds a lock on a byte of a file.
func RangeLocked(f *os.File, at int64) bool {
	lock := unix.Flock_t{Type: unix.F_WRLCK, Whence: io.SeekStart, Start: at, Len: 1}
	return unix.FcntlFlock(f.Fd(), unix.F_GETLK, &lock) == nil && lock.Type != unix.F_UNLCK
}

// Links is how many names a file has.
func Links(f *os.File) (int, error) {
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	at, known := info.Sys().(*syscall.Stat_t)
	if !known {
		return 1, nil
	}
	return int(at.Nlink), nil
}

// Room tells how many bytes are free for this account on the disk of a folder, and how many
// there are.
func Room(folder string) (free, all int64, err error) {
	var disk unix.Statfs_t
	if err := unix.Statfs(folder, &disk); err != nil {
		return 0, 0, &fs.PathError{Op: "statfs", Path: folder, Err: err}
	}
	return int64(disk.Bavail) * int64(disk.Bsize), int64(disk.Blocks) * int64(disk.Bsize), nil
}

// Usable tells why this account may not read and write a file or a folder; nil where it may.
func Usable(path string) error { return unix.Access(path, unix.R_OK|unix.W_OK) }

// ReadOnlyDisk tells whether an error says that a disk cannot be written.
func ReadOnlyDisk(err error) bool { return errors.Is(err, unix.EROFS) }

// AddressInUse tells whether an error says that another process listens at an address.
func AddressInUse(err error) bool { return errors.Is(err, unix.EADDRINUSE) }

// CPU is the processor time that this process has used.
func CPU() time.Duration {
	var u unix.Rusage
	if unix.Getrusage(unix.RUSAGE_SELF, &u) != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

func syncFolder(d *os.File) error { return d.Sync() }
