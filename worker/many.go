package worker

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"humblemule.example/api"
)

// Many says how jobs gather for a handler that takes several at once.
type Many struct {
	// Limit is how many jobs one call takes at most. Each takes a slot, so that
	// a pool gathers no more than it has slots.
	Limit int
	// Gather is how long the first job waits for others. It is also called
	// earlier: when Limit is reached, or no slot is free for more.
	Gather time.Duration
}

// Item is one of the jobs that a handler takes at once.
type Item[In, Out any] struct {
	// In is the job's payload.
	In   In
	h    *held
	over bool
	out  json.RawMessage
	err  error
}

// Job gives the job: progress, log, labels, follow-ups.
func (i *Item[In, Out]) Job() *Running { return i.h.run }

// Context ends when this job's lease is lost, its cancelling is asked, or its
// timeout is over.
func (i *Item[In, Out]) Context() context.Context { return i.h.ctx }

// Done says that this job is done, with its result.
func (i *Item[In, Out]) Done(out Out) {
	i.out, i.err = resultJSON(out), nil
	i.over = true
}

// Fail says how this job has ended otherwise: with any error that a handler may
// return.
func (i *Item[In, Out]) Fail(err error) {
	if err == nil {
		err = errNoOutcome
	}
	i.err, i.over = err, true
}

var errNoOutcome = errors.New("the handler returned without an outcome for this job")

// HandleMany makes h the handler of a task that takes several jobs at once. Each
// of items gets its own outcome by its Done or Fail; what has none when h returns
// fails with the error of h. A payload that cannot be read gives its job up and is
// not among the items.
//
// ctx ends when the contexts of all items have ended. Middleware runs once around
// the call, without a payload and without a job in its context.
func HandleMany[In, Out any](p *Pool, task string, m Many, h func(ctx context.Context, items []*Item[In, Out]) error) {
	p.handles(task)
	p.gatherings[task] = &gathering{many: Many{max(m.Limit, 1), m.Gather}, call: func(ctx context.Context, all []*held) []attempt {
		ends := make([]attempt, len(all))
		items := make([]*Item[In, Out], 0, len(all))
		place := make([]int, 0, len(all))
		for k, one := range all {
			item := &Item[In, Out]{h: one}
			if item.In, ends[k].err = payloadOf[In](one.run.Payload); ends[k].err == nil {
				items, place = append(items, item), append(place, k)
			}
		}
		if len(items) == 0 {
			return ends
		}
		call := func(ctx context.Context, _ json.RawMessage) (json.RawMessage, error) { return nil, h(ctx, items) }
		_, failure, err := guarded(ctx, p.around(call), nil)
		if err == nil {
			err = errNoOutcome
		}
		for n, item := range items {
			if item.over {
				ends[place[n]] = attempt{result: item.out, err: item.err}
			} else {
				ends[place[n]] = attempt{failure: failure, err: err}
			}
		}
		return ends
	}}
}

// gathering are jobs of one task that wait for others. The pool's lock guards it.
type gathering struct {
	many  Many
	call  func(ctx context.Context, all []*held) []attempt
	items []*held
	timer *time.Timer
}

// gather adds a job. The caller holds the lock.
func (p *Pool) gather(g *gathering, h *held) {
	g.items = append(g.items, h)
	switch {
	case len(g.items) >= g.many.Limit || g.many.Gather <= 0:
		p.flush(g)
	case len(g.items) == 1:
		g.timer = time.AfterFunc(g.many.Gather, func() {
			p.mu.Lock()
			defer p.mu.Unlock()
			p.flush(g)
		})
	}
}

// flush runs what has gathered. The caller holds the lock.
func (p *Pool) flush(g *gathering) {
	if g.timer != nil {
		g.timer.Stop()
		g.timer = nil
	}
	if len(g.items) == 0 {
		return
	}
	all := g.items
	g.items = nil
	go func() {
		ends := make([]api.Settlement, len(all))
		for i := range ends {
			ends[i] = endedItself()
		}
		defer func() {
			for i, s := range ends {
				p.finish(all[i], s)
			}
		}()
		ends = p.tryMany(g, all)
	}()
}

func (p *Pool) flushAll() {
	for _, g := range p.gatherings {
		p.flush(g)
	}
}

// tryMany runs a handler of several jobs and says how each attempt has ended.
func (p *Pool) tryMany(g *gathering, all []*held) []api.Settlement {
	ctx, cancel := context.WithCancelCause(context.WithoutCancel(all[0].ctx))
	defer cancel(nil)
	ctx = context.WithValue(ctx, runningKey{}, nil) // it is nobody's in particular
	left := make(chan struct{}, len(all))
	for _, h := range all {
		limit := p.limit(h)
		defer limit()
		defer context.AfterFunc(h.ctx, func() {
			if left <- struct{}{}; len(left) == len(all) {
				cancel(context.Cause(h.ctx))
			}
		})()
		p.logTaken(h)
	}
	began := time.Now()
	ends := g.call(ctx, all)
	took := time.Since(began)
	settled := make([]api.Settlement, len(all))
	for i, h := range all {
		settled[i] = p.conclude(h, ends[i], took)
	}
	return settled
}
