package read

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"humblemule.example/api"
)

// A start has overtaken what was ready before it and started later, or still waits.
func TestOvertakings(t *testing.T) {
	starts := []api.Start{{Job: 3, ReadyAt: 30, StartedAt: 100}, {Job: 1, ReadyAt: 10, StartedAt: 110}, {Job: 4, ReadyAt: 40, StartedAt: 120}}
	overtakings(starts, []api.Start{{Job: 2, ReadyAt: 20}, {Job: 5, ReadyAt: 50}})
	assert.Equal(t, []int64{1, 2}, starts[0].First)
	assert.Zero(t, starts[1].Overtook)
	assert.Equal(t, []any{1, []int64{2}, int64(80)}, []any{starts[2].Overtook, starts[2].First, starts[2].WaitedMS})

	bulk := []api.Start{{Job: 2, ReadyAt: 10, StartedAt: 100}, {Job: 3, ReadyAt: 10, StartedAt: 110}, {Job: 1, ReadyAt: 10, StartedAt: 120}}
	overtakings(bulk, nil)
	assert.Equal(t, []int{1, 1, 0}, []int{bulk[0].Overtook, bulk[1].Overtook, bulk[2].Overtook}, "of those that are ready in one millisecond, the first enqueued is the first")
}
