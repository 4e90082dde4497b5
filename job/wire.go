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

	Payload json.RawMessage `json:"payload,omitzero"`
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
	// WaitingBecause says in one sentence why an unfinished job does not run.
	WaitingBecause string `json:"waiting_because,omitzero"`
	// Refused is what the handler of a job brought that is dead as outcome_refused.
	Refused *RefusedOutcome `json:"refused,omitzero"`

	// Duplicate is true where an enqueue was answered by an earlier job.
	Duplicate bool `json:"duplicate,omitzero"`
	// SameSpec tells, of a duplicate, whether the earlier job was asked for alike.
	SameSpec bool      `json:"same_spec,omitzero"`
	Warnings []Warning `json:"warnings,omitzero"`
}

// Attempt is one run of a job under one lease.
type Attempt struct {
	N          int    `json:"n"`
	Round      int    `json:"round"`
	Worker     string `json:"worker"`
	WorkerName string `json:"worker_name,omitzero"`
	// WorkerVersion is that of the worker's program.
	WorkerVersion string  `json:"worker_version,omitzero"`
	StartedAt     Time    `json:"started_at"`
	EndedAt       Time    `json:"ended_at,omitzero"`
	Outcome       Outcome `json:"outcome,omitzero"`
	// Counted tells whether the attempt is held against max_attempts.
	Counted bool     `json:"counted"`
	Error   *Failure `json:"error,omitzero"`
	// RunMS is the handler's own measure of its run, in milliseconds.
	RunMS int64 `json:"run_ms,omitzero"`
	// Progress is the last the handler told; LogLines is how many lines it
	// wrote, of which the first and last are kept.
	Progress *Progress `json:"progress,omitzero"`
	LogLines int       `json:"log_lines,omitzero"`
}

// Progress is how far a handler has come.
type Progress struct {
	// Percent is 0 to 100.
	Percent float64 `json:"percent"`
	// Note is at most 200 bytes; longer ones are cut.
	Note string `json:"note,omitzero"`
}

// Report is what a handler tells of its job while it runs, or at its end.
type Report struct {
	Progress *Progress `json:"progress,omitzero"`
	// Log is lines of text, each cut at 1000 bytes.
	Log []string `json:"log,omitzero"`
	// LogFrom is the number, from 1 on, of the first of these lines within the
	// attempt. Lines that are kept already are passed over, so that a report may
	// be sent twice. Zero means that they follow the last one kept.
	LogFrom int `json:"log_from,omitzero"`
	// Labels are merged into those of the job; an empty value removes one.
	Labels map[string]string `json:"labels,omitzero"`
}

// Empty tells whether nothing is reported.
func (r *Report) Empty() bool { return r.Progress == nil && len(r.Log) == 0 && len(r.Labels) == 0 }

// Check answers what of a report is wrong and is left out.
func (r *Report) Check() []FieldError {
	var c checks
	if r.Progress != nil && !(r.Progress.Percent >= 0 && r.Progress.Percent <= 100) {
		c.add("progress.percent", "%v is outside 0 to 100", r.Progress.Percent)
	}
	if len(r.Log) > MaxReportLines {
		c.add("log", "holds %d lines; at most %d are taken at once", len(r.Log), MaxReportLines)
	}
	if r.LogFrom < 0 {
		c.add("log_from", "%d is negative; the first line of an attempt is 1", r.LogFrom)
	}
	c.labels(r.Labels)
	return c
}

// LogLine is a line that a handler wrote.
type LogLine struct {
	Attempt int    `json:"attempt"`
	N       int    `json:"n"`
	At      Time   `json:"at"`
	Text    string `json:"text"`
}

// Log is a page of the lines of a job's attempts, in order.
type Log struct {
	Lines []LogLine `json:"lines"`
	// More tells that there are lines after the last one here.
	More bool `json:"more,omitzero"`
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
	// MaxReportLines is how many lines one report may hold.
	MaxReportLines = 1000
	MaxLogLine     = 1000
	MaxNote        = 200
	// Of the lines of one attempt the first and the last are kept.
	FirstLines = 100
	LastLines  = 400
)

