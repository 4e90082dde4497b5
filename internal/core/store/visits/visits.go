// Package visits counts how much of a data file each statement looks at, for tests alone.
package visits

/*
#cgo LDFLAGS: -Wl,--unresolved-symbols=ignore-in-object-files
#include "visits.h"
*/
import "C"

import (
	_ "github.com/mattn/go-sqlite3" // has SQLite in it
)

// Begin counts what connections do that are opened from then on.
func Begin() {
	if C.visits_begin() != 0 {
		panic("SQLite does not take the counter")
	}
}

// Reset forgets what was counted.
func Reset() { C.visits_reset() }

// Most tells, of each statement that was run since the reset, by its text, the steps that
// SQLite's machine took for one run at most: a few for each row that it visited.
func Most() map[string]int {
	all := map[string]int{}
	for i := range int(C.visits_known()) {
		if v := C.visits_of(C.int(i)); v.runs > 0 {
			all[C.GoString(v.sql)] = int(v.most)
		}
	}
	return all
}
