package api

import "humblemule.example/job"

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
	StartedAt job.Time `json:"started_at,omitzero"`

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
	Wanted  Want     `json:"wanted,omitzero"`
	SeenAt  job.Time `json:"seen_at,omitzero"`
	Silent  bool     `json:"silent,omitzero"`
	Running int      `json:"running"`
	Jobs    []Slot   `json:"jobs,omitzero"`
	// Sizes are the last changes of the number of slots, oldest first.
	Sizes []Resize `json:"sizes,omitzero"`
	// Settings is the version of the settings of queues and tasks that the worker has
	// last been told with its jobs, zero where it has not said; Outdated that any
	// were set since, so that jobs it has may run by older ones.
	Settings int64 `json:"settings,omitzero"`
	Outdated bool  `json:"outdated,omitzero"`
	// Summary tells what the worker does, in a word or two.
	Summary string `json:"summary,omitzero"`
}

// Describe tells what a worker does, in a word or two.
func (w *Worker) Describe() string {
	switch {
	case w.Silent:
		return "silent"
	case w.Wanted == WantLeave:
		return "leaving when done"
	case w.Wanted == WantDrain || w.Draining:
		return "draining"
	case w.Outdated:
		return "older settings"
	}
	return "active"
}

// Resize is a change of a pool's number of slots.
type Resize struct {
	At   job.Time `json:"at"`
	From int      `json:"from"`
	To   int      `json:"to"`
	Why  string   `json:"why"`
}

// Slot is what a slot of a worker does.
type Slot struct {
	Job      int64         `json:"job"`
	Task     string        `json:"task"`
	Queue    string        `json:"queue"`
	Attempt  int           `json:"attempt"`
	Since    job.Time      `json:"since"`
	Progress *job.Progress `json:"progress,omitzero"`
	// ReportedAt is when the handler last told anything.
	ReportedAt job.Time `json:"reported_at,omitzero"`
	// LeaseEndsAt is when the lease ends unless it is renewed.
	LeaseEndsAt   job.Time `json:"lease_ends_at"`
	CancelAskedAt job.Time `json:"cancel_asked_at,omitzero"`
	UsualMS       int64    `json:"usual_ms,omitzero"`
	LongMS        int64    `json:"long_ms,omitzero"`
}

// SlowJob is a running job that takes longer than 19 of 20 done attempts of its task.
type SlowJob struct {
	Slot
	// Worker is the id of the process that runs it, Name and Host what it calls itself and where
	// it runs.
	Worker string `json:"worker"`
	Name   string `json:"name,omitzero"`
	Host   string `json:"host,omitzero"`
	TookMS int64  `json:"took_ms"`
}

// SlowJobs are the jobs that run longer than usual.
type SlowJobs struct {
	AsOf job.Time `json:"as_of"`
	// Total counts all of them, and Unjudged the running jobs of tasks of which it is not known
	// what is usual: fewer than 30 attempts of the last week were done.
	Total    int `json:"total"`
	Unjudged int `json:"unjudged"`
	// Jobs are those that are longest beyond what is usual, at most [MaxSlowJobs].
	Jobs []SlowJob `json:"jobs"`
}

// MaxSlowJobs is how many of the jobs that run longer than usual are listed.
const MaxSlowJobs = 100

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
