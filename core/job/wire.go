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
	Key         string            `json:"key,omitzero"`
	Labels      map[string]string `json:"labels,omitzero"`
	Traceparent string            `json:"traceparent,omitzero"`
	MaxAttempts int               `json:"max_attempts"`
	Retry       *Retry            `json:"retry,omitzero"`
	Timeout     Duration          `json:"timeout,omitzero"`

	// Round counts the enqueue and every requeue, from 1 on.
	Round int `json:"round"`
	// Attempt is the number of the latest run over all rounds.
	Attempt int `json:"attempt"`
	// Tries is the counted attempts of this round, the running one included.
	Tries int `json:"tries"`

	EnqueuedAt    Time `json:"enqueued_at"`
	RunAt         Time `json:"run_at,omitzero"`
	ReadyAt       Time `json:"ready_at,omitzero"`
	StartedAt     Time `json:"started_at,omitzero"`
	FinishedAt    Time `json:"finished_at,omitzero"`
	NextAt        Time `json:"next_at,omitzero"`
	CancelAskedAt Time `json:"cancel_asked_at,omitzero"`
	// LeaseEndsAt is when the lease of a running job ends unless renewed.
	LeaseEndsAt Time `json:"lease_ends_at,omitzero"`

	Payload json.RawMessage `json:"payload,omitzero"`
	// PayloadHead is the first 200 bytes of the payload, in lists.
	PayloadHead string `json:"payload_head,omitzero"`
	// PayloadBytes is the payload's length.
	PayloadBytes int             `json:"payload_bytes"`
	Result       json.RawMessage `json:"result,omitzero"`
	// Attempts are in order; those between the first 10 and the last 90 are
	// only counted, in AttemptsFolded.
	Attempts       []Attempt `json:"attempts,omitzero"`
	AttemptsFolded int       `json:"attempts_folded,omitzero"`
	// LastError is the latest attempt's failure, in lists.
	LastError *Failure `json:"last_error,omitzero"`
	// WaitingBecause says in one sentence why an unfinished job does not run.
	WaitingBecause string `json:"waiting_because,omitzero"`

	// Duplicate is true where an enqueue was answered by an earlier job.
	Duplicate bool         `json:"duplicate,omitzero"`
	Warnings  []FieldError `json:"warnings,omitzero"`
}

// Attempt is one run of a job under one lease.
type Attempt struct {
	N          int     `json:"n"`
	Round      int     `json:"round"`
	Worker     string  `json:"worker"`
	WorkerName string  `json:"worker_name,omitzero"`
	StartedAt  Time    `json:"started_at"`
	EndedAt    Time    `json:"ended_at,omitzero"`
	Outcome    Outcome `json:"outcome,omitzero"`
	// Counted tells whether the attempt is held against max_attempts.
	Counted bool     `json:"counted"`
	Error   *Failure `json:"error,omitzero"`
	// RunMS is the handler's own measure of its run, in milliseconds.
	RunMS int64 `json:"run_ms,omitzero"`
}

// Failure is why an attempt did not succeed.
type Failure struct {
	// Type groups failures of one kind, such as lease_lost or panic.
	Type    string `json:"type,omitzero"`
	Message string `json:"message,omitzero"`
	Stack   string `json:"stack,omitzero"`
}

// What a settle may carry; longer texts are cut at these sizes, with a mark.
const (
	MaxErrorType    = 200
	MaxErrorMessage = 8 << 10
	MaxStack        = 32 << 10
	MaxReasonText   = 2000
	MaxResultBytes  = 64 << 10
	MaxLeaseItems   = 1000
)

// Error types that the service and the pools set themselves.
const (
	// LeaseLost is the type of an attempt whose lease ended unrenewed.
	LeaseLost = "lease_lost"
	// Panicked is the type of an attempt whose handler panicked.
	Panicked = "panic"
)

// Cut shortens text to most bytes at a character's border and marks the cut.
func Cut(text string, most int) string {
	const mark = " … (cut)"
	if len(text) <= most {
		return text
	}
	end := most - len(mark)
	for end > 0 && text[end]&0xC0 == 0x80 {
		end--
	}
	return text[:end] + mark
}

// Worker says who a worker process is. The process draws its id itself.
type Worker struct {
	ID        string   `json:"id"`
	Name      string   `json:"name,omitzero"`
	Host      string   `json:"host,omitzero"`
	PID       int      `json:"pid,omitzero"`
	Version   string   `json:"version,omitzero"`
	Slots     int      `json:"slots,omitzero"`
	Queues    []string `json:"queues"`
	Tasks     []string `json:"tasks,omitzero"`
	StartedAt Time     `json:"started_at,omitzero"`

	// SeenAt and Running are told by the service.
	SeenAt  Time `json:"seen_at,omitzero"`
	Running int  `json:"running"`
}

// The bounds of a lease's length and of a long poll.
const (
	ShortestLease = Duration(1e9)
	LongestLease  = Duration(3600e9)
	DefaultLease  = Duration(45e9)
	LongestPoll   = Duration(60e9)
)

// LeaseRequest asks for jobs to run, after settling earlier ones.
type LeaseRequest struct {
	Worker string   `json:"worker"`
	Queues []string `json:"queues"`
	// Tasks are those the worker has handlers for; none means any.
	Tasks []string `json:"tasks,omitzero"`
	// Limit is how many jobs are taken at most, 0 to 1000.
	Limit int `json:"limit"`
	// Wait is how long to wait for a first job, at most 60 s. It counts only
	// where Settle is empty.
	Wait Duration `json:"wait,omitzero"`
	// Lease is the length of each lease, 1 s to 1 h; zero means 45 s.
	Lease  Duration     `json:"lease,omitzero"`
	Settle []Settlement `json:"settle,omitzero"`
}

