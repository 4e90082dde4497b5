package memory

import (
	"cmp"
	"context"
	"slices"
	"sort"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/nearest"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// A worker is thought to be there as long after its last sign of life; one that
// has not been seen for longer than forgotten is no longer listed.
const (
	presentFor = 40 * time.Second
	forgotten  = 10 * time.Minute
)

// callKept is for how long a worker that is known by its calls alone serves what one of
// them has asked for: it may wait a while at others before it asks again.
const callKept = 2 * presentFor

// mostCalls bounds the different calls by which one such worker serves.
const mostCalls = 100

// mostWorkers bounds the workers that are known at once.
const mostWorkers = 10_000

// sizesKept is how many changes of a pool's number of slots are told.
const sizesKept = 20

// Presence knows which worker processes are there, by their calls and by what they tell of
// themselves. It has a lock of its own: a sign of life waits for no write, and is not a part
// of a transaction.
type Presence struct {
	mu      sync.Mutex
	workers map[string]*worker
}

type worker struct {
	info api.Worker
	// principal is who registered the worker. Nobody else speaks for it.
	principal string
	// wanted is what an operator asks of it; empty means to run.
	wanted api.Want
	// knows is what it was told last that is wanted of it, by an answer to its takes.
	knows api.Want
	// cancelled are tokens whose cancelling the worker has not been told.
	cancelled []string
	// told is closed when something is wanted of the worker.
	told chan struct{}
	// calls are what a worker that has never registered asked for, the newest first; nil
	// for one that has.
	calls []leaseCall
}

// leaseCall is what a call for leases asks for.
type leaseCall struct {
	queues, tasks []string
	at            job.Time
}

func (c *leaseCall) same(queues, tasks []string) bool {
	return slices.Equal(c.queues, queues) && slices.Equal(c.tasks, tasks)
}

// asked notes a call of a worker that is known by its calls alone.
func (w *worker) asked(queues, tasks []string, now job.Time) {
	if len(w.calls) == 1 && w.calls[0].same(queues, tasks) { // as nearly always
		w.calls[0].at = now
		return
	}
	all := []leaseCall{{queues, tasks, now}}
	for _, c := range w.calls {
		if !c.same(queues, tasks) && now.Sub(c.at) <= callKept && len(all) < mostCalls {
			all = append(all, c)
		}
	}
	w.calls = all
	w.info.Queues, w.info.Tasks = nil, nil
	every := false // a call that names no task takes all
	for _, c := range all {
		w.info.Queues = append(w.info.Queues, c.queues...)
		w.info.Tasks = append(w.info.Tasks, c.tasks...)
		every = every || len(c.tasks) == 0
	}
	w.info.Queues, w.info.Tasks = Unique(w.info.Queues), Unique(w.info.Tasks)
	if every {
		w.info.Tasks = nil
	}
}

// Unique gives the different words, in order.
func Unique(words []string) []string {
	return slices.Compact(slices.Sorted(slices.Values(words)))
}

func (w *worker) call() {
	close(w.told)
	w.told = make(chan struct{})
}

// want is what is wanted of the worker, in the words of the wire.
func (w *worker) want() api.Want {
	if w.wanted == "" {
		return api.WantRun
	}
	return w.wanted
}

// Put registers a worker, or what it tells anew about itself.
func (g *Presence) Put(w api.Worker, principal string, now job.Time) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	w.SeenAt = now
	known := g.workers[w.ID]
	if known == nil {
		g.forget(now)
		if len(g.workers) >= mostWorkers {
			return job.Fault(job.Busy, "%d workers are known already; those that have ended are forgotten after %s", mostWorkers, sentence.Roughly(forgotten))
		}
		known = &worker{principal: principal, told: make(chan struct{})}
		g.workers[w.ID] = known
	} else if err := known.belongsTo(principal); err != nil {
		return err
	}
	w.Sizes, w.Settings, w.Holds = known.info.Sizes, known.info.Settings, nil
	if r := w.Resized; r != nil && (len(w.Sizes) == 0 || w.Sizes[len(w.Sizes)-1] != *r) {
		w.Sizes = append(slices.Clone(w.Sizes[max(0, len(w.Sizes)-sizesKept+1):]), *r)
	}
	w.Resized = nil
	known.info, known.calls = w, nil
	return nil
}

