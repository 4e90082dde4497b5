package cron

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// What a person is told before a schedule is kept.
func TestTell(t *testing.T) {
	rule := func(s api.Schedule) Rule {
		r, _, err := NewRule(&s, job.At(epoch))
		require.NoError(t, err)
		return r
	}
	spring := time.Date(2027, 3, 27, 12, 0, 0, 0, time.UTC)
	r := rule(api.Schedule{Cron: "30 1 * * *", Zone: "Europe/Lisbon"})
	told := r.Tell(spring, 2, 0)
	assert.Equal(t, "at 01:30 every day", told.Summary)
	assert.Equal(t, "Sun 2027-03-28 02:00:00 WEST", told.Next[0].Local)
	assert.Equal(t, []string{"On Sunday 2027-03-28 clocks go from 01:00 to 02:00; a time in between, such as 01:30, comes at 02:00."}, told.Notes)
	for text, want := range map[string]string{
		"30 3 * * *": "no planned time is affected.",
		"30 * * * *": "the times in between do not exist, so they do not come.",
	} {
		r := rule(api.Schedule{Cron: text, Zone: "Europe/Lisbon"})
		assert.Contains(t, r.Tell(spring, 40, 0).Notes[0], want)
	}
	autumn := time.Date(2027, 10, 30, 12, 0, 0, 0, time.UTC)
	for text, want := range map[string]string{
		"30 1 * * *": "such as 01:30, comes only the first time.",
		"30 * * * *": "the times in between come twice.",
	} {
		r := rule(api.Schedule{Cron: text, Zone: "Europe/Lisbon"})
		assert.Contains(t, r.Tell(autumn, 40, 0).Notes[0], want)
	}
	assert.Len(t, r.Tell(spring, 10, job.At(spring.AddDate(0, 0, 3))).Next, 3, "until")

	every := rule(api.Schedule{Every: job.Duration(90 * time.Second), From: job.At(spring)})
	next, _ := every.Next(spring.Add(100 * time.Second))
	assert.Equal(t, spring.Add(180*time.Second), next)
	next, _ = every.Next(spring.Add(-time.Hour))
	assert.Equal(t, spring, next)
	prev, found := every.Prev(spring.Add(180 * time.Second))
	assert.True(t, found)
	assert.Equal(t, spring.Add(90*time.Second), prev)
	_, found = every.Prev(spring)
	assert.False(t, found)
	assert.Equal(t, "every 1m30s", every.Describe())
}

// A zone that is not one is answered with the nearest.
func TestZone(t *testing.T) {
	for name, nearest := range map[string]string{
		"Europe/Lisbn": "Europe/Lisbon", "lisbon": "Europe/Lisbon", "new york": "America/New_York", "europe/berlin": "Europe/Berlin", "Tokio": "Asia/Tokyo",
	} {
		_, err := Zone(name)
		require.ErrorContains(t, err, "(the nearest is "+nearest+")", name)
	}
	_, err := Zone("../etc/passwd")
	require.Error(t, err)
	_, err = Zone("Local")
	require.Error(t, err)
	z, err := Zone("")
	require.NoError(t, err)
	assert.Equal(t, time.UTC, z)
}
