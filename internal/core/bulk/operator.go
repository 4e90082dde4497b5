// Package bulk acts on many jobs at once: an action on those that a filter names, in slices
// which hardly hold anybody else up, tried out first on a few where that is asked, watchable,
// stoppable, and undone where it removes.
//
// It keeps the operations under way, each with a goroutine of its own that alone changes it,
// and a lock for those who ask how it stands. What survives a restart stands in the file.
package bulk

import (
	"sync"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/read"
	"humblemule.example/internal/core/watch"
)

// Operator acts on many jobs. Its methods may be called from any goroutine.
type Operator struct {
	c        *commit.Committer
	read     *read.Reader
	watchers *watch.Watchers
	// running are the operations under way, by id.
	running sync.Map
	// undos are those whose removals are taken back, by id.
	undos   sync.Map
	runners sync.WaitGroup
}

// New gives an operator.
func New(c *commit.Committer, reader *read.Reader, watchers *watch.Watchers) *Operator {
	return &Operator{c: c, read: reader, watchers: watchers}
}

// Wait waits until no operation is worked on, after the committer has been told to quit.
func (op *Operator) Wait() { op.runners.Wait() }
