package job

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
)

// Filter says which jobs a list holds. An empty field asks for nothing;
// several values of one field mean any of them.
type Filter struct {
	States        []State
	Queues, Tasks []string
	Owner, Key    string
	Labels        map[string]string
	// Cause is that of jobs in backoff or dead; Error is a text that their errors hold.
	Cause int64
	Error string
	// InDoubt asks for jobs with a step that was begun and never finished.
	InDoubt bool
	IDs     []int64
	// Since and Until bound enqueued_at: since ≤ enqueued_at < until.
	Since, Until Time
	// FinishedBy are cuts among finished jobs, by queue and state; nil for none.
	FinishedBy map[string]map[State]UpTo
	Order      Order
	Limit      int
	Cursor     string
}

// Page is one page of a list. Only the absence of NextCursor is its end.
type Page struct {
	Jobs       []Job  `json:"jobs"`
	NextCursor string `json:"next_cursor,omitzero"`
	// SearchedTo is the id up to which the page has looked, where it stopped
	// before it was full.
	SearchedTo int64 `json:"searched_to,omitzero"`
	// Matched is how many jobs match, and stands only where it is exact.
	Matched *int64 `json:"matched,omitzero"`
}

// Enqueued is what a bulk has brought: of each job its id and state, and a warning for
// each queue and task for which there is one.
type Enqueued struct {
	Jobs     []Job     `json:"jobs"`
	Warnings []Warning `json:"warnings,omitempty"`
}

// Queue is a queue with its counts.
type Queue struct {
	Name   string          `json:"name"`
	Paused bool            `json:"paused"`
	Counts map[State]int64 `json:"counts"`
	// Rules are those in force, with what is built in where nothing was set.
	Rules
	// Running is how many of its jobs run, against MaxRunning.
	Running int64 `json:"running"`
	// Version counts how often the settings were set.
	Version int64 `json:"version"`
	// FromFile tells that the settings come from a file.
	FromFile bool `json:"from_file,omitzero"`
	// NewPlaces is true while waiting jobs are given places by a new order.
	NewPlaces bool `json:"new_places,omitzero"`
	// OldestReadyMS is how long the first job to be taken has been ready.
	OldestReadyMS int64 `json:"oldest_ready_ms"`
	// Workers is how many living workers serve the queue.
	Workers int `json:"workers"`
	// PausedBy and PausedAt tell who has paused it, and since when.
	PausedBy string `json:"paused_by,omitzero"`
	PausedAt Time   `json:"paused_at,omitzero"`
	// Keep is how long finished jobs are kept, by state; Past is how many were removed
	// since they had been kept long enough.
	Keep map[State]Duration `json:"keep"`
	Past map[State]int64    `json:"past,omitzero"`
	// Operation is told by a change of settings: the operation that removes the finished
	// jobs which are kept no longer; 0 for none.
	Operation int64 `json:"operation,omitzero"`
	// Defaults are what was set for the jobs of the queue.
	Defaults *Defaults `json:"defaults,omitzero"`
	Warnings []Warning `json:"warnings,omitzero"`
	// InPerMinute and OutPerMinute are how many jobs came, new or requeued, and how many
	// were finished a minute, over the last one.
	InPerMinute  float64 `json:"in_per_minute"`
	OutPerMinute float64 `json:"out_per_minute"`
}

// Stats is how things stand now, over all queues or those asked for.
type Stats struct {
	AsOf Time `json:"as_of"`
	// WindowMS is the span over which moves are counted: the last minute or, soon after a
	// start, what has gone of it.
	WindowMS int64           `json:"window_ms"`
	Counts   map[State]int64 `json:"counts"`
	Moves    []MoveCount     `json:"moves"`
	Says     []Saying        `json:"says"`
	Queues   []Queue         `json:"queues"`
}

// MoveCount is how often jobs went from one state to another within the
// window. From is new for an enqueue.
type MoveCount struct {
	From  State `json:"from"`
	To    State `json:"to"`
	Count int64 `json:"count"`
}

// Saying is a part of the sentence on how things stand.
type Saying struct {
	Text string `json:"text"`
	// Wrong is true where it asks for somebody's attention.
	Wrong bool `json:"wrong,omitzero"`
	// State, Queue and Task are the list that shows the jobs it speaks of.
	State State  `json:"state,omitzero"`
	Queue string `json:"queue,omitzero"`
	Task  string `json:"task,omitzero"`
}

// CauseFilter says which causes a list holds.
type CauseFilter struct {
	// State is dead, or backoff; New means dead.
	State       State
	Queue, Task string
	// Error is a text that the errors hold.
	Error string
}

// Cause is what failures have in common: their errors without the parts that vary.
type Cause struct {
	ID       int64  `json:"cause"`
	Type     string `json:"type"`
	Template string `json:"template"`
	// Count is how many jobs are in the state that was asked for; Total how many
	// attempts have failed so ever.
	Count int64 `json:"count"`
	Total int64 `json:"total"`
	// Superseded is how many of the dead jobs are runs of schedules whose places later runs
	// took, and Schedules of how many schedules: one that always fails weighs as one job.
	Superseded int64    `json:"superseded,omitzero"`
	Schedules  int64    `json:"schedules,omitzero"`
	FirstAt    Time     `json:"first_at"`
	LastAt     Time     `json:"last_at"`
	Sample     string   `json:"sample"`
	Samples    []string `json:"samples,omitzero"`
	// Job is the latest one.
	Job int64        `json:"job"`
	By  []CauseCount `json:"by"`
	// Hours are the failures of the last 48 hours, the present one last.
	Hours []int64 `json:"hours,omitzero"`
	// Days are those of the last 31 times 24 hours, Versions those of the last 48 hours by
	// the version of the worker program, and Marks what happened within these that may
	// have to do with it; told of one cause only.
	Days     []int64        `json:"days,omitzero"`
	Versions []VersionTrend `json:"versions,omitzero"`
	Marks    []Mark         `json:"marks,omitzero"`
}

// Weight is how much a cause counts beside others: its jobs, of which all superseded runs
// of one schedule count as one.
func (c *Cause) Weight() int64 { return c.Count - c.Superseded + c.Schedules }

// VersionTrend are the failures by the hour that one version of a worker program had.
type VersionTrend struct {
	Version string  `json:"version"`
	Hours   []int64 `json:"hours"`
}

// Mark is something that happened while jobs failed.
type Mark struct {
	At   Time   `json:"at"`
	Kind string `json:"kind"`
	Text string `json:"text"`
	// By is who did it; empty for a deploy.
	By string `json:"by,omitzero"`
}

// The kinds of marks.
const (
	MarkDeploy   = "deploy"
	MarkSettings = "settings"
	MarkPause    = "pause"
	MarkRequeue  = "requeue"
)

// CauseCount is a part of a cause's jobs.
type CauseCount struct {
	Task    string `json:"task"`
	Queue   string `json:"queue"`
	Version string `json:"version,omitzero"`
	Count   int64  `json:"count"`
}
