package job

import "encoding/json"

// Reason is a code from a closed list that says why a job is finished. A
// job that is done has none.
type Reason string

// The reasons. A handler's or an operator's own words stand in reason_text.
const (
	AttemptsUsedUp Reason = "attempts_used_up"
	TooOld         Reason = "too_old"
	TooLate        Reason = "too_late"
	GaveUp         Reason = "gave_up"
	ByHandler      Reason = "by_handler"
	Asked          Reason = "asked"
	Superseded     Reason = "superseded"
	Purged         Reason = "purged"
	DependencyDead Reason = "dependency_dead"
	OutcomeRefused Reason = "outcome_refused"
)

// Outcome is what a worker says when it ends a lease.
type Outcome string

// The outcomes of a settle.
const (
	// OutcomeDone finishes the job.
	OutcomeDone Outcome = "done"
	// OutcomeFailed tries again by policy, or after the delay it names.
	OutcomeFailed Outcome = "failed"
	// OutcomeGiveUp makes the job dead at once.
	OutcomeGiveUp Outcome = "give_up"
	// OutcomeSkipped finishes the job as not needed, with a reason_text.
	OutcomeSkipped Outcome = "skipped"
	// OutcomePostponed runs the job again after a delay, not counted.
	OutcomePostponed Outcome = "postponed"
	// OutcomeReleased gives the job back at once, not counted.
	OutcomeReleased Outcome = "released"
)

// Counts tells whether an attempt with this outcome is held against
// max_attempts.
func (o Outcome) Counts() bool { return o != OutcomePostponed && o != OutcomeReleased }

// RefusedOutcome is what a handler brought whose job is dead because of it.
type RefusedOutcome struct {
	// Enqueue are the follow-ups as they came.
	Enqueue []json.RawMessage `json:"enqueue,omitzero"`
	// Errors say why they were refused.
	Errors []FieldError `json:"errors"`
}
