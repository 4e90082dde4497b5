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

	"humblemule/core/job"
)

// Source is where a pool takes its jobs from: the HTTP client of a service, or
// the engine of one in the same process.
type Source interface {
	PutWorker(ctx context.Context, w job.Worker) error
	Lease(ctx context.Context, r job.LeaseRequest) (job.LeaseAnswer, error)
	Extend(ctx context.Context, items []job.Extension) (job.ExtendAnswer, error)
	Settle(ctx context.Context, items []job.Settlement) ([]job.SettleResult, error)
	Wanted(ctx context.Context, worker string, wait time.Duration) (job.Wanted, error)
}

// Options set up a pool.
type Options struct {
	// Queues are those the pool serves; the first named is emptied first.
	// None means common.
	Queues []string
	// Slots is how many jobs run at once; 0 means 4.
	Slots int
	// Name is how people know the pool; empty means the host's name.
	Name string
	// Version is that of the program the handlers are part of.
	Version string
	// Lease is the length of each lease, 1 s to 1 h; 0 means 45 s. Renewals
	// come at a third of it.
	Lease time.Duration
	// Grace is how long running handlers may go on when the pool ends; then
	// their contexts end and what they have not finished is given back. 0 means
	// 25 s.
	Grace time.Duration
	// Log is told what the pool takes and finishes; nil means slog.Default().
	Log *slog.Logger
}

// Pool takes jobs and runs them in its slots.
type Pool struct {
	source   Source
	opts     Options
	log      *slog.Logger
	handlers map[string]handler
	id       string

	mu      sync.Mutex
	held    map[string]*held // by token: leased and not yet settled
	ended   []job.Settlement // outcomes that the service does not know yet
	changed chan struct{}    // closed and replaced when held or ended change
}

// held is a job the pool has a lease of.
type held struct {
	lease  job.Lease
	cancel context.CancelCauseFunc
	// over is true once the handler has ended.
	over bool
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
		o.Lease = job.DefaultLease.Go()
	}
	if o.Grace <= 0 {
		o.Grace = 25 * time.Second
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	host, _ := os.Hostname()
	if o.Name == "" {
		o.Name = host
	}
	return &Pool{
		source: source, opts: o, log: o.Log.With("pool", o.Name), handlers: map[string]handler{},
		id: strings.ToLower(rand.Text()), held: map[string]*held{}, changed: make(chan struct{}),
	}
}

// ID is the id under which the service knows the pool.
func (p *Pool) ID() string { return p.id }

func (p *Pool) worker() job.Worker {
	host, _ := os.Hostname()
	return job.Worker{
		ID: p.id, Name: p.opts.Name, Host: host, PID: os.Getpid(), Version: p.opts.Version, Slots: p.opts.Slots,
		Queues: p.opts.Queues, Tasks: slices.Sorted(maps.Keys(p.handlers)), StartedAt: job.At(time.Now()),
	}
}

// Run takes and runs jobs until ctx ends. Then it takes no more, lets handlers
// finish within the grace time, gives back what they have not finished, and
// settles every outcome. While the service gives no answer, handlers run on and
// their outcomes are kept. The error is nil unless outcomes could not be settled
// before the end.
func (p *Pool) Run(ctx context.Context) error {
	if len(p.handlers) == 0 {
		return errors.New("the pool has no handlers; give it some with worker.Handle")
	}
	me := p.worker()
	p.log.Info("pool starts", "queues", me.Queues, "tasks", me.Tasks, "slots", me.Slots)
	life, end := context.WithCancel(context.WithoutCancel(ctx)) // outlives ctx by the draining
	defer end()
	var background, running sync.WaitGroup
	background.Go(func() { p.listen(life, me) })
	background.Go(func() { p.renew(life) })
	settled := make(chan struct{})
	go func() {
		defer close(settled)
		p.settle(life)
	}()
	p.take(ctx, life, &running)
	err := p.drain(&running)
	end()
	<-settled
	background.Wait()
	p.log.Info("pool ends")
	return err
}

