// Package limit says how many jobs may start: how many at once, and how many a second.
package limit

import (
	"math"
	"time"
)

// Bucket counts starts against a rate: a token is put in PerSecond times a second, up
// to Burst of them, and every start takes one that never comes back. It is empty at
// first, so that in every span of d seconds, over restarts too, no more than
// Burst + PerSecond × d jobs start. Times are of the monotonic clock.
type Bucket struct {
	tokens float64
	at     time.Time // when tokens were so many; zero before the first look
}

// Free tells how many jobs may start.
func (b *Bucket) Free(now time.Time, perSecond float64, burst int) int {
	b.fill(now, perSecond, burst)
	return int(math.Floor(b.tokens + tolerance))
}

// Take notes that n jobs were started.
func (b *Bucket) Take(n int) { b.tokens -= float64(n) }

// Next tells how long it is until another job may start; 0 where one may now.
func (b *Bucket) Next(now time.Time, perSecond float64, burst int) time.Duration {
	b.fill(now, perSecond, burst)
	if b.tokens+tolerance >= 1 {
		return 0
	}
	return time.Duration(math.Ceil((1 - b.tokens) / perSecond * float64(time.Second)))
}

// tolerance makes up for the rounding of sums of small parts.
const tolerance = 1e-9

func (b *Bucket) fill(now time.Time, perSecond float64, burst int) {
	if b.at.IsZero() {
		b.at = now
	}
	if passed := now.Sub(b.at); passed > 0 {
		b.tokens, b.at = b.tokens+passed.Seconds()*perSecond, now
	}
	b.tokens = min(b.tokens, float64(burst))
}
