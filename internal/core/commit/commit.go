// Package commit applies commands to the file, one transaction after another.
//
// One goroutine, the committer, owns the writing connection and the memory. A command is a
// function on a transaction; all commands that wait are applied in one transaction,
// committed once, and answered after the commit is on disk. Timed work that is due is done
// in the same transaction. What is kept in memory changes only after the commit, so that a
// failed transaction leaves nothing behind.
//
// The package knows when to do what, not what jobs are: rooms above it give commands
// ([Committer.Do]), and name their timed work and what follows a batch ([Work]).
package commit

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/tally"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Options set up the core. The zero value is good.
type Options struct {
	// Wall gives the time that is stored; nil means time.Now.
	Wall func() time.Time
	// Draw gives a number in [0, 1) that places jitter; nil means random.
	Draw func() float64
	// MaxPayload is the largest payload in bytes; 0 means job.MaxPayloadBytes.
	MaxPayload int
	// MinFree is how many bytes must be free beside the data file for jobs to be taken in;
	// 0 means the smaller of 256 MiB and 2 % of the disk.
	MinFree int64
	// Tracer is told what jobs go through; nil for nobody, which costs nothing.
	Tracer memory.Tracer
	// Secrets says what may use which secret; nil where there are none.
	Secrets Secrets
	// MayCall says why the service may not call a host; nil where it may call none.
	MayCall func(host string) error
	// Mails tells whether the service can send mail; nil where it never can.
	Mails func() bool
	// MayRun says why there is no command of a name for alerts; nil where there is none at all.
	MayRun func(command string) error
	// LookEvery is how often the rules of alerts are held against what is seen; 0 means every ten seconds.
	LookEvery time.Duration
	// Version is the program's, which stands in backups.
	Version string
	// DropOlder says that a file of an older version need not be kept when its tables are brought
	// up to date.
	DropOlder bool
	// Log is told what an operator must know; nil means slog.Default().
	Log *slog.Logger
}

// Secrets says what may use which secret. What is secret never comes into the core.
type Secrets interface {
	// ForHook says why a hook may not prove its senders by a secret, and ForTask why the calls of a task
	// may not use it; nil where they may.
	ForHook(secret, hook string) error
	ForTask(secret, task string) error
	// Unreadable tells of secrets that cannot be read.
	Unreadable() []string
}

// none are no secrets at all.
type none struct{}

func (none) ForHook(secret, _ string) error { return none{}.ForTask(secret, "") }
func (none) ForTask(secret, _ string) error {
	return fmt.Errorf("%q is not a secret of this service; name it under secrets in the file that the service is started with", secret)
}
func (none) Unreadable() []string { return nil }

