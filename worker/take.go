package worker

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"runtime"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// pollFor is how long the service may let a call wait.
const pollFor = 25 * time.Second

// letRun lets handlers that were just started run before the next call, so that those
// which are done at once share it: tiny jobs then cost half as much. Where runs are short
// beside calls it waits for all of them, for as long as costs a call nothing much.
func (p *Pool) letRun() {
	const yields, share = 5, 20
	began := time.Now()
	for n := 1; ; n++ {
		runtime.Gosched()
		if n < yields {
			continue
		}
		p.mu.Lock()
		short := p.started > 0 && p.pace.run < p.pace.call/share
		most := p.pace.call / share
		p.mu.Unlock()
		if !short || time.Since(began) > most {
			return
		}
	}
}

// asked is a call for jobs that was made and has had no answer yet. It is made again as
// it was, under the same key, until it has one: the jobs that it brought are leased to
// this pool, which knows of them by that answer only.
type asked struct {
	req api.LeaseRequest
	key string
	// ended says that it has its answer.
	ended func()
}

// take asks for as many jobs as slots are free, until taking ends. While every
// slot is taken it settles what has ended and takes anew in the same call.
// Handlers run under life.
func (p *Pool) take(taking, life context.Context) error {
	polling, giveUp := context.WithCancel(life)
	home := make(chan struct{})
	called := context.AfterFunc(taking, func() {
		defer close(home)
		p.endPoll(polling, giveUp)
	})
	var open *asked
	p.while(taking, func() error {
		if open == nil {
			req, changed := p.next()
			if req.Limit+req.Ahead+len(req.Settle) == 0 {
				select {
				case <-changed:
				case <-taking.Done():
				}
				return nil
			}
			open = &asked{req, api.NewCallKey(time.Now()), p.tells()}
		}
		err := p.askFor(polling, life, open)
		if err == nil || !api.Temporary(err) && !api.Denied(err) {
			open.ended()
			open = nil
		}
		p.letRun()
		return err
	})
	if open != nil {
		open.ended()
	}
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

// askFor makes a call for jobs and begins those that it brings.
func (p *Pool) askFor(polling, life context.Context, open *asked) error {
	began := time.Now()
	answer, err := p.source.Lease(api.WithCallKey(polling, open.key), open.req)
	if err != nil {
		if len(open.req.Settle) > 0 && !api.Temporary(err) && !api.Denied(err) {
			p.parts() // the settler finds out which of the outcomes it is
		}
		return err
	}
	p.forget(answer.Results)
	p.took(open.req, answer, time.Since(began))
	for _, l := range answer.Leases {
		p.begin(life, l, began)
	}
	p.obey(answer.Wanted)
	return nil
}

// parts leaves the outcomes that wait to settle, which finds the one at fault.
func (p *Pool) parts() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.apart = len(p.ended)
	p.settles = false
	p.signal()
}

// endPoll makes the service answer the call that waits for jobs, so that no
// lease is on its way when the pool goes.
func (p *Pool) endPoll(polling context.Context, giveUp context.CancelFunc) {
	p.mu.Lock()
	p.ending = true
	p.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.WithoutCancel(polling), shortWait)
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
func (p *Pool) next() (api.LeaseRequest, <-chan struct{}) {
	p.mu.Lock()
	defer p.mu.Unlock()
	r := api.LeaseRequest{Worker: p.id, Queues: p.opts.Queues, Tasks: p.tasks, Lease: job.Duration(p.opts.Lease), Settings: p.settings}
	if p.opts.Weights != nil {
		r.Share, r.Weights = api.ShareByWeight, p.opts.Weights
	}
	if p.want == api.WantRun && !p.ending {
		r.Limit = min(max(p.slots-p.started-len(p.waiting), 0), api.MaxLeaseItems)
		if room := p.ahead() - len(p.waiting); r.Limit > 0 || 2*room >= p.ahead() {
			r.Ahead = min(max(room, 0), api.MaxLeaseItems-r.Limit)
		}
	}
	if r.Limit+r.Ahead > 0 && p.apart == 0 {
		r.Settle = p.unsettled()
	}
	if len(r.Settle) == 0 {
		r.Wait = job.Duration(pollFor)
	}
	p.settles = p.apart == 0 && (len(r.Settle) > 0 || p.want == api.WantRun && !p.ending && r.Limit+r.Ahead == 0 && len(p.ended) == 0)
	if !p.settles && len(p.ended) > 0 {
		p.signal()
	}
	return r, p.changed
}

// took learns from an answer how crowded the queues are and how long a call takes.
func (p *Pool) took(req api.LeaseRequest, answer api.LeaseAnswer, call time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.crowded, p.settings = p.crowded || answer.Waiting > 0, answer.Settings
	if len(req.Settle) > 0 {
		p.pace.called(call)
	}
}

