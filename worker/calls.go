package worker

import (
	"context"
	"errors"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/job"
)

// The service is said to give no answer at once, and then after a second, two, four,
// to a minute: a line each, whatever the pool tries to do meanwhile.
const (
	firstSaid   = time.Second
	longestSaid = time.Minute
	// A pool whose token is no longer good ends when it holds nothing and so long has
	// passed.
	deniedFor = 10 * time.Minute
)

// outage is what a pool knows of calls that bring no answer, or none that is good.
type outage struct {
	mu     sync.Mutex
	since  time.Time // zero while calls are answered
	said   time.Time
	pause  time.Duration
	denied time.Time // since when the token has not been good; zero while it is
}

// called notes how a call went, and says so where that is news.
func (p *Pool) called(err error) {
	if errors.Is(err, context.Canceled) {
		return // the pool has called it back
	}
	o := &p.outage
	o.mu.Lock()
	defer o.mu.Unlock()
	now := time.Now()
	if !api.Temporary(err) && !api.Denied(err) {
		if !o.since.IsZero() {
			p.log.Info("the service answers again", "after", now.Sub(o.since).Round(time.Millisecond))
		}
		o.since, o.denied = time.Time{}, time.Time{}
		return
	}
	if !api.Denied(err) {
		o.denied = time.Time{}
	} else if o.denied.IsZero() {
		o.denied = now
		if o.pause < longestSaid {
			o.since = time.Time{} // this is news, and then told each minute
		}
	}
	switch {
	case o.since.IsZero():
		o.since, o.pause = now, firstSaid
	case now.Sub(o.said) < o.pause:
		return
	default:
		o.pause = min(2*o.pause, longestSaid)
	}
	if !o.denied.IsZero() {
		o.pause = longestSaid
		p.log.Error("the service no longer accepts this pool's token; handlers keep running and outcomes are kept", "error", err, "since", o.denied.UTC().Format(time.RFC3339))
	} else {
		p.log.Warn("the service does not answer properly; handlers keep running and outcomes are kept", "error", err, "for", now.Sub(o.since).Round(time.Millisecond))
	}
	o.said = now
}

// loggedSource is a source that tells the pool how each call went.
type loggedSource struct {
	Source
	note func(error)
}

func (n loggedSource) PutWorker(ctx context.Context, w api.Worker) (api.Wanted, error) {
	a, err := n.Source.PutWorker(ctx, w)
	n.note(err)
	return a, err
}

func (n loggedSource) Wanted(ctx context.Context, id string, doing api.Want, wait time.Duration) (api.Wanted, error) {
	a, err := n.Source.Wanted(ctx, id, doing, wait)
	n.note(err)
	return a, err
}

func (n loggedSource) Lease(ctx context.Context, r api.LeaseRequest) (api.LeaseAnswer, error) {
	a, err := n.Source.Lease(ctx, r)
	n.note(err)
	return a, err
}

func (n loggedSource) Extend(ctx context.Context, r api.ExtendRequest) (api.ExtendAnswer, error) {
	a, err := n.Source.Extend(ctx, r)
	n.note(err)
	return a, err
}

func (n loggedSource) Settle(ctx context.Context, items []api.Settlement) ([]api.SettleResult, error) {
	a, err := n.Source.Settle(ctx, items)
	n.note(err)
	return a, err
}

// deniedTooLong tells whether the pool's token has not been good for so long that it
// ends where it holds nothing.
func (p *Pool) deniedTooLong() bool {
	p.outage.mu.Lock()
	defer p.outage.mu.Unlock()
	return !p.outage.denied.IsZero() && time.Since(p.outage.denied) >= deniedFor
}

// while repeats step, pausing longer and longer while it fails, until ctx ends.
func (p *Pool) while(ctx context.Context, step func() error) {
	const first, most = 100 * time.Millisecond, 2 * time.Second
	pause := first
	for ctx.Err() == nil {
		err := step()
		if ctx.Err() != nil {
			return
		}
		if err == nil {
			pause = first
			continue
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
		}
		pause = min(2*pause, most)
	}
}

// fatal ends the pool with an error that cannot heal.
func (p *Pool) fatal(err error) {
	p.log.Error("the pool ends", "error", err)
	p.stop(&stopping{err})
}

// inParts makes a call with items, of which it takes at most so many and so many bytes at
// once. Where a call is refused as a whole it is made with half of them, down to the one
// at fault, which is given to alone.
func inParts[T any](items []T, bytes func(*T) int, call func([]T) error, alone func(*T, error) error) error {
	for len(items) > 0 {
		n, size := 0, 0
		for n < len(items) && n < api.MaxLeaseItems {
			if size += bytes(&items[n]); n > 0 && size > mostCallBytes {
				break
			}
			n++
		}
		if err := halved(items[:n], call, alone); err != nil {
			return err
		}
		items = items[n:]
	}
	return nil
}

func halved[T any](items []T, call func([]T) error, alone func(*T, error) error) error {
	err := call(items)
	switch {
	case err == nil || api.Temporary(err) || api.Denied(err):
		return err
	case len(items) == 1:
		return alone(&items[0], err)
	}
	half := len(items) / 2
	return errors.Join(halved(items[:half], call, alone), halved(items[half:], call, alone))
}

// mostCallBytes bounds a call, well below what a service takes.
const mostCallBytes = 4 << 20

// Of what a call holds, text may be six times as long when it is written as JSON.
const (
	escaped   = 6
	someBytes = 300
)

func reportBytes(r *api.Report) (n int) {
	for _, line := range r.Log {
		n += len(line) + 4
	}
	if r.Progress != nil {
		n += len(r.Progress.Note)
	}
	for name, value := range r.Labels {
		n += len(name) + len(value)
	}
	return escaped * n
}

func settlementBytes(s *api.Settlement) int {
	n := someBytes + reportBytes(&s.Report) + escaped*len(s.ReasonText) + len(s.Result)
	if s.Error != nil {
		n += escaped * (len(s.Error.Type) + len(s.Error.Message) + len(s.Error.Stack))
	}
	for i := range s.Enqueue {
		n += specBytes(&s.Enqueue[i].Spec)
	}
	return n
}

// specBytes is about how long a spec is as JSON; its payload is JSON already.
func specBytes(s *job.Spec) int {
	n := len(s.Payload)
	words := len(s.Owner) + len(s.Lane) + len(s.Key)
	for name, value := range s.Labels {
		words += len(name) + len(value)
	}
	return n + escaped*words + 2*someBytes
}

func extensionBytes(x *api.Extension) int { return someBytes + reportBytes(&x.Report) }
