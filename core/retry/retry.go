// Package retry computes how long a failed job waits and when it is given up.
package retry

import (
	"math"
	"time"

	"humblemule/core/job"
)

// Delay gives the wait after the n-th counted attempt of a round, n from 1 on:
// d = min(first × factor^(n-1), ceiling), then uniformly drawn from d × (1 ± j)
// by draw, a number in [0, 1). The answer is at least one millisecond.
func Delay(r job.Retry, n int, draw float64) time.Duration {
	d := math.Min(float64(r.First)*math.Pow(r.Factor, float64(n-1)), float64(r.Ceiling))
	d *= 1 + *r.Jitter*(2*draw-1)
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
