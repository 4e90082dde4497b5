package machine

import (
	"math"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Identify tells a file from another that has its name later.
func Identify(path string) (is Identity, err error) {
	var x unix.Statx_t
	if err := unix.Statx(unix.AT_FDCWD, path, 0, unix.STATX_INO|unix.STATX_BTIME, &x); err != nil {
		return is, err
	}
	is.Number = x.Ino
	if x.Mask&unix.STATX_BTIME != 0 {
		is.Made = x.Btime.Sec*1e9 + int64(x.Btime.Nsec)
	}
	return is, nil
}

// Memory is how many bytes of memory this machine has, or the control group of this process
// where that is less; 0 where it is not known.
func Memory() int64 {
	has := int64(math.MaxInt64)
	var i unix.Sysinfo_t
	if unix.Sysinfo(&i) == nil {
		has = int64(i.Totalram) * int64(i.Unit)
	}
	for _, file := range []string{"/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"} {
		raw, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		if n, err := strconv.ParseInt(strings.TrimSpace(string(raw)), 10, 64); err == nil {
			has = min(has, n)
		}
	}
	if has == math.MaxInt64 {
		return 0
	}
	return has
}

// StepBack lets other threads go before the one that calls, where it may: it cannot go forward
// again, so that its goroutine must be locked to it until it ends.
func StepBack() {
	const behind = 15
	_ = unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), behind)
}
