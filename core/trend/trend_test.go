package trend

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule/core/job"
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
			written, err := parts[i].AppendBinary(nil)
			require.NoError(t, err)
			var read Sketch
			require.NoError(t, read.UnmarshalBinary(written))
			assert.Error(t, new(Sketch).UnmarshalBinary(written[:len(written)-1]))
			whole.Merge(&read)
		}
		assert.Equal(t, int64(9000), whole.Count())
		assert.Equal(t, values[8999], whole.Max())
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

func TestRates(t *testing.T) {
	var r Rates
	const t0 = job.Time(1_795_000_020_000) // the start of a minute
	for s := range job.Time(3 * 3600) {
		r.Add(t0+s*1000, 2, 1)
	}
	now := t0 + 3*3600*1000 - 1
	in, out := r.PerMinute(now)
	assert.InEpsilon(t, 120, in, 0.001)
	assert.InEpsilon(t, 60, out, 0.001)
	assert.Len(t, r.Last(now), Minutes)
	in, _ = r.PerMinute(now + 3*60_000)
	assert.InEpsilon(t, 2*120/5.0, in, 0.001, "what is older leaves the window")
	assert.Empty(t, r.Last(now+Minutes*60_000))
}
