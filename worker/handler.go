package worker

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"time"

	"go.opentelemetry.io/otel/trace"

	"humblemule.example/api"
	"humblemule.example/internal/sentence"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// Handler runs a job by its payload as JSON, and answers its result as JSON.
type Handler func(ctx context.Context, payload json.RawMessage) (json.RawMessage, error)

// Middleware makes a handler of another: it may do something before and after it,
// change its context, or not call it at all.
type Middleware func(next Handler) Handler

// Use puts middleware around every handler of the pool. What is given first is
// outermost. Use must be called before [Pool.Run].
func (p *Pool) Use(m ...Middleware) { p.middleware = append(p.middleware, m...) }

func (p *Pool) around(h Handler) Handler {
	for i := len(p.middleware) - 1; i >= 0; i-- {
		h = p.middleware[i](h)
	}
	return h
}

// Handle makes h the handler of a task. The payload is read as JSON into In, and
// what h returns is kept as JSON, unless it is null. A payload that cannot be read gives the job
// up: it would fail every time. Handle must be called before [Pool.Run].
func Handle[In, Out any](p *Pool, task string, h func(ctx context.Context, in In) (Out, error)) {
	p.handles(task)
	p.handlers[task] = func(ctx context.Context, payload json.RawMessage) (json.RawMessage, error) {
		in, err := payloadOf[In](payload)
		if err != nil {
			return nil, err
		}
		out, err := h(ctx, in)
		if err != nil {
			return nil, err
		}
		return resultJSON(out), nil
	}
}

func payloadOf[In any](payload json.RawMessage) (in In, err error) {
	if len(payload) > 0 {
		if err := json.Unmarshal(payload, &in); err != nil {
			return in, GiveUp(&typed{"payload", fmt.Errorf("the payload cannot be read: %w", err)})
		}
	}
	return in, nil
}

// resultJSON is a result as JSON, nil for null. The work is done, whatever becomes of its
// result: one that cannot be kept is replaced by why that is.
func resultJSON(out any) json.RawMessage {
	result, err := json.Marshal(out)
	if err != nil {
		return api.DropResult(0, "cannot be written as JSON: "+err.Error())
	}
	if string(result) == "null" {
		return nil
	}
	return kept(result)
}

// kept is a result or, where it cannot be kept, why.
func kept(result json.RawMessage) json.RawMessage {
	if why := api.ResultFault(result); why != "" {
		return api.DropResult(len(result), why)
	}
	return result
}

// typed gives an error the type under which its attempt is kept.
type typed struct {
	kind string
	error
}

// ErrorType is the type under which a failed attempt is kept. Any error that has
// this method tells its type so.
func (t *typed) ErrorType() string { return t.kind }

func (t *typed) Unwrap() error { return t.error }

// ending is an error that ends an attempt without failing it.
type ending struct {
	outcome job.Outcome
	delay   time.Duration
	reason  string
	err     error
}

func (e *ending) Error() string {
	if e.err != nil {
		return e.err.Error()
	}
	return e.reason
}

func (e *ending) Unwrap() error { return e.err }

// GiveUp makes the job a dead letter at once: err will never heal by itself.
func GiveUp(err error) error { return &ending{outcome: job.OutcomeGiveUp, err: err} }

// Skip finishes the job as not needed any more, for a reason that is kept.
func Skip(reason string) error { return &ending{outcome: job.OutcomeSkipped, reason: reason} }

// RetryIn fails the attempt and sets the wait until the next one.
func RetryIn(d time.Duration, err error) error {
	return &ending{outcome: job.OutcomeFailed, delay: d, err: err}
}

// Postpone runs the job again after d, at least a second; this attempt is not
// counted.
func Postpone(d time.Duration) error {
	return &ending{outcome: job.OutcomePostponed, delay: max(d, time.Second), reason: "postponed"}
}