// unsettled are outcomes for one call, as many as it may hold. The caller holds the lock.
func (p *Pool) unsettled() []api.Settlement {
	n, size := 0, 0
	for n < len(p.ended) && n < api.MaxLeaseItems {
		if size += settlementBytes(&p.ended[n]); n > 0 && size > mostCallBytes {
			break
		}
		n++
	}
	return slices.Clone(p.ended[:n])
}

// settle tells the service how attempts have ended, all that wait in one call,
// until life ends, while take does not. What cannot be told is kept and told
// again.
func (p *Pool) settle(life context.Context) {
	p.while(life, func() error {
		var items []api.Settlement
		if !p.until(func() bool {
			if !p.settles {
				items = p.unsettled()
			}
			return len(items) > 0
		}, life.Done(), nil) {
			return nil
		}
		return inParts(items, settlementBytes, func(part []api.Settlement) error {
			results, err := p.source.Settle(life, part)
			if err == nil {
				p.forget(results)
			}
			return err
		}, p.settleLess)
	})
}

// settleLess puts a simpler outcome in the place of one with which a call was refused as
// a whole: what the handler told beside it is left out; where that is refused too, the
// attempt has failed.
func (p *Pool) settleLess(s *api.Settlement, err error) error {
	p.log.Error("the service refused an outcome; it is sent again without the handler's result and reports", "token", s.Token, "outcome", s.Outcome, "error", err)
	p.replace(s.Token, simpler(*s, err.Error()))
	return nil
}

// simpler is an outcome without what its handler told beside it or, where it is that
// already, a failure.
func simpler(s api.Settlement, why string) api.Settlement {
	why = text.Cut(why, api.MaxErrorMessage)
	less := api.Settlement{Token: s.Token, Outcome: s.Outcome, RunMS: max(s.RunMS, 0)}
	switch s.Outcome {
	case job.OutcomeDone:
		less.Result = api.DropResult(len(s.Result), why)
	case job.OutcomePostponed:
		less.Delay = max(s.Delay, api.MinPostponement)
	case job.OutcomeSkipped:
		less.ReasonText = api.NoReasonGiven
	}
	if s.Simple() {
		less = api.Settlement{Token: s.Token, Outcome: job.OutcomeFailed, Error: &job.Failure{Type: "outcome", Message: why}}
	}
	return less
}

// replace puts an outcome in the place of one that is not settled.
func (p *Pool) replace(token string, less api.Settlement) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i := range p.ended {
		if p.ended[i].Token == token {
			p.ended[i] = less
		}
	}
	p.signal()
}

// forget drops what the service has taken. What it refuses is told as a failure.
func (p *Pool) forget(results []api.SettleResult) {
	if len(results) == 0 {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	told := make(map[string]bool, len(results))
	for _, r := range results {
		h := p.held[r.Token]
		switch {
		case r.Status == api.StatusLost:
			p.log.Warn("an outcome came too late: the lease had ended, and the job will be retried", "token", r.Token)
		case r.Status == api.StatusRefused && h != nil && !h.refused:
			p.log.Error("the service does not know this outcome; the attempt is reported as failed", "token", r.Token, "errors", r.Errors)
			h.refused = true
			for i := range p.ended {
				if p.ended[i].Token == r.Token {
					p.ended[i] = api.Settlement{Token: r.Token, Outcome: job.OutcomeFailed, Error: &job.Failure{Type: "outcome", Message: fmt.Sprintf("the service refused the outcome %q: %v", p.ended[i].Outcome, r.Errors)}}
				}
			}
			continue
		case r.Status == api.StatusRefused:
			p.log.Error("an outcome was refused; its lease ends by itself", "token", r.Token, "errors", r.Errors)
		case r.State == job.Dead && len(r.Errors) > 0 && h != nil && h.outcome.Outcome == job.OutcomeDone:
			p.logOf(h).Error("the job was done but its follow-ups were refused, so it is dead; accept it with corrected follow-ups or without", "job", h.run.ID, "errors", r.Errors)
		case len(r.Errors) > 0:
			p.log.Warn("part of a handler's report was left out; its outcome counts", "token", r.Token, "errors", r.Errors)
		}
		told[r.Token] = true
		delete(p.held, r.Token)
		p.gone.add(r.Token)
	}
	before := len(p.ended)
	p.ended = slices.DeleteFunc(p.ended, func(s api.Settlement) bool { return told[s.Token] })
	p.apart = max(p.apart-(before-len(p.ended)), 0)
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
	p.while(life, func() error {
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
		items := p.extensions(all)
		whole := all && len(items) <= api.MaxLeaseItems
		err := inParts(items, extensionBytes, func(part []api.Extension) error {
			return p.extend(life, part, whole && len(part) == len(items))
		}, func(x *api.Extension, err error) error {
			p.log.Error("the service refused a renewal; it is sent again without the handler's report", "token", x.Token, "error", err)
			return p.extend(life, []api.Extension{{Token: x.Token}}, false)
		})
		if err != nil && !all {
			p.tellNews()
		}
		return err
	})
}

// extensions are renewals of all leases, or of those whose handlers have told
// something.
func (p *Pool) extensions(all bool) (items []api.Extension) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for token, h := range p.held {
		r := h.run.report()
		if h.over {
			r = api.Report{} // it goes with the outcome
		}
		if all || !r.Empty() {
			items = append(items, api.Extension{Token: token, Report: r})
		}
	}
	return items
}

