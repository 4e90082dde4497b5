package worker

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime/debug"
	"time"

	"humblemule/core/job"
)

// handler runs a job and answers its result as JSON.
type handler func(ctx context.Context, payload json.RawMessage) (json.RawMessage, error)

// Handle makes h the handler of a task. The payload is read as JSON into In, and
// what h returns is kept as JSON. A payload that cannot be read gives the job
// up: it would fail every time. Handle must be called before [Pool.Run].
func Handle[In, Out any](p *Pool, task string, h func(ctx context.Context, in In) (Out, error)) {
	p.handlers[task] = func(ctx context.Context, payload json.RawMessage) (json.RawMessage, error) {
		var in In
		if len(payload) > 0 {
			if err := json.Unmarshal(payload, &in); err != nil {
				return nil, GiveUp(&typed{"payload", fmt.Errorf("the payload cannot be read: %w", err)})
			}
		}
		out, err := h(ctx, in)
		if err != nil {
			return nil, err
		}
		result, err := json.Marshal(out)
		if err != nil {
			return nil, GiveUp(&typed{"result", fmt.Errorf("the result cannot be written as JSON: %w", err)})
		}
		return result, nil
	}
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

// ending is an error that ends an attempt otherwise than by failing it.
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

// The causes for which a handler's context ends; see [context.Cause].
var (
	// ErrTimeout: the attempt took longer than the job's timeout.
	ErrTimeout = errors.New("the attempt took longer than the job's timeout")
	// ErrLeaseLost: the lease has ended; another worker may run the job.
	ErrLeaseLost = errors.New("the lease has ended; another worker may run the job")
	// ErrCancelled: cancelling of the job was asked.
	ErrCancelled = errors.New("cancelling of the job was asked")
	// ErrDraining: the pool ends and its grace time is over.
	ErrDraining = errors.New("the pool ends and its grace time is over")
)

type jobKey struct{}

// Job gives a handler the job it runs.
func Job(ctx context.Context) job.LeasedJob {
	j, _ := ctx.Value(jobKey{}).(job.LeasedJob)
	return j
}

// call runs a handler; a panic, or an end of its goroutine, becomes an error.
func call(ctx context.Context, h handler, payload json.RawMessage) (result json.RawMessage, failure *job.Failure, err error) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		returned := false
		defer func() {
			if p := recover(); p != nil {
				failure = &job.Failure{Type: job.Panicked, Message: fmt.Sprint(p), Stack: string(debug.Stack())}
			} else if !returned {
				failure = &job.Failure{Type: job.Panicked, Message: "the handler ended its goroutine without returning"}
			}
		}()
		result, err = h(ctx, payload)
		returned = true
	}()
	<-done
	return result, failure, err
}

// settlement says how an attempt has ended.
func settlement(ctx context.Context, result json.RawMessage, failure *job.Failure, err error) job.Settlement {
	switch {
	case failure != nil:
		return job.Settlement{Outcome: job.OutcomeFailed, Error: failure}
	case err == nil:
		return job.Settlement{Outcome: job.OutcomeDone, Result: result}
	case errors.Is(context.Cause(ctx), ErrDraining):
		return job.Settlement{Outcome: job.OutcomeReleased}
	}
	s := job.Settlement{Outcome: job.OutcomeFailed, Error: failureOf(ctx, err)}
	var e *ending
	if errors.As(err, &e) {
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
		f.Type, f.Message = "timeout", ErrTimeout.Error()
	}
	return f
}
