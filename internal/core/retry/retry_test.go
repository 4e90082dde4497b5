package retry

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"humblemule.example/job"
)

// The default policy by hand: 10 s × 2.5^(n-1), at most 8 h; 17 attempts last
// from Friday evening to Monday morning.
func TestDelay(t *testing.T) {
	p := (&job.Spec{}).Policy()
	want := []time.Duration{
		10 * time.Second, 25 * time.Second, 62500 * time.Millisecond, 156250 * time.Millisecond, 390625 * time.Millisecond,
		976562500 * time.Microsecond, 2441406250 * time.Microsecond, 6103515625 * time.Microsecond, 15258789062 * time.Nanosecond * 1000,
	}
	total := time.Duration(0)
	for n := 1; n < p.MaxAttempts; n++ {
		d := Delay(p.Retry, n, 0.5)
		if n <= len(want) {
			assert.InDelta(t, want[n-1].Seconds(), d.Seconds(), 0.001, "after attempt %d", n)
		} else {
			assert.Equal(t, 8*time.Hour, d)
		}
		assert.InDelta(t, d.Seconds()*0.8, Delay(p.Retry, n, 0).Seconds(), 0.001)
		assert.InDelta(t, d.Seconds()*1.2, Delay(p.Retry, n, 1).Seconds(), 0.001)
		total += d
	}
	assert.InDelta(t, 63, total.Hours(), 0.5)
}

func TestJudge(t *testing.T) {
	p := job.Policy{MaxAttempts: 3, Retry: job.Retry{First: job.Duration(time.Second)}.WithDefaults()}
	f := Failed{Policy: p, Tries: 2, RoundStartedAt: 1000, Now: 5000, Draw: 0.5}
	assert.Equal(t, Verdict{NextAt: 7500}, Judge(f))
	f.Delay = time.Minute
	assert.Equal(t, Verdict{NextAt: 65000}, Judge(f))
	f.Policy.Retry.GiveUpAfter = job.Duration(time.Minute)
	assert.Equal(t, Verdict{Reason: job.TooOld}, Judge(f))
	f.Tries = 3
	assert.Equal(t, Verdict{Reason: job.AttemptsUsedUp}, Judge(f))
	f.Policy.MaxAttempts = 0
	f.Policy.Retry.GiveUpAfter, f.Delay = 0, 0
	assert.Equal(t, Verdict{NextAt: 5000 + 6250}, Judge(f))
}
