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
	for i := range 1000 { // one that is used again and again
		s.Reset()
		s.Add(1e6)
		s.Add(float64(i))
		s.Add(0.01)
		assert.Equal(t, int64(3), s.Count())
		assert.InEpsilon(t, 1e6, s.Quantile(1), Accuracy)
	}
	assert.Less(t, cap(s.bins), 2*1800)
}

// Every span that can be added is read again as it was written, alone and beside others.
func TestSketchOfAnySpan(t *testing.T) {
	for ms := 1e-4; ms < 2*most; ms *= 1.7 {
		for _, beside := range []float64{0, 1, 86_400e3} {
			var one, again Sketch
			one.Add(ms)
			if beside > 0 {
				one.Add(beside)
			}
			raw, err := one.MarshalBinary()
			require.NoError(t, err)
			require.NoError(t, again.UnmarshalBinary(raw), "%v ms beside %v", ms, beside)
			require.InDelta(t, one.Quantile(0.99), again.Quantile(0.99), one.Max()*Accuracy*2+1e-3)
		}
	}
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

// What is packed is unpacked as it was, whatever it holds; the parts that are wanted add up to
// the whole; and what is damaged is refused, or read as other figures, but never harms.
func TestPackedSeries(t *testing.T) {
	draw := rand.New(rand.NewPCG(6853, 16))
	figures := func() *Figures {
		f := new(Figures)
		for c := range f.N {
			if draw.IntN(2) == 0 {
				f.N[c] = draw.Int64N(1 << uint(draw.IntN(40)))
			}
		}
		for range draw.IntN(50) {
			f.Waits.Add(math.Exp(draw.NormFloat64() * 8))
			f.Runs.Add(float64(draw.IntN(3)))
		}
		return f
	}
	whole := func(int64) bool { return true }
	for range 200 {
		s := Series{}
		for range draw.IntN(20) {
			s[1+draw.Int64N(1000)] = figures()
		}
		counts, spans := s.Pack(math.MaxInt)
		read, even, odd := Series{}, Series{}, Series{}
		require.NoError(t, read.Unpack(counts, spans, whole))
		require.NoError(t, even.Unpack(counts, spans, func(id int64) bool { return id%2 == 0 }))
		require.NoError(t, odd.Unpack(counts, spans, func(id int64) bool { return id%2 == 1 }))
		even.Merge(odd, 100)
		again, againSpans := read.Pack(math.MaxInt)
		parts, partsSpans := even.Pack(math.MaxInt)
		require.Equal(t, []any{counts, spans, counts, spans}, []any{again, againSpans, parts, partsSpans})

		d := Delta{N: draw.Int64N(1 << 40), At: job.Time(draw.Int64N(1 << 42)), Failures: Failures{}, Starts: []byte("starts")}
		for range draw.IntN(4) {
			d.Moved = append(d.Moved, Moved{Of: [NumKinds]int64{draw.Int64N(9), draw.Int64N(9)}, Figures: figures()})
			d.Failures.Of(Failure{Cause: draw.Int64N(1 << 53), Queue: 2, Version: draw.Int64N(9)}, 3).Failed += draw.Int64N(9)
		}
		packed := d.Append(nil)
		var back Delta
		require.NoError(t, back.Unpack(packed))
		require.Equal(t, [3]any{d.N, d.At, d.Failures}, [3]any{back.N, back.At, back.Failures})
		require.Len(t, back.Append(nil), len(packed))
		for range 20 { // damage
			damaged := append([]byte(nil), packed...)
			for range 1 + draw.IntN(3) {
				damaged[draw.IntN(len(damaged))] = byte(draw.Int())
			}
			if err := back.Unpack(damaged[:draw.IntN(len(damaged)+1)]); err == nil {
				for _, m := range back.Moved {
					require.Less(t, len(m.Waits.bins)+len(m.Runs.bins), 3700)
				}
			}
		}
	}
}

// Beyond the number that is kept apart the busiest stay, and the rest is one, so that the sum
// stays what it was. Failures lose their hosts and versions before they lose their causes.
func TestRest(t *testing.T) {
	s := Series{}
	for i := range int64(50) {
		s.Of(FirstSeries+i, 40).N[Done] += i
	}
	sum := func(s Series) (n int64) {
		for _, f := range s {
			n += f.N[Done]
		}
		return n
	}
	assert.Len(t, s, 41)
	assert.Equal(t, int64(49*50/2), sum(s))
	kept := s.Trimmed(10)
	assert.Len(t, kept, 11)
	assert.Equal(t, int64(49*50/2), sum(kept))
	for i := range int64(10) {
		assert.Equal(t, 30+i, kept[FirstSeries+30+i].N[Done], "the busiest that were kept apart")
	}
	f := Failures{}
	for cause := range int64(30) {
		for host := range int64(3) {
			f.Of(Failure{Cause: 1 + cause, Queue: 2, Host: host}, 10).Failed++
		}
	}
	var all, told int64
	for at, n := range f {
		if all += n.Failed; at.Cause != 0 {
			told++
		}
	}
	assert.Equal(t, int64(90), all)
	assert.LessOrEqual(t, len(f), 21)
	assert.Equal(t, int64(20), told)
}

// A sketch tells the mean and the deviation of what was added, within its accuracy.
func TestMoments(t *testing.T) {
	var s Sketch
	for i := range 1000 {
		s.Add(float64(100 + i%2*200))
	}
	assert.InEpsilon(t, 200, s.Mean(), 2*Accuracy)
	assert.InEpsilon(t, 100, s.Deviation(), 4*Accuracy)
	assert.Zero(t, new(Sketch).Mean())
}

// All rows that are kept take less than 300 MB, however busy 200 queues and 200 tasks are; what
// is left out first is how long things took in those with the fewest moves.
func TestRoom(t *testing.T) {
	draw := rand.New(rand.NewPCG(6853, 300))
	s := Series{}
	for i := range int64(201) {
		f := s.Of(FirstSeries+i, 300)
		f.N = [NumCounts]int64{100_000 + i, 9, 100_000 + i, 90_000, 900, 90, 9, 9}
		for range 400 {
			f.Waits.Add(math.Exp(4 + 2*draw.NormFloat64()))
			f.Runs.Add(math.Exp(4 + 2*draw.NormFloat64()))
		}
	}
	total := 0
	for step := range NumSteps {
		for kind := range NumKinds {
			counts, spans := s.Pack(Room(kind, step))
			require.LessOrEqual(t, len(spans), Room(kind, step))
			total += (len(counts) + len(spans)) * int(step.Kept()/step.Length())
			back := Series{}
			require.NoError(t, back.Unpack(counts, spans, func(int64) bool { return true }))
			require.Len(t, back, 201)
			assert.Positive(t, back[FirstSeries+200].Waits.Count(), "the busiest")
			assert.Zero(t, back[FirstSeries].Waits.Count())
		}
	}
	assert.Less(t, total, 300_000_000)
}