// StopPool says that the pool cannot do its work here, such as where a program is
// missing: the job is given back, uncounted, and the pool ends with err.
func StopPool(err error) error { return &ending{outcome: job.OutcomeReleased, err: &stopping{err}} }

type stopping struct{ err error }

func (s *stopping) Error() string { return s.err.Error() }

func (s *stopping) Unwrap() error { return s.err }

// The causes for which a handler's context ends; see [context.Cause].
var (
	// ErrTimeout: the attempt took longer than the job's timeout.
	ErrTimeout = errors.New("the attempt took longer than the job's timeout")
	// ErrLeaseLost: the lease has ended; another worker may run the job.
	ErrLeaseLost = errors.New("the lease has ended; another worker may run the job")
	// ErrCancelled: somebody asked to cancel the job.
	ErrCancelled = errors.New("somebody asked to cancel the job")
	// ErrDraining: the pool ends and its grace time is over.
	ErrDraining = errors.New("the pool ends and its grace time is over")
)

// attempt is how a handler has ended.
type attempt struct {
	result  json.RawMessage
	failure *job.Failure // it panicked
	err     error
}

// guarded calls a handler; a panic becomes a failure.
func guarded(ctx context.Context, h Handler, payload json.RawMessage) (result json.RawMessage, failure *job.Failure, err error) {
	defer func() {
		if p := recover(); p != nil {
			failure = &job.Failure{Type: job.Panicked, Message: text.Cut(fmt.Sprint(p), api.MaxErrorMessage), Stack: text.Cut(string(debug.Stack()), api.MaxStack)}
		}
	}()
	result, err = h(ctx, payload)
	return result, nil, err
}

// endedItself is how an attempt has ended whose handler never returns, because it
// has ended its goroutine (runtime.Goexit).
func endedItself() api.Settlement {
	return api.Settlement{Outcome: job.OutcomeFailed, Error: &job.Failure{Type: job.Panicked, Message: "the handler ended its goroutine without returning"}}
}

// try runs the handler of a job and says how the attempt has ended.
func (p *Pool) try(h *held) api.Settlement {
	handle := p.handlers[h.run.Task]
	if handle == nil {
		p.logOf(h).Warn("no handler for this task; the job is given back", "job", h.run.ID, "task", h.run.Task)
		return api.Settlement{Outcome: job.OutcomeReleased}
	}
	defer p.limit(h)()
	p.logTaken(h)
	began := time.Now()
	var a attempt
	a.result, a.failure, a.err = guarded(h.ctx, p.around(handle), h.run.Payload)
	return p.conclude(h, a, time.Since(began))
}

// limit gives a job's context the end that its timeout sets.
func (p *Pool) limit(h *held) (release func()) {
	if h.run.TimeoutMS <= 0 {
		return func() {}
	}
	ctx, cancel := context.WithTimeoutCause(h.ctx, time.Duration(h.run.TimeoutMS)*time.Millisecond, ErrTimeout)
	p.mu.Lock()
	defer p.mu.Unlock()
	h.ctx = ctx
	return cancel
}

// logOf is the log of the pool for what it says of a job: with the ids of its trace, where it has one.
func (p *Pool) logOf(h *held) *slog.Logger {
	at := trace.SpanContextFromContext(h.ctx)
	if !at.IsValid() {
		return p.log
	}
	return p.log.With("trace_id", at.TraceID().String(), "span_id", at.SpanID().String())
}

func (p *Pool) logTaken(h *held) {
	if p.log.Enabled(h.ctx, slog.LevelInfo) {
		p.logOf(h).Info("taken", "job", h.run.ID, "task", h.run.Task, "queue", h.run.Queue, "try", sentence.OfMost(h.run.Tries, h.run.MaxAttempts))
	}
}

