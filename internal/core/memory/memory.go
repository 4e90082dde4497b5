// Package memory is what the service keeps beside its file, so that most questions need no
// statement: names, counts, leases, places, and so on, each a part. All parts have one
// shape. A part is loaded from the file at the start; a transaction sees it with its own
// changes laid over what was committed ([Overlay]); what many commands add up is written at
// the flush, and what one command changes at once, so that a fault is that command's; and
// after the commit the changes are published. Nothing that was committed changes before.
//
// The committer owns the memory: it alone calls what changes it, and reads everything
// without a lock. Everybody else reads what was committed, by what is named Kept…, and
// holds the read lock meanwhile. A value is never altered once it is committed, so what was
// read may be used after the lock is given back.
//
// A new part is a type that embeds layered, has a load, and stands in [Memory.parts].
package memory

import (
	"sync"
	"time"

	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Memory is all parts.
type Memory struct {
	// RWMutex is held to write while a transaction is published, and by others to read.
	sync.RWMutex
	store *store.Store
	clock *Clock
	// now is when the transaction began: the time of all that it does.
	now   job.Time
	parts []part

	Facts     Facts
	Queues    Names
	Tasks     Names
	Settings  Settings
	Policies  Policies
	Counts    Counts
	Removals  Removals
	Times     Times
	Places    Places
	Limits    Limits
	Leases    Leases
	Schedules Schedules
	Causes    Causes
	Words     Words
	Retention Retention
	News      News
	Workers   Workers
	Trends    Trends
	History   History
	Finding   Finding
	Follows   Follows
	Tallies   Tallies
	Sessions  Sessions
	Spans     Spans
	Imports   Imports
	Ties      Ties
	Hooks     Hooks
	Hosts     Hosts
	Endpoints Endpoints
	Alerts    Alerts
	Receipts  Receipts
}

// part is what all parts are, as the package's comment tells.
type part interface {
	join(m *Memory)
	load(f *file) error
	flush() error
	publish()
	drop()
}

// layered is embedded by every part: it publishes and drops the overlays that the part
// keeps, so that none is forgotten.
type layered struct {
	m   *Memory
	all []layer
}

type layer interface {
	publish()
	drop()
}

func (p *layered) join(m *Memory) { p.m, p.all = m, nil }
func (p *layered) flush() error   { return nil }

func (p *layered) publish() {
	for _, l := range p.all {
		l.publish()
	}
}

func (p *layered) drop() {
	for _, l := range p.all {
		l.drop()
	}
}

// keep makes an overlay one of a part, over what was loaded.
func keep[K comparable, V any](p *layered, o *Overlay[K, V], kept map[K]V) {
	*o = Overlay[K, V]{kept: kept}
	p.all = append(p.all, o)
}

// keepOne makes a cell one of a part.
func keepOne[T any](p *layered, c *Cell[T], v T) {
	*c = Cell[T]{kept: v, now: v}
	p.all = append(p.all, c)
}

// file is what several parts are loaded from, read once.
type file struct {
	facts  store.Facts
	queues []store.Queue
	tasks  []store.Task
	counts []store.Count
}

func read(s *store.Store) (f file, err error) {
	if f.facts, err = s.Facts(); err != nil {
		return f, err
	}
	if f.queues, err = s.Queues(); err != nil {
		return f, err
	}
	if f.tasks, err = s.Tasks(); err != nil {
		return f, err
	}
	f.counts, err = s.Counts()
	return f, err
}

// New gives the memory of a file, to be loaded.
func New(s *store.Store, clock *Clock) *Memory {
	m := &Memory{store: s, clock: clock}
	m.Workers.Presence.workers = map[string]*worker{}
	// Those come first that others need when they are loaded, written and published.
	m.parts = []part{
		&m.Facts, &m.Queues, &m.Tasks, &m.Settings, &m.Policies, &m.Counts, &m.Removals, &m.Times, &m.Places, &m.Limits,
		&m.Leases, &m.Schedules, &m.Causes, &m.Words, &m.Retention, &m.News, &m.Workers, &m.Trends, &m.History, &m.Finding, &m.Follows, &m.Tallies, &m.Sessions, &m.Spans, &m.Imports, &m.Ties, &m.Hooks, &m.Hosts, &m.Endpoints, &m.Alerts, &m.Receipts,
	}
	return m
}

// Load reads everything from the file.
func (m *Memory) Load() error {
	m.Lock()
	defer m.Unlock()
	f, err := read(m.store)
	if err != nil {
		return err
	}
	m.clock.before = max(m.clock.before, f.facts.Served-time.Since(m.clock.Opened).Milliseconds(), 1) // 0 means never
	m.Queues.kind, m.Tasks.kind = queues, tasks
	for _, p := range m.parts {
		p.join(m)
		if err := p.load(&f); err != nil {
			return err
		}
	}
	return nil
}

// Begin forgets what the transaction before has changed.
func (m *Memory) Begin(now job.Time) {
	m.now = now
	for _, p := range m.parts {
		p.drop()
	}
}

// Flush writes what is not written yet.
func (m *Memory) Flush() error {
	for _, p := range m.parts {
		if err := p.flush(); err != nil {
			return err
		}
	}
	return nil
}

// Publish makes the transaction what everybody reads.
func (m *Memory) Publish() {
	m.Lock()
	defer m.Unlock()
	for _, p := range m.parts {
		p.publish()
	}
}

// Clock tells what time it is: by the wall, which may jump, and by how long the file has
// been served, which neither a stop nor a jump uses up.
type Clock struct {
	Wall func() time.Time
	// Opened is when the file was opened, by the monotonic clock.
	Opened time.Time
	// before is how long it had been served then, in ms.
	before int64
}

// Now is the time that is stored.
func (c *Clock) Now() job.Time { return job.At(c.Wall()) }

// Served is how long the file has been served, in ms: the clock of what is promised for a
// while.
func (c *Clock) Served() int64 { return c.before + time.Since(c.Opened).Milliseconds() }

// Facts are the file's own: its name, and the counter of ids.
type Facts struct {
	layered
	// StoreID names the file. It never changes while the file is open.
	StoreID string
	// RestoredAt is when the file was restored from a backup; 0 where it was not. It never changes
	// either.
	RestoredAt job.Time
	// NextJob is the id of the next job.
	NextJob Cell[int64]
	// raised is what the transaction has raised it to; 0 where it has not.
	raised int64
}

func (p *Facts) load(f *file) error {
	p.StoreID, p.RestoredAt = f.facts.StoreID, f.facts.RestoredAt
	keepOne(&p.layered, &p.NextJob, f.facts.NextJob)
	return nil
}

func (p *Facts) flush() error {
	if p.NextJob.Get() == p.NextJob.Kept() {
		return nil
	}
	return p.m.store.PutNextJob(p.NextJob.Get())
}

// Raise has the ids of new jobs go on at one, where they have not come so far.
func (p *Facts) Raise(to int64) {
	if to > p.NextJob.Get() {
		p.NextJob.Set(to)
		p.raised = to
	}
}

func (p *Facts) drop() {
	p.layered.drop()
	p.raised = 0
}

// DrawID gives the id of a new job.
func (p *Facts) DrawID() int64 {
	id := p.NextJob.Get()
	p.NextJob.Set(id + 1)
	return id
}
