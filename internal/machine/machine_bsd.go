//go:build darwin || freebsd

package machine

import (
	"runtime"

	"golang.org/x/sys/unix"
)

// Identify tells a file from another that has its name later.
func Identify(path string) (is Identity, err error) {
	var at unix.Stat_t
	if err := unix.Stat(path, &at); err != nil {
		return is, err
	}
	return Identity{Number: at.Ino, Made: at.Btim.Nano()}, nil
}

// Memory is how many bytes of memory this machine has; 0 where it is not known.
func Memory() int64 {
	n, err := unix.SysctlUint64(map[string]string{"darwin": "hw.memsize", "freebsd": "hw.physmem"}[runtime.GOOS])
	if err != nil {
		return 0
	}
	return int64(n)
}

// StepBack would let other threads go before the one that calls; this system knows it of whole
// processes alone.
func StepBack() {}
