package machine

import (
	"errors"
	"io/fs"
	"os"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
)

// lockAt is the byte of a file that is locked: far behind what files hold, since Windows does
// not let others read what is locked.
const lockAt = 1 << 62

// Lock locks a file for this process alone, until it is closed. It never waits: the error is
// [ErrLocked] where another process has it.
func Lock(f *os.File) error { return lock(f, lockAt) }

// Locked tells whether another process has locked a file.
func Locked(f *os.File) bool { return RangeLocked(f, lockAt) }

func lock(f *os.File, at uint64) error {
	o := windows.Overlapped{Offset: uint32(at), OffsetHigh: uint32(at >> 32)}
	err := windows.LockFileEx(windows.Handle(f.Fd()), windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, 1, 0, &o)
	if errors.Is(err, windows.ERROR_LOCK_VIOLATION) || errors.Is(err, windows.ERROR_IO_PENDING) {
		return ErrLocked
	}
	return err
}

// RangeLocked tells whether another process holds a lock on a byte of a file.
func RangeLocked(f *os.File, at int64) bool {
	if err := lock(f, uint64(at)); err != nil {
		return errors.Is(err, ErrLocked)
	}
	o := windows.Overlapped{Offset: uint32(at), OffsetHigh: uint32(at >> 32)}
	windows.UnlockFileEx(windows.Handle(f.Fd()), 0, 1, 0, &o)
	return false
}

func informationOf(f *os.File) (i windows.ByHandleFileInformation, err error) {
	return i, windows.GetFileInformationByHandle(windows.Handle(f.Fd()), &i)
}

// Links is how many names a file has.
func Links(f *os.File) (int, error) {
	i, err := informationOf(f)
	return int(i.NumberOfLinks), err
}

// Identify tells a file from another that has its name later.
func Identify(path string) (is Identity, err error) {
	f, err := os.Open(path)
	if err != nil {
		return is, err
	}
	defer f.Close()
	i, err := informationOf(f)
	return Identity{Number: uint64(i.FileIndexHigh)<<32 | uint64(i.FileIndexLow), Made: i.CreationTime.Nanoseconds()}, err
}

// Room tells how many bytes are free for this account on the disk of a folder, and how many
// there are.
func Room(folder string) (free, all int64, err error) {
	path, err := windows.UTF16PtrFromString(folder)
	if err != nil {
		return 0, 0, err
	}
	var available, total uint64
	if err := windows.GetDiskFreeSpaceEx(path, &available, &total, nil); err != nil {
		return 0, 0, &fs.PathError{Op: "GetDiskFreeSpaceEx", Path: folder, Err: err}
	}
	return int64(available), int64(total), nil
}

// Usable tells why this account may not read and write a file or a folder; nil where it may,
// as far as a try tells.
func Usable(path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			return err
		}
		return f.Close()
	}
	f, err := os.CreateTemp(path, "hmule-*")
	if err != nil {
		return err
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}

// ReadOnlyDisk tells whether an error says that a disk cannot be written.
func ReadOnlyDisk(err error) bool { return errors.Is(err, windows.ERROR_WRITE_PROTECT) }

// AddressInUse tells whether an error says that another process listens at an address.
func AddressInUse(err error) bool { return errors.Is(err, windows.WSAEADDRINUSE) }

// CPU is the processor time that this process has used.
func CPU() time.Duration {
	var made, ended, system, user windows.Filetime
	if windows.GetProcessTimes(windows.CurrentProcess(), &made, &ended, &system, &user) != nil {
		return 0
	}
	const tick = 100 * time.Nanosecond
	span := func(t windows.Filetime) time.Duration {
		return time.Duration(uint64(t.HighDateTime)<<32|uint64(t.LowDateTime)) * tick
	}
	return span(system) + span(user)
}

// memoryStatus is MEMORYSTATUSEX.
type memoryStatus struct {
	length, load                                                          uint32
	total, free, totalPage, freePage, totalVirtual, freeVirtual, extended uint64
}

var globalMemoryStatusEx = windows.NewLazySystemDLL("kernel32.dll").NewProc("GlobalMemoryStatusEx")

// Memory is how many bytes of memory this machine has; 0 where it is not known.
func Memory() int64 {
	s := memoryStatus{}
	s.length = uint32(unsafe.Sizeof(s))
	if done, _, _ := globalMemoryStatusEx.Call(uintptr(unsafe.Pointer(&s))); done == 0 {
		return 0
	}
	return int64(s.total)
}

// syncFolder does nothing: Windows writes names with the files.
func syncFolder(*os.File) error { return nil }

// StepBack would let other threads go before the one that calls; this system knows it of whole
// processes alone.
func StepBack() {}
