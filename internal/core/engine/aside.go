package engine

import (
	"cmp"
	"slices"
	"sync"
	"time"

	"humblemule/job"
)

// thing is one piece of timed work: what fails by itself is set aside by it, so that
// it holds nothing else up.
type thing struct {
	kind thingKind
	id   int64
}

type thingKind string

const (
	thingSchedule  thingKind = "schedule"
	thingLeaseEnd  thingKind = "lease end"
	thingDue       thingKind = "due job"
	thingLate      thingKind = "late job"
	thingStart     thingKind = "start of job"
	thingResult    thingKind = "result of job"
	thingSweep     thingKind = "removed job"
	thingRetain    thingKind = "finished job"
	thingPlaces    thingKind = "places of queue"
	thingLeftovers thingKind = "leftovers"
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
func (a *asides) of(kind thingKind) (n int) {
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
func (e *Engine) setAside(t thing, err error) {
	a := &e.aside
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.all == nil {
		a.all = map[thing]*setAside{}
	}
	s := a.all[t]
	if s == nil {
		s = &setAside{since: e.now()}
		a.all[t] = s
	}
	wait := min(firstAside<<min(s.times, 10), longestAside)
	s.times++
	s.until, s.err = time.Now().Add(wait), err.Error()
	e.log.Error("timed work failed and is set aside; all else goes on", "what", string(t.kind), "id", t.id, "times", s.times, "again_in", wait, "error", err)
}

// passes notes what timed work is about to do, and tells whether it is set aside.
func (tx *txn) passes(kind thingKind, id int64) (aside bool) {
	tx.doing = thing{kind, id}
	if !tx.hasAside {
		return false
	}
	s := tx.e.aside.get(tx.doing)
	if s == nil {
		return false
	}
	if time.Now().Before(s.until) {
		return true
	}
	tx.retried = append(tx.retried, tx.doing)
	return false
}

// room is how many more rows of a kind are read, because some of them are set aside.
func (tx *txn) room(kind thingKind) int {
	if !tx.hasAside {
		return 0
	}
	return tx.e.aside.of(kind)
}

// SetAside lists the timed work that has failed and waits to be tried again.
func (e *Engine) SetAside() []job.SetAside {
	e.aside.mu.Lock()
	defer e.aside.mu.Unlock()
	all := []job.SetAside{}
	for t, s := range e.aside.all {
		all = append(all, job.SetAside{What: string(t.kind), ID: t.id, Since: s.since, Times: s.times, AgainInMS: max(time.Until(s.until), 0).Milliseconds()})
	}
	slices.SortFunc(all, func(a, b job.SetAside) int { return cmp.Or(cmp.Compare(a.What, b.What), cmp.Compare(a.ID, b.ID)) })
	return all
}

// timedWork is what happens by itself, in the order in which a transaction does it.
var timedWork = []func(*txn) error{
	(*txn).endLeases, (*txn).due, (*txn).fireDue, (*txn).late, (*txn).walkOn, (*txn).sweep, (*txn).dropResults, (*txn).retain, (*txn).forget,
}