// Error types that the service and the pools set themselves.
const (
	// LeaseLost is the type of an attempt whose lease ended unrenewed.
	LeaseLost = "lease_lost"
	// TimedOut is the type of an attempt that took longer than its job's timeout.
	TimedOut = "timeout"
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

	// MinSlots and MaxSlots are the bounds of a pool that grows and shrinks by
	// itself; zero where it does not. Resized is its last change.
	MinSlots int     `json:"min_slots,omitzero"`
	MaxSlots int     `json:"max_slots,omitzero"`
	Resized  *Resize `json:"resized,omitzero"`
	// Weights share the slots between the queues; absent where the first named
	// queue goes first.
	Weights map[string]int `json:"weights,omitzero"`
	// Ahead is how many jobs the pool holds unstarted at most.
	Ahead int `json:"ahead,omitzero"`
	// Draining tells that the process takes no more jobs by its own decision,
	// such as after a SIGTERM.
	Draining bool `json:"draining,omitzero"`

	// Holds are the tokens of all leases that the process knows of, where it says so when
	// it registers: the answer then brings those it does not know.
	Holds []string `json:"holds,omitempty"`

	// What follows is told by the service. Wanted is what was asked of the
	// worker; Silent that it has not been seen for longer than it should.
	Wanted  Want   `json:"wanted,omitzero"`
	SeenAt  Time   `json:"seen_at,omitzero"`
	Silent  bool   `json:"silent,omitzero"`
	Running int    `json:"running"`
	Jobs    []Slot `json:"jobs,omitzero"`
	// Sizes are the last changes of the number of slots, oldest first.
	Sizes []Resize `json:"sizes,omitzero"`
	// Settings is the version of the settings of queues and tasks that the worker has
	// last been told with its jobs, zero where it has not said; Outdated that any
	// were set since, so that jobs it has may run by older ones.
	Settings int64 `json:"settings,omitzero"`
	Outdated bool  `json:"outdated,omitzero"`
}

// Resize is a change of a pool's number of slots.
type Resize struct {
	At   Time   `json:"at"`
	From int    `json:"from"`
	To   int    `json:"to"`
	Why  string `json:"why"`
}

// Slot is what a slot of a worker does.
type Slot struct {
	Job      int64     `json:"job"`
	Task     string    `json:"task"`
	Queue    string    `json:"queue"`
	Attempt  int       `json:"attempt"`
	Since    Time      `json:"since"`
	Progress *Progress `json:"progress,omitzero"`
	// ReportedAt is when the handler last told anything.
	ReportedAt Time `json:"reported_at,omitzero"`
	// LeaseEndsAt is when the lease ends unless it is renewed.
	LeaseEndsAt   Time  `json:"lease_ends_at"`
	CancelAskedAt Time  `json:"cancel_asked_at,omitzero"`
	UsualMS       int64 `json:"usual_ms,omitzero"`
	LongMS        int64 `json:"long_ms,omitzero"`
}

// Spans tells how long things took, in milliseconds.
type Spans struct {
	Count int64 `json:"count"`
	P50MS int64 `json:"p50_ms"`
	P95MS int64 `json:"p95_ms"`
	MaxMS int64 `json:"max_ms"`
}

// Task is a task with its counts and the run times of its recent done attempts.
type Task struct {
	Name    string          `json:"name"`
	Counts  map[State]int64 `json:"counts"`
	Run     *Spans          `json:"run,omitzero"`
	Workers int             `json:"workers"`
	// Defaults are what was set for the task; Version counts how often.
	Defaults *Defaults `json:"defaults,omitzero"`
	Version  int64     `json:"version"`
	// FromFile tells that the defaults come from a file.
	FromFile bool      `json:"from_file,omitzero"`
	Warnings []Warning `json:"warnings,omitzero"`
}

// RetryPreview is when each attempt of a policy would come.
type RetryPreview struct {
	Attempts []PlannedAttempt `json:"attempts"`
	// TotalMS is when the last attempt is expected, from the first on.
	TotalMS int64 `json:"total_ms"`
	// Ends says what ends the attempts: attempts_used_up, too_old, or never; only the
	// first attempts are told where there are many.
	Ends string `json:"ends"`
	// Says tells it in a sentence.
	Says     string    `json:"says"`
	Warnings []Warning `json:"warnings,omitzero"`
}

// PlannedAttempt is when an attempt comes, from the start of the first one on, if
// attempts take no time: with all jitters lowest, as expected, and highest.
type PlannedAttempt struct {
	Attempt    int   `json:"attempt"`
	EarliestMS int64 `json:"earliest_ms"`
	ExpectedMS int64 `json:"expected_ms"`
	LatestMS   int64 `json:"latest_ms"`
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
	Wait Duration `json:"wait,omitzero"`
	// Settings is what the last answer told of it.
	Settings int64 `json:"settings,omitzero"`
	// Lease is the length of each lease, 1 s to 1 h; zero means 45 s.
	Lease  Duration     `json:"lease,omitzero"`
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
	ByList   Share = "by_list"
	ByWeight Share = "by_weight"
)

