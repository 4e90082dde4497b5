package limit

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whoever asks, and whenever, in no span more start than the rate allows, and where
// somebody always waits no fewer than it allows, less one.
func TestBucket(t *testing.T) {
	for seed := range uint64(20) {
		draw := rand.New(rand.NewPCG(seed, 50))
		perSecond, burst := 0.5+draw.Float64()*60, 1+draw.IntN(8)
		var b Bucket
		start := time.Now()
		now := start
		var starts []time.Time
		for now.Sub(start) < 30*time.Second {
			free := b.Free(now, perSecond, burst)
			n := draw.IntN(free + 1)
			b.Take(n)
			for range n {
				starts = append(starts, now)
			}
			if wait := b.Next(now, perSecond, burst); wait > 0 && draw.IntN(3) > 0 {
				now = now.Add(wait)
				require.Positive(t, b.Free(now, perSecond, burst), "it wakes at the right moment, not before and not for nothing")
			} else {
				now = now.Add(time.Duration(draw.Int64N(int64(time.Second))))
			}
		}
		for i := range starts {
			for j := i; j < len(starts); j++ {
				require.LessOrEqual(t, float64(j-i+1), float64(burst)+perSecond*starts[j].Sub(starts[i]).Seconds()+1e-6)
			}
		}
	}
	var busy Bucket
	start, n := time.Now(), 0
	for now := start; now.Sub(start) <= 10*time.Second; now = now.Add(busy.Next(now, 50, 1)) {
		if busy.Free(now, 50, 1) > 0 {
			busy.Take(1)
			n++
		}
	}
	assert.InDelta(t, 500, n, 1)
	var first Bucket
	assert.Zero(t, first.Free(start, 50, 10), "empty at first")
	assert.Equal(t, 20*time.Millisecond, first.Next(start, 50, 10))
}
