package api

import "humblemule.example/job"

// Owner is how the jobs of an owner stand: what a product shows those whose jobs they are.
type Owner struct {
	Name string   `json:"name"`
	AsOf job.Time `json:"as_of"`
	// Counts are all of their jobs by state, without states that none is in.
	Counts map[job.State]int64 `json:"counts"`
	// Running, Waiting and Finished are the first of those that run, of those that do not yet, and the
	// latest of those that have ended: at most MaxOwned each. Waiting is in the order in which they were
	// enqueued.
	Running  []OwnedJob `json:"running"`
	Waiting  []OwnedJob `json:"waiting"`
	Finished []OwnedJob `json:"finished"`
	// Batches are the latest of theirs that have not ended, at most MaxOwned.
	Batches []Batch `json:"batches"`
	// ExpectedEnd is when all that run and wait will have ended; absent where that is not known of one, or
	// where more wait than are listed.
	ExpectedEnd job.Time `json:"expected_end,omitzero"`
}

// MaxOwned is how many jobs of each kind are listed of an owner.
const MaxOwned = 20

// OwnedJob is what is told of a job of an owner.
type OwnedJob struct {
	ID         int64     `json:"id"`
	Task       string    `json:"task"`
	Queue      string    `json:"queue"`
	State      job.State `json:"state"`
	Key        string    `json:"key,omitzero"`
	Batch      int64     `json:"batch,omitzero"`
	EnqueuedAt job.Time  `json:"enqueued_at"`
	StartedAt  job.Time  `json:"started_at,omitzero"`
	FinishedAt job.Time  `json:"finished_at,omitzero"`
	// Progress is what its handler has told of one that runs.
	Progress *job.Progress `json:"progress,omitzero"`
	// WaitingBecause, Position and ExpectedStart are those of the job while it waits.
	WaitingBecause string   `json:"waiting_because,omitzero"`
	Position       int64    `json:"position,omitzero"`
	ExpectedStart  job.Time `json:"expected_start,omitzero"`
	// ExpectedEnd is when it will have ended by the usual run time of its task, where that and its start
	// are known. One that runs longer than usual is expected to end now.
	ExpectedEnd job.Time `json:"expected_end,omitzero"`
}
