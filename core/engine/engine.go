// Package engine applies commands to jobs.
//
// One goroutine, the committer, owns the writing connection. A command is a
// function on a transaction; all commands that wait are applied in one
// transaction, committed once, and answered after the commit is on disk. What
// the engine keeps in memory changes only after that commit, so that a failed
// transaction leaves nothing behind.
//
// The engine knows no HTTP: the service's routes, and worker pools that run in
// the same process, call the same methods.
package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"humblemule/core/job"
	"humblemule/core/limit"
	"humblemule/core/order"
	"humblemule/core/store"
	"humblemule/core/trend"
)

// Options set up an engine. The zero value is good.
type Options struct {
	// Wall gives the time that is stored; nil means time.Now.
	Wall func() time.Time
	// Draw gives a number in [0, 1) that places jitter; nil means random.
	Draw func() float64
	// MaxPayload is the largest payload in bytes; 0 means job.MaxPayloadBytes.
	MaxPayload int
	// Log is told what an operator must know; nil means slog.Default().
	Log *slog.Logger
}

// Engine keeps the jobs of one data file. Its methods may be called from any
// goroutine.
type Engine struct {
	opts    Options
	log     *slog.Logger
	store   *store.Store
	storeID string

	commands chan *command
	quit     chan struct{}
	stopped  chan struct{}
	closing  sync.Once

	// The committer's own memory; no other goroutine touches it.
	nextJob   int64
	policies  map[string]int64
	leases    map[int64]*lease
	ends      leaseEnds
	parked    []*take
	nextDue   job.Time
	nextSweep job.Time
	retryAt   time.Time // no timed work before it, after a fault
	receipts  receipts
	released  map[int64]release
	turns     map[string]order.Turns // by worker
	nextDrop  job.Time
	nextLate  job.Time
	nextStart time.Time
	served    map[level]int64
	serves    int
	walking   map[*queue]bool
	plan      plan
	// nextRetain is when finished jobs are looked at again, and retained where the
	// last slice has stopped.
	nextRetain job.Time
	retained   int
	versions   map[int64]string // of workers, by their numbers
	// knownCauses are those that have a row.
	knownCauses map[int64]bool

	view     view
	registry registry
	watchers watchers
	causer   causer
	// worked counts the commands that were applied.
	worked atomic.Int64
	// operations are those under way, by id.
	operations sync.Map
	operating  sync.WaitGroup
}

// Open opens the data file at path and starts the committer. Every live lease
// gets its full length again.
func Open(path string, opts Options) (*Engine, error) {
	if opts.Wall == nil {
		opts.Wall = time.Now
	}
	if opts.Draw == nil {
		opts.Draw = rand.Float64
	}
	if opts.MaxPayload == 0 {
		opts.MaxPayload = job.MaxPayloadBytes
	}
	if opts.Log == nil {
		opts.Log = slog.Default()
	}
	s, err := store.Open(path)
	if err != nil {
		return nil, err
	}
	e := &Engine{
		opts: opts, log: opts.Log, store: s,
		commands: make(chan *command, 8192), quit: make(chan struct{}), stopped: make(chan struct{}),
	}
	e.registry.workers = map[string]*worker{}
	e.watchers.finished = map[int64][]chan struct{}{}
	if err := e.recover(); err != nil {
		s.Close()
		return nil, err
	}
	go e.commit()
	if err := e.resumeOperations(); err != nil {
		return nil, errors.Join(err, e.Close())
	}
	return e, nil
}

// Close stops taking commands, answers those that wait and closes the file.
func (e *Engine) Close() error {
	var err error
	e.closing.Do(func() {
		close(e.quit)
		<-e.stopped
		e.operating.Wait()
		err = e.store.Close()
	})
	return err
}

// StoreID names the data file, through all its moves and copies.
func (e *Engine) StoreID() string { return e.storeID }

// Ready tells whether the engine can read its file and takes commands.
func (e *Engine) Ready(ctx context.Context) error {
	if err := e.store.Ping(ctx); err != nil {
		return err
	}
	return e.do(ctx, func(*txn) error { return nil })
}

func (e *Engine) now() job.Time { return job.At(e.opts.Wall()) }

