package engine

import (
	"context"
	"slices"
	"sort"
	"sync"
	"time"

	"humblemule/core/job"
)

// A worker is thought to be there as long after its last sign of life; one that
// has not been seen for longer than forgotten is no longer listed.
const (
	presentFor = 40 * time.Second
	forgotten  = 10 * time.Minute
)

// registry knows the worker processes, in memory.
type registry struct {
	mu      sync.Mutex
	workers map[string]*worker
	// numbers are the workers' rows. They belong to the committer.
	numbers map[string]int64
}

type worker struct {
	info job.Worker
	// cancelled are tokens whose cancelling the worker has not been told.
	cancelled []string
	// told is closed when something is wanted of the worker.
	told chan struct{}
}

// workerRef is a worker in a transaction.
type workerRef struct {
	uid    string
	number int64
}

// put registers a worker, or what it tells anew about itself.
func (g *registry) put(w job.Worker, now job.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	w.SeenAt = now
	if known := g.workers[w.ID]; known != nil {
		known.info = w
		return
	}
	g.forget(now)
	g.workers[w.ID] = &worker{info: w, told: make(chan struct{})}
}

// use marks a worker as seen, registering one that is not known by what its call
// tells, and answers who it is.
func (g *registry) use(w job.Worker, now job.Time) job.Worker {
	g.mu.Lock()
	known := g.workers[w.ID]
	if known != nil {
		known.info.SeenAt = now
		w = known.info
	}
	g.mu.Unlock()
	if known == nil {
		g.put(w, now)
	}
	return w
}

func (g *registry) saw(uid string, now job.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if w := g.workers[uid]; w != nil {
		w.info.SeenAt = now
	}
}

func (g *registry) forget(now job.Time) {
	for uid, w := range g.workers {
		if now.Sub(w.info.SeenAt) > forgotten {
			delete(g.workers, uid)
		}
	}
}

func (g *registry) tellCancelled(uid, token string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	w := g.workers[uid]
	if w == nil {
		return // told by the next renewal
	}
	w.cancelled = append(w.cancelled, token)
	close(w.told)
	w.told = make(chan struct{})
}

// collect takes the tokens a worker has not been told yet, and the channel that
// is closed when there is more; known is false for a worker that must register.
func (g *registry) collect(uid string, now job.Time) (cancelled []string, more <-chan struct{}, known bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	w := g.workers[uid]
	if w == nil {
		return nil, nil, false
	}
	w.info.SeenAt = now
	cancelled, w.cancelled = w.cancelled, nil
	return cancelled, w.told, true
}

// list gives the workers that are not forgotten, by name and id.
func (g *registry) list(now job.Time) []job.Worker {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.forget(now)
	all := make([]job.Worker, 0, len(g.workers))
	for _, w := range g.workers {
		all = append(all, w.info)
	}
	sort.Slice(all, func(i, j int) bool {
		if all[i].Name != all[j].Name {
			return all[i].Name < all[j].Name
		}
		return all[i].ID < all[j].ID
	})
	return all
}

// service is which queues and tasks living workers serve.
type service []job.Worker

func (g *registry) service(now job.Time) (s service) {
	for _, w := range g.list(now) {
		if now.Sub(w.SeenAt) <= presentFor {
			s = append(s, w)
		}
	}
	return s
}

// serves tells how many workers serve a queue, and how many of those do a task.
func (s service) serves(queue, task string) (queueServed, taskDone int) {
	for _, w := range s {
		if !slices.Contains(w.Queues, queue) {
			continue
		}
		queueServed++
		if len(w.Tasks) == 0 || slices.Contains(w.Tasks, task) {
			taskDone++
		}
	}
	return queueServed, taskDone
}

// nearest finds a task done in a queue that is perhaps meant by another name.
func (s service) nearest(queue, task string) string {
	var done []string
	for _, w := range s {
		if slices.Contains(w.Queues, queue) {
			done = append(done, w.Tasks...)
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
	n, err := tx.e.store.PutWorker(&w, tx.now)
	if tx.newWorkers == nil {
		tx.newWorkers = map[string]int64{}
	}
	tx.newWorkers[w.ID] = n
	return workerRef{w.ID, n}, err
}

func (tx *txn) publishWorkers() {
	g := &tx.e.registry
	const most = 10_000
	if g.numbers == nil || len(g.numbers) > most {
		g.numbers = map[string]int64{}
	}
	for uid, n := range tx.newWorkers {
		g.numbers[uid] = n
	}
}

// PutWorker registers a worker process.
func (e *Engine) PutWorker(ctx context.Context, w job.Worker) error {
	if err := job.Wrong("the worker was not registered", checkWorker(&w)); err != nil {
		return err
	}
	e.registry.put(w, e.now())
	return e.do(ctx, func(tx *txn) error {
		_, err := tx.writeWorker(w)
		return err
	})
}

func checkWorker(w *job.Worker) []job.FieldError {
	wrong := checkLeaseRequest(&job.LeaseRequest{Worker: w.ID, Queues: w.Queues, Tasks: w.Tasks})
	if w.Slots < 0 || w.Slots > 100_000 {
		wrong = append(wrong, job.FieldError{Field: "slots", Message: "is outside 0 to 100000"})
	}
	for field, text := range map[string]string{"name": w.Name, "host": w.Host, "version": w.Version} {
		if len(text) > job.MaxWordBytes {
			wrong = append(wrong, job.FieldError{Field: field, Message: "is longer than 200 bytes"})
		}
	}
	return wrong
}

// Workers lists the worker processes with what each runs.
func (e *Engine) Workers(ctx context.Context) ([]job.Worker, error) {
	running := map[string]int{}
	err := e.do(ctx, func(tx *txn) error {
		for _, l := range tx.e.leases {
			running[l.worker]++
		}
		return nil
	})
	all := e.registry.list(e.now())
	for i := range all {
		all[i].Running = running[all[i].ID]
	}
	return all, err
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

// Wanted is a worker's heartbeat. It answers at once when something is wanted of
// the worker, else after wait.
func (e *Engine) Wanted(ctx context.Context, uid string, wait time.Duration) (job.Wanted, error) {
	timer := time.NewTimer(min(wait, job.LongestPoll.Go()))
	defer timer.Stop()
	for {
		cancelled, more, known := e.registry.collect(uid, e.now())
		if !known {
			return job.Wanted{}, noWorker(uid)
		}
		if len(cancelled) > 0 {
			return job.Wanted{Wanted: job.WantRun, Cancelled: cancelled}, nil
		}
		select {
		case <-more:
		case <-timer.C:
			return job.Wanted{Wanted: job.WantRun}, nil
		case <-ctx.Done():
			return job.Wanted{}, ctx.Err()
		case <-e.quit:
			return job.Wanted{}, errStopping
		}
	}
}
