package load

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// Serve starts a service on a new data file in a folder, and gives its address and what ends
// it.
type Serve func(ctx context.Context, dir string) (address string, end func() error, err error)

// Progress is how far a setting has come.
type Progress struct {
	Setting string
	// Gone is how long jobs have come, of For; it is more while the rest is waited for.
	Gone, For time.Duration
	// Came, Finished and Waiting count jobs.
	Came, Finished, Waiting int64
}

// run is one setting under load.
type run struct {
	plan     *Plan
	setting  *Setting
	arrivals []Arrival
	m        *client.Client
	began    time.Time
	// started is when a job was started first, or that it was refused; ended when it was done:
	// since the beginning and in ns, 0 for not yet; by the places of the arrivals.
	started, ended       []atomic.Int64
	came, failures, busy atomic.Int64
	refused              atomic.Int64
	lateness             sync.Mutex
	late                 []time.Duration // how long after its time each job was there
}

// Run tries a setting on a service of its own, in a folder that is its caller's to remove, and
// tells what became of the jobs. told is called about once a second.
func Run(ctx context.Context, plan *Plan, setting *Setting, dir string, serve Serve, told func(Progress)) (o Outcome, err error) {
	address, end, err := serve(ctx, dir)
	if err != nil {
		return o, err
	}
	defer func() { err = errors.Join(err, end()) }()
	r := &run{plan: plan, setting: setting, arrivals: plan.Arrivals()}
	r.started, r.ended = make([]atomic.Int64, len(r.arrivals)), make([]atomic.Int64, len(r.arrivals))
	if r.m, err = client.New(address, client.HTTPClient(&http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 2 * mostSlots}})); err != nil {
		return o, err
	}
	defer r.m.Close()
	if _, err := r.m.PutSetup(ctx, api.SetupRequest{Setup: api.Setup{Queues: setting.Queues, Tasks: setting.Tasks, Empty: len(setting.Queues)+len(setting.Tasks) == 0}}); err != nil {
		return o, fmt.Errorf("setting %q: %w", setting.Name, err)
	}
	working, stop := context.WithCancel(ctx)
	defer stop()
	ended := r.work(working)
	r.began = time.Now()
	watching, watched := context.WithCancel(ctx)
	var watch sync.WaitGroup
	watch.Go(func() { r.watch(watching, told) })
	if err = r.produce(ctx); err == nil {
		err = r.rest(ctx)
	}
	watched()
	watch.Wait()
	stats, wrong := r.m.Stats(ctx, "")
	stop()
	ended()
	err = errors.Join(err, wrong)
	if ctx.Err() != nil {
		return o, ctx.Err()
	}
	return r.outcome(&stats), err
}

// work starts the pools; what it gives waits for their ends.
func (r *run) work(ctx context.Context) (ended func()) {
	var all []*worker.Pool
	for i := range r.setting.Pools {
		p := &r.setting.Pools[i]
		for k := range max(p.Count, 1) {
			pool := worker.New(r.m.Source(), worker.Options{
				Queues: p.queuesOf(r.plan), Weights: p.Weights, Slots: p.Slots, MaxSlots: p.MaxSlots, Ahead: p.Ahead,
				Name: fmt.Sprintf("pool-%d-%d", i+1, k+1), Grace: 100 * time.Millisecond, Log: slog.New(slog.DiscardHandler),
			})
			for name, s := range r.plan.Streams {
				if task := s.taskOf(name); !pool.Handles(task) {
					worker.Handle(pool, task, r.handle)
				}
			}
			all = append(all, pool)
		}
	}
	errs := make(chan error, len(all))
	for _, pool := range all {
		go func() { errs <- pool.Run(ctx) }()
	}
	return func() {
		for range all {
			<-errs // what is unfinished at the end is counted, and no error
		}
	}
}

// refused marks a job that a full queue did not take.
const refused = -1

// errDrawn is that of attempts which fail as was drawn.
var errDrawn = errors.New("this attempt fails, as planned")

// of is what a job's payload tells of it: its place among the arrivals.
type of struct {
	N int `json:"n"`
}

