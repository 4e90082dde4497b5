package api

import (
	"encoding/json"
	"slices"

	"humblemule.example/internal/check"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// Selection says which jobs an action on many is for: those that match all of it.
type Selection struct {
	States []job.State `json:"state,omitzero"`
	Queues []string    `json:"queue,omitzero"`
	Tasks  []string    `json:"task,omitzero"`
	Owner  string      `json:"owner,omitzero"`
	Key    string      `json:"key,omitzero"`
	// Batch is the id of a batch whose jobs they are.
	Batch int64 `json:"batch,omitzero"`
	// Worker is the id or the name of workers that run the jobs, or ran them last.
	Worker string            `json:"worker,omitzero"`
	Labels map[string]string `json:"labels,omitzero"`
	// Cause is that of jobs in backoff or dead; Error are words that a failure of
	// theirs holds, not its last one alone.
	Cause int64    `json:"cause,omitzero"`
	Error string   `json:"error,omitzero"`
	Since job.Time `json:"since,omitzero"`
	Until job.Time `json:"until,omitzero"`
	// FinishedBy are the cuts, by queue and state, before which jobs have finished that
	// settings no longer keep. It is told of operations, and taken of nobody.
	FinishedBy map[string]map[job.State]UpTo `json:"finished_by,omitzero"`
}

// UpTo is a place among finished jobs, in the order in which they finished: all up to a time
// or, where a job is named, up to that one.
type UpTo struct {
	At  job.Time `json:"at"`
	Job int64    `json:"job,omitzero"`
}

// Filter is the selection as a list asks for it, oldest first.
func (s *Selection) Filter() Filter {
	return Filter{
		States: s.States, Queues: s.Queues, Tasks: s.Tasks, Owner: s.Owner, Key: s.Key, Batch: s.Batch, Worker: s.Worker, Labels: s.Labels, Cause: s.Cause, Error: s.Error,
		Since: s.Since, Until: s.Until, FinishedBy: s.FinishedBy, Order: OldestFirst,
	}
}

// The actions on many jobs.
const (
	ActCancel   = "cancel"
	ActRequeue  = "requeue"
	ActStartNow = "start_now"
	ActDiscard  = "discard"
	ActPatch    = "patch"
	// ActPurge removes what waits in one queue.
	ActPurge = "purge"
)

// actOn are the states of the jobs that each action is for. A selection without states
// means those that stand first: an action never reaches further than its word.
var actOn = map[string]struct{ usual, possible []job.State }{
	ActCancel:   {[]job.State{job.Held, job.Scheduled, job.Ready, job.Backoff, job.Running}, []job.State{job.Held, job.Scheduled, job.Ready, job.Backoff, job.Running}},
	ActRequeue:  {[]job.State{job.Dead}, job.FinishedStates()},
	ActStartNow: {[]job.State{job.Backoff, job.Scheduled}, []job.State{job.Backoff, job.Scheduled}},
	ActDiscard:  {[]job.State{job.Dead}, job.FinishedStates()},
	ActPatch:    {waiting, []job.State{job.Held, job.Scheduled, job.Ready, job.Backoff, job.Done, job.Skipped, job.Cancelled, job.Dead}},
	ActPurge:    {waiting, waiting},
}

var waiting = []job.State{job.Held, job.Scheduled, job.Ready, job.Backoff}

// The bounds of a trial.
const (
	MaxTrial  = 100
	MaxInCall = 1000
)

// ActRequest asks for an action on many jobs.
type ActRequest struct {
	Action string     `json:"action"`
	Filter *Selection `json:"filter,omitzero"`
	IDs    []int64    `json:"ids,omitzero"`
	// DryRun counts and changes nothing.
	DryRun bool `json:"dry_run,omitzero"`
	// Note says why; it is kept with the action.
	Note string `json:"note,omitzero"`
	// PayloadPatch edits the payload of jobs that are requeued (RFC 7396).
	PayloadPatch json.RawMessage `json:"payload_patch,omitzero"`
	// Patch edits jobs that are patched (RFC 7396); see [ReadPatch].
	Patch json.RawMessage `json:"patch,omitzero"`
	// Trial is how many jobs are requeued first; the rest follows only when all of
	// these are done.
	Trial int `json:"trial,omitzero"`
	// PerSecond bounds how many jobs are changed a second; 0 means no bound.
	PerSecond float64 `json:"per_second,omitzero"`
}

// Check answers what is wrong with the request, and fills in the states of a selection
// that has none.
func (r *ActRequest) Check() []job.FieldError {
	var c check.List
	on, known := actOn[r.Action]
	if !known {
		c.Add("action", "%q is not a valid action on many jobs; it is cancel, requeue, start_now, discard, patch or purge", text.Shorten(r.Action))
		return c
	}
	switch {
	case r.Filter == nil && len(r.IDs) == 0:
		c.Add("filter", "is missing; say which jobs by filter or ids")
	case r.Filter != nil && len(r.IDs) > 0:
		c.Add("ids", "cannot be combined with filter; give one of the two")
	case len(r.IDs) > job.MaxSpecs:
		c.Add("ids", "are %d; at most %d are taken: use a filter", len(r.IDs), job.MaxSpecs)
	}
	if r.Filter == nil {
		r.Filter = &Selection{}
	}
	for _, s := range r.Filter.States {
		if !slices.Contains(on.possible, s) {
			c.Add("filter.state", "%s jobs cannot be acted on by %s", s, r.Action)
		}
	}
	if r.Filter.FinishedBy != nil {
		c.Add("filter.finished_by", "is shown for operations that settings began; it cannot be set")
	}
	if len(r.Filter.States) == 0 {
		r.Filter.States = on.usual
	}
	if len(r.IDs) > 0 { // each is refused by itself where its state does not allow it
		r.Filter.States = on.possible
	}
	if r.PayloadPatch != nil && r.Action != ActRequeue {
		c.Add("payload_patch", "belongs to requeue")
	}
	c = append(c, r.checkPatch()...)
	if r.Action == ActPurge && len(r.Filter.Queues) != 1 {
		c.Add("filter.queue", "names %d queues; a purge is of one", len(r.Filter.Queues))
	}
	if r.Trial != 0 && r.Action != ActRequeue {
		c.Add("trial", "belongs to requeue")
	}
	if r.Trial < 0 || r.Trial > MaxTrial {
		c.Add("trial", "%d is outside 1 to %d", r.Trial, MaxTrial)
	}
	if r.PerSecond != 0 && !(r.PerSecond >= 0.01 && r.PerSecond <= 1e6) {
		c.Add("per_second", "%v is outside 0.01 to 1000000", r.PerSecond)
	}
	c.Word("note", r.Note, 2000)
	return c
}

// checkPatch answers what is wrong with the patch of jobs that are patched.
func (r *ActRequest) checkPatch() check.List {
	var c check.List
	if r.Action != ActPatch {
		if r.Patch != nil {
			c.Add("patch", "belongs to the action patch")
		}
		return c
	}
	p, err := job.ReadPatch(r.Patch)
	switch {
	case err != nil:
		c.Add("patch", "%v", err)
	case len(p.Named) == 0:
		c.Add("patch", "names no field to change")
	}
	for _, s := range r.Filter.States {
		if len(r.IDs) > 0 || len(c) > 0 {
			break // each job is refused by itself; said once is enough
		}
		for _, wrong := range p.CheckNames(s) {
			c.Add("patch."+wrong.Field, "%s", wrong.Message)
		}
	}
	return c
}

// The states of an operation.
const (
	OpTrial    = "trial"    // the first jobs were requeued; their ends are waited for
	OpRunning  = "running"  // jobs are changed
	OpFinished = "finished" // all were
	OpStopped  = "stopped"  // Why says why
	OpUndoing  = "undoing"  // what was removed comes back
	OpUndone   = "undone"   // it is back
)

// Operation is an action on many jobs, done in slices. It touches only jobs that were
// in the asked state before it began, each at most once.
type Operation struct {
	ID    int64  `json:"id"`
	State string `json:"state"`
	ActRequest
	By      string   `json:"by"`
	BeganAt job.Time `json:"began_at"`
	EndedAt job.Time `json:"ended_at,omitzero"`
	// Matched is how many jobs were asked for, exactly or at least.
	Matched   int64  `json:"matched"`
	MatchedIs string `json:"matched_is"`
	Changed   int64  `json:"changed"`
	// RefusedCount is how many were not changed; Refused are the first of them.
	RefusedCount int64     `json:"refused_count"`
	Refused      []Refused `json:"refused"`
	TrialIDs     []int64   `json:"trial_ids,omitzero"`
	Why          string    `json:"why,omitzero"`
	// Example shows what the patch makes of the first payload, in a dry run.
	Example *job.Edit `json:"example,omitzero"`
	// Follows says what would follow, in a dry run: how many jobs change and how, what cannot be
	// undone, and when the queues would be clear of them.
	Follows []string `json:"follows,omitzero"`
	// UndoUntil is until when a removal can be taken back, where the service runs on.
	UndoUntil job.Time `json:"undo_until,omitzero"`
	// Became is what became of the jobs of a requeue, by their states.
	Became map[job.State]int64 `json:"became,omitzero"`
}

// Refused is a job that an action did not change, and why.
type Refused struct {
	ID      int64  `json:"id"`
	Message string `json:"message"`
}

// Over tells whether the operation changes nothing any more.
func (o *Operation) Over() bool {
	return o.State != OpTrial && o.State != OpRunning && o.State != OpUndoing
}

// Action is what an operator did, by whom, when.
type Action struct {
	ID        int64           `json:"id"`
	At        job.Time        `json:"at"`
	Principal string          `json:"principal"`
	Action    string          `json:"action"`
	Job       int64           `json:"job,omitzero"`
	Detail    json.RawMessage `json:"detail"`
	// Summary tells it in a sentence.
	Summary string `json:"summary"`
}
