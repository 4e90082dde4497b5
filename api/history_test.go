package api_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// Points are written and read with null for what was not measured.
func TestPoints(t *testing.T) {
	for text, points := range map[string]api.Points{`[1,null,0,23]`: {1, -1, 0, 23}, `[]`: {}, `[null]`: {-1}} {
		raw, err := json.Marshal(points)
		require.NoError(t, err)
		assert.Equal(t, text, string(raw))
		var back api.Points
		require.NoError(t, json.Unmarshal(raw, &back))
		assert.Equal(t, points, back)
	}
	assert.Error(t, json.Unmarshal([]byte(`["x"]`), new(api.Points)))
}

// A forecast says what it knows and no more: what binds, when the queue is clear, or that it
// never is, and what slots would change.
func TestForecastSentences(t *testing.T) {
	const at = job.Time(1_795_000_000_000)
	clear := &api.Clear{Likely: at, Earliest: at - 60_000, Latest: at + 60_000}
	known := api.Forecast{Queue: "berths", Waiting: 58, Running: 6, Minutes: 30, In: api.Spread{PerMinute: 12}, Pace: api.Pace{Slots: 6, CapacityPerMinute: 18, Binds: api.BoundBySlots, Clear: clear}}
	with := func(change func(*api.Forecast)) *api.Forecast { f := known; change(&f); return &f }
	for want, f := range map[string]*api.Forecast{
		"58 jobs are waiting in queue berths, and 6 jobs are running.":                     with(func(*api.Forecast) {}),
		"No job is waiting in queue berths, and 1 job is running.":                         with(func(f *api.Forecast) { f.Waiting, f.Running = 0, 1 }),
		"Over the last 30 minutes, 12 jobs came a minute.":                                 with(func(*api.Forecast) {}),
		"18 jobs a minute can finish with 6 slots.":                                        with(func(*api.Forecast) {}),
		"All its slots are used: more slots would make it faster.":                         with(func(*api.Forecast) {}),
		"Its rate of starts keeps it from going faster: more slots would not help.":        with(func(f *api.Forecast) { f.Binds = api.BoundByRate }),
		"Its limit of running jobs keeps it from going faster: more slots would not help.": with(func(f *api.Forecast) { f.Binds = api.BoundByMaxRunning }),
		"The queue is paused: nothing starts until it is resumed.":                         with(func(f *api.Forecast) { f.Binds = api.BoundByPause }),
		"No worker serves it.":      with(func(f *api.Forecast) { f.Binds = api.BoundByNobody }),
		"Never clear at this rate.": with(func(f *api.Forecast) { f.Clear = &api.Clear{} }),
		"Clear by 2026-11-18T11:06:40.000Z; perhaps at 2026-11-18T11:05:40.000Z, perhaps never at this rate.": with(func(f *api.Forecast) { f.Clear = &api.Clear{Likely: at, Earliest: at - 60_000} }),
		"With 12 slots: never clear at this rate.":                                                            with(func(f *api.Forecast) { f.With = &api.Pace{Slots: 12, Clear: &api.Clear{}} }),
		"No number of slots makes it clear by 2026-11-18T11:06:40.000Z.":                                      with(func(f *api.Forecast) { f.Needs = &api.Needs{By: at} }),
		"To be clear by 2026-11-18T11:06:40.000Z it takes 8 slots; 9 to be sure in nine cases of ten.":        with(func(f *api.Forecast) { f.Needs = &api.Needs{By: at, Likely: 8, Sure: 9} }),
		"Within the next 12 hours 3 more jobs come as planned, the first at 2026-11-18T11:06:40.000Z.":        with(func(f *api.Forecast) { f.Coming = []api.ComingJobs{{At: at, Jobs: 1}, {At: at + 1, Jobs: 2}} }),
		"How fast it goes is not known yet: a forecast needs 30 runs, or 10 minutes in which jobs waited.":    with(func(f *api.Forecast) { f.Clear = nil }),
	} {
		assert.Contains(t, f.Describe(), want)
	}
}
