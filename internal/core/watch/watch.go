// Package watch tells who follows what changes: clients of the stream of events, and callers
// who wait for the end of a job. It keeps who follows, under a lock of its own, and is told
// by the committer what each transaction has changed; it never waits for anybody.
package watch

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/read"
	"humblemule.example/job"
)

// Watchers are those who follow what changes. What has changed is gathered into parts, each of
// which all watchers are told of; the latest parts are kept, so that a watcher who was away for
// a moment can go on where it was.
type Watchers struct {
	read *read.Reader
	quit <-chan struct{}
	// epoch is another one after each start of the service.
	epoch string

	mu       sync.Mutex
	all      map[*Watcher]struct{}
	narrow   map[api.EventFilter][]*Watcher // those that follow some changes only, who are not among all
	finished map[int64][]chan struct{}      // by the job or the batch that is waited for
	// parts are the latest ones, that with the number last at the end; next is gathered.
	parts    []part
	last     int64
	next     *part
	sealedAt time.Time
	leftAt   time.Time // when somebody last stopped watching
	sealing  bool      // a timer will end what is gathered
}

const (
	// mostChanged bounds the jobs of a part; beyond it the part says only that there were many.
	mostChanged = 500
	// sealEvery is how often a part ends, and partsKept how many are kept: a minute's.
	sealEvery = 250 * time.Millisecond
	partsKept = 240
)

// part is what has changed in a while.
type part struct {
	jobs                         map[int64]Changed
	batches                      map[int64]memory.BatchNews
	many, queues, workers, reset bool
}

// Changed is a job that has changed. State is zero where it changed and stayed in its state.
type Changed struct {
	Job         int64
	Queue, Task string
	State       job.State
	at          memory.Group
}

// BatchChanged is a batch whose jobs have changed. State is that of one that is over, else empty.
type BatchChanged struct {
	Batch int64
	State api.BatchState
}

// New gives watchers, none yet. Once quit is closed nobody waits any more.
func New(reader *read.Reader, quit <-chan struct{}) *Watchers {
	return &Watchers{
		read: reader, quit: quit, epoch: strconv.FormatInt(time.Now().UnixNano(), 36),
		all: map[*Watcher]struct{}{}, narrow: map[api.EventFilter][]*Watcher{}, finished: map[int64][]chan struct{}{},
	}
}

// Changes is what has changed since a watcher looked last.
type Changes struct {
	// Mark is where the changes end; a watcher that begins there is told what follows.
	Mark string
	// From and To are the numbers of the parts that they follow, and that they end with.
	From, To int64
	// Jobs are the changed ones, in the order of their ids; none where there were Many, nor batches.
	Jobs []Changed
	// Batches are those whose jobs have changed, in the order of their ids.
	Batches []BatchChanged
	Many    bool
	// Queues and Workers say that settings of queues, or who the workers are and
	// what is wanted of them, have changed.
	Queues, Workers bool
	// Reset says that everything may have changed.
	Reset bool
}

// Watcher follows what changes. It must be closed.
type Watcher struct {
	// C receives when there is something to take.
	C     chan struct{}
	ws    *Watchers
	told  int64 // the number of the part that it was told last
	reset bool
	// only is which changes it follows, and mine gathers those where they are not all.
	only api.EventFilter
	mine *part
}

// Watch begins to follow what changes: after a mark that was told earlier or, where that is
// empty, from now on. Where the mark is not known any more everything may have changed.
//
// A watcher of some changes only begins as if everything had changed, and is told of neither settings nor
// workers.
func (ws *Watchers) Watch(after string, only api.EventFilter) *Watcher {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if only != (api.EventFilter{}) {
		w := &Watcher{C: make(chan struct{}, 1), ws: ws, only: only, mine: &part{reset: true}}
		w.signal()
		ws.narrow[only] = append(ws.narrow[only], w)
		return w
	}
	w := &Watcher{C: make(chan struct{}, 1), ws: ws, told: ws.last, reset: true}
	if told, known := ws.find(after); known {
		w.told, w.reset = told, false
	}
	if w.reset || w.told < ws.last {
		w.signal()
	}
	ws.all[w] = struct{}{}
	return w
}

// find gives the number of the part that a mark stands for, where all that follow it are kept.
func (ws *Watchers) find(mark string) (n int64, known bool) {
	n, known = ws.PartOf(mark)
	return n, known && n <= ws.last && n >= ws.last-int64(len(ws.parts))
}

// Part is the number of the part that ended last.
func (ws *Watchers) Part() int64 {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	return ws.last
}

// PartOf gives the number of the part that a mark stands for, if it is one of this start of the
// service.
func (ws *Watchers) PartOf(mark string) (n int64, known bool) {
	epoch, number, _ := strings.Cut(mark, "-")
	n, err := strconv.ParseInt(number, 10, 64)
	return n, err == nil && epoch == ws.epoch
}

