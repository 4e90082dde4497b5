package commit

import (
	"cmp"
	"slices"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/job"
)

// thing is one piece of timed work: what fails by itself is set aside by it, so that
// it holds nothing else up.
type thing struct {
	kind ThingKind
	id   int64
}

// ThingKind says what a piece of timed work is about.
type ThingKind string

// The kinds of timed work.
const (
	ThingSchedule  ThingKind = "schedule"
	ThingLeaseEnd  ThingKind = "lease end"
	ThingDue       ThingKind = "due job"
	ThingLate      ThingKind = "late job"
	ThingStart     ThingKind = "start of job"
	ThingResult    ThingKind = "result of job"
	ThingSweep     ThingKind = "removed job"
	ThingRetain    ThingKind = "finished job"
	ThingPlaces    ThingKind = "places of queue"
	ThingFollows   ThingKind = "counts of followed labels"
	ThingLeftovers ThingKind = "leftovers"
	ThingCompact   ThingKind = "compaction"
	ThingSessions  ThingKind = "sessions"
	ThingEnding    ThingKind = "end of job"
	ThingAwaited   ThingKind = "job that others wait for"
	ThingHost      ThingKind = "silent host"
)

// What is set aside is tried again after a second, and then twice as late each time.
const (
	firstAside     = time.Second
	longestAside   = 5 * time.Minute
	lookAsideEvery = 100 * time.Millisecond
)

// asides are the things that were set aside. The committer changes them; anybody reads.
type asides struct {
	mu  sync.Mutex
	all map[thing]*setAside
}

type setAside struct {
	since job.Time
	until time.Time
	times int
	err   string
}

func (a *asides) any() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.all) > 0
}

// of counts the things of a kind.
func (a *asides) of(kind ThingKind) (n int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for t := range a.all {
		if t.kind == kind {
			n++
		}
	}
	return n
}

func (a *asides) get(t thing) *setAside {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.all[t]
}

func (a *asides) forget(t thing) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.all, t)
}

// setAside sets a thing that has failed aside for a growing time.
func (c *Committer) setAside(t thing, err error) {
	a := &c.aside
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.all == nil {
		a.all = map[thing]*setAside{}
	}
	s := a.all[t]
	if s == nil {
		s = &setAside{since: c.Clock.Now()}
		a.all[t] = s
	}
	wait := min(firstAside<<min(s.times, 10), longestAside)
	s.times++
	s.until, s.err = time.Now().Add(wait), err.Error()
	c.Log.Error("timed work failed and is set aside; everything else goes on", "what", string(t.kind), "id", t.id, "times", s.times, "again_in", wait, "error", err)
}

// Passes notes what timed work is about to do, and tells whether it is set aside.
func (tx *Tx) Passes(kind ThingKind, id int64) (aside bool) {
	tx.doing = thing{kind, id}
	if !tx.hasAside {
		return false
	}
	s := tx.c.aside.get(tx.doing)
	if s == nil {
		return false
	}
	if time.Now().Before(s.until) {
		return true
	}
	tx.retried = append(tx.retried, tx.doing)
	return false
}

// Done notes that what [Tx.Passes] was told of is done.
func (tx *Tx) Done() { tx.doing = thing{} }

// Room is how many more rows of a kind are to be read, because some of them are set aside.
func (tx *Tx) Room(kind ThingKind) int {
	if !tx.hasAside {
		return 0
	}
	return tx.c.aside.of(kind)
}

// HasAside tells whether any timed work is set aside.
func (tx *Tx) HasAside() bool { return tx.hasAside }

// IsAside tells whether a piece of timed work is set aside.
func (tx *Tx) IsAside(kind ThingKind, id int64) bool {
	if !tx.hasAside {
		return false
	}
	s := tx.c.aside.get(thing{kind, id})
	return s != nil && time.Now().Before(s.until)
}

// SetAside lists the timed work that has failed and waits to be tried again.
func (c *Committer) SetAside() []api.SetAside {
	c.aside.mu.Lock()
	defer c.aside.mu.Unlock()
	all := []api.SetAside{}
	for t, s := range c.aside.all {
		all = append(all, api.SetAside{What: string(t.kind), ID: t.id, Since: s.since, Times: s.times, AgainInMS: max(time.Until(s.until), 0).Milliseconds()})
	}
	slices.SortFunc(all, func(a, b api.SetAside) int { return cmp.Or(cmp.Compare(a.What, b.What), cmp.Compare(a.ID, b.ID)) })
	return all
}