// MaxWeight bounds the weight of a queue.
const MaxWeight = 1000

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
	Lane        string            `json:"lane,omitzero"`
	Labels      map[string]string `json:"labels,omitzero"`
	TimeoutMS   int64             `json:"timeout_ms,omitzero"`
	EnqueuedAt  Time              `json:"enqueued_at"`
	Traceparent string            `json:"traceparent,omitzero"`
	// Schedule tells which run of which schedule it is; nil where it is none.
	Schedule *ScheduledBy `json:"schedule,omitzero"`
	// Steps are those of earlier attempts.
	Steps map[string]StepKnown `json:"steps,omitzero"`
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
	// Waiting is how many jobs are ready in the worker's queues for its tasks.
	Waiting int64 `json:"waiting,omitzero"`
	// Leases are those that the worker holds when it registers.
	Leases []Lease `json:"leases,omitempty"`
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
	Misread []FieldError `json:"-"`
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

// Step is a part of a job's work that is done once.
type Step struct {
	Name string `json:"name"`
	// State is done, begun (by the running attempt), or in_doubt.
	State   string          `json:"state"`
	Attempt int             `json:"attempt"`
	BegunAt Time            `json:"begun_at"`
	DoneAt  Time            `json:"done_at,omitzero"`
	Result  json.RawMessage `json:"result,omitzero"`
}

// The states of a step, and the bounds of what a job may have of them.
const (
	StepDone    = "done"
	StepBegun   = "begun"
	StepInDoubt = "in_doubt"
	MostSteps   = 100
	MaxStepName = 64
)

// CheckSteps answers what of the steps is wrong; none of them is taken then.
func (x *Extension) CheckSteps() []FieldError {
	var c checks
	for name, s := range x.Steps {
		field := "steps." + shorten(name)
		told := 0
		for _, yes := range []bool{s.Begun, s.Result != nil, s.NotDone} {
			if yes {
				told++
			}
		}
		switch {
		case name == "" || len(name) > MaxStepName:
			c.add(field, "is no name of a step; use 1 to %d bytes", MaxStepName)
		case told != 1:
			c.add(field, "tells one of begun, result and not_done")
		case len(s.Result) > MaxResultBytes:
			c.add(field+".result", "is %d bytes; at most %d are kept", len(s.Result), MaxResultBytes)
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
	// Errors are what of the report was wrong and left out; the lease is renewed
	// all the same.
	Errors []FieldError `json:"errors,omitzero"`
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

// Settlement ends one lease with an outcome.
type Settlement struct {
	Token   string  `json:"token"`
	Outcome Outcome `json:"outcome"`
	Report
	Result json.RawMessage `json:"result,omitzero"`
	Error  *Failure        `json:"error,omitzero"`
	// Delay is required for postponed (≥ 1 s) and overrides the policy's
	// wait once for failed.
	Delay Duration `json:"delay,omitzero"`
	// ReasonText is required for skipped.
	ReasonText string `json:"reason_text,omitzero"`
	RunMS      int64  `json:"run_ms,omitzero"`
	// Enqueue are follow-ups that exist if and only if the settle took
	// effect.
	Enqueue []Spec `json:"enqueue,omitzero"`
	// What was found when the item was read from the wire: Misread are fields that were
	// left out because they could not be read, BadOutcome that token or outcome could
	// not, so that the item is refused, BadEnqueue why follow-ups could not, and
	// RawEnqueue are these as they came.
	Misread    []FieldError      `json:"-"`
	BadOutcome []FieldError      `json:"-"`
	BadEnqueue []FieldError      `json:"-"`
	RawEnqueue []json.RawMessage `json:"-"`
}

// SettleResult is what became of one settlement.
type SettleResult struct {
	Token  string `json:"token"`
	Status Status `json:"status"`
	// Repeated is true where the same settle had taken effect before.
	Repeated bool  `json:"repeated,omitzero"`
	State    State `json:"state,omitzero"`
	NextAt   Time  `json:"next_at,omitzero"`
	// Errors of a settlement that took effect name what of it was mended or left out, or
	// why its follow-ups were refused, so that its job is dead.
	Errors []FieldError `json:"errors,omitzero"`
}
