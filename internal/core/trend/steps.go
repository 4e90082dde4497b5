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