// while repeats step, pausing longer and longer while it fails, until ctx ends.
func (p *Pool) while(ctx context.Context, what string, step func() error) {
	const first, most = 100 * time.Millisecond, 2 * time.Second
	pause := first
	for ctx.Err() == nil {
		err := step()
		if err == nil {
			pause = first
			continue
		}
		if ctx.Err() != nil {
			return
		}
		p.log.Warn(what, "error", err, "again_in", pause)
		select {
		case <-time.After(pause):
		case <-ctx.Done():
		}
		pause = min(2*pause, most)
	}
}

// pollFor is how long the service may let a call wait.
const pollFor = 25 * time.Second

// take asks for as many jobs as slots are free, until ctx ends. Handlers run
// under life.
func (p *Pool) take(ctx, life context.Context, running *sync.WaitGroup) {
	p.while(ctx, "no jobs could be taken", func() error {
		free, changed := p.free()
		if free == 0 {
			select {
			case <-changed:
			case <-ctx.Done():
			}
			return nil
		}
		answer, err := p.source.Lease(ctx, job.LeaseRequest{
			Worker: p.id, Queues: p.opts.Queues, Tasks: slices.Sorted(maps.Keys(p.handlers)),
			Limit: min(free, job.MaxLeaseItems), Wait: job.Duration(pollFor), Lease: job.Duration(p.opts.Lease),
		})
		if err != nil {
			return err
		}
		for _, l := range answer.Leases {
			p.start(life, l, running)
		}
		return nil
	})
}

// free counts the slots without a running handler, and gives what is closed when
// that changes.
func (p *Pool) free() (int, <-chan struct{}) {
	p.mu.Lock()
	defer p.mu.Unlock()
	n := p.opts.Slots
	for _, h := range p.held {
		if !h.over {
			n--
		}
	}
	return max(n, 0), p.changed
}

// signal says that held or ended have changed. The caller holds the lock.
func (p *Pool) signal() {
	close(p.changed)
	p.changed = make(chan struct{})
}

func (p *Pool) start(life context.Context, l job.Lease, running *sync.WaitGroup) {
	ctx, cancel := context.WithCancelCause(context.WithValue(life, jobKey{}, l.Job))
	h := &held{lease: l, cancel: cancel}
	p.mu.Lock()
	p.held[l.Token] = h
	p.mu.Unlock()
	running.Go(func() {
		s := p.run(ctx, l)
		s.Token = l.Token
		cancel(nil)
		p.mu.Lock()
		defer p.mu.Unlock()
		h.over = true
		p.ended = append(p.ended, s)
		p.signal()
	})
}

// run runs the handler of a job and says how the attempt has ended.
func (p *Pool) run(ctx context.Context, l job.Lease) job.Settlement {
	j := l.Job
	log := p.log.With("job", j.ID, "task", j.Task, "try", job.OfMost(j.Tries, j.MaxAttempts))
	h := p.handlers[j.Task]
	if h == nil {
		log.Warn("no handler for this task; the job is given back")
		return job.Settlement{Outcome: job.OutcomeReleased}
	}
	if j.TimeoutMS > 0 {
		limited, cancel := context.WithTimeoutCause(ctx, time.Duration(j.TimeoutMS)*time.Millisecond, ErrTimeout)
		defer cancel()
		ctx = limited
	}
	log.Info("taken", "queue", j.Queue)
	began := time.Now()
	result, failure, err := call(ctx, h, j.Payload)
	took := time.Since(began)
	s := settlement(ctx, result, failure, err)
	s.RunMS = took.Milliseconds()
	switch {
	case s.Outcome == job.OutcomeDone:
		log.Info("done", "took", took.Round(time.Millisecond))
	case s.Error != nil:
		log.Warn(string(s.Outcome), "took", took.Round(time.Millisecond), "error", s.Error.Message)
	default:
		log.Info(string(s.Outcome), "took", took.Round(time.Millisecond), "reason", s.ReasonText)
	}
	return s
}