// Watching counts the watchers.
func (ws *Watchers) Watching() int {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	n := len(ws.all)
	for _, some := range ws.narrow {
		n += len(some)
	}
	return n
}

// Close ends the watching.
func (w *Watcher) Close() {
	w.ws.mu.Lock()
	defer w.ws.mu.Unlock()
	if w.mine == nil {
		delete(w.ws.all, w)
		w.ws.leftAt = time.Now()
		return
	}
	if left := slices.DeleteFunc(w.ws.narrow[w.only], func(o *Watcher) bool { return o == w }); len(left) > 0 {
		w.ws.narrow[w.only] = left
	} else {
		delete(w.ws.narrow, w.only)
	}
}

// listening tells whether changes are gathered: while somebody watches, or may come back. Where
// they are not, nobody can go on where it was. The caller holds the lock.
func (ws *Watchers) listening() bool {
	const back = time.Minute
	if len(ws.all) > 0 || !ws.leftAt.IsZero() && time.Since(ws.leftAt) < back {
		return true
	}
	if ws.parts != nil {
		ws.parts, ws.next = nil, nil
		ws.last++
	}
	return false
}

// Pending tells which parts Take would give: those after from, up to the last one.
func (w *Watcher) Pending() (from, to int64, reset bool) {
	w.ws.mu.Lock()
	defer w.ws.mu.Unlock()
	return w.told, w.ws.last, w.reset || w.told < w.ws.last-int64(len(w.ws.parts))
}

// Skip leaves out what has changed up to a part, which the watcher was told otherwise.
func (w *Watcher) Skip(to int64) {
	w.ws.mu.Lock()
	defer w.ws.mu.Unlock()
	w.told = to
}

// Narrow tells whether the watcher follows some changes only.
func (w *Watcher) Narrow() bool { return w.mine != nil }

// Take gives what has changed since the last call.
func (w *Watcher) Take() Changes {
	c, jobs, batches := w.take()
	for id, b := range batches {
		c.Batches = append(c.Batches, BatchChanged{id, read.EndOfBatch(b.State)})
	}
	slices.SortFunc(c.Batches, func(a, b BatchChanged) int { return cmp.Compare(a.Batch, b.Batch) })
	for id, j := range jobs {
		j.Job = id
		j.Queue, j.Task = w.ws.read.Names(j.at.Queue, j.at.Task)
		c.Jobs = append(c.Jobs, j)
	}
	slices.SortFunc(c.Jobs, func(a, b Changed) int { return cmp.Compare(a.Job, b.Job) })
	return c
}

func (w *Watcher) take() (c Changes, jobs map[int64]Changed, batches map[int64]memory.BatchNews) {
	ws := w.ws
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if w.mine != nil {
		p := w.mine
		w.mine = new(part)
		return Changes{Mark: ws.mark(), Many: p.many, Reset: p.reset}, p.jobs, p.batches
	}
	missed := ws.last - w.told
	c = Changes{From: w.told, To: ws.last, Mark: ws.mark()}
	if w.reset || missed > int64(len(ws.parts)) {
		w.told, w.reset, c.Reset = ws.last, false, true
		return c, nil, nil
	}
	jobs, batches = map[int64]Changed{}, map[int64]memory.BatchNews{}
	for _, p := range ws.parts[int64(len(ws.parts))-missed:] {
		c.Many, c.Queues, c.Workers, c.Reset = c.Many || p.many, c.Queues || p.queues, c.Workers || p.workers, c.Reset || p.reset
		maps.Copy(jobs, p.jobs)
		maps.Copy(batches, p.batches)
	}
	if c.Many = c.Many || len(jobs) > mostChanged || len(batches) > mostChanged; c.Many {
		jobs, batches = nil, nil
	}
	w.told = ws.last
	return c, jobs, batches
}

// mark stands for the part that ended last. The caller holds the lock.
func (ws *Watchers) mark() string { return ws.epoch + "-" + strconv.FormatInt(ws.last, 10) }

func (w *Watcher) signal() {
	select {
	case w.C <- struct{}{}:
	default:
	}
}

// gathered is the part that is gathered now. The caller holds the lock, and seals it after.
func (ws *Watchers) gathered() *part {
	if ws.next == nil {
		ws.next = new(part)
	}
	return ws.next
}

func (p *part) add(id int64, c Changed) {
	switch {
	case p.many:
	case len(p.jobs) >= mostChanged:
		p.toMany()
	case c.State == job.Unplaced && p.jobs[id].State != job.Unplaced: // it says less than what is known
	default:
		if p.jobs == nil {
			p.jobs = map[int64]Changed{}
		}
		p.jobs[id] = c
	}
}

func (p *part) addBatch(b memory.BatchNews) {
	switch {
	case p.many:
	case len(p.batches) >= mostChanged:
		p.toMany()
	default:
		if p.batches == nil {
			p.batches = map[int64]memory.BatchNews{}
		}
		p.batches[b.ID] = b
	}
}

