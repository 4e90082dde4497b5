// Package upkeep is what happens by itself: jobs become due or too late, results and removed
// jobs go when their time is over, finished jobs when they were kept long enough, waiting
// jobs get new places when the order of their queue was changed, and what is kept beside
// jobs goes when nothing has needed it for long. Each does a slice in a transaction, and
// says when it has something to do again.
//
// It keeps nothing; how far it has come is part of the memory.
package upkeep

import (
	"time"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/sentence"
)

// Due is the timed work that moves jobs whose time has come.
func Due() commit.Timed {
	return commit.Timed{Next: func(tx *commit.Tx) time.Duration { return tx.ByWall(tx.Times.Due.Get()) }, Do: due}
}

// Late is the timed work that skips jobs which were not started in time.
func Late() commit.Timed {
	return commit.Timed{Next: func(tx *commit.Tx) time.Duration { return tx.ByWall(tx.Times.Late.Get()) }, Do: late}
}

// Results is the timed work that drops results which are kept no longer.
func Results() commit.Timed {
	return commit.Timed{Next: func(tx *commit.Tx) time.Duration { return tx.ByWall(tx.Times.Results.Get()) }, Do: dropResults}
}

// Sweep is the timed work that deletes removed jobs which can no longer be restored.
func Sweep() commit.Timed {
	return commit.Timed{Next: untilSweep, Do: sweep}
}

func untilSweep(tx *commit.Tx) time.Duration {
	if tx.Times.Sweep.Get() == 0 {
		return commit.Never
	}
	return time.Duration(tx.Times.Sweep.Get()-tx.Served()) * time.Millisecond
}

// Places is the timed work that gives waiting jobs new places.
func Places() commit.Timed { return commit.Timed{Next: untilWalk, Do: walkOn} }

func untilWalk(tx *commit.Tx) time.Duration {
	if tx.Places.NumWalks() > 0 {
		return walkSoon
	}
	return commit.Never
}

// Retention is the timed work that removes finished jobs.
func Retention() commit.Timed {
	return commit.Timed{Next: func(tx *commit.Tx) time.Duration { return time.Until(tx.Retention.Next.Get()) }, Do: retain}
}

// Awaited is the timed work that looks after jobs for which others wait, or did.
func Awaited() commit.Timed {
	return commit.Timed{Next: func(tx *commit.Tx) time.Duration { return time.Until(tx.Ties.Walk.Get().Next) }, Do: walkAwaited}
}

// Leftovers is the timed work that drops what nothing has needed for long.
func Leftovers() commit.Timed {
	return commit.Timed{Next: func(tx *commit.Tx) time.Duration { return time.Until(tx.Retention.Forget.Get()) }, Do: forget}
}

// History is the timed work that has a minute folded into history when it is over. The flush
// of any transaction does that; where there is none this makes one.
func History() commit.Timed {
	return commit.Timed{Next: func(tx *commit.Tx) time.Duration { return tx.ByWall(tx.History.FoldsAt()) }, Do: func(*commit.Tx) error { return nil }}
}

// Clock watches the wall clock with every transaction.
func Clock() commit.Timed {
	return commit.Timed{Next: func(*commit.Tx) time.Duration { return commit.Never }, Do: watchClock}
}

// Opened lets retention rest where the service was away for long: its clock may be wrong.
// It is called before the first transaction.
func Opened(c *commit.Committer) {
	written, now := c.Store.LastWritten(), c.Memory.Retention.OpenedWall()
	if away := now.Sub(written); !written.IsZero() && away > awayTooLong {
		c.Log.Warn(c.Memory.Retention.Rest("nothing was written for " + sentence.Roughly(away)))
		c.Memory.Publish()
	}
}
