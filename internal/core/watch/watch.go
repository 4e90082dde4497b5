// Package watch tells who follows what changes: clients of the stream of events, and callers
// who wait for the end of a job. It keeps who follows, under a lock of its own, and is told
// by the committer what each transaction has changed; it never waits for anybody.
package watch

import (
	"context"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/read"
	"humblemule.example/job"
)

// mostChanged bounds the ids that a watcher gathers; beyond it says that there
// were many.
const mostChanged = 500

// Watchers are those who follow what changes.
type Watchers struct {
	read *read.Reader
	quit <-chan struct{}

	mu       sync.Mutex
	all      map[*Watcher]struct{}
	finished map[int64][]chan struct{} // by the job that is waited for
}

// New gives watchers, none yet. Once quit is closed nobody waits any more.
func New(reader *read.Reader, quit <-chan struct{}) *Watchers {
	return &Watchers{read: reader, quit: quit, all: map[*Watcher]struct{}{}, finished: map[int64][]chan struct{}{}}
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
	ws   *Watchers
	ids  map[int64]struct{}
	more Changes // all but Jobs
}

// Watch begins to follow what changes.
func (ws *Watchers) Watch() *Watcher {
	w := &Watcher{C: make(chan struct{}, 1), ws: ws, ids: map[int64]struct{}{}}
	ws.mu.Lock()
	defer ws.mu.Unlock()
	ws.all[w] = struct{}{}
	return w
}

// Close ends the watching.
func (w *Watcher) Close() {
	w.ws.mu.Lock()
	defer w.ws.mu.Unlock()
	delete(w.ws.all, w)
}

// Take gives what has changed since the last call.
func (w *Watcher) Take() Changes {
	w.ws.mu.Lock()
	defer w.ws.mu.Unlock()
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

// Published tells the watchers what a transaction has changed.
func (ws *Watchers) Published(tx *commit.Tx) {
	if !tx.News.Any() {
		return
	}
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if len(ws.finished) > 0 {
		for _, m := range tx.News.Moved {
			if m.To.Finished() {
				ws.wake(m.Job)
			}
		}
	}
	for w := range ws.all {
		for _, m := range tx.News.Moved {
			w.add(m.Job)
		}
		for _, l := range tx.News.Asked {
			w.add(l.Row.ID)
		}
		for _, id := range tx.News.Touched {
			w.add(id)
		}
		w.more.Queues = w.more.Queues || tx.News.Settings
		w.signal()
	}
}

// Nudge tells the watchers of changes that are in no transaction.
func (ws *Watchers) Nudge(c Changes) {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	for w := range ws.all {
		w.more.Queues = w.more.Queues || c.Queues
		w.more.Workers = w.more.Workers || c.Workers
		w.signal()
	}
}

func (ws *Watchers) wake(id int64) {
	for _, c := range ws.finished[id] {
		close(c)
	}
	delete(ws.finished, id)
}

// Loaded tells everybody that everything may have changed.
func (ws *Watchers) Loaded() {
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

// WaitFor answers a job when it is finished, or as it stands after wait.
func (ws *Watchers) WaitFor(ctx context.Context, id int64, wait time.Duration) (job.Job, error) {
	timer := time.NewTimer(min(wait, api.MaxWait.Go()))
	defer timer.Stop()
	for {
		done, forget := ws.finish(id)
		j, err := ws.read.Job(ctx, id)
		if err != nil || j.State.Finished() {
			forget()
			return j, err
		}
		select {
		case <-done:
			continue
		case <-timer.C:
		case <-ctx.Done():
		case <-ws.quit:
		}
		forget()
		return ws.read.Job(context.WithoutCancel(ctx), id)
	}
}

// finish gives a channel that is closed when a job is finished next, and what
// gives it up.
func (ws *Watchers) finish(id int64) (done chan struct{}, forget func()) {
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

// Begin, Failed and Closed are [commit.Listener]'s: they change nothing for watchers.
func (ws *Watchers) Begin() {}

// Failed goes with [Watchers.Begin].
func (ws *Watchers) Failed(error) {}

// Closed goes with [Watchers.Begin].
func (ws *Watchers) Closed() {}
