// Package command holds the commands on single jobs: to enqueue them, to end their attempts
// with what handlers bring, and what operators do to one: cancel, requeue, edit, remove. It
// is the desk at which callers hand them in ([Desk]), and the functions on a transaction
// which other rooms share: those that act on many jobs, fire schedules or end leases.
//
// A command checks first and changes after: where it answers a problem it has changed
// nothing. It keeps nothing but how much room the disk has.
package command

import (
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/read"
)

// Desk takes commands on single jobs. Its methods may be called from any goroutine.
type Desk struct {
	c    *commit.Committer
	read *read.Reader
	disk disk
}

// New gives a desk.
func New(c *commit.Committer, reader *read.Reader) *Desk { return &Desk{c: c, read: reader} }
