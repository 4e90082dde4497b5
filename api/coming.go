package api

import "humblemule.example/job"

// Coming is what will become due: runs of schedules, and jobs that wait for their time.
type Coming struct {
	AsOf  job.Time `json:"as_of"`
	Until job.Time `json:"until"`
	// Items are the first of them, in time order; More tells that others follow.
	Items []ComingItem `json:"items"`
	More  bool         `json:"more,omitzero"`
	// StepMS is the width of a bin. Runs and Jobs count what falls into each bin from AsOf
	// on.
	StepMS int64   `json:"step_ms"`
	Runs   []int64 `json:"runs"`
	Jobs   []int64 `json:"jobs"`
	// Often are the schedules that come all the time, and Seldom the runs without theirs.
	Often  []ComingOften `json:"often"`
	Seldom []int64       `json:"seldom"`
	// CountedTo tells until when they were counted, where they were too many.
	CountedTo job.Time `json:"counted_to,omitzero"`
}

// ComingOften is a schedule that comes all the time: at least 48 times within the span.
type ComingOften struct {
	Schedule string `json:"schedule"`
	Task     string `json:"task"`
	Queue    string `json:"queue"`
	Runs     int64  `json:"runs"`
	// EveryMS is how long it is from one run to the next, on average.
	EveryMS int64 `json:"every_ms"`
}

// ComingItem is a planned run, or a job that waits for its time.
type ComingItem struct {
	At       job.Time  `json:"at"`
	Schedule string    `json:"schedule,omitzero"`
	Job      int64     `json:"job,omitzero"`
	Task     string    `json:"task"`
	Queue    string    `json:"queue"`
	State    job.State `json:"state,omitzero"`
}
