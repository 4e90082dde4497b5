// Package compact gives the parts of the data file that nothing uses back to its disk, some pages
// in each transaction, while the service works.
package compact

import (
	"context"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Compactor compacts the data file. Its methods may be called from any goroutine.
type Compactor struct {
	c *commit.Committer
	// mu guards last, the latest compaction; nil for none.
	mu   sync.Mutex
	last *api.Compaction
	// pages are given back by the next slice, and next is when. Both are the committer's own.
	pages int64
	next  time.Time
}

// New gives a compactor.
func New(c *commit.Committer) *Compactor { return &Compactor{c: c} }

// A slice takes about so long, and one comes after a pause of as many times that. The pages at the
// end of the file, which take the places of those that are free, go through the log.
const (
	sliceFor   = time.Millisecond
	pauses     = 4
	firstPages = 16
	mostPages  = 512
)

// DataFile tells of the data file.
func (cp *Compactor) DataFile(ctx context.Context) (told api.DataFile, err error) {
	if err := scope.Whole(ctx); err != nil {
		return told, err
	}
	p, err := cp.c.Store.ReadPages(ctx)
	if err != nil {
		return told, err
	}
	told = api.DataFile{Path: cp.c.Store.Path(), Bytes: p.All * p.Bytes, FreeBytes: p.Free * p.Bytes, LogBytes: cp.c.Store.LogBytes()}
	if told.DiskFreeBytes, _, err = store.Room(told.Path); err != nil {
		return told, err
	}
	cp.mu.Lock()
	defer cp.mu.Unlock()
	if cp.last != nil {
		last := *cp.last
		told.Compaction = &last
	}
	return told, nil
}

func (cp *Compactor) running() bool {
	cp.mu.Lock()
	defer cp.mu.Unlock()
	return cp.last != nil && cp.last.State == api.CompactRunning
}

// Compact begins to give back what is free. Where that is under way it goes on.
func (cp *Compactor) Compact(ctx context.Context) error {
	var before, begun *api.Compaction
	err := cp.do(ctx, "compact", func(v *commit.View) (commit.Write, error) {
		if cp.running() {
			return nil, nil
		}
		if can, err := cp.c.Store.CanShrink(); err != nil || !can {
			return nil, orFault(err, "the data file was not made by this program and cannot shrink while it is open; nothing was changed")
		}
		p, err := cp.c.Store.Pages()
		if err != nil {
			return nil, err
		}
		return func(tx *commit.Tx) error {
			cp.mu.Lock()
			defer cp.mu.Unlock()
			before, begun = cp.last, &api.Compaction{State: api.CompactRunning, By: tx.By, BeganAt: tx.Now, LeftBytes: p.Free * p.Bytes}
			cp.last = begun
			cp.pages, cp.next = firstPages, time.Time{}
			return nil
		}, nil
	})
	if err != nil && begun != nil { // it was not committed
		cp.mu.Lock()
		defer cp.mu.Unlock()
		cp.last = before
	}
	return err
}

func orFault(err error, says string) error {
	if err != nil {
		return err
	}
	return job.Fault(job.WrongState, "%s", says)
}

// StopCompact stops a compaction; what was given back is.
func (cp *Compactor) StopCompact(ctx context.Context) error {
	return cp.do(ctx, "stop_compact", func(*commit.View) (commit.Write, error) {
		if !cp.running() {
			return nil, job.Fault(job.WrongState, "the data file is not being compacted; nothing was changed")
		}
		return func(tx *commit.Tx) error {
			cp.end(tx.Now, api.CompactStopped, "asked by "+tx.By)
			return nil
		}, nil
	})
}

// do applies an action, and keeps who did it.
func (cp *Compactor) do(ctx context.Context, action string, check commit.Check) error {
	if err := scope.Whole(ctx); err != nil {
		return err
	}
	return cp.c.Do(ctx, func(v *commit.View) (commit.Write, error) {
		write, err := check(v)
		if write == nil || err != nil {
			return nil, err
		}
		return func(tx *commit.Tx) error {
			if _, err := tx.Store.InsertAction(tx.Now, tx.By, action, 0, "{}"); err != nil {
				return err
			}
			return write(tx)
		}, nil
	})
}

func (cp *Compactor) end(now job.Time, state, why string) {
	cp.mu.Lock()
	defer cp.mu.Unlock()
	cp.last.State, cp.last.Why, cp.last.EndedAt = state, why, now
}

// Slices is the timed work that gives pages back.
func (cp *Compactor) Slices() commit.Timed {
	return commit.Timed{Next: func(*commit.Tx) time.Duration {
		if !cp.running() {
			return commit.Never
		}
		return time.Until(cp.next)
	}, Do: cp.slice}
}

func (cp *Compactor) slice(tx *commit.Tx) error {
	if !cp.running() || time.Now().Before(cp.next) || tx.Passes(commit.ThingCompact, 0) {
		return nil
	}
	began := time.Now()
	before, err := tx.Store.Pages()
	if err != nil {
		return err
	}
	if before.Free > 0 {
		if err := tx.Store.Shrink(min(cp.pages, before.Free)); err != nil {
			return err
		}
	}
	after, err := tx.Store.Pages()
	if err != nil {
		return err
	}
	took := time.Since(began)
	switch {
	case took > sliceFor:
		cp.pages = max(cp.pages/2, 1)
	case took < sliceFor/2:
		cp.pages = min(cp.pages*2, mostPages)
	}
	cp.next = time.Now().Add(pauses * took)
	cp.mu.Lock()
	cp.last.FreedBytes += (before.All - after.All) * after.Bytes
	cp.last.LeftBytes = after.Free * after.Bytes
	cp.mu.Unlock()
	if after.Free == 0 || after.All == before.All {
		cp.end(tx.Now, api.CompactDone, "")
	}
	return nil
}
