package api

import (
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"humblemule.example/job"
)

// Rules that cannot hold are refused with the field and the mend, and those that can are
// filled up with what is built in.
func TestRules(t *testing.T) {
	n := func(n int) *int { return &n }
	for want, r := range map[string]Rules{
		"":                                   {},
		"order: \"oldest\" is unknown":       {Order: "oldest"},
		"boost: belongs to the order ageing": {Boost: job.Duration(time.Second)},
		"boost: 31d is outside":              {Order: OrderAgeing, Boost: job.Duration(31 * 24 * time.Hour)},
		"turns: \"label\" is unknown; it is owner": {Turns: "label"},
		"turns: cannot be combined":                {Turns: TurnsOwner, Order: OrderAgeing},
		"owner_weights: need turns":                {OwnerWeights: map[string]int{"Marsh Agency": 2}},
		"owner_weights.Gull: 1001":                 {Turns: TurnsOwner, OwnerWeights: map[string]int{"Gull": 1001}},
		"lane_on_dead: \"wait\" is unknown":        {LaneOnDead: LaneWaits},
		"max_running: 0 is outside":                {MaxRunning: n(0)},
		"rate.per_second: NaN":                     {Rate: &Rate{PerSecond: math.NaN()}},
		"rate.per_second: 1e-06 is less":           {Rate: &Rate{PerSecond: 1e-6}},
		"rate.burst: 100001":                       {Rate: &Rate{PerSecond: 1, Burst: n(100_001)}},
	} {
		var said []string
		for _, w := range (&Defaults{Rules: r}).CheckQueue() {
			said = append(said, w.Field+": "+w.Message)
		}
		if want == "" {
			assert.Empty(t, said)
		} else if assert.Len(t, said, 1, want) {
			assert.True(t, strings.HasPrefix(said[0], want), "%s is not %s", said[0], want)
		}
	}
	assert.Len(t, (&Defaults{Rules: Rules{Order: OrderAgeing, LaneOnDead: LaneStops, MaxRunning: n(2)}}).CheckTask(), 2, "of a task only max_running")

	whole := Rules{Order: OrderAgeing, Rate: &Rate{PerSecond: 2}}.WithDefaults()
	assert.Equal(t, []any{job.Duration(time.Minute), LaneWaits, LanePasses, 1}, []any{whole.Boost, whole.LaneOnBackoff, whole.LaneOnDead, *whole.Rate.Burst})
	plain := Rules{MaxRunning: n(3)}.WithDefaults()
	assert.False(t, whole.SameOrder(&plain))
	assert.Equal(t, []bool{false, true}, []bool{plain.Full(2), plain.Full(3)})
	assert.Equal(t, 1, (&Rules{OwnerWeights: map[string]int{"Gull": 4}}).Weight("Marsh"))
}