// WithDefaults gives the options with what was left out.
func (o Options) WithDefaults() Options {
	if o.Wall == nil {
		o.Wall = time.Now
	}
	if o.Draw == nil {
		o.Draw = rand.Float64
	}
	if o.MaxPayload == 0 {
		o.MaxPayload = job.MaxPayloadBytes
	}
	if o.MayCall == nil {
		o.MayCall = func(host string) error {
			return fmt.Errorf("%s is not a host that the service may call; name it under calls.allow in the file that the service is started with", host)
		}
	}
	if o.LookEvery == 0 {
		o.LookEvery = 10 * time.Second
	}
	if o.Mails == nil {
		o.Mails = func() bool { return false }
	}
	if o.MayRun == nil {
		o.MayRun = func(command string) error {
			return fmt.Errorf("%q is not a command of this service; name it under commands in the file that the service is started with", command)
		}
	}
	if o.Secrets == nil {
		o.Secrets = none{}
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	return o
}

// Work is what happens beside the commands.
type Work struct {
	// Timed is what happens by itself, in the order in which a transaction does it.
	Timed []Timed
	// Between is what happens between two transactions.
	Between []Between
	// Finally follows the commands and the timed work of each transaction.
	Finally []func(*Tx) error
	// Listeners are told what becomes of transactions.
	Listeners []Listener
}

// Timed is work that is done by the clock.
type Timed struct {
	// Next tells how long nothing is to be done; a span that is over, where something is.
	Next func(*Tx) time.Duration
	// Do does a slice of what is due.
	Do func(*Tx) error
}

// Between is work on the file that no transaction may be open for. It holds up whoever waits, so
// that it is done in small pieces.
type Between interface {
	// Next tells how long nothing is to be done; a span that is over, where something is.
	Next() time.Duration
	// Do does a piece of what is due.
	Do()
}

// Never is how long it is until what is not planned.
const Never = time.Minute

// ByWall is how long it is until a time of the wall clock, 0 for never: at most a second,
// since that clock may jump.
func (tx *Tx) ByWall(at job.Time) time.Duration {
	if at == 0 {
		return Never
	}
	return min(time.Second, at.Sub(tx.c.Clock.Now()))
}

// Listener is told what becomes of transactions, by the committer: it must not wait.
type Listener interface {
	// Begin says that a transaction begins, whatever became of the one before.
	Begin()
	// Published says that it was committed, and is what everybody reads.
	Published(tx *Tx)
	// Failed says that nothing of it was kept, and what its callers are told.
	Failed(told error)
	// Loaded says that everything was read anew from the file.
	Loaded()
	// Closed says that no other will follow.
	Closed()
}

// Committer applies commands. Its methods may be called from any goroutine.
type Committer struct {
	Options
	Store  *store.Store
	Memory *memory.Memory
	Clock  *memory.Clock
	// Quit is closed when no more commands are taken, and Stopped when all are answered.
	Quit, Stopped chan struct{}

	work     Work
	commands waits
	bulkWent bool // the bulk that waits is the next
	closing  sync.Once
	// retryAt is before when no timed work is done, after a fault; again tells that there is
	// more to do at once. Both are the committer's own.
	retryAt time.Time
	again   bool
	aside   asides
	// worked counts the commands that were applied, and torn those whose writing half has
	// refused, which must not be.
	worked, torn atomic.Int64
	// commits counts the transactions that wrote; working and syncing are how long they were
	// applied, and committed, in ns.
	commits, working, syncing atomic.Int64
	// meters tell how they were spread.
	meters *meters
	// turned is when timed work was last done, in ns; refusing since when the disk takes no
	// writes, 0 while it does.
	turned, refusing atomic.Int64
}

// New opens the data file at path and loads what is kept in memory. Commands are applied
// once [Committer.Start] was called.
func New(path string, o Options) (*Committer, error) {
	log := o.WithDefaults().Log
	s, err := store.OpenAs(path, store.Opening{DropOlder: o.DropOlder, Moved: func(done, all int64) {
		log.Info("converting the file to the new tables", "jobs", done, "of", all)
	}})
	if err != nil {
		return nil, err
	}
	if s.Older() != "" {
		log.Info("the file was converted; as it was before it is kept until you delete it", "kept", s.Older())
	}
	c := newOn(s, o)
	if err := c.load(); err != nil {
		s.Close()
		return nil, err
	}
	return c, nil
}

// Over gives a committer over a store that is open, which only loads its memory: so tests
// compare what two have in memory.
func Over(s *store.Store, o Options) (*Committer, error) {
	c := newOn(s, o)
	return c, c.load()
}

func newOn(s *store.Store, o Options) *Committer {
	o = o.WithDefaults()
	clock := &memory.Clock{Wall: o.Wall, Opened: time.Now()}
	m := memory.New(s, clock)
	m.Trace(o.Tracer)
	return &Committer{
		Options: o, Store: s, Memory: m, Clock: clock,
		commands: newWaits(), meters: newMeters(), Quit: make(chan struct{}), Stopped: make(chan struct{}),
	}
}

// load reads the memory from the file.
func (c *Committer) load() error {
	if err := c.Memory.Load(); err != nil {
		return err
	}
	c.turned.Store(time.Now().UnixNano())
	if n := c.Memory.Leases.NumKept(); n > 0 {
		c.Log.Info("running jobs found; their leases have their full length again", "jobs", n)
	}
	return nil
}

// Start begins to apply commands, and to do the work.
func (c *Committer) Start(w Work) {
	c.work = w
	go c.commit()
}

// Close stops taking commands and answers those that wait. What it is given is waited for
// before the file is closed.
func (c *Committer) Close(last func()) (err error) {
	c.closing.Do(func() {
		close(c.Quit)
		<-c.Stopped
		last()
		if c.refusing.Load() != 0 {
			err = c.Store.Abandon()
			return
		}
		err = errors.Join(c.Store.PutServed(c.Clock.Served()), c.Store.Commit(), c.Store.Close())
	})
	return err
}

// timedWithin is how long timed work may take to come round.
const timedWithin = 10 * time.Second

// Ready tells whether the file can be read, takes writes, and timed work is done. It waits
// for no write.
func (c *Committer) Ready(ctx context.Context) error {
	if since := c.refusing.Load(); since != 0 {
		return fmt.Errorf("the disk has taken no writes since %s", job.Time(since))
	}
	if turned := time.Unix(0, c.turned.Load()); time.Since(turned) > timedWithin {
		return fmt.Errorf("timed work has not been done for %s", sentence.Roughly(time.Since(turned)))
	}
	return c.Store.Ping(ctx)
}

// RefusingSince is since when the disk takes no writes; 0 while it does.
func (c *Committer) RefusingSince() job.Time { return job.Time(c.refusing.Load()) }

// Now is the time that is stored.
func (c *Committer) Now() job.Time { return c.Clock.Now() }

// Worked counts the commands that were applied, so that what works in slices knows whether
// others had some meanwhile.
func (c *Committer) Worked() int64 { return c.worked.Load() }

// Writing tells what was written, and how long that took.
func (c *Committer) Writing() api.Writing {
	ms := func(ns *atomic.Int64) int64 { return time.Duration(ns.Load()).Milliseconds() }
	return api.Writing{Commits: c.commits.Load(), Commands: c.Worked(), WorkMS: ms(&c.working), DiskMS: ms(&c.syncing)}
}

// Commits tells how many commands a transaction held that wrote, and in seconds how long it was
// applied and how long its commit waited for the disk, over all since the start.
func (c *Committer) Commits() (size, work, disk tally.Histogram) {
	m := c.meters
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.size.Copy(), m.work.Copy(), m.disk.Copy()
}

// meters tell how transactions were spread.
type meters struct {
	mu               sync.Mutex
	size, work, disk tally.Histogram
}

// The buckets of commits: of how many commands, and how many seconds.
var (
	commandsUpTo = []float64{1, 2, 5, 10, 25, 50, 100, 250, 500, 1000}
	secondsUpTo  = []float64{.0001, .00025, .0005, .001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 5}
)

func newMeters() *meters {
	m := new(meters)
	m.size.Upper, m.work.Upper, m.disk.Upper = commandsUpTo, secondsUpTo, secondsUpTo
	return m
}

func (m *meters) add(commands int, work, disk time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.size.Add(float64(commands), "", 0)
	m.work.Add(work.Seconds(), "", 0)
	m.disk.Add(disk.Seconds(), "", 0)
}

// Torn counts the commands whose writing half has refused: a mistake in them, which was
// undone.
func (c *Committer) Torn() int64 { return c.torn.Load() }
