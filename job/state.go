package job

import (
	"fmt"
	"strings"
)

// State is where a job stands in its life. The numbers are stored; they never
// change their meaning.
type State uint8

// The states of a job. Unplaced is the absence of a state: a job not yet placed.
const (
	Unplaced State = iota
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
	// Skipped was no longer needed, with a reason.
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

// states are their words, and what a job does in them.
var states = [NumStates]struct{ word, says string }{
	Unplaced:  {"new", "is not there yet"},
	Held:      {"held", "waits for its lane, for other jobs, or for an earlier run of its schedule"},
	Scheduled: {"scheduled", "waits for its time"},
	Ready:     {"ready", "may be taken by a worker"},
	Running:   {"running", "is being run by a worker, under a lease"},
	Backoff:   {"backoff", "failed, and waits for its next attempt"},
	Done:      {"done", "was finished by its handler"},
	Skipped:   {"skipped", "was no longer needed"},
	Cancelled: {"cancelled", "was ended before it was done"},
	Dead:      {"dead", "will not be retried by itself: a dead letter"},
}

// Meaning tells what a job does in the state, as a predicate.
func (s State) Meaning() string {
	if int(s) < NumStates {
		return states[s].says
	}
	return ""
}

// States lists every state a stored job can be in, in the order of its life.
func States() []State {
	return []State{Held, Scheduled, Ready, Running, Backoff, Done, Skipped, Cancelled, Dead}
}

// FinishedStates are those in which a job has ended.
func FinishedStates() []State { return []State{Done, Skipped, Cancelled, Dead} }

// Finished tells whether a job in this state will never run by itself again.
func (s State) Finished() bool { return s >= Done && s <= Dead }

// String gives the state's word as it stands on the wire.
func (s State) String() string {
	if int(s) < NumStates {
		return states[s].word
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
		if states[s].word == word {
			return s, nil
		}
	}
	all := States()
	words := make([]string, len(all))
	for i, s := range all {
		words[i] = s.String()
	}
	return Unplaced, fmt.Errorf("%q is not a valid state; the states are %s and %s", word, strings.Join(words[:len(words)-1], ", "), words[len(words)-1])
}
