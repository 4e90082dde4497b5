package worker

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/job"
)

// Source is where a pool takes its jobs from: the HTTP client of a service, or
// the engine of one in the same process.
type Source interface {
	PutWorker(ctx context.Context, w api.Worker) (api.Wanted, error)
	DeleteWorker(ctx context.Context, id string) error
	Wanted(ctx context.Context, id string, doing api.Want, wait time.Duration) (api.Wanted, error)
	Lease(ctx context.Context, r api.LeaseRequest) (api.LeaseAnswer, error)
	Extend(ctx context.Context, r api.ExtendRequest) (api.ExtendAnswer, error)
	Settle(ctx context.Context, items []api.Settlement) ([]api.SettleResult, error)
}

// Options set up a pool.
type Options struct {
	// Queues are those the pool serves; the first named is emptied first.
	// None means common.
	Queues []string
	// Weights share the slots between the queues instead, 1 to 1000 each; a
	// queue that is not named here has 1. The turns of a queue that has no jobs
	// go where work is. Nil means by the list.
	Weights map[string]int
	// Slots is how many jobs run at once; 0 means 4.
	Slots int
	// MaxSlots lets the pool grow by itself: from Slots to so many while jobs
	// wait and every slot is taken, and back after half a minute of quiet. 0
	// means that it stays as it is.
	MaxSlots int
	// Ahead is how many jobs the pool may hold unstarted, for tiny jobs, so that
	// a slot need not wait for a call; [Measured] chooses by the measured run
	// times. What is held is given back when the pool drains. 0 means none: a
	// job then goes only to a free slot.
	Ahead int
	// Name is how people know the pool; empty means the host's name.
	Name string
	// Version is that of the program the handlers are part of.
	Version string
	// Lease is the length of each lease, 1 s to 1 h; 0 means 45 s. Renewals
	// come at a third of it.
	Lease time.Duration
	// StopWithoutLease ends a handler's context before its lease ends unrenewed.
	// Otherwise it runs on while the service gives no answer, and its outcome
	// is told when the service is back.
	StopWithoutLease bool
	// Grace is how long running handlers may go on when the pool ends; then
	// their contexts end and what they have not finished is given back. 0 means
	// 25 s.
	Grace time.Duration
	// Log is told what the pool takes and finishes; nil means slog.Default().
	Log *slog.Logger
}

// Pool takes jobs and runs them in its slots.
type Pool struct {
	source     Source
	opts       Options
	log        *slog.Logger
	handlers   map[string]Handler
	gatherings map[string]*gathering
	middleware []Middleware
	tasks      []string
	id         string
	startedAt  time.Time
	news       chan struct{} // receives when a handler has told something
	endNow     chan struct{} // closed when the grace time is over early
	endOnce    sync.Once
	stop       context.CancelCauseFunc
	outage     outage
	wrong      []error // in how it was set up

	mu      sync.Mutex
	slots   int
	held    map[string]*held // by token: leased and not yet settled
	gone    gone             // tokens that were settled
	waiting []*held          // held and not started, in order
	started int              // jobs that take a slot
	ended   []api.Settlement // outcomes that the service does not know yet
	changed chan struct{}    // closed and replaced when any of these change
	runs    chan *held       // to runners without a job
	want    api.Want         // what the service wants of the pool
	ending  bool             // it takes no more, by its own decision
	settles bool             // take settles what has ended, so that settle need not
	apart   int              // how many of what has ended must be settled apart from taking
	crowded bool             // more was ready than there were slots, since asked last
	resized *api.Resize
	pace    pace
	// settings is the version of the service's settings that the last answer told.
	settings int64
}

// held is a job the pool has a lease of.
type held struct {
	run    *Running
	token  string
	ctx    context.Context
	cancel context.CancelCauseFunc
	// renewedAt is when the last call that renewed the lease began.
	renewedAt time.Time
	// over is true once its outcome stands.
	over    bool
	outcome api.Settlement
	// refused is true once the service has refused an outcome of it.
	refused bool
}

