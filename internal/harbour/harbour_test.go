package harbour

import (
	"math"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/job"
	"humblemule.example/worker"
	"humblemule.example/worker/workertest"
)

// The check digit of ISO 6346's own example, and what a wrong one does.
func TestContainers(t *testing.T) {
	assert.True(t, validContainer("CSQU3054383"))
	for _, wrong := range []string{"CSQU3054384", "CSQU305438", "", "CSQU30543833", "CQSU3054383"} {
		assert.False(t, validContainer(wrong), wrong)
	}
}

// Every manifest that the demo ships is sound or malformed as its story says.
func TestManifests(t *testing.T) {
	malformed := map[string]string{
		"heron-0291":  `line 4: the weight "12t" is not a valid number`,
		"curlew-1405": "line 6: the check digit",
		"dunlin-0877": "line 8: 3 columns",
		"plover-0620": `line 5: hazard class "12"`,
	}
	files, err := data.ReadDir("data/manifests")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		name := strings.TrimSuffix(file.Name(), ".csv")
		f, err := data.Open(filepath.Join("data/manifests", file.Name()))
		require.NoError(t, err)
		cargo, err := readManifest(f)
		if want := malformed[name]; want != "" {
			assert.ErrorContains(t, err, want, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Positive(t, cargo.Containers, name)
		assert.GreaterOrEqual(t, cargo.WeightKG, 900*cargo.Containers, name)
	}
}

// A single constituent is a cosine: its waters are half its period apart and as
// high as its amplitude.
func TestTide(t *testing.T) {
	day := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	one := []constituent{{speed: 30, amplitude: 2, phase: 90}} // 12 hours; high water at 03:00
	found := waters(one, day)
	require.Len(t, found, 4)
	assert.Equal(t, Water{At: "03:00", HeightM: 2, Kind: "high"}, found[0])
	assert.Equal(t, Water{At: "09:00", HeightM: -2, Kind: "low"}, found[1])
	assert.InDelta(t, 2*math.Cos(math.Pi/6), height(one, day.Add(2*time.Hour)), 1e-9)

	all, err := stations()
	require.NoError(t, err)
	for name, constants := range all {
		assert.Len(t, constants, len(speeds), name)
		waters := waters(constants, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC))
		assert.GreaterOrEqual(t, len(waters), 3, name)
		for i := 1; i < len(waters); i++ {
			assert.NotEqual(t, waters[i-1].Kind, waters[i].Kind, "%s: high and low waters take turns", name)
		}
	}
}

// The same seed draws the same day.
func TestSeed(t *testing.T) {
	draw := func(seed uint64) (all []string) {
		traffic := NewTraffic(nil, "", false, seed, time.Second)
		for range 20 {
			all = append(all, traffic.manifest("x").Owner, traffic.day("y").Date)
		}
		return all
	}
	assert.Equal(t, draw(1), draw(1))
	assert.NotEqual(t, draw(1), draw(2))
}

// A tide that a schedule asks for is that of the day it was planned for, however late the
// job runs.
func TestTideOfSchedule(t *testing.T) {
	pool := worker.New(nil, worker.Options{})
	NewFixedWorld().Office(pool)
	planned := time.Date(2027, 2, 3, 3, 30, 0, 0, time.UTC)
	spec := job.Spec{Task: TidePredict, Payload: job.JSON(Day{Station: "inner-quay"})}
	var curve Curve
	workertest.Run(t, pool, spec, workertest.Planned(job.ScheduledBy{Name: "tides", Run: 7, PlannedAt: job.At(planned)})).Result(&curve)
	assert.Equal(t, "2027-02-03", curve.Date)
	assert.Equal(t, job.OutcomeGiveUp, workertest.Run(t, pool, spec).Outcome, "a tide without a day")
}
