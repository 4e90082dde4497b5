// Package retry computes how long a failed job waits and when it is given up.
package retry

import (
	"math"
	"time"

	"humblemule.example/job"
)

// Base gives the wait d(n) after the n-th counted attempt of a round, n from 1 on,
// before jitter; see [job.Retry] for the curves. r has its defaults filled in.
func Base(r job.Retry, n int) time.Duration {
	switch r.Curve {
	case job.Fixed:
		return r.First.Go()
	case job.List:
		return r.Delays[min(n, len(r.Delays))-1].Go()
	case job.Linear:
		// In floats, so that no number of attempts overflows.
		return time.Duration(math.Min(float64(r.First)+float64(r.Step)*float64(n-1), float64(r.Ceiling)))
	}
	return time.Duration(math.Min(float64(r.First)*math.Pow(r.Factor, float64(n-1)), float64(r.Ceiling)))
}

// Delay gives the wait after the n-th counted attempt, drawn uniformly from d(n) ×
// (1 ± jitter) by draw, a number in [0, 1). The answer is at least one millisecond.
func Delay(r job.Retry, n int, draw float64) time.Duration {
	d := float64(Base(r, n)) * (1 + *r.Jitter*(2*draw-1))
	return max(time.Duration(d), time.Millisecond)
}

// Verdict is what follows a failed attempt: either the time of the next one, or
// the reason why there is none.
type Verdict struct {
	NextAt job.Time
	Reason job.Reason
}

// Failed is what is known when an attempt has failed.
type Failed struct {
	Policy job.Policy
	// Tries is the counted attempts of the round, this one included.
	Tries int
	// RoundStartedAt is the first start of the round.
	RoundStartedAt job.Time
	Now            job.Time
	// Delay overrides the curve where it is not zero.
	Delay time.Duration
	// Draw is a number in [0, 1) that places the jitter.
	Draw float64
}

// Judge says what follows a failed attempt.
func Judge(f Failed) Verdict {
	if f.Policy.MaxAttempts > 0 && f.Tries >= f.Policy.MaxAttempts {
		return Verdict{Reason: job.AttemptsUsedUp}
	}
	delay := f.Delay
	if delay == 0 {
		delay = Delay(f.Policy.Retry, f.Tries, f.Draw)
	}
	next := f.Now.Add(max(delay, time.Millisecond))
	if after := f.Policy.Retry.GiveUpAfter; after > 0 && next > f.RoundStartedAt.Add(after.Go()) {
		return Verdict{Reason: job.TooOld}
	}
	return Verdict{NextAt: next}
}
