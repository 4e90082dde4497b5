package calls

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/internal/post"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// Slots are the service's own: a pool within it that takes calls alone.
type Slots struct {
	engine   *engine.Engine
	caller   *Caller
	office   *post.Office
	commands *Commands
	pool     *worker.Pool
}

const (
	slotsName = "service"
	// made is under which name the pool's handler makes calls, whatever their task.
	made = "call"
	// looksEvery is how often it is looked whether there are tasks that make calls.
	looksEvery = time.Second
	callLease  = time.Minute
	grace      = 20 * time.Second
)

// NewSlots gives slots for so many calls at once.
func NewSlots(e *engine.Engine, caller *Caller, office *post.Office, commands *Commands, slots int, version string, log *slog.Logger) *Slots {
	s := &Slots{engine: e, caller: caller, office: office, commands: commands}
	s.pool = worker.New(&source{engine: e}, worker.Options{Queues: []string{job.DefaultQueue}, Slots: slots, Name: slotsName, Version: version, Ahead: worker.Measured, Lease: callLease, Grace: grace, Log: slog.New(quiet{log.Handler()})})
	worker.Handle(s.pool, made, s.make)
	return s
}

// Run makes calls until ctx ends, and lets those under way finish.
func (s *Slots) Run(ctx context.Context) error {
	tick := time.NewTicker(looksEvery)
	defer tick.Stop()
	for {
		if _, tasks := s.engine.CallsServed(); len(tasks) > 0 {
			return s.pool.Run(ctx)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
	}
}

// asked is what the handler is given: the call, or what the service itself tells, and of which task it is.
type asked struct {
	Task string          `json:"task"`
	Call json.RawMessage `json:"call"`
}

func (s *Slots) make(ctx context.Context, a asked) (*api.CallAnswer, error) {
	running := worker.Job(ctx)
	made := Asked{Task: a.Task, Rules: s.engine.CallRules(a.Task), Traceparent: running.Traceparent, ID: fmt.Sprintf("%s-%d-%d", s.engine.StoreID(), running.ID, running.Round)}
	if job.IsOwn(a.Task) {
		return s.notify(ctx, made, a.Call)
	}
	call, err := job.ReadCall(a.Call)
	if err != nil {
		return nil, worker.GiveUp(fmt.Errorf("the call cannot be read: %w", err))
	}
	made.Call = *call
	return s.caller.Make(ctx, made)
}

// source is the engine as the pool's source. What the pool serves changes with what is set, and all calls
// go to the one handler.
type source struct{ engine *engine.Engine }

// PutWorker and the others are those of [worker.Source].
func (s *source) PutWorker(ctx context.Context, w api.Worker) (api.Wanted, error) {
	w.Queues, w.Tasks = s.engine.CallsServed()
	return s.engine.PutWorker(engine.ByService(ctx), w)
}

// DeleteWorker goes with [source.PutWorker].
func (s *source) DeleteWorker(ctx context.Context, id string) error {
	return s.engine.DeleteWorker(ctx, id)
}

// Wanted goes with [source.PutWorker].
func (s *source) Wanted(ctx context.Context, id string, doing api.Want, wait time.Duration) (api.Wanted, error) {
	return s.engine.Wanted(ctx, id, doing, wait)
}

// Lease goes with [source.PutWorker].
func (s *source) Lease(ctx context.Context, r api.LeaseRequest) (api.LeaseAnswer, error) {
	answer, err := s.engine.Lease(engine.ByService(ctx), r)
	for i := range answer.Leases {
		j := &answer.Leases[i].Job
		j.Payload, j.Task = job.JSON(asked{j.Task, j.Payload}), made
	}
	return answer, err
}

// Extend goes with [source.PutWorker].
func (s *source) Extend(ctx context.Context, r api.ExtendRequest) (api.ExtendAnswer, error) {
	return s.engine.Extend(ctx, r)
}

// Settle goes with [source.PutWorker].
func (s *source) Settle(ctx context.Context, items []api.Settlement) ([]api.SettleResult, error) {
	return s.engine.Settle(ctx, items)
}

// quiet is a log to which the pool tells only what is wrong with itself: what becomes of its calls stands in
// their jobs.
type quiet struct{ slog.Handler }

// Enabled is slog.Handler's, as are the others below.
func (q quiet) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelError && q.Handler.Enabled(ctx, l)
}

// WithAttrs gives a log with attributes.
func (q quiet) WithAttrs(attrs []slog.Attr) slog.Handler { return quiet{q.Handler.WithAttrs(attrs)} }

// WithGroup gives a log with a group.
func (q quiet) WithGroup(name string) slog.Handler { return quiet{q.Handler.WithGroup(name)} }
