// Package workertest runs handlers without a service and without a clock, so that
// they can be tested like any function:
//
//	pool := worker.New(nil, worker.Options{})
//	harbour.Handlers(pool)
//	out := workertest.Run(t, pool, job.Spec{Task: "tide.predict", Payload: job.JSON(Day{Berth: 3})})
//	assert.Equal(t, job.OutcomeDone, out.Outcome)
//
// The job is a fake one; the handler, its middleware and what it may call are real.
package workertest

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"humblemule.example/api"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// Outcome is what a handler has made of a job.
type Outcome struct {
	// Settlement is what the service would be told: the outcome, the result or
	// error, the delay, and with a done one the follow-ups.
	api.Settlement
	t testing.TB
}

// Result reads the result of a job that is done; the test fails where there is
// none.
func (o Outcome) Result(v any) {
	o.t.Helper()
	if o.Outcome != job.OutcomeDone {
		o.t.Fatalf("the job is not done but %s: %v", o.Outcome, o.Error)
	}
	if err := json.Unmarshal(o.Settlement.Result, v); err != nil {
		o.t.Fatalf("the result cannot be read: %v", err)
	}
}

// Option changes the fake job.
type Option func(*api.LeasedJob)

// Try makes it the n-th try of the job.
func Try(n int) Option { return func(j *api.LeasedJob) { j.Tries, j.Attempt = n, n } }

// Round makes it a round of the job that a requeue has begun.
func Round(n int) Option { return func(j *api.LeasedJob) { j.Round = n } }

// EnqueuedAt is when the job was enqueued; now unless given.
func EnqueuedAt(at time.Time) Option {
	return func(j *api.LeasedJob) { j.EnqueuedAt = job.At(at) }
}

// DoneStep tells the handler that an earlier attempt has done a step, with its result, and
// InDoubt that an earlier attempt has begun one and perhaps done it.
func DoneStep(name string, result any) Option {
	return func(j *api.LeasedJob) { knowStep(j, name, api.StepKnown{Result: job.JSON(result)}) }
}

// InDoubt goes with [DoneStep].
func InDoubt(name string) Option {
	return func(j *api.LeasedJob) { knowStep(j, name, api.StepKnown{InDoubt: true}) }
}

func knowStep(j *api.LeasedJob, name string, s api.StepKnown) {
	if j.Steps == nil {
		j.Steps = map[string]api.StepKnown{}
	}
	j.Steps[name] = s
}

// ID gives the job an id; it is 1 unless given.
func ID(id int64) Option { return func(j *api.LeasedJob) { j.ID = id } }

// Planned makes it a run of a schedule.
func Planned(by job.ScheduledBy) Option { return func(j *api.LeasedJob) { j.Schedule = &by } }

// Run runs the handler of the spec's task once. The spec is checked as a service
// would check it. The handler's context ends with the test's, or by the spec's
// timeout.
func Run(t testing.TB, p *worker.Pool, s job.Spec, options ...Option) Outcome {
	t.Helper()
	return RunContext(t.Context(), t, p, s, options...)
}

// RunContext is Run with a context of the caller's, such as one that ends with one
// of the causes worker.ErrCancelled, worker.ErrLeaseLost and worker.ErrDraining.
func RunContext(ctx context.Context, t testing.TB, p *worker.Pool, s job.Spec, options ...Option) Outcome {
	t.Helper()
	j, err := api.LeasedAs(s, job.At(time.Now()))
	if err != nil {
		t.Fatal(err)
	}
	for _, change := range options {
		change(&j)
	}
	if !p.Handles(s.Task) {
		t.Fatalf("the pool has no handler for %s", s.Task)
	}
	return Outcome{p.Try(ctx, j), t}
}
