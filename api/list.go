package api

import "humblemule.example/job"

// Order is how a list of jobs runs.
type Order string

// The orders of a list: by id, or by the next planned time.
const (
	NewestFirst Order = "newest"
	OldestFirst Order = "oldest"
	NextFirst   Order = "next"
)

// The bounds of a page of jobs.
const (
	DefaultPage = 100
	MaxPage     = 500
	// MaxSearched is how many rows a call looks at for filters that have no
	// index.
	MaxSearched = 20_000
	// MaxNamesakes is among how many workers of one name jobs are looked for.
	MaxNamesakes = 500
)

// Filter says which jobs a list holds. An empty field asks for nothing;
// several values of one field mean any of them.
type Filter struct {
	States        []job.State
	Queues, Tasks []string
	Owner, Key    string
	// Batch is the id of a batch.
	Batch int64
	// Worker is the id or the name of workers: jobs whose latest attempt they run or have run.
	Worker string
	Labels map[string]string
	// Cause is that of jobs in backoff or dead; Error are words that one of a job's kept failures
	// holds, in its type, in the first 500 bytes of its message, or in the wording of its cause.
	Cause int64
	Error string
	// InDoubt asks for jobs with a step that was begun and never finished.
	InDoubt bool
	IDs     []int64
	// Since and Until bound enqueued_at: since ≤ enqueued_at < until.
	Since, Until job.Time
	// FinishedBy are cuts among finished jobs, by queue and state; nil for none.
	FinishedBy map[string]map[job.State]UpTo
	Order      Order
	// From begins a list by id with a job, or the next one in its order; FromAt with those that were
	// enqueued up to a time, from it on where the oldest come first.
	From   int64
	FromAt job.Time
	Limit  int
	Cursor string
}

// Page is one page of a list. Only the absence of NextCursor is its end.
type Page struct {
	Jobs       []job.Job `json:"jobs"`
	NextCursor string    `json:"next_cursor,omitzero"`
	// SearchedTo is the id up to which the page has looked, where it stopped
	// before it was full.
	SearchedTo int64 `json:"searched_to,omitzero"`
	// SearchedToAt is when that job was enqueued.
	SearchedToAt job.Time `json:"searched_to_at,omitzero"`
	// Matched is how many jobs match, and stands only where it is exact.
	Matched *int64 `json:"matched,omitzero"`
}

// How exact a count is.
const (
	Exact   = "exact"
	AtLeast = "at_least"
)

// Count is how many jobs match a filter, by their states and queues.
type Count struct {
	// Matched counts exactly or at least; then a call with NextCursor counts on from there.
	Matched    int64               `json:"matched"`
	MatchedIs  string              `json:"matched_is"`
	ByState    map[job.State]int64 `json:"by_state"`
	ByQueue    map[string]int64    `json:"by_queue"`
	NextCursor string              `json:"next_cursor,omitzero"`
}

// Enqueued is what became of a spec.
type Enqueued struct {
	ID int64 `json:"id"`
	// State is where the job was when the call was answered; Queue and NextAt are those it
	// waits in and for.
	State  job.State `json:"state,omitzero"`
	Queue  string    `json:"queue,omitzero"`
	NextAt job.Time  `json:"next_at,omitzero"`
	// Duplicate is true where an earlier job answers, by key and dedupe; SameSpec tells
	// whether that one was asked for alike.
	Duplicate bool `json:"duplicate,omitzero"`
	SameSpec  bool `json:"same_spec,omitzero"`
	// Removed tells, of a call that is repeated, that the job was removed since.
	Removed  bool          `json:"removed,omitzero"`
	Warnings []job.Warning `json:"warnings,omitzero"`
}

// EnqueuedMany is what became of many specs, in their order, with a warning for each queue
// and task for which there is one.
type EnqueuedMany struct {
	Jobs     []Enqueued    `json:"jobs"`
	Warnings []job.Warning `json:"warnings,omitzero"`
}

// LogLine is a line that a handler wrote.
type LogLine struct {
	Attempt int      `json:"attempt"`
	Line    int      `json:"line"`
	At      job.Time `json:"at"`
	Text    string   `json:"text"`
}

// Log is a page of the lines of a job's attempts, in order.
type Log struct {
	Lines []LogLine `json:"lines"`
	// NextCursor is where to read on. It is there while lines follow, and while the job is
	// unfinished: more may be written.
	NextCursor string `json:"next_cursor,omitzero"`
}