// toMany forgets what exactly has changed.
func (p *part) toMany() { p.many, p.jobs, p.batches = true, nil, nil }

// seal ends the part that is gathered, at once or when the one before is old enough. The caller
// holds the lock.
func (ws *Watchers) seal() {
	since := time.Since(ws.sealedAt)
	if since >= sealEvery {
		ws.end()
		return
	}
	if !ws.sealing {
		ws.sealing = true
		time.AfterFunc(sealEvery-since, func() {
			ws.mu.Lock()
			defer ws.mu.Unlock()
			ws.sealing = false
			ws.end()
		})
	}
}

func (ws *Watchers) end() {
	if ws.next == nil {
		return
	}
	if len(ws.parts) == partsKept {
		ws.parts = ws.parts[1:]
	}
	ws.parts, ws.next = append(ws.parts, *ws.next), nil
	ws.last++
	ws.sealedAt = time.Now()
	for w := range ws.all {
		w.signal()
	}
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
		for _, b := range tx.News.Batches {
			if b.Over() {
				ws.wake(b.ID)
			}
		}
	}
	if len(ws.narrow) > 0 {
		ws.tellNarrow(tx)
	}
	if !ws.listening() {
		return
	}
	p := ws.gathered()
	for _, m := range tx.News.Moved {
		p.add(m.Job, Changed{State: m.To, at: m.At})
	}
	for _, b := range tx.News.Batches {
		p.addBatch(b)
	}
	for _, l := range tx.News.Asked {
		p.add(l.Row.ID, Changed{State: job.Running, at: memory.Group{Queue: l.Row.Queue, Task: l.Row.Task}})
	}
	for _, id := range tx.News.Touched {
		p.add(id, Changed{})
	}
	p.queues = p.queues || tx.News.Settings
	ws.seal()
}

// tellNarrow tells those that follow some jobs only. The caller holds the lock.
func (ws *Watchers) tellNarrow(tx *commit.Tx) {
	tell := func(only api.EventFilter, add func(p *part)) {
		if only == (api.EventFilter{}) {
			return
		}
		for _, w := range ws.narrow[only] {
			add(w.mine)
			w.signal()
		}
	}
	for _, m := range tx.News.Moved {
		add := func(p *part) { p.add(m.Job, Changed{State: m.To, at: m.At}) }
		tell(api.EventFilter{Batch: m.Batch}, add)
		tell(api.EventFilter{Owner: m.Owner}, add)
		tell(api.EventFilter{Key: m.Key}, add)
	}
	for _, b := range tx.News.Batches {
		add := func(p *part) { p.addBatch(b) }
		tell(api.EventFilter{Batch: b.ID}, add)
		tell(api.EventFilter{Owner: b.Owner}, add)
	}
}

// Nudge tells the watchers of changes that are in no transaction.
func (ws *Watchers) Nudge(c Changes) {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	if !ws.listening() {
		return
	}
	p := ws.gathered()
	p.queues, p.workers = p.queues || c.Queues, p.workers || c.Workers
	ws.seal()
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
	for _, all := range ws.narrow {
		for _, w := range all {
			w.mine.reset = true
			w.signal()
		}
	}
	if ws.listening() {
		ws.gathered().reset = true
		ws.seal()
	}
}

// WaitFor answers a job when it is finished, or as it stands after wait.
func (ws *Watchers) WaitFor(ctx context.Context, id int64, wait time.Duration) (job.Job, error) {
	return waitFor(ws, ctx, id, wait, ws.read.Job, func(j job.Job) bool { return j.State.Finished() })
}

// WaitForBatch answers a batch when all of its jobs have ended, or as it stands after wait.
func (ws *Watchers) WaitForBatch(ctx context.Context, id int64, wait time.Duration) (api.Batch, error) {
	b, err := waitFor(ws, ctx, id, wait, ws.read.Batch, func(b api.Batch) bool { return b.State.Over() })
	if err == nil {
		err = ws.read.Foretell(context.WithoutCancel(ctx), &b)
	}
	return b, err
}

// waitFor reads a job or a batch until it is over; the two have no ids in common.
func waitFor[T any](ws *Watchers, ctx context.Context, id int64, wait time.Duration, read func(context.Context, int64) (T, error), over func(T) bool) (T, error) {
	timer := time.NewTimer(min(wait, api.MaxWait.Go()))
	defer timer.Stop()
	for {
		done, forget := ws.finish(id)
		v, err := read(ctx, id)
		if err != nil || over(v) || wait <= 0 {
			forget()
			return v, err
		}
		select {
		case <-done:
			continue
		case <-timer.C:
		case <-ctx.Done():
		case <-ws.quit:
		}
		forget()
		return read(context.WithoutCancel(ctx), id)
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