func (r *run) handle(ctx context.Context, in of) (any, error) {
	a := &r.arrivals[in.N]
	began := time.Now()
	r.started[in.N].CompareAndSwap(0, int64(began.Sub(r.began))|1)
	timer := time.NewTimer(a.Run)
	defer timer.Stop()
	defer func() { r.busy.Add(int64(time.Since(began))) }()
	if a.Run > 0 {
		select {
		case <-timer.C:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	}
	if r.plan.fails(a, worker.Job(ctx).Attempt) {
		r.failures.Add(1)
		return nil, errDrawn
	}
	r.ended[in.N].Store(int64(time.Since(r.began)) | 1)
	return nil, nil
}

// spec is the job of an arrival.
func (r *run) spec(n int) job.Spec {
	a := &r.arrivals[n]
	s := r.plan.Streams[a.Stream]
	payload := fmt.Sprintf(`{"n":%d}`, n)
	if more := a.Bytes - len(payload) - len(`,"x":""`); more > 0 {
		payload = fmt.Sprintf(`{"n":%d,"x":"%s"}`, n, strings.Repeat("x", more))
	}
	return job.Spec{Task: s.taskOf(a.Stream), Queue: s.queueOf(), Priority: &a.Priority, Owner: a.Owner, Lane: a.Lane, Payload: json.RawMessage(payload)}
}

// Callers are how many calls hand jobs over at once, and together how many are handed over by
// one where many come at the same time.
const (
	callers  = 16
	together = 500
)

// produce hands jobs over when they come.
func (r *run) produce(ctx context.Context) error {
	type part struct{ from, to int }
	parts := make(chan part)
	failed, fail := context.WithCancelCause(ctx)
	defer fail(nil)
	var all sync.WaitGroup
	for range callers {
		all.Go(func() {
			for p := range parts {
				if err := r.handOver(failed, p.from, p.to); err != nil {
					fail(err)
				}
			}
		})
	}
	for from := 0; from < len(r.arrivals) && failed.Err() == nil; {
		wait := time.NewTimer(r.arrivals[from].At - time.Since(r.began))
		select {
		case <-wait.C:
		case <-failed.Done():
		}
		to, now := from+1, time.Since(r.began)
		for to < len(r.arrivals) && to-from < together && r.arrivals[to].At <= now {
			to++
		}
		select {
		case parts <- part{from, to}:
		case <-failed.Done():
		}
		from = to
	}
	close(parts)
	all.Wait()
	return context.Cause(failed)
}

// handOver enqueues the jobs from one place to another. What a full queue refuses is counted.
func (r *run) handOver(ctx context.Context, from, to int) error {
	var err error
	if to-from == 1 {
		_, err = r.m.Enqueue(ctx, r.spec(from))
	} else {
		specs := make([]job.Spec, 0, to-from)
		for n := from; n < to; n++ {
			specs = append(specs, r.spec(n))
		}
		_, err = r.m.EnqueueMany(ctx, specs)
	}
	var problem *job.Problem
	if errors.As(err, &problem) && problem.Kind == job.QueueFull {
		if to-from > 1 { // some of them may still find room
			for n := from; n < to; n++ {
				if err := r.handOver(ctx, n, n+1); err != nil {
					return err
				}
			}
			return nil
		}
		r.refused.Add(1)
		r.started[from].Store(refused)
		return nil
	}
	if err != nil {
		return err
	}
	now := time.Since(r.began)
	r.came.Add(int64(to - from))
	r.lateness.Lock()
	defer r.lateness.Unlock()
	for n := from; n < to; n++ {
		r.late = append(r.late, now-r.arrivals[n].At)
	}
	return nil
}

// unfinished counts the jobs that have not ended.
func unfinished(s *api.Stats) (n int64) {
	for state, k := range s.Counts {
		if !state.Finished() {
			n += k
		}
	}
	return n
}

// rest waits until all jobs have ended, as long as the plan says.
func (r *run) rest(ctx context.Context) error {
	most := r.plan.ThenWait.Go()
	if most == 0 {
		most = time.Minute
	}
	for until := time.Now().Add(most); time.Now().Before(until); {
		stats, err := r.m.Stats(ctx, "")
		if err != nil {
			return err
		}
		if unfinished(&stats) == 0 {
			return nil
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

// watch tells how far it has come, until ctx ends.
func (r *run) watch(ctx context.Context, told func(Progress)) {
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	for {
		stats, err := r.m.Stats(ctx, "")
		if err == nil {
			waiting := stats.Counts[job.Held] + stats.Counts[job.Scheduled] + stats.Counts[job.Ready] + stats.Counts[job.Backoff]
			told(Progress{r.setting.Name, time.Since(r.began), r.plan.For.Go(), r.came.Load(), r.came.Load() - unfinished(&stats), waiting})
		}
		select {
		case <-ticker.C:
		case <-ctx.Done():
			return
		}
	}
}