// New makes a pool that takes its jobs from source.
func New(source Source, o Options) *Pool {
	if len(o.Queues) == 0 {
		o.Queues = []string{job.DefaultQueue}
	}
	if o.Slots <= 0 {
		o.Slots = 4
	}
	if o.Lease <= 0 {
		o.Lease = api.DefaultLease.Go()
	}
	if o.Grace <= 0 {
		o.Grace = 25 * time.Second
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	if o.Name == "" {
		o.Name, _ = os.Hostname()
	}
	p := &Pool{
		opts: o, log: o.Log.With("pool", o.Name), handlers: map[string]Handler{}, gatherings: map[string]*gathering{},
		id: strings.ToLower(rand.Text()), news: make(chan struct{}, 1), endNow: make(chan struct{}), stop: func(error) {},
		slots: o.Slots, held: map[string]*held{}, changed: make(chan struct{}), runs: make(chan *held), want: api.WantRun,
	}
	p.source = loggedSource{source, p.called}
	return p
}

// ID is the id under which the service knows the pool.
func (p *Pool) ID() string { return p.id }

// Slots is how many jobs the pool runs at once, at present.
func (p *Pool) Slots() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.slots
}

// Run takes and runs jobs until ctx ends or the service asks the pool to leave.
// Then it takes no more, lets handlers finish within the grace time, gives back
// what they have not finished, and settles every outcome. While the service gives
// no answer, handlers run on and their outcomes are kept. The error is nil unless
// outcomes could not be settled before the end, or a handler has stopped the pool
// with [StopPool].
func (p *Pool) Run(ctx context.Context) error {
	if len(p.handlers)+len(p.gatherings) == 0 {
		return errors.New("the pool has no handlers; give it some with worker.Handle")
	}
	return p.work(ctx, p.take)
}

// check answers what of the pool's set-up cannot work.
func (p *Pool) check() error {
	var wrong []job.FieldError
	for _, q := range p.opts.Queues {
		wrong = append(wrong, check.Name("queue", q)...)
	}
	for _, t := range p.tasks {
		wrong = append(wrong, check.Name("task", t)...)
	}
	for _, q := range slices.Sorted(maps.Keys(p.opts.Weights)) {
		if w := p.opts.Weights[q]; w < 1 || w > api.MaxWeight {
			wrong = append(wrong, job.FieldError{Field: "weight of queue " + q, Message: fmt.Sprintf("%d is outside 1 to %d", w, api.MaxWeight)})
		}
		if !slices.Contains(p.opts.Queues, q) {
			wrong = append(wrong, job.FieldError{Field: "weight of queue " + q, Message: "has no effect: the pool does not serve that queue"})
		}
	}
	if l := job.Duration(p.opts.Lease); l < api.MinLease || l > api.MaxLease {
		wrong = append(wrong, job.FieldError{Field: "lease", Message: fmt.Sprintf("%s is outside %s to %s", l, api.MinLease, api.MaxLease)})
	}
	return errors.Join(append(p.wrong, job.Wrong("the pool was not started", wrong))...)
}

// handles notes that a task has a handler, of which there can be one.
func (p *Pool) handles(task string) {
	if p.Handles(task) {
		p.wrong = append(p.wrong, fmt.Errorf("the pool was not started: task %q has a second handler; give each task one", task))
	}
}

// RunOnce runs one ready job in the foreground, out of its turn, and answers how
// its attempt has ended. When ctx ends first the job is given back.
func (p *Pool) RunOnce(ctx context.Context, id int64) (api.Settlement, error) {
	var one *held
	err := p.work(ctx, func(taking, life context.Context) error {
		defer p.tells()()
		began := time.Now()
		answer, err := p.source.Lease(life, api.LeaseRequest{Worker: p.id, Job: id, Tasks: p.tasks, Limit: 1, Lease: job.Duration(p.opts.Lease)})
		if err != nil {
			return err
		}
		if len(answer.Leases) == 0 {
			return fmt.Errorf("job %d was not taken: another worker was faster, or this one is drained", id)
		}
		one = p.begin(life, answer.Leases[0], began)
		p.until(func() bool { return p.started == 0 }, taking.Done(), nil)
		return nil
	})
	if one == nil {
		return api.Settlement{}, err
	}
	return one.outcome, err
}

