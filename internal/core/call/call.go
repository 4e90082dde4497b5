// Package call keeps away from hosts that give no answer. Their jobs are held, uncounted, and at a time that
// comes later and later one of them is let go, by which the host is tried. When it has answered all others
// are let go, some at a time.
//
// It keeps nothing; the hosts are a part of the memory. Who makes the calls tells it of them.
package call

import (
	"context"
	"time"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// Exchange is told of hosts. Its methods may be called from any goroutine.
type Exchange struct{ c *commit.Committer }

// New gives an exchange.
func New(c *commit.Committer) *Exchange { return &Exchange{c} }

// When a host that gives no answer is tried: first after so long, then after twice as long each time, to
// the longest; a fifth earlier or later by chance.
const (
	firstProbe   = 10 * time.Second
	longestProbe = 10 * time.Minute
	probeJitter  = 0.2
	// mostWhy bounds the reason that is kept.
	mostWhy = 300
)

// probeIn is how long to wait after so many tries in a row; draw is a number in [0, 1).
func probeIn(failed int, draw float64) time.Duration {
	d := firstProbe
	for i := 1; i < failed && d < longestProbe; i++ {
		d *= 2
	}
	return time.Duration(float64(min(d, longestProbe)) * (1 - probeJitter + 2*probeJitter*draw))
}

// HostSilent notes that a host gave no answer, and why: from now on its jobs are held.
func (x *Exchange) HostSilent(ctx context.Context, host, why string) error {
	return x.c.Do(ctx, commit.Unchecked(func(tx *commit.Tx) error {
		h := store.SilentHost{Host: store.HostHash(host), Name: host, Since: tx.Now}
		if was := tx.Hosts.Get(h.Host); was != nil && was.ProbeAt != 0 {
			if was.ProbeAt > tx.Now {
				return nil // another call that was under way
			}
			h = *was
		}
		h.Failed++
		h.ProbeAt, h.Why = tx.Now.Add(probeIn(h.Failed, tx.Options().Draw())), text.Cut(why, mostWhy)
		return tx.Hosts.Put(h)
	}))
}

// HostAnswers notes that a host has answered: its jobs are let go.
func (x *Exchange) HostAnswers(ctx context.Context, host string) error {
	id := store.HostHash(host)
	if !x.Silent(host) {
		return nil
	}
	return x.c.Do(ctx, commit.Unchecked(func(tx *commit.Tx) error {
		h := tx.Hosts.Get(id)
		if h == nil || h.ProbeAt == 0 {
			return nil
		}
		answers := *h
		answers.ProbeAt = 0
		return tx.Hosts.Put(answers)
	}))
}

// Silent tells whether a host gives no answer, as far as is known.
func (x *Exchange) Silent(host string) bool {
	m := x.c.Memory
	m.RLock()
	defer m.RUnlock()
	h := m.Hosts.Kept(store.HostHash(host))
	return h != nil && h.ProbeAt != 0
}

// Probes is the timed work that tries hosts, and lets the jobs go of those that have answered.
func Probes() commit.Timed {
	return commit.Timed{Next: func(tx *commit.Tx) time.Duration {
		if !tx.Hosts.Any() {
			return commit.Never
		}
		at, frees := tx.Hosts.NextProbe()
		if frees {
			return 0
		}
		next := tx.ByWall(at)
		if look := tx.Hosts.NextLook(); !look.IsZero() {
			next = min(next, time.Until(look))
		}
		return next
	}, Do: func(tx *commit.Tx) error {
		if !tx.Hosts.Any() {
			return nil
		}
		for _, h := range tx.Hosts.All() {
			if err := tend(tx, h); err != nil {
				return err
			}
		}
		return nil
	}}
}

// tend does what is due for a host.
func tend(tx *commit.Tx, h *store.SilentHost) error {
	probe := tx.Hosts.ProbeOf(h.Host)
	switch {
	case tx.Passes(commit.ThingHost, h.Host):
		return nil
	case h.ProbeAt == 0:
		return letGo(tx, h)
	case h.ProbeAt > tx.Now, probe.Job != 0 && time.Now().Before(probe.LookAt):
		return nil
	case probe.Job != 0:
		r, err := tx.Store.Row(probe.Job)
		if err != nil {
			return err
		}
		if r != nil && r.State == job.Running {
			tx.Hosts.SetProbe(h.Host, probe.Job, time.Now().Add(memory.ProbeLooked))
			return nil
		}
	}
	return try(tx, h)
}

// try lets one job of a host go, by which it is tried. A host for which none waits is forgotten: the next
// call tries it.
func try(tx *commit.Tx, h *store.SilentHost) error {
	const some = 50 // of which the first may wait for something else
	rows, err := tx.Store.HeldCalls(h.Host, 0, some)
	if err != nil {
		return err
	}
	for _, r := range rows {
		tx.Hosts.SetProbe(h.Host, r.ID, time.Now().Add(memory.ProbeLooked))
		if err := letOne(tx, r); err != nil {
			return err
		}
		if r.State == job.Ready {
			return nil
		}
	}
	if len(rows) == some {
		tx.Hosts.SetProbe(h.Host, rows[0].ID, time.Now().Add(memory.ProbeLooked))
		return nil
	}
	return tx.Hosts.Drop(h.Host)
}

func letOne(tx *commit.Tx, r *store.Row) error {
	if err := place.Put(tx, r, lifecycle.ByUnheld); err != nil {
		return err
	}
	return tx.Store.Wait(r)
}

// letGo lets the next jobs of a host go that has answered.
func letGo(tx *commit.Tx, h *store.SilentHost) error {
	const most = 250
	rows, err := tx.Store.HeldCalls(h.Host, tx.Hosts.Walked(h.Host), most)
	if err != nil {
		return err
	}
	for _, r := range rows {
		if err := letOne(tx, r); err != nil {
			return err
		}
		tx.Hosts.SetWalked(h.Host, r.ID)
	}
	if len(rows) < most {
		return tx.Hosts.Drop(h.Host)
	}
	return nil
}
