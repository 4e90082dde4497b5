package job

import "encoding/json"

// Job is a job as the service tells it: the spec as it took effect, and what
// became of it.
type Job struct {
	ID          int64             `json:"id"`
	Task        string            `json:"task"`
	Queue       string            `json:"queue"`
	State       State             `json:"state"`
	Reason      Reason            `json:"reason,omitzero"`
	ReasonText  string            `json:"reason_text,omitzero"`
	Priority    int               `json:"priority"`
	Owner       string            `json:"owner,omitzero"`
	Lane        string            `json:"lane,omitzero"`
	Key         string            `json:"key,omitzero"`
	Dedupe      string            `json:"dedupe,omitzero"`
	Labels      map[string]string `json:"labels,omitzero"`
	Traceparent string            `json:"traceparent,omitzero"`
	MaxAttempts int               `json:"max_attempts"`
	Retry       *Retry            `json:"retry,omitzero"`
	Timeout     Duration          `json:"timeout,omitzero"`
	KeepResult  *Duration         `json:"keep_result,omitzero"`
	// PolicyFrom tells where max_attempts, retry, timeout and keep_result come
	// from: job, task, queue or built_in.
	PolicyFrom Origins `json:"policy_from,omitzero"`

	// Round counts the enqueue and every requeue, from 1 on.
	Round int `json:"round"`
	// Attempt is the number of the latest run over all rounds.
	Attempt int `json:"attempt"`
	// Tries is the counted attempts of this round, the running one included.
	Tries int `json:"tries"`

	// Schedule tells which run of which schedule it is; nil where it is none.
	Schedule *ScheduledBy `json:"schedule,omitzero"`
	// Batch tells of which batch it is; nil where it is of none.
	Batch *InBatch `json:"batch,omitzero"`
	// WaitsFor are the jobs that it waits for, or has waited for, and AwaitedBy those that wait for
	// it; nil for none. Told of one job.
	WaitsFor  *Edges `json:"waits_for,omitzero"`
	AwaitedBy *Edges `json:"awaited_by,omitzero"`

	EnqueuedAt    Time `json:"enqueued_at"`
	RunAt         Time `json:"run_at,omitzero"`
	StartBy       Time `json:"start_by,omitzero"`
	ReadyAt       Time `json:"ready_at,omitzero"`
	StartedAt     Time `json:"started_at,omitzero"`
	FinishedAt    Time `json:"finished_at,omitzero"`
	NextAt        Time `json:"next_at,omitzero"`
	CancelAskedAt Time `json:"cancel_asked_at,omitzero"`
	// LeaseEndsAt is when the lease of a running job ends unless renewed.
	LeaseEndsAt Time `json:"lease_ends_at,omitzero"`
	// Progress is what the handler of a running job has told last, at ReportedAt.
	Progress   *Progress `json:"progress,omitzero"`
	ReportedAt Time      `json:"reported_at,omitzero"`
	// UsualMS and LongMS are how long half, and 19 of 20, of the recent runs of
	// the task took; absent where too few are known.
	UsualMS int64 `json:"usual_ms,omitzero"`
	LongMS  int64 `json:"long_ms,omitzero"`

	// Payload is what was given for the handler or, of a job that is a call, the call as it was asked for.
	Payload json.RawMessage `json:"payload,omitzero"`
	// Calls is the host that a job calls, with its port where that is not the scheme's own; empty where a
	// worker does it.
	Calls string `json:"calls,omitzero"`
	// PayloadHead is the first 200 bytes of the payload, in lists.
	PayloadHead string `json:"payload_head,omitzero"`
	// PayloadBytes is the payload's length.
	PayloadBytes int             `json:"payload_bytes"`
	Result       json.RawMessage `json:"result,omitzero"`
	// ResultUntil is until when the result of a done job is kept, where that is
	// shorter than the job is.
	ResultUntil Time `json:"result_until,omitzero"`
	// Attempts are in order; those between the first 10 and the last 90 are
	// only counted, in AttemptsFolded.
	Attempts       []Attempt `json:"attempts,omitzero"`
	AttemptsFolded int       `json:"attempts_folded,omitzero"`
	Steps          []Step    `json:"steps,omitzero"`
	// Edits are the latest changes of the payload after the enqueue, in order.
	Edits []Edit `json:"edits,omitzero"`
	// KeptUntil is until when a finished job is kept.
	KeptUntil Time `json:"kept_until,omitzero"`
	// Cause is that of the latest failure of a job in backoff or dead.
	Cause int64 `json:"cause,omitzero"`
	// LastError is the latest attempt's failure, in lists.
	LastError *Failure `json:"last_error,omitzero"`
	// Summary tells why the job is where it is, whatever its state; told of one job. Times stand
	// in it as on the wire.
	Summary string `json:"summary,omitzero"`
	// WaitingBecause says in one sentence why an unfinished job does not run.
	WaitingBecause string `json:"waiting_because,omitzero"`
	// Position is the place of a ready job among those of its queue, 1 for the next, up to 1001;
	// 0 where it is further behind or owners take turns. ExpectedStart is when it starts if the
	// queue goes on as fast as it does; 0 where that is not known. Told of one job.
	Position      int64 `json:"position,omitzero"`
	ExpectedStart Time  `json:"expected_start,omitzero"`
	// Refused is what the handler of a job brought that is dead as outcome_refused.
	Refused *RefusedOutcome `json:"refused,omitzero"`

	// ImportedFrom tells which job of another service's store it was; nil where it was enqueued here.
	ImportedFrom *ImportedFrom `json:"imported_from,omitzero"`

	// Version is another number after each change of what a patch may change; told of one
	// job. A change can be asked for under the condition that it is still the same.
	Version int64 `json:"version,omitzero"`

	Warnings []Warning `json:"warnings,omitzero"`
}

// SpecOf is the spec by which a job would be enqueued again, without its policy.
func (j *Job) SpecOf() Spec {
	s := Spec{
		Task: j.Task, Queue: j.Queue, Priority: &j.Priority, RunAt: j.RunAt, StartBy: j.StartBy, Owner: j.Owner, Lane: j.Lane, Labels: j.Labels, Key: j.Key, Dedupe: j.Dedupe, Traceparent: j.Traceparent,
	}
	switch {
	case j.Calls != "":
		s.Call, _ = ReadCall(j.Payload) // as it was kept
	case j.Payload != nil:
		s.Payload = json.RawMessage(j.Payload)
	}
	return s
}

// ImportedFrom tells which job of which other store a job was.
type ImportedFrom struct {
	Store string `json:"store"`
	Job   int64  `json:"job"`
}

// ScheduledBy tells a handler which run of which schedule its job is.
type ScheduledBy struct {
	Name      string `json:"name"`
	Run       int64  `json:"run"`
	PlannedAt Time   `json:"planned_at"`
}

// Edit is a change of a job's payload. By whom and when is empty where it has not been
// made.
type Edit struct {
	Job    int64           `json:"job,omitzero"`
	Action string          `json:"action,omitzero"`
	By     string          `json:"by,omitzero"`
	At     Time            `json:"at,omitzero"`
	Before json.RawMessage `json:"before"`
	After  json.RawMessage `json:"after"`
}