// EndNow ends the grace time of a pool that is ending: handlers' contexts end, and
// what they have not finished is given back at once.
func (p *Pool) EndNow() { p.endOnce.Do(func() { close(p.endNow) }) }

// work runs what a pool does beside taking jobs while take takes them, and then
// drains it.
func (p *Pool) work(ctx context.Context, take func(taking, life context.Context) error) error {
	p.tasks = slices.Sorted(maps.Keys(p.handlers))
	p.tasks = slices.Sorted(slices.Values(slices.AppendSeq(p.tasks, maps.Keys(p.gatherings))))
	if err := p.check(); err != nil {
		return err
	}
	p.startedAt = time.Now()
	p.log.Info("pool starts", "queues", p.opts.Queues, "tasks", p.tasks, "slots", p.opts.Slots)
	life, end := context.WithCancel(context.WithoutCancel(ctx)) // outlives ctx by the draining
	defer end()
	taking, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	p.stop = stop
	var background sync.WaitGroup
	background.Go(func() { p.listen(life) })
	background.Go(func() { p.renew(life) })
	background.Go(func() { p.settle(life) })
	if p.opts.MaxSlots > p.opts.Slots {
		background.Go(func() { p.grow(taking) })
	}
	if p.opts.StopWithoutLease {
		background.Go(func() { p.watchLeases(life) })
	}
	err := take(taking, life)
	var stopped *stopping
	errors.As(context.Cause(taking), &stopped)
	stop(nil)
	p.end()
	if left := p.drain(); err == nil {
		err = left
	}
	end()
	background.Wait()
	p.signOff(context.WithoutCancel(ctx))
	p.log.Info("pool ends")
	if stopped != nil {
		err = errors.Join(stopped.err, err)
	}
	return err
}

// signal says that something has changed. The caller holds the lock.
func (p *Pool) signal() {
	close(p.changed)
	p.changed = make(chan struct{})
}

// until waits until a condition holds, which is asked under the lock, or until
// one of two channels gives way; it tells whether the condition holds.
func (p *Pool) until(holds func() bool, a, b <-chan struct{}) bool {
	for {
		p.mu.Lock()
		ok, changed := holds(), p.changed
		p.mu.Unlock()
		if ok {
			return true
		}
		select {
		case <-changed:
		case <-a:
			return false
		case <-b:
			return false
		}
	}
}

// begin takes a lease that a call begun at a time has brought, and runs its job
// in a free slot, or later where none is free. One that is known already is passed over.
func (p *Pool) begin(life context.Context, l api.Lease, at time.Time) *held {
	p.mu.Lock()
	known, settled := p.held[l.Token], p.gone.has(l.Token)
	p.mu.Unlock()
	if known != nil || settled {
		return known
	}
	run := p.newRunning(l.Job, p.tellNews)
	run.lasting = life
	run.step = func(ctx context.Context, name string, s api.StepReport) error {
		return p.tellStep(ctx, l.Token, name, s)
	}
	ctx, cancel := context.WithCancelCause(contextOf(life, run))
	h := &held{run: run, token: l.Token, ctx: ctx, cancel: cancel, renewedAt: at}
	p.mu.Lock()
	defer p.mu.Unlock()
	if known := p.held[l.Token]; known != nil { // told by two calls at once
		return known
	}
	p.held[l.Token] = h
	if p.ending || p.want != api.WantRun {
		p.over(h, api.Settlement{Outcome: job.OutcomeReleased})
		return h
	}
	p.waiting = append(p.waiting, h)
	p.fill()
	return h
}

