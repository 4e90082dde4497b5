package worker

import (
	"context"
	"errors"
	"os"
	"runtime"
	"slices"
	"time"

	"humblemule/core/job"
)

// pollFor is how long the service may let a call wait.
const pollFor = 25 * time.Second

// yields is how often handlers that were just started may run before the next call,
// so that those which are done at once share it: tiny jobs then cost half as much.
const yields = 5

// take asks for as many jobs as slots are free, until taking ends. While every
// slot is taken it settles what has ended and takes anew in the same call.
// Handlers run under life.
func (p *Pool) take(taking, life context.Context) error {
	polling, giveUp := context.WithCancel(life)
	home := make(chan struct{})
	called := context.AfterFunc(taking, func() {
		defer close(home)
		p.sendHome(polling, giveUp)
	})
	p.while(taking, "no jobs could be taken", func() error {
		req, changed := p.next()
		if req.Limit+req.Ahead+len(req.Settle) == 0 {
			select {
			case <-changed:
			case <-taking.Done():
			}
			return nil
		}
		began := time.Now()
		answer, err := p.source.Lease(polling, req)
		if err != nil {
			return err
		}
		p.forget(answer.Results)
		p.took(req, answer, time.Since(began))
		for _, l := range answer.Leases {
			p.begin(life, l, began)
		}
		p.obey(answer.Wanted)
		for range yields {
			runtime.Gosched()
		}
		return nil
	})
	giveUp()
	if !called() {
		<-home
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.settles = false
	p.signal()
	return nil
}

// sendHome makes the service answer the call that waits for jobs, so that no
// lease is on its way when the pool goes.
func (p *Pool) sendHome(polling context.Context, giveUp context.CancelFunc) {
	p.mu.Lock()
	p.ending = true
	p.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.WithoutCancel(polling), moment)
	defer cancel()
	if _, err := p.source.PutWorker(ctx, p.worker()); err == nil {
		select {
		case <-polling.Done(): // the answer has come
		case <-ctx.Done():
		}
	}
	giveUp()
}

// next is what the pool may ask for now, and what is closed when that changes.
func (p *Pool) next() (job.LeaseRequest, <-chan struct{}) {
	p.mu.Lock()
	defer p.mu.Unlock()
	r := job.LeaseRequest{Worker: p.id, Queues: p.opts.Queues, Tasks: p.tasks, Lease: job.Duration(p.opts.Lease), Settings: p.settings}
	if p.opts.Weights != nil {
		r.Share, r.Weights = job.ByWeight, p.opts.Weights
	}
	if p.want == job.WantRun && !p.ending {
		r.Limit = min(max(p.slots-p.started-len(p.waiting), 0), job.MaxLeaseItems)
		if room := p.ahead() - len(p.waiting); r.Limit > 0 || 2*room >= p.ahead() {
			r.Ahead = min(max(room, 0), job.MaxLeaseItems-r.Limit)
		}
	}
	if r.Limit+r.Ahead > 0 {
		r.Settle = p.unsettled()
	}
	if len(r.Settle) == 0 {
		r.Wait = job.Duration(pollFor)
	}
	p.settles = len(r.Settle) > 0 || p.want == job.WantRun && !p.ending && r.Limit+r.Ahead == 0 && len(p.ended) == 0
	if !p.settles && len(p.ended) > 0 {
		p.signal()
	}
	return r, p.changed
}

// took learns from an answer how crowded the queues are and how long a call takes.
func (p *Pool) took(req job.LeaseRequest, answer job.LeaseAnswer, call time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.crowded, p.settings = p.crowded || answer.Waiting > 0, answer.Settings
	if len(req.Settle) > 0 {
		p.pace.called(call)
	}
}

// unsettled are outcomes for one call. The caller holds the lock.
func (p *Pool) unsettled() []job.Settlement {
	return slices.Clone(p.ended[:min(len(p.ended), job.MaxLeaseItems)])
}

