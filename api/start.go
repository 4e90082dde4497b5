package api

import "humblemule.example/job"

// Start is one of the latest starts of a queue.
type Start struct {
	Job       int64    `json:"job"`
	Task      string   `json:"task"`
	Priority  int      `json:"priority"`
	Owner     string   `json:"owner,omitzero"`
	Lane      string   `json:"lane,omitzero"`
	ReadyAt   job.Time `json:"ready_at"`
	StartedAt job.Time `json:"started_at"`
	// WaitedMS is how long it was ready.
	WaitedMS int64 `json:"waited_ms"`
	// Overtook counts jobs that were ready before it and were started after it or still
	// wait, as far as the latest starts and the oldest that wait tell; First are up to
	// three of them.
	Overtook int     `json:"overtook"`
	First    []int64 `json:"first,omitzero"`
}

// MaxLaneCount is how far the jobs that wait for a lane are counted in a list of lanes.
const MaxLaneCount = 1000

// Lane is a lane of a queue that a job has: one that is ready or running or, by the rules of
// the queue, in backoff or dead.
type Lane struct {
	Name  string    `json:"name"`
	Job   int64     `json:"job"`
	Task  string    `json:"task"`
	State job.State `json:"state"`
	// Waiting is how many jobs wait for the lane, counted to [MaxLaneCount].
	Waiting int64 `json:"waiting"`
}