// recover loads what is kept in memory from the file.
func (e *Engine) recover() error {
	facts, err := e.store.Facts()
	if err != nil {
		return err
	}
	e.storeID, e.nextJob = facts.StoreID, facts.NextJob
	owned, err := readOwned(facts.Owned)
	if err != nil {
		return fmt.Errorf("what was loaded from a file: %w", err)
	}
	e.view.own(owned)
	e.causer.use(owned.Triage)
	e.policies = map[string]int64{}
	e.released = map[int64]release{}
	e.turns = map[string]order.Turns{}
	e.served, e.walking = map[level]int64{}, map[*queue]bool{}
	counts, err := e.store.Counts()
	if err != nil {
		return err
	}
	if err := e.view.load(e.store, counts); err != nil {
		return err
	}
	e.recoverWalks()
	if err := e.recoverSchedules(); err != nil {
		return err
	}
	if e.nextDue, err = e.store.NextDue(); err != nil {
		return err
	}
	if e.nextLate, err = e.store.NextTooLate(); err != nil {
		return err
	}
	first, err := e.store.FirstRemoved()
	if err != nil {
		return err
	}
	if e.nextSweep = 0; first != 0 {
		e.nextSweep = first.Add(restorableFor)
	}
	if e.nextDrop, err = e.store.NextResult(); err != nil {
		return err
	}
	causes, err := e.store.CauseIDs()
	if err != nil {
		return err
	}
	e.knownCauses, e.versions = map[int64]bool{}, nil
	for _, id := range causes {
		e.knownCauses[id] = true
	}
	if err := e.receipts.load(e.store, e.now()); err != nil {
		return err
	}
	if err := e.recoverTrends(counts); err != nil {
		return err
	}
	return e.recoverLeases(counts)
}

func (e *Engine) recoverLeases(counts []store.Count) error {
	e.leases, e.ends = map[int64]*lease{}, nil
	rows, err := e.store.RunningNow(counts)
	if err != nil {
		return err
	}
	numbers := make([]int64, len(rows))
	for i, r := range rows {
		numbers[i] = r.Worker
	}
	workers, err := e.store.WorkerUIDs(numbers)
	if err != nil {
		return err
	}
	for _, r := range rows {
		policy, err := e.view.policy(e.store, r.Policy)
		if err != nil {
			return err
		}
		l := &lease{row: r, policy: policy, worker: workers[r.Worker].ID}
		l.row.Payload = nil
		if l.lines, err = e.store.LogLines(r.ID, r.Attempt); err != nil {
			return err
		}
		l.renew()
		e.leases[r.ID] = l
		e.ends.add(l)
	}
	if len(rows) > 0 {
		e.log.Info("running jobs found; their leases have their full length again", "jobs", len(rows))
	}
	return nil
}

// view is what every goroutine may read: names, kept counts, moves. The
// committer alone writes it, after a commit.
type view struct {
	mu       sync.RWMutex
	queues   map[string]*queue
	queueOf  map[int64]*queue
	tasks    map[string]int64
	taskName map[int64]string
	policies map[int64]job.Policy
	moves    trend.Moves
	usual    map[int64]*trend.Usual // by task
	// taskDefaults are by task; nil for none.
	taskDefaults map[int64]*job.Defaults
	taskVersion  map[int64]int64
	taskRunning  map[int64]int64
	owned        owned
	schedules    map[string]*schedule
	scheduleOf   map[int64]*schedule
	lastSchedule int64 // the highest id of any schedule
	lastQueue    int64 // the highest id of any queue
	// settings is the version of all settings: one more than the sum of those of queues
	// and tasks.
	settings atomic.Int64
}

// queue is a queue with its kept counts by task.
type queue struct {
	id       int64
	name     string
	nextRank int64
	// reserved is what stands in the file: ranks below it may be drawn without a word.
	reserved int64
	tasks    map[int64]*stateCounts
	rates    trend.Rates
	pause    pause
	defaults *job.Defaults // nil for none
	past     stateCounts   // removed since kept long enough
	rules    *job.Rules    // whole
	version  int64         // of its settings
	running  int64
	starts   []job.Start // the latest, oldest first
	walking  bool
	// What only the committer touches, but for nextStart, a time in ms.
	walk      *walk
	walked    bool // a walk was under way when the file was opened
	bucket    limit.Bucket
	nextStart atomic.Int64
}