// Rest waits for as long as a worker that takes no jobs has asked to, or until something
// else is wanted of it. One that has not been told yet what is wanted does not wait.
func (g *Presence) Rest(ctx context.Context, uid string, wait time.Duration, quit <-chan struct{}) {
	g.mu.Lock()
	w := g.workers[uid]
	if w == nil || w.knows != w.want() {
		if w != nil {
			w.knows = w.want()
		}
		g.mu.Unlock()
		return
	}
	told := w.told
	g.mu.Unlock()
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-told:
	case <-timer.C:
	case <-ctx.Done():
	case <-quit:
	}
}

// IsOf tells whether a principal speaks for a worker that is known.
func (g *Presence) IsOf(uid, principal string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	w := g.workers[uid]
	return w != nil && w.belongsTo(principal) == nil
}

func (w *worker) belongsTo(principal string) error {
	if w.principal != principal {
		return job.Fault(job.Forbidden, "worker %q belongs to another token; generate your own id", w.info.ID)
	}
	return nil
}

// Use marks a worker as seen, registering one that is not known by what its call
// tells, and answers who it is.
func (g *Presence) Use(w api.Worker, principal string, now job.Time) (api.Worker, error) {
	g.mu.Lock()
	known := g.workers[w.ID]
	if known != nil {
		defer g.mu.Unlock()
		if err := known.belongsTo(principal); err != nil {
			return known.info, err
		}
		known.info.SeenAt, known.info.Settings = now, max(w.Settings, known.info.Settings)
		if known.calls != nil {
			known.asked(w.Queues, w.Tasks, now)
		}
		return known.info, nil
	}
	g.mu.Unlock()
	if err := g.Put(w, principal, now); err != nil {
		return w, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if known := g.workers[w.ID]; known != nil {
		known.asked(w.Queues, w.Tasks, now)
	}
	return w, nil
}

// NowServes notes what a worker that is known serves from now on: of the service's own slots that changes with
// what is set.
func (g *Presence) NowServes(uid string, queues, tasks []string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if w := g.workers[uid]; w != nil {
		w.info.Queues, w.info.Tasks = queues, tasks
	}
}

// Saw marks a worker as seen, and which settings it was told; zero for none.
func (g *Presence) Saw(uid string, now job.Time, settings int64) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if w := g.workers[uid]; w != nil {
		w.info.SeenAt, w.info.Settings = now, max(w.info.Settings, settings)
	}
}

func (g *Presence) forget(now job.Time) {
	for uid, w := range g.workers {
		if now.Sub(w.info.SeenAt) > forgotten {
			delete(g.workers, uid)
		}
	}
}

// Wants tells what is wanted of a worker, and whether it takes jobs.
func (g *Presence) Wants(uid string) (want api.Want, takes bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	w := g.workers[uid]
	if w == nil {
		return api.WantRun, true
	}
	return w.want(), w.want() == api.WantRun && !w.info.Draining
}

// ask sets what is wanted of a worker.
func (g *Presence) ask(uid string, want api.Want) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if w := g.workers[uid]; w != nil && w.wanted != want {
		w.wanted = want
		w.call()
	}
}

// SeenAt is when a worker was seen last; 0 for one that is not known, or silent.
func (g *Presence) SeenAt(uid string) job.Time {
	g.mu.Lock()
	defer g.mu.Unlock()
	if w := g.workers[uid]; w != nil {
		return w.info.SeenAt
	}
	return 0
}

func (g *Presence) tellCancelled(uid, token string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	w := g.workers[uid]
	if w == nil {
		return // told by the next renewal
	}
	w.cancelled = append(w.cancelled, token)
	w.call()
}

// Collect takes what a worker has not been told yet, and the channel that is
// closed when there is more.
func (g *Presence) Collect(uid, principal string, at job.Time) (wanted api.Wanted, more <-chan struct{}, err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	w := g.workers[uid]
	if w == nil {
		return wanted, nil, NoWorker(uid)
	}
	if err := w.belongsTo(principal); err != nil {
		return wanted, nil, err
	}
	w.info.SeenAt = at
	wanted = api.Wanted{Wanted: w.want(), Cancelled: w.cancelled}
	w.cancelled = nil
	return wanted, w.told, nil
}

// List gives the workers that are not forgotten, by name and id.
func (g *Presence) List(now job.Time) []api.Worker {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.forget(now)
	all := make([]api.Worker, 0, len(g.workers))
	for _, w := range g.workers {
		all = append(all, w.tell(now))
	}
	sort.Slice(all, func(i, j int) bool {
		if all[i].Name != all[j].Name {
			return all[i].Name < all[j].Name
		}
		return all[i].ID < all[j].ID
	})
	return all
}

