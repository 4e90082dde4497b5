package trend

import (
	"testing"

	"github.com/stretchr/testify/assert"

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