// conclude says how an attempt has ended, and logs it.
func (p *Pool) conclude(h *held, a attempt, took time.Duration) api.Settlement {
	s := settled(h.ctx, a)
	s.RunMS = took.Milliseconds()
	level, more := slog.LevelInfo, slog.Attr{}
	switch {
	case s.Error != nil:
		level, more = slog.LevelWarn, slog.String("error", s.Error.Message)
	case s.ReasonText != "":
		more = slog.String("reason", s.ReasonText)
	}
	p.logOf(h).LogAttrs(h.ctx, level, string(s.Outcome), slog.Int64("job", h.run.ID), slog.String("task", h.run.Task), slog.Duration("took", took.Round(time.Millisecond)), more)
	var stopped *stopping
	if errors.As(a.err, &stopped) {
		p.log.Error("a handler stops the pool", "error", stopped.err)
		p.stop(stopped)
	}
	return s
}

// Try runs the handler of a job without a service, and answers the settlement that
// a service would be told. Package workertest makes use of it.
func (p *Pool) Try(ctx context.Context, j api.LeasedJob) api.Settlement {
	run := p.newRunning(j, func() {})
	ctx, cancel := context.WithCancelCause(contextOf(ctx, run))
	h := &held{run: run, ctx: ctx, cancel: cancel}
	defer cancel(nil)
	var s api.Settlement
	if g := p.gatherings[j.Task]; g != nil {
		s = p.tryMany(g, []*held{h})[0]
	} else {
		s = p.try(h)
	}
	s.Report = run.report()
	if s.Outcome == job.OutcomeDone {
		s.Enqueue, s.RawEnqueue = run.followUps(), run.rawFollowUps()
	}
	return s
}

// settled is settlement for whatever a handler may have returned: an error may panic when
// it is asked for its text.
func settled(ctx context.Context, a attempt) (s api.Settlement) {
	defer func() {
		if p := recover(); p != nil {
			s = api.Settlement{Outcome: job.OutcomeFailed, Error: &job.Failure{Type: job.Panicked, Message: "the error that the handler returned panicked when it was asked for its text"}}
		}
		s.Result = kept(s.Result)
		if f := s.Error; f != nil {
			s.Error = &job.Failure{Type: text.Cut(f.Type, api.MaxErrorType), Message: text.Cut(f.Message, api.MaxErrorMessage), Stack: text.Cut(f.Stack, api.MaxStack)}
		}
		s.ReasonText = text.Cut(s.ReasonText, api.MaxReasonText)
		s.Delay = min(max(s.Delay, 0), job.MaxDuration)
		s.Mend()
	}()
	return settlement(ctx, a)
}

// settlement says how an attempt has ended, in the words of the wire.
func settlement(ctx context.Context, a attempt) api.Settlement {
	switch {
	case a.failure != nil:
		return api.Settlement{Outcome: job.OutcomeFailed, Error: a.failure}
	case a.err == nil:
		return api.Settlement{Outcome: job.OutcomeDone, Result: a.result}
	case errors.Is(context.Cause(ctx), ErrDraining):
		return api.Settlement{Outcome: job.OutcomeReleased}
	}
	s := api.Settlement{Outcome: job.OutcomeFailed, Error: failureOf(ctx, a.err)}
	var e *ending
	if errors.As(a.err, &e) {
		s.Outcome, s.Delay = e.outcome, job.Duration(e.delay)
		if e.err == nil {
			s.Error, s.ReasonText = nil, e.reason
		}
	}
	return s
}

func failureOf(ctx context.Context, err error) *job.Failure {
	f := &job.Failure{Type: "error", Message: err.Error()}
	var kind interface{ ErrorType() string }
	switch {
	case errors.As(err, &kind):
		f.Type = kind.ErrorType()
	case errors.Is(context.Cause(ctx), ErrTimeout):
		f.Type, f.Message = job.TimedOut, ErrTimeout.Error()
	}
	return f
}

// Handles tells whether the pool has a handler for a task.
func (p *Pool) Handles(task string) bool { return p.handlers[task] != nil || p.gatherings[task] != nil }
