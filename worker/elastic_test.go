package worker

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestResize(t *testing.T) {
	for _, c := range []struct {
		name string
		load
		want int
		why  string
	}{
		{"idle", load{Min: 2, Max: 8, Slots: 2}, 2, ""},
		{"full, and nothing waits", load{Min: 2, Max: 8, Slots: 2, FullFor: time.Minute}, 2, ""},
		{"full for too short", load{Min: 2, Max: 8, Slots: 2, Waiting: 9, FullFor: time.Second}, 2, ""},
		{"full, and jobs wait", load{Min: 2, Max: 8, Slots: 4, Waiting: 9, FullFor: 2 * time.Second}, 8, "9 jobs wait and all 4 slots were taken for 2.0 s"},
		{"by no more than wait", load{Min: 2, Max: 80, Slots: 40, Waiting: 1, FullFor: 3 * time.Second}, 41, "1 job waits and all 40 slots were taken for 3.0 s"},
		{"from one slot", load{Min: 1, Max: 8, Slots: 1, Waiting: 9, FullFor: 3 * time.Second}, 2, "9 jobs wait and all 1 slots were taken for 3.0 s"},
		{"to the most", load{Min: 2, Max: 8, Slots: 7, Waiting: 1 << 40, FullFor: 3 * time.Second}, 8, "1\u202f099\u202f511\u202f627\u202f776 jobs wait and all 7 slots were taken for 3.0 s"},
		{"at the most", load{Min: 2, Max: 8, Slots: 8, Waiting: 9, FullFor: time.Hour}, 8, ""},
		{"quiet for too short", load{Min: 2, Max: 8, Slots: 8, QuietFor: 29 * time.Second}, 8, ""},
		{"quiet", load{Min: 2, Max: 8, Slots: 8, QuietFor: 30 * time.Second}, 6, "no more than 0 of 8 slots were taken for 30 s"},
		{"not below what was used", load{Min: 2, Max: 40, Slots: 8, QuietFor: 40 * time.Second, MostUsed: 7}, 7, "no more than 7 of 8 slots were taken for 40 s"},
		{"not below the least", load{Min: 3, Max: 8, Slots: 4, QuietFor: time.Hour}, 3, "no more than 0 of 4 slots were taken for 60 min"},
		{"at the least", load{Min: 3, Max: 8, Slots: 3, QuietFor: time.Hour}, 3, ""},
	} {
		slots, why := resize(c.load)
		assert.Equal(t, c.want, slots, c.name)
		assert.Equal(t, c.why, why, c.name)
	}
}

func TestAheadFor(t *testing.T) {
	ms := func(n int) time.Duration { return time.Duration(n) * time.Millisecond }
	for _, c := range []struct {
		name string
		pace
		want int
	}{
		{"little is known", pace{runs: 19, call: ms(2)}, 0},
		{"no call was measured", pace{runs: 100}, 0},
		{"runs of no length", pace{runs: 100, call: ms(2)}, 32},
		{"runs shorter than a call", pace{runs: 100, call: ms(2), run: ms(1)}, 8},
		{"runs as long as a call", pace{runs: 100, call: ms(2), run: ms(2)}, 4},
		{"runs some times longer", pace{runs: 100, call: ms(2), run: ms(19)}, 4},
		{"runs ten times longer", pace{runs: 100, call: ms(2), run: ms(20)}, 0},
	} {
		assert.Equal(t, c.want, aheadFor(4, c.pace), c.name)
	}
}