// settle tells the service how attempts have ended, all that wait in one call,
// until life ends. What cannot be told is kept and told again.
func (p *Pool) settle(life context.Context) {
	p.while(life, "the service does not take outcomes; they are kept", func() error {
		items, changed := p.outcomes()
		if len(items) == 0 {
			select {
			case <-changed:
			case <-life.Done():
			}
			return nil
		}
		results, err := p.source.Settle(life, items)
		if err != nil {
			return err
		}
		p.forget(results)
		return nil
	})
}

func (p *Pool) outcomes() ([]job.Settlement, <-chan struct{}) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.ended[:min(len(p.ended), job.MaxLeaseItems)]), p.changed
}

// forget drops what the service has taken, or never will.
func (p *Pool) forget(results []job.SettleResult) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, r := range results {
		switch r.Status {
		case job.StatusLost:
			p.log.Warn("an outcome came too late: the lease had ended, and the job is tried again", "token", r.Token)
		case job.StatusRefused:
			p.log.Error("an outcome was refused; its lease ends by itself", "token", r.Token, "errors", r.Errors)
		}
		delete(p.held, r.Token)
		p.ended = slices.DeleteFunc(p.ended, func(s job.Settlement) bool { return s.Token == r.Token })
	}
	p.signal()
}

// renew renews every lease that is not settled, at a third of its length.
func (p *Pool) renew(life context.Context) {
	ticker := time.NewTicker(p.opts.Lease / 3)
	defer ticker.Stop()
	p.while(life, "leases could not be renewed; handlers run on", func() error {
		select {
		case <-ticker.C:
		case <-life.Done():
			return nil
		}
		var items []job.Extension
		p.mu.Lock()
		for token := range p.held {
			items = append(items, job.Extension{Token: token})
		}
		p.mu.Unlock()
		for part := range slices.Chunk(items, job.MaxLeaseItems) {
			answer, err := p.source.Extend(life, part)
			if err != nil {
				return err
			}
			for _, r := range answer.Results {
				p.renewed(r)
			}
		}
		return nil
	})
}

func (p *Pool) renewed(r job.ExtendResult) {
	switch r.Status {
	case job.StatusLost:
		p.stop(r.Token, ErrLeaseLost)
	case job.StatusCancelled:
		p.stop(r.Token, ErrCancelled)
	}
}

// stop ends a handler's context.
func (p *Pool) stop(token string, cause error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if h := p.held[token]; h != nil && !h.over {
		p.log.Warn("a handler is asked to end", "job", h.lease.Job.ID, "why", cause)
		h.cancel(cause)
	}
}

// listen registers the pool and listens to what the service wants of it.
func (p *Pool) listen(life context.Context, me job.Worker) {
	registered := false
	p.while(life, "the service does not answer", func() error {
		if !registered {
			if err := p.source.PutWorker(life, me); err != nil {
				return err
			}
			registered = true
		}
		w, err := p.source.Wanted(life, p.id, pollFor)
		var problem *job.Problem
		if errors.As(err, &problem) && problem.Kind == job.NotFound {
			registered = false // the service has started anew
			return nil
		}
		for _, token := range w.Cancelled {
			p.stop(token, ErrCancelled)
		}
		return err
	})
}

// drain waits for running handlers, at most the grace time, and for every outcome
// to be settled.
func (p *Pool) drain(running *sync.WaitGroup) error {
	done := make(chan struct{})
	go func() {
		running.Wait()
		close(done)
	}()
	grace := time.After(p.opts.Grace)
	select {
	case <-done:
	case <-grace:
		p.giveBack()
	}
	// Outcomes get as long again: the service may be away just now.
	last := time.After(p.opts.Grace)
	for {
		p.mu.Lock()
		left, changed := len(p.held), p.changed
		p.mu.Unlock()
		if left == 0 {
			return nil
		}
		select {
		case <-changed:
		case <-last:
			return fmt.Errorf("the outcomes of %d jobs could not be settled; those jobs run again when their leases have ended", left)
		}
	}
}

// giveBack ends the contexts of handlers that are still running. What they return
// is then settled as given back.
func (p *Pool) giveBack() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, h := range p.held {
		if !h.over {
			h.cancel(ErrDraining)
		}
	}
}
