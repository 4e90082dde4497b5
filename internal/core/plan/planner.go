// Package plan is about schedules: it sets them, enqueues their runs when they are due, and
// lets runs go on that wait for the end of others.
//
// It keeps nothing; the schedules are a part of the memory.
package plan

import (
	"time"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/read"
)

// Planner sets schedules. Its methods may be called from any goroutine.
type Planner struct {
	c    *commit.Committer
	read *read.Reader
}

// New gives a planner.
func New(c *commit.Committer, reader *read.Reader) *Planner { return &Planner{c, reader} }

// Fire is the timed work that enqueues the runs of schedules.
func Fire() commit.Timed {
	return commit.Timed{Next: func(tx *commit.Tx) time.Duration { return tx.ByWall(tx.Schedules.NextFire()) }, Do: fireDue}
}
