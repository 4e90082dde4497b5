// Package deal gives jobs to workers: it takes their requests, decides what goes first and
// what limits allow, leases, renews, and ends leases that were not renewed. It also keeps
// the book of workers, with those who ask.
//
// It keeps the takes that wait for jobs ([parked]) and which leases are about to be renewed
// ([renewals]); what else it needs are parts of the memory. Takes belong to the committer,
// but for their state, which tells the caller and the committer apart; renewals have a lock
// of their own.
package deal

import (
	"time"

	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/read"
	"humblemule.example/internal/core/watch"
)

// Dealer gives jobs to workers. Its methods may be called from any goroutine, but for those
// of [commit.Listener].
type Dealer struct {
	c        *commit.Committer
	m        *memory.Memory
	read     *read.Reader
	desk     *command.Desk
	watchers *watch.Watchers
	parked   *parked
	renewals *renewals
}

// New gives a dealer.
func New(c *commit.Committer, reader *read.Reader, desk *command.Desk, watchers *watch.Watchers) *Dealer {
	return &Dealer{c: c, m: c.Memory, read: reader, desk: desk, watchers: watchers, parked: newParked(), renewals: &renewals{of: map[int64]int{}}}
}

// LeaseEnds is the timed work that ends leases which were not renewed, or whose attempts
// have overrun their timeouts.
func (de *Dealer) LeaseEnds() commit.Timed {
	return commit.Timed{Next: func(tx *commit.Tx) time.Duration { return until(tx.Leases.NextEnd()) }, Do: de.endLeases}
}

// Rates is the timed work that lets takes go on which wait for the rate of a queue.
func (de *Dealer) Rates() commit.Timed {
	return commit.Timed{Next: func(tx *commit.Tx) time.Duration { return until(tx.Limits.NextStart()) }, Do: func(tx *commit.Tx) error {
		for _, id := range tx.Limits.Over(time.Now()) {
			de.parked.stir(tx.Queues.Name(id))
		}
		return nil
	}}
}

// until is how long it is until a time of the monotonic clock; the zero time never comes.
func until(at time.Time) time.Duration {
	if at.IsZero() {
		return commit.Never
	}
	return time.Until(at)
}
