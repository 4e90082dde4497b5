package engine

import (
	"context"
	"time"

	"humblemule.example/internal/core/store"
)

// What can be done with data files and backups that no service has open.
type (
	// Inspection is what can be told of a data file without changing it.
	Inspection = store.Inspection
	// CopyInfo is what can be told of a backup by its file.
	CopyInfo = store.CopyInfo
	// Restored tells what a restore has done.
	Restored = store.Restored
)

// Inspect looks at a data file. An error says why a service could not use it.
func Inspect(path string) (Inspection, error) { return store.Inspect(path) }

// LookAtCopy tells what a file is a backup of.
func LookAtCopy(ctx context.Context, path string) (CopyInfo, error) {
	return store.LookAtCopy(ctx, path)
}

// CheckCopy checks a backup whole. The error says what is wrong with it.
func CheckCopy(ctx context.Context, path string) error { return store.CheckCopy(ctx, path) }

// Restore puts a backup in the place of the data file at path; a dry run changes nothing.
func Restore(ctx context.Context, backup, path string, now time.Time, dry bool) (Restored, error) {
	return store.Restore(ctx, backup, path, now, dry)
}
