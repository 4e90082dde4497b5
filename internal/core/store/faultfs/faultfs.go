// Package faultfs is a file layer under SQLite that fails as disks do, for tests alone.
//
// What SQLite writes reaches a file, which stands for the system's cache, at once, and its
// shadow, which stands for the disk, when it is synced. A sync that fails leaves the disk as
// it was and the cache clean, so that a later one does not write the same bytes again. After
// a cut nothing is written any more: then [Killed] gives what a process finds that was
// killed there, and [PowerLost] what a machine finds whose power was cut.
package faultfs

/*
#cgo LDFLAGS: -Wl,--unresolved-symbols=ignore-in-object-files
#include "faultfs.h"
*/
import "C"

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	_ "github.com/mattn/go-sqlite3" // has SQLite in it
)

// Name is that of the layer, for SQLite's vfs parameter.
const Name = "faultfs"

// Register makes the layer known to SQLite.
func Register() {
	if C.faultfs_register() != 0 {
		panic("SQLite does not take the file layer")
	}
}

// Reset forgets everything: no fault is planned, and no file known.
func Reset() { C.faultfs_reset() }

// FailSyncs makes syncs fail, from the n-th one on that is still to come, 1 for the next.
func FailSyncs(n, count int) { C.faultfs_fail_syncs(C.faultfs_syncs()+C.long(n), C.long(count)) }

// Full makes writes fail for want of room, or lets them succeed again.
func Full(on bool) {
	if on {
		C.faultfs_full(1)
	} else {
		C.faultfs_full(0)
	}
}

// CutAt lets nothing be written from the n-th operation on: a write, a truncation, a sync
// or a removal; 0 lets everything be written.
func CutAt(n int) { C.faultfs_cut(C.long(n)) }

// Operations counts those operations since the reset.
func Operations() int { return int(C.faultfs_ops()) }

// Killed copies what a process would find of a data file that was killed now.
func Killed(path, to string) error { return copyOf(path, to, "") }

// PowerLost copies what a machine would find of a data file whose power was cut now.
func PowerLost(path, to string) error { return copyOf(path, to, ".disk") }

func copyOf(path, to, shadow string) error {
	for _, part := range []string{"", "-wal", "-journal"} {
		raw, err := os.ReadFile(path + part + shadow)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(to+part, raw, 0o600); err != nil {
			return err
		}
	}
	return nil
}
