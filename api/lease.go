package api

import (
	"cmp"
	"encoding/json"

	"humblemule.example/internal/check"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// The bounds of a lease's length and of a long poll.
const (
	MinLease     = job.Duration(1e9)
	MaxLease     = job.Duration(3600e9)
	DefaultLease = job.Duration(45e9)
	MaxWait      = job.Duration(60e9)
)

// LeaseRequest asks for jobs to run, after settling earlier ones.
type LeaseRequest struct {
	Worker string   `json:"worker"`
	Queues []string `json:"queues"`
	// Tasks are those the worker has handlers for; none means any.
	Tasks []string `json:"tasks,omitzero"`
	// Share says how queues share what is taken: by_list (the default) empties
	// the first named one first, by_weight gives turns by Weights.
	Share Share `json:"share,omitzero"`
	// Weights are 1 to 1000 by queue; one that is not named has 1.
	Weights map[string]int `json:"weights,omitzero"`
	// Job is the id of one ready job that is taken out of order, instead of what
	// Queues hold.
	Job int64 `json:"job,omitzero"`
	// Limit is how many jobs are taken at most, 0 to 1000.
	Limit int `json:"limit"`
	// Ahead is how many more are taken though no slot is free for them, 0 to
	// 1000 with Limit; none of a queue that has a limit.
	Ahead int `json:"ahead,omitzero"`
	// Wait is how long to wait for a first job, at most 60 s. It counts only
	// where Settle is empty.
	Wait job.Duration `json:"wait,omitzero"`
	// Settings is what the last answer told of it.
	Settings int64 `json:"settings,omitzero"`
	// Lease is the length of each lease, 1 s to 1 h; zero means 45 s.
	Lease  job.Duration `json:"lease,omitzero"`
	Settle []Settlement `json:"settle,omitzero"`
}

// LeaseAnswer is what a lease request brings.
type LeaseAnswer struct {
	Leases  []Lease        `json:"leases"`
	Results []SettleResult `json:"results,omitzero"`
	Wanted  Want           `json:"wanted"`
	// Waiting is how many more jobs were ready for this request.
	Waiting int64 `json:"waiting,omitzero"`
	// Settings is the version of the settings of all queues and tasks, from 1 on: it
	// grows with each change of any of them.
	Settings int64    `json:"settings"`
	Ignored  []string `json:"ignored,omitzero"`
}

// Share says how the queues of a worker share its slots.
type Share string

// The ways to share.
const (
	ShareInOrder  Share = "by_list"
	ShareByWeight Share = "by_weight"
)

// MaxWeight bounds the weight of a queue.
const MaxWeight = 1000

// Lease is the right to run one job until ExpiresAt.
type Lease struct {
	Token     string    `json:"token"`
	ExpiresAt job.Time  `json:"expires_at"`
	Job       LeasedJob `json:"job"`
}

// LeasedJob is what a worker needs of a job.
type LeasedJob struct {
	ID          int64             `json:"id"`
	Task        string            `json:"task"`
	Payload     json.RawMessage   `json:"payload,omitzero"`
	Queue       string            `json:"queue"`
	Priority    int               `json:"priority"`
	Round       int               `json:"round"`
	Attempt     int               `json:"attempt"`
	Tries       int               `json:"tries"`
	MaxAttempts int               `json:"max_attempts"`
	Owner       string            `json:"owner,omitzero"`
	Lane        string            `json:"lane,omitzero"`
	Labels      map[string]string `json:"labels,omitzero"`
	TimeoutMS   int64             `json:"timeout_ms,omitzero"`
	EnqueuedAt  job.Time          `json:"enqueued_at"`
	Traceparent string            `json:"traceparent,omitzero"`
	// Schedule tells which run of which schedule it is; nil where it is none.
	Schedule *job.ScheduledBy `json:"schedule,omitzero"`
	// Steps are those of earlier attempts.
	Steps map[string]StepKnown `json:"steps,omitzero"`
	// Batch tells of which batch it is, and its last job how the others have ended.
	Batch *job.InBatch `json:"batch,omitzero"`
	// Inputs are the jobs that it has waited for, in the order of their ids.
	Inputs []job.Input `json:"inputs,omitzero"`
}

// LeasedAs is the job of a spec as a worker gets it at its first attempt, with the id 1, where
// neither its task nor its queue has defaults. Tests run handlers on it.
func LeasedAs(s job.Spec, enqueuedAt job.Time) (LeasedJob, error) {
	s, err := s.Frozen()
	if err == nil {
		err = job.Wrong("the service would refuse this job", s.Check(job.MaxPayloadBytes))
	}
	if err != nil {
		return LeasedJob{}, err
	}
	policy := s.Policy()
	j := LeasedJob{
		ID: 1, Task: s.Task, Payload: s.Payload, Queue: cmp.Or(s.Queue, job.DefaultQueue), Priority: job.DefaultPriority, Round: 1, Attempt: 1, Tries: 1,
		MaxAttempts: policy.MaxAttempts, Owner: s.Owner, Lane: s.Lane, Labels: s.Labels, TimeoutMS: policy.Timeout.Go().Milliseconds(), EnqueuedAt: enqueuedAt, Traceparent: s.Traceparent,
	}
	if s.Priority != nil {
		j.Priority = *s.Priority
	}
	return j, nil
}

// ExtendRequest renews leases.
type ExtendRequest struct {
	// Worker is who holds them, where these are all that it knows of: the answer then
	// brings others that it holds.
	Worker string      `json:"worker,omitzero"`
	Leases []Extension `json:"leases"`
}

// Extension renews one lease by the length asked when it was taken.
type Extension struct {
	Token string `json:"token"`
	Report
	// Steps are parts of the work that are done once, by their names.
	Steps map[string]StepReport `json:"steps,omitzero"`
	// Misread is what was wrong with the item when it was read from the wire and was
	// left out.
	Misread []job.FieldError `json:"-"`
}

// StepReport is what a handler tells of a step, one of: that it begins it, its result,
// or that it was certainly not done.
type StepReport struct {
	Begun   bool            `json:"begun,omitzero"`
	Result  json.RawMessage `json:"result,omitzero"`
	NotDone bool            `json:"not_done,omitzero"`
}

// StepKnown is what is known of a step when an attempt begins: its result or, where it
// was begun and never finished, that it is in doubt.
type StepKnown struct {
	Result  json.RawMessage `json:"result,omitzero"`
	InDoubt bool            `json:"in_doubt,omitzero"`
}

// What steps may be: so many of a job, with names of so many bytes.
const (
	MaxSteps    = 100
	MaxStepName = 64
)

// CheckSteps answers what of the steps is wrong; none of them is taken then.
func (x *Extension) CheckSteps() []job.FieldError {
	var c check.List
	for name, s := range x.Steps {
		field := "steps." + text.Shorten(name)
		told := 0
		for _, yes := range []bool{s.Begun, s.Result != nil, s.NotDone} {
			if yes {
				told++
			}
		}
		switch {
		case name == "" || len(name) > MaxStepName:
			c.Add(field, "is not a valid name of a step; use 1 to %d bytes", MaxStepName)
		case told != 1:
			c.Add(field, "tells one of begun, result and not_done")
		case len(s.Result) > MaxResultBytes:
			c.Add(field+".result", "is %d bytes; at most %d are kept", len(s.Result), MaxResultBytes)
		}
	}
	return c
}

// Status is what became of one item of an extend or settle.
type Status string

// The statuses of lease items.
const (
	// StatusOK: it took effect.
	StatusOK Status = "ok"
	// StatusLost: the token has ended; nothing was changed.
	StatusLost Status = "lost"
	// StatusCancelled: renewed, but somebody asked to cancel the job.
	StatusCancelled Status = "cancelled"
	// StatusRefused: the item is wrong; the lease lives on.
	StatusRefused Status = "refused"
)

// ExtendResult is what became of one renewal.
type ExtendResult struct {
	Token     string   `json:"token"`
	Status    Status   `json:"status"`
	ExpiresAt job.Time `json:"expires_at,omitzero"`
	// Errors are what of the report was wrong and left out; the lease is renewed
	// all the same.
	Errors []job.FieldError `json:"errors,omitzero"`
}

// ExtendAnswer is what a call of renewals brings, in the order asked.
type ExtendAnswer struct {
	Results []ExtendResult `json:"results"`
	Wanted  Want           `json:"wanted"`
	// Leases are others that the worker holds, where the call says who it is: the answer
	// that brought them was lost.
	Leases  []Lease  `json:"leases,omitempty"`
	Ignored []string `json:"ignored,omitzero"`
}
