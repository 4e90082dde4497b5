package trend

import (
	"time"

	"humblemule.example/job"
)

// Step is a span by which history is kept: the finer, the shorter.
type Step int

// The steps. Hours and days are those of UTC.
const (
	Minute Step = iota
	Hour
	Day
	NumSteps
)

var lengths = [NumSteps]time.Duration{time.Minute, time.Hour, 24 * time.Hour}

// kept is how long history is kept by each step.
var kept = [NumSteps]time.Duration{2 * 24 * time.Hour, 60 * 24 * time.Hour, 2 * 365 * 24 * time.Hour}

// room is how many bytes a row of a step may take for how long things took, of queues and
// tasks, and of other kinds: so that all rows that are kept take less than 300 MB.
var room = [2][NumSteps]int{{9_000, 20_000, 20_000}, {2_500, 5_000, 5_000}}

// Room is how many bytes a row of a kind and a step may take for how long things took.
func Room(kind Kind, s Step) int {
	if kind == OfQueue || kind == OfTask {
		return room[0][s]
	}
	return room[1][s]
}

// Length is how long a step is.
func (s Step) Length() time.Duration { return lengths[s] }

// Kept is how long history is kept by a step.
func (s Step) Kept() time.Duration { return kept[s] }

// Begins is when the step began in which a time lies.
func (s Step) Begins(at job.Time) job.Time {
	ms := job.Time(lengths[s].Milliseconds())
	return at - ((at%ms)+ms)%ms
}

// Kind is what series are of.
type Kind int

// The kinds of series. Failures are no series: they are counted by [Failure].
const (
	OfQueue Kind = iota
	OfTask
	OfVersion
	OfHost
	OfLabel
	NumKinds
	OfFailure = NumKinds
)
