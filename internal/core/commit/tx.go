package commit

import (
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Tx is one transaction: the memory's parts as it sees them, and the store. The writing half
// of a command, and timed work, are functions on it. They may be applied again in a later
// transaction, when one failed, so they keep nothing but by what they answer.
type Tx struct {
	*memory.Memory
	Store *store.Store
	// Now is when the transaction began: the time of all that it does.
	Now job.Time
	// By is who gave the command that is applied; empty for timed work.
	By string

	c    *Committer
	view View
	// again tells that there is more to do at once.
	again bool
	// doing is the timed work that is being done, so that a fault is laid to it; hasAside
	// tells that some was set aside, and retried are those that are tried again.
	doing    thing
	hasAside bool
	retried  []thing
}

// Options are those that the service was started with.
func (tx *Tx) Options() *Options { return &tx.c.Options }

// Served is how long the file has been served, in ms.
func (tx *Tx) Served() int64 { return tx.c.Clock.Served() }

// Again has another transaction follow at once, since there is more to do.
func (tx *Tx) Again() { tx.again = true }

// begin begins a transaction. Whatever the one before has changed and not published is
// forgotten.
func (c *Committer) begin() *Tx {
	now := c.Clock.Now()
	c.Memory.Begin(now)
	for _, l := range c.work.Listeners {
		l.Begin()
	}
	return &Tx{Memory: c.Memory, Store: c.Store, Now: now, c: c, view: c.view(now), hasAside: c.aside.any()}
}

// publish makes the transaction what everybody reads, after its commit.
func (tx *Tx) publish() {
	tx.c.again = tx.again
	for _, t := range tx.retried {
		tx.c.aside.forget(t)
	}
	tx.Memory.Publish()
	for _, l := range tx.c.work.Listeners {
		l.Published(tx)
	}
}