// settle tells the service how attempts have ended, all that wait in one call,
// until life ends, while take does not. What cannot be told is kept and told
// again.
func (p *Pool) settle(life context.Context) {
	p.while(life, "the service does not take outcomes; they are kept", func() error {
		var items []job.Settlement
		if !p.until(func() bool {
			if !p.settles {
				items = p.unsettled()
			}
			return len(items) > 0
		}, life.Done(), nil) {
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

// forget drops what the service has taken, or never will.
func (p *Pool) forget(results []job.SettleResult) {
	if len(results) == 0 {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	told := make(map[string]bool, len(results))
	for _, r := range results {
		switch r.Status {
		case job.StatusLost:
			p.log.Warn("an outcome came too late: the lease had ended, and the job is tried again", "token", r.Token)
		case job.StatusRefused:
			p.log.Error("an outcome was refused; its lease ends by itself", "token", r.Token, "errors", r.Errors)
		}
		told[r.Token] = true
		delete(p.held, r.Token)
	}
	p.ended = slices.DeleteFunc(p.ended, func(s job.Settlement) bool { return told[s.Token] })
	p.signal()
}

// reportEvery is how often what handlers tell is passed on at most.
const reportEvery = time.Second

func (p *Pool) tellNews() {
	select {
	case p.news <- struct{}{}:
	default:
	}
}

// renew renews every lease that is not settled, at a third of its length, and
// passes on what handlers tell.
func (p *Pool) renew(life context.Context) {
	ticker := time.NewTicker(p.opts.Lease / 3)
	defer ticker.Stop()
	var reported time.Time
	p.while(life, "leases could not be renewed; handlers run on", func() error {
		all := true
		select {
		case <-ticker.C:
		case <-p.news:
			all = false
			select {
			case <-after(reportEvery - time.Since(reported)):
			case <-life.Done():
				return nil
			}
			reported = time.Now()
		case <-life.Done():
			return nil
		}
		for part := range slices.Chunk(p.extensions(all), job.MaxLeaseItems) {
			if err := p.extend(life, part); err != nil {
				if !all {
					p.tellNews()
				}
				return err
			}
		}
		return nil
	})
}

// extensions are renewals of all leases, or of those whose handlers have told
// something.
func (p *Pool) extensions(all bool) (items []job.Extension) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for token, h := range p.held {
		r := h.run.report()
		if h.over {
			r = job.Report{} // it goes with the outcome
		}
		if all || !r.Empty() {
			items = append(items, job.Extension{Token: token, Report: r})
		}
	}
	return items
}

func (p *Pool) extend(life context.Context, items []job.Extension) error {
	began := time.Now()
	answer, err := p.source.Extend(life, items)
	if err != nil {
		return err
	}
	for i, r := range answer.Results {
		p.mu.Lock()
		if h := p.held[r.Token]; h != nil && r.Status != job.StatusLost {
			h.renewedAt = began
			h.run.told(items[i].Report)
		}
		p.mu.Unlock()
		if r.Errors != nil {
			p.log.Warn("what a handler told was refused", "token", r.Token, "errors", r.Errors)
		}
		switch r.Status {
		case job.StatusLost:
			p.cancel(r.Token, ErrLeaseLost)
		case job.StatusCancelled:
			p.cancel(r.Token, ErrCancelled)
		}
	}
	p.obey(answer.Wanted)
	return nil
}

// cancel ends a handler's context; a job that was not started is given back.
func (p *Pool) cancel(token string, cause error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	h := p.held[token]
	if h == nil || h.over {
		return
	}
	if i := slices.Index(p.waiting, h); i >= 0 {
		p.waiting = slices.Delete(p.waiting, i, i+1)
		h.cancel(cause)
		p.over(h, job.Settlement{Outcome: job.OutcomeReleased})
		return
	}
	if h.ctx.Err() == nil {
		p.log.Warn("a handler is asked to end", "job", h.run.ID, "why", cause)
		h.cancel(cause)
	}
}

// watchLeases ends handlers' contexts before their leases end unrenewed.
func (p *Pool) watchLeases(life context.Context) {
	every := p.opts.Lease / 20
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for {
		select {
		case <-ticker.C:
		case <-life.Done():
			return
		}
		var late []string
		p.mu.Lock()
		for token, h := range p.held {
			if time.Since(h.renewedAt) >= p.opts.Lease-2*every {
				late = append(late, token)
			}
		}
		p.mu.Unlock()
		for _, token := range late {
			p.cancel(token, ErrLeaseLost)
		}
	}
}

// worker is the pool as the service is told of it.
func (p *Pool) worker() job.Worker {
	host, _ := os.Hostname()
	p.mu.Lock()
	defer p.mu.Unlock()
	w := job.Worker{
		ID: p.id, Name: p.opts.Name, Host: host, PID: os.Getpid(), Version: p.opts.Version, Slots: p.slots,
		Queues: p.opts.Queues, Weights: p.opts.Weights, Tasks: p.tasks, StartedAt: job.At(p.startedAt),
		Ahead: p.ahead(), Resized: p.resized, Draining: p.ending,
	}
	if p.opts.MaxSlots > p.opts.Slots {
		w.MinSlots, w.MaxSlots = p.opts.Slots, p.opts.MaxSlots
	}
	return w
}

// listen registers the pool and listens to what the service wants of it.
func (p *Pool) listen(life context.Context) {
	registered := false
	p.while(life, "the service does not answer", func() error {
		if !registered {
			w, err := p.source.PutWorker(life, p.worker())
			if err != nil {
				return err
			}
			registered = true
			p.obey(w.Wanted)
		}
		p.mu.Lock()
		doing := p.want
		p.mu.Unlock()
		w, err := p.source.Wanted(life, p.id, doing, pollFor)
		var problem *job.Problem
		if errors.As(err, &problem) && problem.Kind == job.NotFound {
			registered = false // the service has started anew
			return nil
		}
		if err != nil {
			return err
		}
		for _, token := range w.Cancelled {
			p.cancel(token, ErrCancelled)
		}
		p.obey(w.Wanted)
		return nil
	})
}

// obey does what the service wants of the pool.
func (p *Pool) obey(want job.Want) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if want == "" || want == p.want {
		return
	}
	p.log.Info("the service asks the pool to "+string(want), "running", p.started)
	p.want = want
	if want != job.WantRun {
		p.drop()
		p.flushAll()
	}
	if want == job.WantLeave {
		p.stop(errAskedToLeave)
	}
	p.signal()
}

var errAskedToLeave = errors.New("the service asked the pool to leave")
