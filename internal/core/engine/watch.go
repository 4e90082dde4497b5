package engine

import (
	"context"
	"sync"
	"time"

	"humblemule/job"
)

// mostChanged bounds the ids that a watcher gathers; beyond it says that there
// were many.
const mostChanged = 500

// watchers are those who follow what changes.
type watchers struct {
	mu       sync.Mutex
	all      map[*Watcher]struct{}
	finished map[int64][]chan struct{}
}

// Changes is what has changed since a watcher looked last.
type Changes struct {
	// Jobs are the ids of changed jobs; Many says that there were more.
	Jobs []int64
	Many bool
	// Queues and Workers say that settings of queues, or who the workers are and
	// what is wanted of them, have changed.
	Queues, Workers bool
	// Reset says that everything may have changed.
	Reset bool
}

// Watcher follows what changes. It must be closed.
type Watcher struct {
	// C receives when there is something to take.
	C    chan struct{}
	e    *Engine
	ids  map[int64]struct{}
	more Changes // all but Jobs
}

// Watch begins to follow what changes.
func (e *Engine) Watch() *Watcher {
	w := &Watcher{C: make(chan struct{}, 1), e: e, ids: map[int64]struct{}{}}
	e.watchers.mu.Lock()
	defer e.watchers.mu.Unlock()
	if e.watchers.all == nil {
		e.watchers.all = map[*Watcher]struct{}{}
	}
	e.watchers.all[w] = struct{}{}
	return w
}

// Close ends the watching.
func (w *Watcher) Close() {
	w.e.watchers.mu.Lock()
	defer w.e.watchers.mu.Unlock()
	delete(w.e.watchers.all, w)
}

// Take gives what has changed since the last call.
func (w *Watcher) Take() Changes {
	w.e.watchers.mu.Lock()
	defer w.e.watchers.mu.Unlock()
	c := w.more
	for id := range w.ids {
		c.Jobs = append(c.Jobs, id)
	}
	clear(w.ids)
	w.more = Changes{}
	return c
}

func (w *Watcher) signal() {
	select {
	case w.C <- struct{}{}:
	default:
	}
}

func (w *Watcher) add(id int64) {
	if len(w.ids) >= mostChanged {
		w.more.Many = true
		return
	}
	w.ids[id] = struct{}{}
}

// publish tells the watchers what a transaction has changed.
func (ws *watchers) publish(tx *txn) {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if len(ws.finished) > 0 {
		for _, m := range tx.moves {
			if m.to.Finished() {
				ws.wake(m.job)
			}
		}
	}
	for w := range ws.all {
		for _, m := range tx.moves {
			w.add(m.job)
		}
		for _, l := range tx.asked {
			w.add(l.row.ID)
		}
		for _, id := range tx.touched {
			w.add(id)
		}
		w.more.Queues = w.more.Queues || len(tx.pauses) > 0
		w.signal()
	}
}

// nudge tells the watchers of changes that are in no transaction.
func (ws *watchers) nudge(c Changes) {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	for w := range ws.all {
		w.more.Queues = w.more.Queues || c.Queues
		w.more.Workers = w.more.Workers || c.Workers
		w.signal()
	}
}

func (ws *watchers) wake(id int64) {
	for _, c := range ws.finished[id] {
		close(c)
	}
	delete(ws.finished, id)
}

// reset tells everybody that everything may have changed.
func (ws *watchers) reset() {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	for id := range ws.finished {
		ws.wake(id)
	}
	for w := range ws.all {
		w.more.Reset = true
		w.signal()
	}
}

// Await answers a job when it is finished, or as it stands after wait.
func (e *Engine) Await(ctx context.Context, id int64, wait time.Duration) (job.Job, error) {
	timer := time.NewTimer(min(wait, job.LongestPoll.Go()))
	defer timer.Stop()
	for {
		done, forget := e.watchers.finish(id)
		j, err := e.Job(ctx, id)
		if err != nil || j.State.Finished() {
			forget()
			return j, err
		}
		select {
		case <-done:
			continue
		case <-timer.C:
		case <-ctx.Done():
		case <-e.quit:
		}
		forget()
		return e.Job(context.WithoutCancel(ctx), id)
	}
}

// finish gives a channel that is closed when a job is finished next, and what
// gives it up.
func (ws *watchers) finish(id int64) (done chan struct{}, forget func()) {
	done = make(chan struct{})
	ws.mu.Lock()
	defer ws.mu.Unlock()
	ws.finished[id] = append(ws.finished[id], done)
	return done, func() {
		ws.mu.Lock()
		defer ws.mu.Unlock()
		for i, c := range ws.finished[id] {
			if c == done {
				ws.finished[id] = append(ws.finished[id][:i], ws.finished[id][i+1:]...)
				break
			}
		}
		if len(ws.finished[id]) == 0 {
			delete(ws.finished, id)
		}
	}
}