// Service is which queues and tasks living workers serve, in order of their names.
type Service []Serving

// Serving is a worker and the calls by which it takes jobs. One that has registered asks
// for the same in all of them.
type Serving struct {
	// Name is how the worker is told, UID by what it names itself.
	Name, UID string
	// Slots is how many it has; 0 where it never said.
	Slots int
	calls []leaseCall
}

// Serves tells whether the worker serves a queue.
func (w *Serving) Serves(queue string) bool {
	return slices.ContainsFunc(w.calls, func(c leaseCall) bool { return slices.Contains(c.queues, queue) })
}

// Service gives the workers that take jobs now: those that were seen lately and neither drain
// nor leave.
func (g *Presence) Service(now job.Time) (s Service) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.forget(now)
	for _, w := range g.workers {
		if now.Sub(w.info.SeenAt) > presentFor || w.info.Draining || w.want() != api.WantRun {
			continue
		}
		calls := []leaseCall{{queues: w.info.Queues, tasks: w.info.Tasks}}
		if w.calls != nil {
			calls = slices.DeleteFunc(slices.Clone(w.calls), func(c leaseCall) bool { return now.Sub(c.at) > callKept })
		}
		s = append(s, Serving{WorkerName(w.info), w.info.ID, w.info.Slots, calls})
	}
	slices.SortFunc(s, func(a, b Serving) int { return cmp.Compare(a.Name, b.Name) })
	return s
}

func (c *leaseCall) does(task string) bool {
	return len(c.tasks) == 0 || slices.Contains(c.tasks, task)
}

// Serves tells how many workers serve a queue, and how many of those do a task.
func (s Service) Serves(queue, task string) (queueServed, taskDone int) {
	for _, w := range s {
		served, done := false, false
		for _, c := range w.calls {
			if slices.Contains(c.queues, queue) {
				served, done = true, done || c.does(task)
			}
		}
		if served {
			queueServed++
		}
		if done {
			taskDone++
		}
	}
	return queueServed, taskDone
}

// Do tells how many workers do a task.
func (s Service) Do(task string) (n int) {
	for _, w := range s {
		if slices.ContainsFunc(w.calls, func(c leaseCall) bool { return c.does(task) }) {
			n++
		}
	}
	return n
}

// Queues are those that the worker serves.
func (w Serving) Queues() (all []string) {
	for _, c := range w.calls {
		all = append(all, c.queues...)
	}
	return all
}

// Queues are those that somebody serves.
func (s Service) Queues() (all []string) {
	for _, w := range s {
		all = append(all, w.Queues()...)
	}
	return Unique(all)
}

// Nearest finds a task done in a queue that is perhaps meant by another name.
func (s Service) Nearest(queue, task string) string {
	var done []string
	for _, w := range s {
		for _, c := range w.calls {
			if slices.Contains(c.queues, queue) {
				done = append(done, c.tasks...)
			}
		}
	}
	return nearest.To(task, done)
}

// Serves tells what a worker has asked for last; nothing of one that is not known.
func (g *Presence) Serves(uid string) (queues, tasks []string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if w := g.workers[uid]; w != nil {
		return w.info.Queues, w.info.Tasks
	}
	return nil, nil
}

// SignOff takes a worker out of those that are known, and tells whether it was known to
// belong to the principal. One of somebody else stays, unless anybody's may be signed off.
func (g *Presence) SignOff(uid, principal string, anybodys bool) (own bool, err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	w := g.workers[uid]
	if w != nil {
		err = w.belongsTo(principal)
	}
	if own = w != nil && err == nil; w != nil && !own && !anybodys {
		return false, err
	}
	delete(g.workers, uid)
	return own, nil
}

// NoWorker says that a worker is not known.
func NoWorker(uid string) error {
	return job.Fault(job.NotFound, "no worker %q is known here; register it with PUT /v1/workers/{id}", uid)
}

// WorkerName is how a worker is told: by its name, or else its id.
func WorkerName(w api.Worker) string {
	if w.Name == "" {
		return w.ID
	}
	return w.Name
}

// Get tells one worker that is not forgotten.
func (g *Presence) Get(uid string, now job.Time) (told api.Worker, known bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.forget(now)
	w := g.workers[uid]
	if w == nil {
		return told, false
	}
	return w.tell(now), true
}

// tell is a worker as it is told outside.
func (w *worker) tell(now job.Time) api.Worker {
	told := w.info
	told.Wanted = w.want()
	told.Silent = now.Sub(told.SeenAt) > presentFor
	return told
}
