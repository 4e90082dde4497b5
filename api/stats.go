package api

import "humblemule.example/job"

// Queue is a queue with its counts.
type Queue struct {
	Name   string              `json:"name"`
	Paused bool                `json:"paused"`
	Counts map[job.State]int64 `json:"counts"`
	// Rules are those in force, with what is built in where nothing was set.
	Rules
	// Summary tells the rules in words.
	Summary string `json:"summary"`
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
	PausedBy string   `json:"paused_by,omitzero"`
	PausedAt job.Time `json:"paused_at,omitzero"`
	// Keep is how long finished jobs are kept, by state; Past is how many were removed
	// since they had been kept long enough.
	Keep map[job.State]job.Duration `json:"keep"`
	Past map[job.State]int64        `json:"past,omitzero"`
	// Operation is told by a change of settings: the operation that removes the finished
	// jobs which are kept no longer; 0 for none.
	Operation int64 `json:"operation,omitzero"`
	// Defaults are what was set for the jobs of the queue.
	Defaults *Defaults     `json:"defaults,omitzero"`
	Warnings []job.Warning `json:"warnings,omitzero"`
	// InPerMinute and OutPerMinute are how many jobs came, new or requeued, and how many
	// were finished a minute, over the last one.
	InPerMinute  float64 `json:"in_per_minute"`
	OutPerMinute float64 `json:"out_per_minute"`
	// Pace is how fast the queue can go, and when it is clear at that.
	Pace Pace `json:"pace"`
}

// Stats is how things stand now, over all queues or those asked for.
type Stats struct {
	AsOf job.Time `json:"as_of"`
	// Since is since when the file's history is known; 0 where nothing has moved yet.
	Since job.Time `json:"since,omitzero"`
	// WindowMS is the span over which moves are counted: the last minute or, soon after a
	// start, what has gone of it.
	WindowMS int64               `json:"window_ms"`
	Counts   map[job.State]int64 `json:"counts"`
	Moves    []MoveCount         `json:"moves"`
	// Facts tell how things stand in words, what needs somebody first.
	Facts   []Fact  `json:"facts"`
	Queues  []Queue `json:"queues"`
	Writing Writing `json:"writing"`
}

// Failing is how many of the attempts that were started since a time have failed.
type Failing struct {
	Failed  int64    `json:"failed"`
	Started int64    `json:"started"`
	Since   job.Time `json:"since"`
}

// Writing is what the service's one writer has done since its start. What is left of the time
// it has waited for something to write: where that is next to nothing, the writer binds, by
// its own work or by the disk.
type Writing struct {
	Commits  int64 `json:"commits"`
	Commands int64 `json:"commands"`
	// WorkMS is how long it has applied commands and timed work, and DiskMS how long it has
	// waited for commits to be on the disk.
	WorkMS int64 `json:"work_ms"`
	DiskMS int64 `json:"disk_ms"`
}

// MoveCount is how often jobs went from one state to another within the
// window. From is new for an enqueue.
type MoveCount struct {
	From  job.State `json:"from"`
	To    job.State `json:"to"`
	Count int64     `json:"count"`
}

// Spans tells how long things took, in milliseconds, since a time. The quantiles are right to
// 1 %.
type Spans struct {
	Count int64 `json:"count"`
	P50MS int64 `json:"p50_ms"`
	P95MS int64 `json:"p95_ms"`
	MaxMS int64 `json:"max_ms"`
	// Since is since when what is told here has been counted.
	Since job.Time `json:"since,omitzero"`
}

// Task is a task with its counts and the run times of its recent done attempts.
type Task struct {
	Name   string              `json:"name"`
	Counts map[job.State]int64 `json:"counts"`
	Run    *Spans              `json:"run,omitzero"`
	// Wait is how long its jobs usually wait, and Failing how many of its attempts usually fail;
	// as with Run, over the last week and from 30 of them on.
	Wait    *Spans   `json:"wait,omitzero"`
	Failing *Failing `json:"failing,omitzero"`
	Workers int      `json:"workers"`
	// Defaults are what was set for the task; Version counts how often.
	Defaults *Defaults `json:"defaults,omitzero"`
	Version  int64     `json:"version"`
	// Summary tells the defaults in words; empty for none.
	Summary string `json:"summary,omitzero"`
	// FromFile tells that the defaults come from a file.
	FromFile bool          `json:"from_file,omitzero"`
	Warnings []job.Warning `json:"warnings,omitzero"`
}
