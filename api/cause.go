package api

import "humblemule.example/job"

// CauseFilter says which causes a list holds.
type CauseFilter struct {
	// State is dead, or backoff; New means dead.
	State       job.State
	Queue, Task string
	// Error are words that the wording of the cause or failures of its jobs hold.
	Error string
}

// Cause is what failures have in common: their errors without the parts that vary.
type Cause struct {
	ID       int64  `json:"id"`
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
	FirstAt    job.Time `json:"first_at"`
	LastAt     job.Time `json:"last_at"`
	Sample     string   `json:"sample"`
	Samples    []string `json:"samples,omitzero"`
	// Job is the latest one.
	Job int64        `json:"job"`
	By  []CauseCount `json:"by"`
	// Hours are the failures of the last 48 hours, the present one last.
	Hours []int64 `json:"hours,omitzero"`
	// Days are those of the last 31 days of UTC, today's last.
	Days []int64 `json:"days,omitzero"`
	// Versions and Hosts are those of the last 48 hours by the version of the worker program
	// and by its host, and Marks what happened within these that may have to do with it; told of
	// one cause only.
	Versions []VersionTrend `json:"versions,omitzero"`
	Hosts    []HostTrend    `json:"hosts,omitzero"`
	Marks    []Mark         `json:"marks,omitzero"`
	// AwaitedBy are unfinished jobs that wait for one of the latest thousand dead ones of the cause, the
	// first hundred, and 1000 counted at most; nil for none. Told of one cause only.
	AwaitedBy *job.Edges `json:"awaited_by,omitzero"`
}

// HostTrend are the failures by the hour that befell one host; empty where it is not known.
type HostTrend struct {
	Host  string  `json:"host"`
	Hours []int64 `json:"hours"`
}

// FailureShare is how many attempts failed by a cause within some minutes, of how many that were
// started of its tasks.
type FailureShare struct {
	Failed  int64 `json:"failed"`
	Started int64 `json:"started"`
	Minutes int   `json:"minutes"`
}

// VersionTrend are the failures by the hour that one version of a worker program had.
type VersionTrend struct {
	Version string  `json:"version"`
	Hours   []int64 `json:"hours"`
}

// CauseCount is a part of a cause's jobs.
type CauseCount struct {
	Task    string `json:"task"`
	Queue   string `json:"queue"`
	Version string `json:"version,omitzero"`
	Host    string `json:"host,omitzero"`
	Count   int64  `json:"count"`
}
