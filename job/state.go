package job

import "fmt"

// State is where a job stands in its life. The numbers are stored; they never
// change their meaning.
type State uint8

// The states of a job. New is the absence of a state: a job not yet placed.
const (
	New State = iota
	// Held waits for its lane or for other jobs.
	Held
	// Scheduled waits for its time.
	Scheduled
	// Ready may be taken.
	Ready
	// Running is under a lease.
	Running
	// Backoff waits for its next attempt after a failed one.
	Backoff
	// Done was finished by its handler's word.
	Done
	// Skipped was not needed any more, with a reason.
	Skipped
	// Cancelled was ended by an operator or a producer.
	Cancelled
	// Dead will not be tried again by itself.
	Dead

	// NumStates is the length of an array indexed by State.
	NumStates = int(Dead) + 1

	// Other stands for a state that a newer service knows and this program
	// does not.
	Other State = 255
)

var stateNames = [NumStates]string{"new", "held", "scheduled", "ready", "running", "backoff", "done", "skipped", "cancelled", "dead"}

// States lists every state a stored job can be in, in the order of its life.
func States() []State {
	return []State{Held, Scheduled, Ready, Running, Backoff, Done, Skipped, Cancelled, Dead}
}

// Finished tells whether a job in this state will never run by itself again.
func (s State) Finished() bool { return s >= Done && s <= Dead }

// String gives the state's word as it stands on the wire.
func (s State) String() string {
	if int(s) < NumStates {
		return stateNames[s]
	}
	return "other"
}

// MarshalText writes the state's word.
func (s State) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// AppendText appends the state's word.
func (s State) AppendText(b []byte) ([]byte, error) { return append(b, s.String()...), nil }

// UnmarshalText reads a state's word; one it does not know becomes [Other].
func (s *State) UnmarshalText(text []byte) error {
	parsed, err := ParseState(string(text))
	if err != nil {
		parsed = Other
	}
	*s = parsed
	return nil
}

// ParseState reads a state's word strictly, as a filter needs it.
func ParseState(word string) (State, error) {
	for _, s := range States() {
		if stateNames[s] == word {
			return s, nil
		}
	}
	return New, fmt.Errorf("%q is no state; the states are held, scheduled, ready, running, backoff, done, skipped, cancelled and dead", word)
}

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
