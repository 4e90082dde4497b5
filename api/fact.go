package api

import "humblemule.example/job"

// Fact is something that is so now. The first of the facts is what to know first: the worst
// or, where nothing is wrong, that all is well and how one knows.
type Fact struct {
	Kind string `json:"kind"`
	// Text is one sentence; Detail says more, and may be empty.
	Text   string `json:"text"`
	Detail string `json:"detail,omitzero"`
	// Wrong is true where somebody is needed.
	Wrong bool `json:"wrong,omitzero"`
	// Number is how many jobs, or whatever else, it is about; 0 for none.
	Number int64 `json:"number,omitzero"`
	// What it is about, as far as it is about one.
	State     job.State `json:"state,omitzero"`
	Queue     string    `json:"queue,omitzero"`
	Task      string    `json:"task,omitzero"`
	Cause     int64     `json:"cause,omitzero"`
	Schedule  string    `json:"schedule,omitzero"`
	Operation int64     `json:"operation,omitzero"`
	Batch     int64     `json:"batch,omitzero"`
	Hook      string    `json:"hook,omitzero"`
	Endpoint  string    `json:"endpoint,omitzero"`
	// Act is what to do about it, in a few words, and Command how on a command line.
	Act     string `json:"act,omitzero"`
	Command string `json:"command,omitzero"`
}

// The kinds of facts, the worst first.
const (
	FactRefused   = "refused"   // the service takes no writes
	FactDisk      = "disk"      // too little is free for jobs to be taken in
	FactNoWorker  = "no_worker" // no worker takes jobs that are ready
	FactPaused    = "paused"    // jobs are ready in a queue that is paused
	FactBehind    = "behind"    // more jobs come than finish
	FactStuck     = "stuck"     // a batch in which nothing goes on by itself
	FactSilent    = "silent"    // a host gives no answer to calls
	FactHook      = "hook"      // a hook can take no delivery
	FactEndpoint  = "endpoint"  // an endpoint has paused itself
	FactNewCause  = "new_cause" // jobs have begun to die of an error within the last day
	FactSchedule  = "schedule"  // the runs of a schedule die, or are late
	FactInDoubt   = "in_doubt"  // whether steps are done is not known
	FactSetAside  = "set_aside" // timed work fails, and is tried again
	FactName      = "name"      // a worker serves a queue that is not there
	FactAlerts    = "alerts"    // alerts are open
	FactOperation = "operation" // an action on many jobs is under way
	FactDead      = "dead"      // dead letters of errors that are known
	FactFine      = "fine"      // all is well
)