// extend makes a call of renewals; whole says that these are all that the pool knows of.
func (p *Pool) extend(life context.Context, items []api.Extension, whole bool) error {
	defer p.tells()()
	began := time.Now()
	req := api.ExtendRequest{Leases: items}
	if whole {
		req.Worker = p.id
	}
	answer, err := p.source.Extend(life, req)
	if err != nil {
		return err
	}
	p.takeUp(life, answer.Leases, began)
	for i, r := range answer.Results {
		p.mu.Lock()
		if h := p.held[r.Token]; h != nil && r.Status != api.StatusLost {
			h.renewedAt = began
			h.run.acknowledge(items[i].Report)
		}
		p.mu.Unlock()
		if r.Errors != nil {
			p.log.Warn("a handler's report was refused", "token", r.Token, "errors", r.Errors)
		}
		switch r.Status {
		case api.StatusLost:
			p.cancel(r.Token, ErrLeaseLost)
		case api.StatusCancelled:
			p.cancel(r.Token, ErrCancelled)
		}
	}
	p.obey(answer.Wanted)
	return nil
}

// takeUp begins jobs that the service says are leased to this pool, which has had no
// answer that told it so.
func (p *Pool) takeUp(life context.Context, leases []api.Lease, at time.Time) {
	for _, l := range leases {
		p.begin(life, l, at)
	}
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
		p.over(h, api.Settlement{Outcome: job.OutcomeReleased})
		return
	}
	if h.ctx.Err() == nil {
		p.logOf(h).Warn("a handler is asked to end", "job", h.run.ID, "why", cause)
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
func (p *Pool) worker() api.Worker {
	host, _ := os.Hostname()
	p.mu.Lock()
	defer p.mu.Unlock()
	w := api.Worker{
		ID: p.id, Name: p.opts.Name, Host: host, PID: os.Getpid(), Version: p.opts.Version, Slots: p.slots,
		Queues: p.opts.Queues, Weights: p.opts.Weights, Tasks: p.tasks, StartedAt: job.At(p.startedAt),
		Ahead: p.ahead(), Resized: p.resized, Draining: p.ending,
	}
	if p.opts.MaxSlots > p.opts.Slots {
		w.MinSlots, w.MaxSlots = p.opts.Slots, p.opts.MaxSlots
	}
	return w
}

// listen registers the pool and listens to what the service wants of it. What is wrong
// with the pool ends it when it registers first; later it is an outage.
func (p *Pool) listen(life context.Context) {
	registered, ever := false, false
	p.while(life, func() error {
		if !registered {
			err := p.register(life)
			if err != nil && !ever && !api.Temporary(err) {
				p.fatal(fmt.Errorf("the service refused this pool: %w", err))
				<-life.Done()
				return nil
			}
			if err != nil {
				p.giveUpWhereDenied()
				return err
			}
			registered, ever = true, true
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
			p.giveUpWhereDenied()
			return err
		}
		for _, token := range w.Cancelled {
			p.cancel(token, ErrCancelled)
		}
		p.obey(w.Wanted)
		return nil
	})
}

// register tells the service of the pool, and takes up what the service knows that the pool
// holds and the pool does not.
func (p *Pool) register(life context.Context) error {
	defer p.tells()()
	began := time.Now()
	w := p.worker()
	w.Holds = p.tokens()
	wanted, err := p.source.PutWorker(life, w)
	if err == nil {
		p.takeUp(life, wanted.Leases, began)
		p.obey(wanted.Wanted)
	}
	return err
}

// giveUpWhereDenied ends a pool that the service has not let in for long, where it holds
// nothing.
func (p *Pool) giveUpWhereDenied() {
	if !p.deniedTooLong() {
		return
	}
	p.mu.Lock()
	holds := len(p.held)
	p.mu.Unlock()
	if holds == 0 {
		p.fatal(fmt.Errorf("the service has not accepted this pool's token for %s; give it a valid token", deniedFor))
	}
}

// tokens are those of all leases that the pool knows of.
func (p *Pool) tokens() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	tokens := slices.Collect(maps.Keys(p.held))
	tokens = append(tokens, p.gone.tokens...)
	if tokens == nil {
		tokens = []string{}
	}
	return tokens
}

// obey does what the service wants of the pool.
func (p *Pool) obey(want api.Want) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if want == "" || want == p.want {
		return
	}
	p.log.Info("the service asks the pool to "+string(want), "running", p.started)
	p.want = want
	if want != api.WantRun {
		p.drop()
		p.flushAll()
	}
	if want == api.WantLeave {
		p.stop(errAskedToLeave)
	}
	p.signal()
}

var errAskedToLeave = errors.New("the service asked the pool to leave")
