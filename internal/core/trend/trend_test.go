package trend

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/job"
)

func TestMoves(t *testing.T) {
	var m Moves
	start := Move{Queue: 1, From: job.Ready, To: job.Running}
	other := Move{Queue: 2, From: job.Ready, To: job.Running}
	const t0 = job.Time(1_795_000_000_000)
	for s := range job.Time(120) {
		m.Add(t0+s*1000, start)
		if s%2 == 0 {
			m.Add(t0+s*1000+999, other)
		}
	}
	all := Move{From: job.Ready, To: job.Running}
	now := t0 + 119_999
	assert.Equal(t, int64(60), m.Sum(now, 1)[all], "one a second over the last minute")
	assert.Equal(t, int64(30), m.Sum(now, 2)[all])
	assert.Equal(t, int64(90), m.Sum(now, 0)[all])
	assert.Equal(t, int64(30), m.Sum(now+30_000, 1)[all], "what is older leaves the window")
	assert.Empty(t, m.Sum(now+61_000, 0))
	assert.Equal(t, int64(30), m.Sum(now-30_000, 1)[all], "a clock set back sees nothing of what is to come")
	m.Add(t0, start)
	assert.Equal(t, int64(1), m.Sum(t0, 1)[all], "a bucket of another minute is begun anew")
}

// Every quantile is within the accuracy of the value of that rank, for spans of
// microseconds as of days, also after sketches were merged, written and read.
func TestSketch(t *testing.T) {
	draw := rand.New(rand.NewPCG(6853, 4))
	for _, scale := range []float64{0.5, 40, 9e4, 3e7} {
		var values []float64
		var parts [3]Sketch
		for i := range 9000 {
			ms := scale * math.Exp(draw.NormFloat64())
			values = append(values, ms)
			parts[i%3].Add(ms)
		}
		slices.Sort(values)
		var whole Sketch
		for i := range parts {
			written, err := parts[i].MarshalBinary()
			require.NoError(t, err)
			var read Sketch
			require.NoError(t, read.UnmarshalBinary(written))
			whole.Merge(&read)
		}
		assert.Equal(t, int64(9000), whole.Count())
		assert.InDelta(t, values[8999], whole.Max(), 0.001)
		for _, q := range []float64{0, 0.01, 0.5, 0.95, 0.999, 1} {
			want := values[int(q*8999)]
			assert.InEpsilon(t, want, whole.Quantile(q), Accuracy*1.0001, "quantile %v at %v ms", q, scale)
		}
		assert.Less(t, len(whole.bins), 1800)
	}
	var s Sketch
	assert.Zero(t, s.Quantile(0.5))
	for _, odd := range []float64{0, -1, math.NaN(), math.Inf(1), 1e300} {
		s.Add(odd)
	}
	assert.Zero(t, s.Quantile(0.3))
	assert.Less(t, len(s.bins), 1800, "no value makes it grow without bound")
}

// A steady flow has the same rate a minute whenever one looks: a second after the start,
// in the middle of a second, after an hour. What is old leaves the window.
func TestRates(t *testing.T) {
	const t0 = job.Time(1_795_000_020_000)
	var m Moves
	rates := func(now job.Time) (in, out float64) {
		a := float64(time.Minute) / float64(Window(now, now.Sub(t0)))
		f := m.Flows(now)[7]
		return a * float64(f.In), a * float64(f.Out)
	}
	next := t0
	for _, at := range []time.Duration{time.Second, 1500 * time.Millisecond, 30 * time.Second, 59*time.Second + 700*time.Millisecond, 61 * time.Second, time.Hour} {
		for ; next < t0.Add(at); next += 100 {
			m.Add(next, Move{Queue: 7, From: job.Unplaced, To: job.Ready})
			m.Add(next, Move{Queue: 7, From: job.Dead, To: job.Ready})
			m.Add(next, Move{Queue: 7, From: job.Running, To: job.Done})
			m.Add(next, Move{Queue: 7, From: job.Dead, To: job.Done}) // accepted: it had ended before
			m.Add(next, Move{Queue: 8, From: job.Unplaced, To: job.Ready})
		}
		in, out := rates(t0.Add(at) - 1)
		assert.InEpsilon(t, 1200, in, 0.02, "after %s", at)
		assert.InEpsilon(t, 600, out, 0.02, "after %s", at)
	}
	in, _ := rates(next + 30_000)
	assert.InEpsilon(t, 600, in, 0.04)
	assert.Empty(t, m.Flows(next+61_000))
}
