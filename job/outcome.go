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
	SaidByHandler  Reason = "by_handler"
	Asked          Reason = "asked"
	Superseded     Reason = "superseded"
	Purged         Reason = "purged"
	DependencyDead Reason = "dependency_dead"
	OutcomeRefused Reason = "outcome_refused"
)

// reasons is what each means, in the order in which they are listed.
var reasons = []struct {
	reason Reason
	says   string
}{
	{AttemptsUsedUp, "all attempts that max_attempts allows have failed"},
	{TooOld, "its next attempt would have come later than give_up_after allows"},
	{TooLate, "it had not started by its start_by"},
	{GaveUp, "its handler gave up: a retry would not help"},
	{SaidByHandler, "its handler found that there is nothing to do"},
	{Asked, "an operator or a producer cancelled it"},
	{Superseded, "a later run of its schedule took its place"},
	{Purged, "it was removed with its queue before it was finished"},
	{DependencyDead, "what it waited for did not end as needed"},
	{OutcomeRefused, "its handler did the work, and its follow-ups were refused"},
}

// Reasons lists every reason.
func Reasons() (all []Reason) {
	for _, r := range reasons {
		all = append(all, r.reason)
	}
	return all
}

// Meaning tells what a reason means, as part of a sentence; empty for none that is known.
func (r Reason) Meaning() string {
	for _, known := range reasons {
		if known.reason == r {
			return known.says
		}
	}
	return ""
}

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

// outcomes is how an attempt with each ended, and what follows from it, in the order in which they are listed.
var outcomes = []struct {
	outcome Outcome
	past    string
	says    string
}{
	{OutcomeDone, "done", "the job is done; its follow-ups are enqueued with it"},
	{OutcomeFailed, "failed", "it is retried by its policy, or after the delay that the outcome names"},
	{OutcomeGiveUp, "gave up", "it is dead at once"},
	{OutcomeSkipped, "skipped", "it is finished as not needed, for the given reason"},
	{OutcomePostponed, "postponed", "it runs again after a delay; the attempt is not counted"},
	{OutcomeReleased, "given back", "it is given back at once to its old place; the attempt is not counted"},
}

// Outcomes lists every outcome.
func Outcomes() (all []Outcome) {
	for _, o := range outcomes {
		all = append(all, o.outcome)
	}
	return all
}

// Meaning tells what follows from an outcome, as a clause; empty for none that is known.
func (o Outcome) Meaning() string {
	for _, known := range outcomes {
		if known.outcome == o {
			return known.says
		}
	}
	return ""
}

// Past tells how an attempt with the outcome ended, in a word or two.
func (o Outcome) Past() string {
	for _, known := range outcomes {
		if known.outcome == o {
			return known.past
		}
	}
	return ""
}

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
