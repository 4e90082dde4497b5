package api

import (
	"encoding/json"

	"humblemule.example/job"
)

// Part is which part of a list is asked for.
type Part struct {
	// Limit is the most that a page holds, 1 to [MaxPage]; 0 means [DefaultPage].
	Limit int
	// Cursor is the NextCursor of the page before; empty for the first page.
	Cursor string
}

// LogQuery says which lines of a job's log are asked for: of one attempt where Attempt is not
// 0, from a cursor on where there is one.
type LogQuery struct {
	Attempt int
	Cursor  string
}

// Requeue is what a requeue changes. The zero Requeue changes nothing.
type Requeue struct {
	// Payload replaces the payload, and PayloadPatch edits it (RFC 7396), where they are not
	// nil; give one of the two.
	Payload      json.RawMessage `json:"payload,omitempty"`
	PayloadPatch json.RawMessage `json:"payload_patch,omitempty"`
	// ForgetSteps makes steps that were done be done again.
	ForgetSteps bool `json:"forget_steps,omitzero"`
	// IgnoreAfter lets the job go on without those that it still waits for.
	IgnoreAfter bool `json:"ignore_after,omitzero"`
}

// EndLease says how a lease is ended.
type EndLease struct {
	// FreeLane lets the lane of the job go on at once, though its handler may still run.
	// Otherwise the job waits until its lease would have ended.
	FreeLane bool `json:"free_lane,omitzero"`
}

// PurgeRequest says what of a queue is removed: what waits, of some states and tasks where
// they are named.
type PurgeRequest struct {
	States []job.State `json:"state,omitzero"`
	Tasks  []string    `json:"task,omitzero"`
	// DryRun counts and changes nothing.
	DryRun bool   `json:"dry_run,omitzero"`
	Note   string `json:"note,omitzero"`
}

// ComingQuery asks what becomes due within Span, 1m to 31d, a day where it is 0; of a queue
// and a task where they are named. Limit bounds the items.
type ComingQuery struct {
	Span        job.Duration
	Queue, Task string
	Limit       int
}

// CronQuery asks what a cron expression, or a period, means in a zone of the tz database; UTC
// where it is empty. The next Count times from From on are told, 10 from now on where they are
// 0.
type CronQuery struct {
	Expr  string
	Every job.Duration
	Zone  string
	From  job.Time
	Count int
}

// RetryQuery asks when each attempt of a retry would come, at most the first Limit ones. Nil
// stands for the default.
type RetryQuery struct {
	Retry       *job.Retry `json:"retry,omitzero"`
	MaxAttempts *int       `json:"max_attempts,omitzero"`
	Limit       int        `json:"limit,omitzero"`
}

// About is what a service tells of itself.
type About struct {
	Version string `json:"version"`
	// Store names the data file, through all its moves; Driver is what reads and writes it.
	Store    string   `json:"store"`
	Driver   string   `json:"driver"`
	Features []string `json:"features"`
	// Principal and Role are who the service takes the caller for.
	Principal string `json:"principal"`
	Role      string `json:"role"`
	Limits    Limits `json:"limits"`
}

// Limits tells what a call may hold, and a job.
type Limits struct {
	BodyBytes        int          `json:"body_bytes"`
	PayloadBytes     int          `json:"payload_bytes"`
	ResultBytes      int          `json:"result_bytes"`
	SpecsInCall      int          `json:"specs_in_call"`
	LeasesInCall     int          `json:"leases_in_call"`
	LogLinesInReport int          `json:"log_lines_in_report"`
	LogLineBytes     int          `json:"log_line_bytes"`
	Labels           int          `json:"labels"`
	LongestWait      job.Duration `json:"longest_wait"`
	ReceiptsKept     job.Duration `json:"receipts_kept"`
}
