package job_test

import (
	"errors"
	"fmt"
	"time"

	"humblemule.example/job"
)

// A spec says what is to be done, once. What it does not say comes from its task, its queue,
// or what is built in.
func ExampleNew() {
	type arrival struct {
		Ship  string `json:"ship"`
		Berth int    `json:"berth"`
	}
	spec, err := job.New("berth.plan", arrival{"heron", 3})
	if err != nil {
		fmt.Println(err)
		return
	}
	spec.Queue, spec.Lane, spec.Priority = "berths", "berth-3", new(7)
	spec.Timeout = job.For(5 * time.Minute)
	spec.Key, spec.Dedupe = "heron-0291", job.Unfinished // at most one at a time
	fmt.Println(spec.Task, string(spec.Payload), spec.Timeout)
	// Output: berth.plan {"ship":"heron","berth":3} 5m
}

// A job that starts tomorrow at six, and is skipped if it has not started by seven.
func ExampleSpec_later() {
	six := time.Date(2026, 12, 1, 6, 0, 0, 0, time.UTC)
	spec := job.Spec{Task: "tide.predict", RunAt: job.At(six), StartBy: job.At(six.Add(time.Hour))}
	fmt.Println(spec.RunAt, spec.StartBy)
	// Output: 2026-12-01T06:00:00.000Z 2026-12-01T07:00:00.000Z
}

// A retry with waits of its own: ten seconds, then twice as long each time, to an hour.
func ExampleRetry() {
	spec := job.Spec{Task: "dues.charge", MaxAttempts: new(8), Retry: &job.Retry{First: job.For(10 * time.Second), Factor: 2, Ceiling: job.For(time.Hour)}}
	fmt.Println(spec.Check(job.MaxPayloadBytes) == nil)
	// Output: true
}

// What a call is refused for is a problem, whose kind errors.Is tells.
func ExampleProblem() {
	var err error = fmt.Errorf("the plan: %w", job.Fault(job.NotFound, "there is no job 7"))
	fmt.Println(errors.Is(err, job.ErrNotFound), errors.Is(err, job.ErrBusy))
	var p *job.Problem
	fmt.Println(errors.As(err, &p), p.Kind.Title(), p.Detail)
	// Output:
	// true false
	// true Not found there is no job 7
}