// pause tells who has paused a queue, and when; zero where nobody has.
type pause struct {
	at job.Time
	by string
}

type stateCounts [job.NumStates]int64

func (v *view) load(s *store.Store, counts []store.Count) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.queues, v.queueOf = map[string]*queue{}, map[int64]*queue{}
	v.tasks, v.policies = map[string]int64{}, map[int64]job.Policy{}
	v.usual = map[int64]*trend.Usual{}
	v.settings.Store(1)
	queues, err := s.Queues()
	if err != nil {
		return err
	}
	for _, q := range queues {
		defaults, err := readDefaults(q.Settings)
		if err != nil {
			return fmt.Errorf("queue %s: %w", q.Name, err)
		}
		v.settings.Add(q.Version)
		v.addQueue(&queue{defaults: defaults, rules: rulesOf(defaults), version: q.Version, walked: q.Walked >= 0, id: q.ID, name: q.Name, nextRank: q.NextRank, reserved: q.NextRank, tasks: map[int64]*stateCounts{}, pause: pause{q.PausedAt, q.PausedBy}})
	}
	tasks, err := s.Tasks()
	if err != nil {
		return err
	}
	v.taskName, v.taskDefaults = map[int64]string{}, map[int64]*job.Defaults{}
	v.taskVersion, v.taskRunning = map[int64]int64{}, map[int64]int64{}
	for _, t := range tasks {
		v.tasks[t.Name], v.taskName[t.ID], v.taskVersion[t.ID] = t.ID, t.Name, t.Version
		v.settings.Add(t.Version)
		if v.taskDefaults[t.ID], err = readDefaults(t.Settings); err != nil {
			return fmt.Errorf("task %s: %w", t.Name, err)
		}
	}
	for _, c := range counts {
		v.group(c.Queue, c.Task)[c.State] = c.N
		if c.State == job.Running {
			v.queueOf[c.Queue].running += c.N
			v.taskRunning[c.Task] += c.N
		}
	}
	past, err := s.PastCounts()
	if err != nil {
		return err
	}
	for _, c := range past {
		v.queueOf[c.Queue].past[c.State] += c.N
	}
	return nil
}

func (v *view) addQueue(q *queue) {
	v.queues[q.name], v.queueOf[q.id] = q, q
	v.lastQueue = max(v.lastQueue, q.id)
}

// group gives the counts of a queue and task, made where there are none.
func (v *view) group(queueID, taskID int64) *stateCounts {
	tasks := v.queueOf[queueID].tasks
	if tasks[taskID] == nil {
		tasks[taskID] = new(stateCounts)
	}
	return tasks[taskID]
}

// mostPolicies bounds the policies kept in memory; more are read when needed.
const mostPolicies = 4096

func (v *view) policy(s *store.Store, id int64) (job.Policy, error) {
	v.mu.RLock()
	p, known := v.policies[id]
	v.mu.RUnlock()
	if known {
		return p, nil
	}
	body, err := s.PolicyBody(id)
	if err != nil {
		return p, fmt.Errorf("policy %d: %w", id, err)
	}
	if err := json.Unmarshal([]byte(body), &p); err != nil {
		return p, fmt.Errorf("policy %d: %w", id, err)
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if len(v.policies) >= mostPolicies {
		clear(v.policies)
	}
	v.policies[id] = p
	return p, nil
}

// Call is who makes a call and, where it carries an Idempotency-Key, what makes
// it the same call again.
type Call struct {
	// Principal is who calls; empty means local.
	Principal string
	// Path, Key and Body are the call's path, Idempotency-Key and body.
	Path, Key string
	Body      []byte
}

type callKey struct{}

// WithCall gives ctx the call that a command is made for.
func WithCall(ctx context.Context, c Call) context.Context {
	return context.WithValue(ctx, callKey{}, c)
}

func callOf(ctx context.Context) Call {
	c, _ := ctx.Value(callKey{}).(Call)
	if c.Principal == "" {
		c.Principal = "local"
	}
	return c
}

// isProblem tells whether err is the answer to a command that has written
// nothing, rather than a fault of the store.
func isProblem(err error) bool {
	var p *job.Problem
	return errors.As(err, &p)
}