// LeaseAnswer is what a lease request brings.
type LeaseAnswer struct {
	Leases  []Lease        `json:"leases"`
	Results []SettleResult `json:"results,omitzero"`
	Wanted  Want           `json:"wanted"`
	Ignored []string       `json:"ignored,omitzero"`
}

// Lease is the right to run one job until ExpiresAt.
type Lease struct {
	Token     string    `json:"token"`
	ExpiresAt Time      `json:"expires_at"`
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
	Labels      map[string]string `json:"labels,omitzero"`
	TimeoutMS   int64             `json:"timeout_ms,omitzero"`
	EnqueuedAt  Time              `json:"enqueued_at"`
	Traceparent string            `json:"traceparent,omitzero"`
}

// Want is what the service wants of a worker.
type Want string

// What a worker may be asked: to run, to take no more jobs, or to go.
const (
	WantRun   Want = "run"
	WantDrain Want = "drain"
	WantLeave Want = "leave"
)

// Wanted is the answer to a worker's heartbeat.
type Wanted struct {
	Wanted Want `json:"wanted"`
	// Cancelled are the tokens of running jobs whose cancelling was asked.
	Cancelled []string `json:"cancelled,omitzero"`
}

// Extension renews one lease by the length asked when it was taken.
type Extension struct {
	Token string `json:"token"`
}

// Status is what became of one item of an extend or settle.
type Status string

// The statuses of lease items.
const (
	// StatusOK: it took effect.
	StatusOK Status = "ok"
	// StatusLost: the token has ended; nothing was changed.
	StatusLost Status = "lost"
	// StatusCancelled: renewed, but cancelling of the job was asked.
	StatusCancelled Status = "cancelled"
	// StatusRefused: the item is wrong; the lease lives on.
	StatusRefused Status = "refused"
)

// ExtendResult is what became of one renewal.
type ExtendResult struct {
	Token     string `json:"token"`
	Status    Status `json:"status"`
	ExpiresAt Time   `json:"expires_at,omitzero"`
}

// ExtendAnswer is what a call of renewals brings, in the order asked.
type ExtendAnswer struct {
	Results []ExtendResult `json:"results"`
	Wanted  Want           `json:"wanted"`
	Ignored []string       `json:"ignored,omitzero"`
}

// Settlement ends one lease with an outcome.
type Settlement struct {
	Token   string          `json:"token"`
	Outcome Outcome         `json:"outcome"`
	Result  json.RawMessage `json:"result,omitzero"`
	Error   *Failure        `json:"error,omitzero"`
	// Delay is required for postponed (≥ 1 s) and overrides the policy's
	// wait once for failed.
	Delay Duration `json:"delay,omitzero"`
	// ReasonText is required for skipped.
	ReasonText string `json:"reason_text,omitzero"`
	RunMS      int64  `json:"run_ms,omitzero"`
	// Enqueue are follow-ups that exist if and only if the settle took
	// effect.
	Enqueue []Spec `json:"enqueue,omitzero"`
	// Misread is what was wrong with the item already when it was read from
	// the wire; such an item is refused.
	Misread []FieldError `json:"-"`
}

// SettleResult is what became of one settlement.
type SettleResult struct {
	Token  string `json:"token"`
	Status Status `json:"status"`
	// Repeated is true where the same settle had taken effect before.
	Repeated bool         `json:"repeated,omitzero"`
	State    State        `json:"state,omitzero"`
	NextAt   Time         `json:"next_at,omitzero"`
	Errors   []FieldError `json:"errors,omitzero"`
}

// Check answers what is wrong with a settlement by itself; nil where nothing
// is. maxPayload bounds the payloads of its follow-ups.
func (s *Settlement) Check(maxPayload int) []FieldError {
	if s.Misread != nil {
		return s.Misread
	}
	var c checks
	switch s.Outcome {
	case OutcomeDone, OutcomeFailed, OutcomeGiveUp, OutcomeReleased:
	case OutcomeSkipped:
		if s.ReasonText == "" {
			c.add("reason_text", "is missing; say why the job is skipped")
		}
	case OutcomePostponed:
		if s.Delay < Duration(1e9) {
			c.add("delay", "%s is too short; a postponed job waits at least 1s", s.Delay)
		}
	default:
		c.add("outcome", "%q is no outcome; the outcomes are done, failed, give_up, skipped, postponed and released", shorten(string(s.Outcome)))
	}
	if len(s.Result) > MaxResultBytes {
		c.add("result", "is %d bytes; at most %d are kept: store the data elsewhere and give its id", len(s.Result), MaxResultBytes)
	}
	if s.RunMS < 0 {
		c.add("run_ms", "%d is negative", s.RunMS)
	}
	if len(s.Enqueue) > MaxSpecs {
		c.add("enqueue", "holds %d specs; at most %d are taken at once", len(s.Enqueue), MaxSpecs)
	}
	for i := range s.Enqueue {
		for _, e := range s.Enqueue[i].Check(maxPayload) {
			c.add(indexed("enqueue", i, e.Field), "%s", e.Message)
		}
	}
	return c
}
