package job

import "encoding/json"

// Attempt is one run of a job under one lease.
type Attempt struct {
	Number     int    `json:"attempt"`
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

// Failure is why an attempt did not succeed.
type Failure struct {
	// Type groups failures of one kind, such as lease_lost or panic.
	Type    string `json:"type,omitzero"`
	Message string `json:"message,omitzero"`
	Stack   string `json:"stack,omitzero"`
}

// Error types that the service and the pools set themselves.
const (
	// LeaseLost is the type of an attempt whose lease ended unrenewed.
	LeaseLost = "lease_lost"
	// TimedOut is the type of an attempt that took longer than its job's timeout.
	TimedOut = "timeout"
	// Panicked is the type of an attempt whose handler panicked.
	Panicked = "panic"
)

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
)
