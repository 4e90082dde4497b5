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

	"humblemule/internal/core/limit"
	"humblemule/internal/core/order"
	"humblemule/internal/core/store"
	"humblemule/internal/core/trend"
	"humblemule/job"
)

// Options set up an engine. The zero value is good.
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

	commands waits
	bulkWent bool // the bulk that waits is the next
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
	nextSweep int64     // in served time
	retryAt   time.Time // no timed work before it, after a fault
	receipts  receipts
	released  map[int64]release
	turns     map[string]order.Turns // by worker
	nextDrop  job.Time
	nextLate  job.Time
	nextStart time.Time
	again     bool // there is more to do at once
	aside     asides
	lastTags  map[level]int64
	serves    int
	walking   map[*queue]bool
	plan      plan
	// nextRetain is when finished jobs are looked at again, and retained where the
	// last slice has stopped.
	removals   map[int64]removal // of operations, by action
	nextRetain time.Time
	retained   int64    // the queue with which it goes on
	firstGoes  job.Time // when the first job that the round has seen is kept no longer; 0 for none
	nextForget time.Time
	policyWalk policyWalk
	// shortenings counts changes of settings, and operations, for which retention waits.
	shortenings atomic.Int64
	// retainAfter is until when retention rests, resting why, openedWall what the wall
	// clock told at the start, and drift by how much it has gone otherwise since.
	retainAfter time.Time
	resting     atomic.Pointer[string]
	openedWall  time.Time
	drift       time.Duration
	savedSeen   map[int64]job.Time // of workers, as it was written, by their numbers
	versions    map[int64]string   // of workers, by their numbers
	// knownCauses are those that have a row.
	knownCauses map[int64]bool

	view     view
	registry registry
	watchers watchers
	causer   causer
	unserved unserved
	disk     disk
	// worked counts the commands that were applied, and tornRefusals those that were
	// refused after they had written, which must not be.
	worked, tornRefusals atomic.Int64
	// turned is when timed work was last done, in ns; refusing since when the disk takes
	// no writes, 0 while it does.
	turned, refusing atomic.Int64
	// renewals are the jobs whose leases a command that waits renews or ends.
	renewals renewals
	// servedBefore is how long the file had been served when it was opened, in ms, and
	// opened when that was.
	servedBefore int64
	opened       time.Time
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
		commands: newWaits(), quit: make(chan struct{}), stopped: make(chan struct{}), opened: time.Now(),
	}
	e.registry.workers = map[string]*worker{}
	e.watchers.finished = map[int64][]chan struct{}{}
	e.openedWall = opts.Wall().Round(0)
	if err := e.recover(); err != nil {
		s.Close()
		return nil, err
	}
	if away := e.openedWall.Sub(s.LastWritten()); !s.LastWritten().IsZero() && away > awayTooLong {
		e.restRetention("nothing was written for " + job.Roughly(away))
	}
	e.shortenings.Store(1) // until it is known whether one is under way
	go e.commit()
	err = e.resumeOperations()
	e.shortenings.Add(-1)
	if err != nil {
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
		if e.refusing.Load() != 0 {
			err = e.store.Abandon()
			return
		}
		err = errors.Join(e.store.PutServed(e.served()), e.store.Commit(), e.store.Close())
	})
	return err
}

// MaxPayload is the longest payload of a job, in bytes.
func (e *Engine) MaxPayload() int { return e.opts.MaxPayload }

// StoreID names the data file, through all its moves and copies.
func (e *Engine) StoreID() string { return e.storeID }

// timedWithin is how long timed work may take to come round.
const timedWithin = 10 * time.Second

// Ready tells whether the engine can read its file, takes writes, and does its timed
// work. It waits for no write.
func (e *Engine) Ready(ctx context.Context) error {
	if since := e.refusing.Load(); since != 0 {
		return fmt.Errorf("the disk has taken no writes since %s", job.Time(since))
	}
	if turned := time.Unix(0, e.turned.Load()); time.Since(turned) > timedWithin {
		return fmt.Errorf("timed work has not been done for %s", job.Roughly(time.Since(turned)))
	}
	return e.store.Ping(ctx)
}

func (e *Engine) now() job.Time { return job.At(e.opts.Wall()) }

// served is how long the data file has been served, in milliseconds: the clock of what
// is promised for a while, since neither a stop nor a jump of the wall clock uses it up.
func (e *Engine) served() int64 { return e.servedBefore + time.Since(e.opened).Milliseconds() }

