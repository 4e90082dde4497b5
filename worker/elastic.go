package worker

import (
	"context"
	"fmt"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// load is what decides how many slots a pool should have.
type load struct {
	Min, Max, Slots int
	// Waiting is how many jobs were ready when all slots were taken.
	Waiting int64
	// FullFor is how long all slots have been taken.
	FullFor time.Duration
	// QuietFor is how long no more than half of the slots have been taken, and
	// MostUsed how many were at once in that time.
	QuietFor time.Duration
	MostUsed int
}

const (
	fullLongEnough  = 2 * time.Second
	quietLongEnough = 30 * time.Second
)

// resize says how many slots a pool should have, and why where that is not what it
// has. It doubles, and grows by no more than jobs wait: soon, since jobs wait. It
// shrinks by a quarter, and not below what was used: slowly, since an idle slot
// costs little.
func resize(l load) (slots int, why string) {
	switch {
	case l.Waiting > 0 && l.FullFor >= fullLongEnough && l.Slots < l.Max:
		slots = l.Slots + int(min(int64(l.Slots), l.Waiting))
		why = fmt.Sprintf("%s and all %d slots were taken for %s", jobsWait(l.Waiting), l.Slots, sentence.Roughly(l.FullFor))
		return min(slots, l.Max), why
	case l.QuietFor >= quietLongEnough && l.Slots > l.Min:
		slots = max(l.Slots-max(l.Slots/4, 1), l.MostUsed, l.Min)
		why = fmt.Sprintf("no more than %d of %d slots were taken for %s", l.MostUsed, l.Slots, sentence.Roughly(l.QuietFor))
		return slots, why
	}
	return l.Slots, ""
}

func jobsWait(n int64) string {
	if n == 1 {
		return "1 job waits"
	}
	return sentence.Grouped(n) + " jobs wait"
}

// sizeEvery is how often the load of an elastic pool is looked at.
const sizeEvery = time.Second

// grow lets the pool grow and shrink until ctx ends.
func (p *Pool) grow(ctx context.Context) {
	ticker := time.NewTicker(sizeEvery)
	defer ticker.Stop()
	l := load{Min: p.opts.Slots, Max: p.opts.MaxSlots}
	for {
		select {
		case <-ticker.C:
		case <-ctx.Done():
			return
		}
		p.look(ctx, &l)
		slots, why := resize(l)
		if slots == l.Slots {
			continue
		}
		p.log.Info("slots change", "from", l.Slots, "to", slots, "why", why)
		p.mu.Lock()
		p.resized = &api.Resize{At: job.At(time.Now()), From: l.Slots, To: slots, Why: why}
		p.slots = slots
		p.fill()
		p.signal()
		p.mu.Unlock()
		l.FullFor, l.QuietFor, l.MostUsed = 0, 0, 0
		if _, err := p.source.PutWorker(ctx, p.worker()); err != nil && ctx.Err() == nil {
			p.log.Warn("the service was not told of the new number of slots", "error", err)
		}
	}
}

// look updates the load by what is to be seen now.
func (p *Pool) look(ctx context.Context, l *load) {
	p.mu.Lock()
	l.Slots = p.slots
	used, full := p.started, p.started >= p.slots || p.crowded
	p.crowded = false
	p.mu.Unlock()
	l.Waiting = 0
	if full {
		l.FullFor += sizeEvery
		l.Waiting = p.ask(ctx)
	} else {
		l.FullFor = 0
	}
	if full || used > l.Slots/2 {
		l.QuietFor, l.MostUsed = 0, 0
		return
	}
	l.QuietFor += sizeEvery
	l.MostUsed = max(l.MostUsed, used)
}

// ask asks how many jobs wait for the pool.
func (p *Pool) ask(ctx context.Context) int64 {
	p.mu.Lock()
	doing := p.want
	p.mu.Unlock()
	w, err := p.source.Wanted(ctx, p.id, doing, 0)
	if err != nil {
		return 0 // the service is away, or has started anew
	}
	for _, token := range w.Cancelled {
		p.cancel(token, ErrCancelled)
	}
	p.obey(w.Wanted)
	return w.Waiting
}

// Measured, as Options.Ahead, holds as many jobs unstarted as the slots would run
// off while a call is under way, by the measured run times.
const Measured = -1

// pace is how long runs and calls take: exponentially weighted means.
type pace struct {
	runs      int
	run, call time.Duration
}

const paceShare = 10 // the latest measure counts a tenth

func (c *pace) ran(d time.Duration) {
	c.runs++
	c.run += (d - c.run) / paceShare
}

func (c *pace) called(d time.Duration) {
	if c.call == 0 {
		c.call = d
	}
	c.call += (d - c.call) / paceShare
}

// ahead is how many jobs the pool may hold unstarted now. The caller holds the
// lock.
func (p *Pool) ahead() int {
	if p.opts.Ahead != Measured {
		return max(p.opts.Ahead, 0)
	}
	return aheadFor(p.slots, p.pace)
}

// aheadFor chooses how many jobs to hold unstarted: what the slots run off during
// a call, at most 8 a slot. Where runs take ten times as long as calls, waiting for
// a call costs less than a tenth, and none are held; nor while little is known.
func aheadFor(slots int, c pace) int {
	const fewest, most, longer = 20, 8, 10
	if c.runs < fewest || c.call == 0 || c.run >= longer*c.call {
		return 0
	}
	each := most * time.Duration(1)
	if c.run > 0 {
		each = min(each, (c.call+c.run-1)/c.run)
	}
	return slots * int(each)
}
