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

// ID gives the job an id; it has 1 otherwise.
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
	s, err := s.Frozen()
	if err == nil {
		err = job.Wrong("the service would not take this job", s.Check(job.MaxPayloadBytes))
	}
	if err != nil {
		t.Fatal(err)
	}
	policy := s.Policy()
	j := api.LeasedJob{
		ID: 1, Task: s.Task, Payload: s.Payload, Queue: s.Queue, Priority: job.DefaultPriority, Round: 1, Attempt: 1, Tries: 1,
		MaxAttempts: policy.MaxAttempts, Owner: s.Owner, Labels: s.Labels, TimeoutMS: policy.Timeout.Go().Milliseconds(), Traceparent: s.Traceparent,
	}
	if j.Queue == "" {
		j.Queue = job.DefaultQueue
	}
	if s.Priority != nil {
		j.Priority = *s.Priority
	}
	for _, change := range options {
		change(&j)
	}
	if !p.Handles(s.Task) {
		t.Fatalf("the pool has no handler for %s", s.Task)
	}
	return Outcome{p.Try(ctx, j), t}
}