// fill starts waiting jobs in free slots. The caller holds the lock.
func (p *Pool) fill() {
	for p.started < p.slots && len(p.waiting) > 0 {
		h := p.waiting[0]
		p.waiting = p.waiting[1:]
		p.started++
		if g := p.gatherings[h.run.Task]; g != nil {
			p.gather(g, h)
			continue
		}
		select {
		case p.runs <- h:
		default:
			go p.run(h)
		}
	}
	if p.started >= p.slots {
		p.flushAll() // nothing more can come for what gathers
	}
}

// run runs a job, and then those that come while it has none: a goroutine that has run a
// handler has the stack for another.
func (p *Pool) run(h *held) {
	one := func(h *held) {
		s := endedItself()
		defer func() { p.finish(h, s) }()
		s = p.try(h)
	}
	for life := h.run.lasting.Done(); ; {
		one(h)
		select {
		case h = <-p.runs:
		case <-life:
			return
		}
	}
}

// finish notes how a job that took a slot has ended.
func (p *Pool) finish(h *held, s api.Settlement) {
	h.cancel(nil)
	p.mu.Lock()
	defer p.mu.Unlock()
	if h.over { // it was given back while its handler did not end
		return
	}
	p.started--
	p.pace.ran(time.Duration(s.RunMS) * time.Millisecond)
	p.over(h, s)
	p.fill()
}

// over notes the outcome of a held job. The caller holds the lock.
func (p *Pool) over(h *held, s api.Settlement) {
	s.Token = h.token
	s.Report = h.run.report()
	if s.Outcome == job.OutcomeDone {
		s.Enqueue, s.RawEnqueue = h.run.followUps(), h.run.rawFollowUps()
	}
	h.over, h.outcome = true, s
	p.ended = append(p.ended, s)
	p.signal()
}

// drop settles the waiting jobs as given back. The caller holds the lock.
func (p *Pool) drop() {
	for _, h := range p.waiting {
		h.cancel(nil)
		p.over(h, api.Settlement{Outcome: job.OutcomeReleased})
	}
	p.waiting = nil
}

// end makes the pool take no more, by its own decision.
func (p *Pool) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ending = true
	p.drop()
	p.flushAll()
	p.signal()
}

// When the pool ends, handlers have so long to return once their contexts have
// ended, and the service so long to answer a last call.
const (
	returnWithin = 5 * time.Second
	shortWait    = 2 * time.Second
)

// drain waits for running handlers, at most the grace time, gives back what they
// have not finished, and waits for every outcome to be settled.
func (p *Pool) drain() error {
	idle := func() bool { return p.started == 0 }
	if !p.until(idle, after(p.opts.Grace), p.endNow) {
		p.interrupt()
		if !p.until(idle, after(returnWithin), nil) {
			p.abandon()
		}
	}
	// Outcomes get as long again: the service may be away just now.
	settled := func() bool { return len(p.held) == 0 }
	last := after(p.opts.Grace)
	if p.until(settled, last, p.endNow) || p.until(settled, last, after(shortWait)) {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return fmt.Errorf("the outcomes of %d jobs could not be settled; those jobs run again when their leases have ended", len(p.held))
}

// after gives a channel that is closed after d.
func after(d time.Duration) <-chan struct{} {
	c := make(chan struct{})
	time.AfterFunc(d, func() { close(c) })
	return c
}

// interrupt ends the contexts of handlers that are still running. What they return
// is then settled as given back.
func (p *Pool) interrupt() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, h := range p.held {
		if !h.over {
			h.cancel(ErrDraining)
		}
	}
}

// abandon gives back the jobs of handlers that do not return.
func (p *Pool) abandon() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, h := range p.held {
		if !h.over {
			p.logOf(h).Warn("a handler did not return after its context had ended; its job is given back", "job", h.run.ID, "task", h.run.Task)
			p.started--
			p.over(h, api.Settlement{Outcome: job.OutcomeReleased})
		}
	}
}

// signOff tells the service that the process has ended.
func (p *Pool) signOff(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, shortWait)
	defer cancel()
	if err := p.source.DeleteWorker(ctx, p.id); err != nil {
		p.log.Debug("the service was not told of the end", "error", err)
	}
}
