package engine

import (
	"cmp"
	"context"
	"slices"
	"sort"
	"sync"
	"time"

	"humblemule/job"
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

// registry knows the worker processes, in memory.
type registry struct {
	mu      sync.Mutex
	workers map[string]*worker
	// numbers are the workers' rows. They belong to the committer.
	numbers map[string]int64
}

type worker struct {
	info job.Worker
	// principal is who registered the worker. Nobody else speaks for it.
	principal string
	// wanted is what an operator asks of it; empty means to run.
	wanted job.Want
	// knows is what it was told last that is wanted of it, by an answer to its takes.
	knows job.Want
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

// asked notes a call of a worker that is known by its calls alone.
func (w *worker) asked(queues, tasks []string, now job.Time) {
	all := []leaseCall{{queues, tasks, now}}
	for _, c := range w.calls {
		same := slices.Equal(c.queues, queues) && slices.Equal(c.tasks, tasks)
		if !same && now.Sub(c.at) <= callKept && len(all) < mostCalls {
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
	w.info.Queues, w.info.Tasks = unique(w.info.Queues), unique(w.info.Tasks)
	if every {
		w.info.Tasks = nil
	}
}

// unique gives the different words, in order.
func unique(words []string) []string {
	return slices.Compact(slices.Sorted(slices.Values(words)))
}

func (w *worker) call() {
	close(w.told)
	w.told = make(chan struct{})
}

// want is what is wanted of the worker, in the words of the wire.
func (w *worker) want() job.Want {
	if w.wanted == "" {
		return job.WantRun
	}
	return w.wanted
}

// workerRef is a worker in a transaction.
type workerRef struct {
	uid    string
	number int64
}

// put registers a worker, or what it tells anew about itself.
func (g *registry) put(w job.Worker, principal string, now job.Time) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	w.SeenAt = now
	known := g.workers[w.ID]
	if known == nil {
		g.forget(now)
		if len(g.workers) >= mostWorkers {
			return job.Fault(job.Busy, "%d workers are known already; those that have ended are forgotten after %s", mostWorkers, job.Roughly(forgotten))
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

// rest waits for as long as a worker that takes no jobs has asked to, or until something
// else is wanted of it. One that has not been told yet what is wanted does not wait.
func (g *registry) rest(ctx context.Context, uid string, wait time.Duration, quit <-chan struct{}) {
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

// isOf tells whether a principal speaks for a worker that is known.
func (g *registry) isOf(uid, principal string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	w := g.workers[uid]
	return w != nil && w.belongsTo(principal) == nil
}

func (w *worker) belongsTo(principal string) error {
	if w.principal != principal {
		return job.Fault(job.Forbidden, "worker %q belongs to another token; draw an id of your own", w.info.ID)
	}
	return nil
}

// use marks a worker as seen, registering one that is not known by what its call
// tells, and answers who it is.
func (g *registry) use(w job.Worker, principal string, now job.Time) (job.Worker, error) {
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
	if err := g.put(w, principal, now); err != nil {
		return w, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if known := g.workers[w.ID]; known != nil {
		known.asked(w.Queues, w.Tasks, now)
	}
	return w, nil
}

// saw marks a worker as seen, and which settings it was told; zero for none.
func (g *registry) saw(uid string, now job.Time, settings int64) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if w := g.workers[uid]; w != nil {
		w.info.SeenAt, w.info.Settings = now, max(w.info.Settings, settings)
	}
}

func (g *registry) forget(now job.Time) {
	for uid, w := range g.workers {
		if now.Sub(w.info.SeenAt) > forgotten {
			delete(g.workers, uid)
		}
	}
}

// wants tells what is wanted of a worker, and whether it takes jobs.
func (g *registry) wants(uid string) (want job.Want, takes bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	w := g.workers[uid]
	if w == nil {
		return job.WantRun, true
	}
	return w.want(), w.want() == job.WantRun && !w.info.Draining
}

// ask sets what is wanted of a worker.
func (g *registry) ask(uid string, want job.Want) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if w := g.workers[uid]; w != nil && w.wanted != want {
		w.wanted = want
		w.call()
	}
}

// seenAt is when a worker was seen last; 0 for one that is not known, or silent.
func (g *registry) seenAt(uid string) job.Time {
	g.mu.Lock()
	defer g.mu.Unlock()
	if w := g.workers[uid]; w != nil {
		return w.info.SeenAt
	}
	return 0
}

func (g *registry) tellCancelled(uid, token string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	w := g.workers[uid]
	if w == nil {
		return // told by the next renewal
	}
	w.cancelled = append(w.cancelled, token)
	w.call()
}

// collect takes what a worker has not been told yet, and the channel that is
// closed when there is more.
func (g *registry) collect(uid, principal string, at job.Time) (wanted job.Wanted, more <-chan struct{}, err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	w := g.workers[uid]
	if w == nil {
		return wanted, nil, noWorker(uid)
	}
	if err := w.belongsTo(principal); err != nil {
		return wanted, nil, err
	}
	w.info.SeenAt = at
	wanted = job.Wanted{Wanted: w.want(), Cancelled: w.cancelled}
	w.cancelled = nil
	return wanted, w.told, nil
}

// list gives the workers that are not forgotten, by name and id.
func (g *registry) list(now job.Time) []job.Worker {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.forget(now)
	all := make([]job.Worker, 0, len(g.workers))
	for _, w := range g.workers {
		told := w.info
		told.Wanted = w.want()
		told.Silent = now.Sub(told.SeenAt) > presentFor
		all = append(all, told)
	}
	sort.Slice(all, func(i, j int) bool {
		if all[i].Name != all[j].Name {
			return all[i].Name < all[j].Name
		}
		return all[i].ID < all[j].ID
	})
	return all
}

// service is which queues and tasks living workers serve, in order of their names.
type service []serving

// serving is a worker and the calls by which it takes jobs. One that has registered asks
// for the same in all of them.
type serving struct {
	name  string
	calls []leaseCall
}

func (g *registry) service(now job.Time) (s service) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.forget(now)
	for _, w := range g.workers {
		if now.Sub(w.info.SeenAt) > presentFor || w.info.Draining || w.want() != job.WantRun {
			continue
		}
		calls := []leaseCall{{queues: w.info.Queues, tasks: w.info.Tasks}}
		if w.calls != nil {
			calls = slices.DeleteFunc(slices.Clone(w.calls), func(c leaseCall) bool { return now.Sub(c.at) > callKept })
		}
		s = append(s, serving{workerName(w.info), calls})
	}
	slices.SortFunc(s, func(a, b serving) int { return cmp.Compare(a.name, b.name) })
	return s
}

func (c *leaseCall) does(task string) bool {
	return len(c.tasks) == 0 || slices.Contains(c.tasks, task)
}

// serves tells how many workers serve a queue, and how many of those do a task.
func (s service) serves(queue, task string) (queueServed, taskDone int) {
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

// do tells how many workers do a task.
func (s service) do(task string) (n int) {
	for _, w := range s {
		if slices.ContainsFunc(w.calls, func(c leaseCall) bool { return c.does(task) }) {
			n++
		}
	}
	return n
}

// queues are those that the worker serves.
func (w serving) queues() (all []string) {
	for _, c := range w.calls {
		all = append(all, c.queues...)
	}
	return all
}

// queues are those that somebody serves.
func (s service) queues() (all []string) {
	for _, w := range s {
		all = append(all, w.queues()...)
	}
	return unique(all)
}

// nearest finds a task done in a queue that is perhaps meant by another name.
func (s service) nearest(queue, task string) string {
	var done []string
	for _, w := range s {
		for _, c := range w.calls {
			if slices.Contains(c.queues, queue) {
				done = append(done, c.tasks...)
			}
		}
	}
	return job.Nearest(task, done)
}

// knowWorker gives a worker its row's number.
func (tx *txn) knowWorker(w job.Worker) (workerRef, error) {
	if n := tx.e.registry.numbers[w.ID]; n != 0 {
		return workerRef{w.ID, n}, nil
	}
	return tx.writeWorker(w)
}

// writeWorker stores who a worker is.
func (tx *txn) writeWorker(w job.Worker) (workerRef, error) {
	n, wanted, err := tx.e.store.PutWorker(&w, tx.now)
	if tx.newWorkers == nil {
		tx.newWorkers = map[string]int64{}
	}
	tx.newWorkers[w.ID] = n
	tx.ask(w.ID, wanted)
	return workerRef{w.ID, n}, err
}

// mayTake tells whether a worker takes jobs as the transaction sees it. What was asked of
// one that has not called since the start of the service stands in the file only.
func (tx *txn) mayTake(uid string) (bool, error) {
	_, takes := tx.e.registry.wants(uid)
	want, known := tx.wants[uid]
	if !known && tx.e.registry.numbers[uid] == 0 {
		var err error
		if want, err = tx.e.store.WantedOf(uid); err != nil {
			return false, err
		}
	}
	return takes && (want == "" || want == job.WantRun), nil
}

// ask notes what is wanted of a worker.
func (tx *txn) ask(uid string, want job.Want) {
	if tx.wants == nil {
		tx.wants = map[string]job.Want{}
	}
	tx.wants[uid] = want
}

// publishWorkers makes what was written of workers known, and sends parked takes
// of those that take no more home.
func (tx *txn) publishWorkers() {
	g := &tx.e.registry
	if g.numbers == nil || len(g.numbers) > mostWorkers {
		g.numbers = map[string]int64{}
	}
	for uid, n := range tx.newWorkers {
		g.numbers[uid] = n
	}
	for uid, want := range tx.wants {
		g.ask(uid, want)
		if _, takes := g.wants(uid); !takes {
			tx.e.sendHome(uid)
		}
	}
}

// sendHome answers the parked takes of a worker with nothing.
func (e *Engine) sendHome(uid string) {
	for _, t := range e.parked {
		if t.worker.uid == uid && t.claim() {
			t.answer(nil)
		}
	}
}

// PutWorker registers a worker process, or what it tells anew about itself, and
// answers what is wanted of it.
func (e *Engine) PutWorker(ctx context.Context, w job.Worker) (job.Wanted, error) {
	if err := job.Wrong("the worker was not registered", checkWorker(&w)); err != nil {
		return job.Wanted{}, err
	}
	if err := e.registry.put(w, callOf(ctx).Principal, e.now()); err != nil {
		return job.Wanted{}, err
	}
	var unknown []job.Lease
	err := e.do(ctx, func(tx *txn) (err error) {
		if w.Holds != nil {
			if unknown, err = tx.unknownTo(w.ID, w.Holds); err != nil {
				return err
			}
		}
		_, err = tx.writeWorker(w)
		return err
	})
	e.watchers.nudge(Changes{Workers: true})
	want, _ := e.registry.wants(w.ID)
	return job.Wanted{Wanted: want, Leases: unknown}, err
}

// DeleteWorker says that a worker's process has ended: it is no longer listed, and the
// leases it still has are ended, uncounted.
func (e *Engine) DeleteWorker(ctx context.Context, uid string) error {
	return e.signOff(ctx, uid, false)
}

// DeleteAnyWorker says it of a worker of somebody else. Its handlers may still run: jobs
// in lanes wait until their leases would have ended.
func (e *Engine) DeleteAnyWorker(ctx context.Context, uid string) error {
	return e.signOff(ctx, uid, true)
}

func (e *Engine) signOff(ctx context.Context, uid string, anybodys bool) error {
	g, by := &e.registry, callOf(ctx).Principal
	g.mu.Lock()
	w := g.workers[uid]
	own := w != nil && w.belongsTo(by) == nil
	if w != nil && !own && !anybodys {
		err := w.belongsTo(by)
		g.mu.Unlock()
		return err
	}
	delete(g.workers, uid)
	g.mu.Unlock()
	err := e.do(ctx, func(tx *txn) error {
		if !own && !anybodys {
			return nil // whose it was is not known any more
		}
		for _, l := range tx.e.leases {
			if l.worker != uid || tx.lease(l.row.ID) != l {
				continue
			}
			if err := tx.takeBack(l, "the worker was signed off by "+by, own); err != nil {
				return err
			}
		}
		return nil
	})
	e.watchers.nudge(Changes{Workers: true})
	return err
}

// AskWorker records what is wanted of a worker: to run, to drain or to leave. It
// outlives a restart of the service.
func (e *Engine) AskWorker(ctx context.Context, uid string, want job.Want) (job.Worker, error) {
	w, err := e.Worker(ctx, uid)
	if err != nil {
		return w, err
	}
	stored := want
	if want == job.WantRun {
		stored = ""
	}
	detail := map[string]string{"worker": uid, "name": w.Name}
	err = e.record(ctx, string(want), 0, detail, func(tx *txn) (func(int64) error, error) {
		ref, err := tx.knowWorker(w)
		if err != nil {
			return nil, err
		}
		tx.ask(uid, stored)
		return nil, tx.e.store.PutWanted(ref.number, stored)
	})
	if err != nil {
		return w, err
	}
	e.watchers.nudge(Changes{Workers: true})
	return e.Worker(ctx, uid)
}

func checkWorker(w *job.Worker) []job.FieldError {
	wrong := checkLeaseRequest(&job.LeaseRequest{Worker: w.ID, Queues: w.Queues, Tasks: w.Tasks, Weights: w.Weights})
	for field, n := range map[string]int{"slots": w.Slots, "min_slots": w.MinSlots, "max_slots": w.MaxSlots, "ahead": w.Ahead} {
		if n < 0 || n > 100_000 {
			wrong = append(wrong, job.FieldError{Field: field, Message: "is outside 0 to 100000"})
		}
	}
	texts := map[string]string{"name": w.Name, "host": w.Host, "version": w.Version}
	if w.Resized != nil {
		texts["resized.why"] = w.Resized.Why
	}
	for field, text := range texts {
		if len(text) > job.MaxWordBytes {
			wrong = append(wrong, job.FieldError{Field: field, Message: "is longer than 200 bytes"})
		}
	}
	slices.SortFunc(wrong, func(a, b job.FieldError) int { return cmp.Compare(a.Field, b.Field) })
	return wrong
}

// Workers lists the worker processes with what each of their slots runs.
func (e *Engine) Workers(ctx context.Context) ([]job.Worker, error) {
	running := map[string][]job.Slot{}
	err := e.do(ctx, func(tx *txn) error {
		for _, l := range tx.e.leases {
			running[l.worker] = append(running[l.worker], tx.tellSlot(l))
		}
		return nil
	})
	usual := e.usuals()
	all := e.registry.list(e.now())
	for i := range all {
		w := &all[i]
		w.Jobs = running[w.ID]
		w.Running = len(w.Jobs)
		w.Outdated = w.Running > 0 && w.Settings != 0 && w.Settings < e.view.settings.Load()
		for k := range w.Jobs {
			s := &w.Jobs[k]
			s.UsualMS, s.LongMS = usual(s.Task)
		}
		sort.Slice(w.Jobs, func(i, j int) bool { return w.Jobs[i].Job < w.Jobs[j].Job })
	}
	return all, err
}

// tellSlot tells what a lease's slot does.
func (tx *txn) tellSlot(l *lease) job.Slot {
	r := l.row
	return job.Slot{
		Job: r.ID, Task: tx.taskName(r.Task), Queue: tx.queueOf(r.Queue).name, Attempt: r.Attempt, Since: r.LeasedAt,
		Progress: l.progress, ReportedAt: l.reportedAt, LeaseEndsAt: tx.now.Add(time.Until(l.ends)), CancelAskedAt: r.CancelAskedAt,
	}
}

// Worker tells about one worker process.
func (e *Engine) Worker(ctx context.Context, uid string) (job.Worker, error) {
	all, err := e.Workers(ctx)
	if err != nil {
		return job.Worker{}, err
	}
	for _, w := range all {
		if w.ID == uid {
			return w, nil
		}
	}
	return job.Worker{}, noWorker(uid)
}

func noWorker(uid string) error {
	return job.Fault(job.NotFound, "no worker %q is known here; register it with PUT /v1/workers/{id}", uid)
}

// Wanted is a worker's heartbeat. It answers at once when a running job is to be
// cancelled or when what is wanted of the worker is not what it does already,
// else after wait. doing is what the worker does; empty means to run.
func (e *Engine) Wanted(ctx context.Context, uid string, doing job.Want, wait time.Duration) (job.Wanted, error) {
	if doing == "" {
		doing = job.WantRun
	}
	timer := time.NewTimer(min(wait, job.LongestPoll.Go()))
	defer timer.Stop()
	for over := false; ; {
		wanted, more, err := e.registry.collect(uid, callOf(ctx).Principal, e.now())
		if err != nil {
			return wanted, err
		}
		if over || wanted.Wanted != doing || len(wanted.Cancelled) > 0 {
			wanted.Waiting = e.waitingFor(uid)
			return wanted, nil
		}
		select {
		case <-more:
		case <-timer.C:
			over = true
		case <-ctx.Done():
			return job.Wanted{}, ctx.Err()
		case <-e.quit:
			return job.Wanted{}, errStopping
		}
	}
}

// waitingFor counts the jobs that are ready for a worker.
func (e *Engine) waitingFor(uid string) int64 {
	e.registry.mu.Lock()
	w := e.registry.workers[uid]
	if w == nil {
		e.registry.mu.Unlock()
		return 0
	}
	queues, tasks := w.info.Queues, w.info.Tasks
	e.registry.mu.Unlock()
	return e.view.readyFor(queues, tasks)
}