// recover loads what is kept in memory from the file.
func (e *Engine) recover() error {
	facts, err := e.store.Facts()
	if err != nil {
		return err
	}
	e.storeID, e.nextJob = facts.StoreID, facts.NextJob
	e.servedBefore = max(e.servedBefore, facts.Served-time.Since(e.opened).Milliseconds(), 1) // 0 means never
	e.turned.Store(time.Now().UnixNano())
	owned, err := readOwned(facts.Owned)
	if err != nil {
		return fmt.Errorf("what was loaded from a file: %w", err)
	}
	e.view.own(owned)
	e.causer.use(owned.Triage)
	e.policies = map[string]int64{}
	e.released = map[int64]release{}
	e.turns = map[string]order.Turns{}
	e.lastTags, e.walking = map[level]int64{}, map[*queue]bool{}
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
	if err := e.recoverRemovals(); err != nil {
		return err
	}
	if e.nextSweep, err = e.nextToSweep(); err != nil {
		return err
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
	if err := e.receipts.load(e.store); err != nil {
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
		l.begun = time.Now()
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
	taskIdle     map[int64]job.Time // since when a task has no use; 0 where it has
	madeBy       map[madeBy]int     // how many names, by who made them
	taskMadeBy   map[int64]string
	owned        owned
	schedules    map[string]*schedule
	scheduleOf   map[int64]*schedule
	lastSchedule int64 // the highest id of any schedule
	lastQueue    int64 // the highest id of any queue
	lastTask     int64 // the highest id of any task
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
	pause    pause
	defaults *job.Defaults // nil for none
	past     stateCounts   // removed since kept long enough
	rules    *job.Rules    // whole
	version  int64         // of its settings
	running  int64
	starts   []job.Start // the latest, oldest first
	walking  bool
	// idleSince is since when it has had neither jobs nor settings, as it was noted; 0
	// where it has. madeBy is who made it.
	idleSince job.Time
	madeBy    string
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
	v.madeBy, v.taskIdle, v.taskMadeBy = map[madeBy]int{}, map[int64]job.Time{}, map[int64]string{}
	for _, q := range queues {
		defaults, err := readDefaults(q.Settings)
		if err != nil {
			return fmt.Errorf("queue %s: %w", q.Name, err)
		}
		v.settings.Add(q.Version)
		kept := &queue{idleSince: q.IdleSince, madeBy: q.MadeBy, defaults: defaults, rules: rulesOf(defaults), version: q.Version, walked: q.Walked >= 0, id: q.ID, name: q.Name, nextRank: q.NextRank, reserved: q.NextRank, tasks: map[int64]*stateCounts{}, pause: pause{q.PausedAt, q.PausedBy}}
		kept.fill()
		v.addQueue(kept)
	}
	tasks, err := s.Tasks()
	if err != nil {
		return err
	}
	v.taskName, v.taskDefaults = map[int64]string{}, map[int64]*job.Defaults{}
	v.taskVersion, v.taskRunning = map[int64]int64{}, map[int64]int64{}
	for _, t := range tasks {
		v.addTask(t.ID, t.Name, t.MadeBy)
		v.taskIdle[t.ID] = t.IdleSince
		v.taskVersion[t.ID] = t.Version
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

// madeBy is a principal and a kind of names.
type madeBy struct {
	principal string
	tasks     bool
}

func (v *view) addTask(id int64, name, by string) {
	v.madeBy[madeBy{by, true}]++
	v.taskMadeBy[id] = by
	v.tasks[name], v.taskName[id] = id, name
	v.lastTask = max(v.lastTask, id)
}

func (v *view) addQueue(q *queue) {
	v.madeBy[madeBy{q.madeBy, false}]++
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

// localPrincipal is who calls where no tokens are asked for.
const localPrincipal = "local"

type callKey struct{}

// WithCall gives ctx the call that a command is made for.
func WithCall(ctx context.Context, c Call) context.Context {
	return context.WithValue(ctx, callKey{}, c)
}

func callOf(ctx context.Context) Call {
	c, _ := ctx.Value(callKey{}).(Call)
	if c.Principal == "" {
		c.Principal = localPrincipal
	}
	return c
}

// isProblem tells whether err is the answer to a command that has written
// nothing, rather than a fault of the store.
func isProblem(err error) bool {
	var p *job.Problem
	return errors.As(err, &p)
}
