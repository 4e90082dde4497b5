package retry

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"humblemule.example/job"
)

// Tables computed by hand, in milliseconds.
func TestPreview(t *testing.T) {
	seconds := func(all ...float64) (ds []job.Duration) {
		for _, s := range all {
			ds = append(ds, job.Duration(s*1e9))
		}
		return ds
	}
	jitter := func(j float64) *float64 { return &j }
	for name, c := range map[string]struct {
		retry                      job.Retry
		most                       int
		earliest, expected, latest []int64
		ends, says                 string
	}{
		"exponential": {job.Retry{First: seconds(10)[0], Factor: 3, Ceiling: seconds(60)[0]}, 5,
			[]int64{0, 8_000, 32_000, 80_000, 128_000}, []int64{0, 10_000, 40_000, 100_000, 160_000}, []int64{0, 12_000, 48_000, 120_000, 192_000},
			"attempts_used_up", "5 attempts; the last one comes 2 min to 3 min after the first."},
		"linear": {job.Retry{Curve: job.Linear, First: seconds(30)[0], Step: seconds(20)[0], Ceiling: seconds(60)[0], Jitter: jitter(0)}, 5,
			[]int64{0, 30_000, 80_000, 140_000, 200_000}, []int64{0, 30_000, 80_000, 140_000, 200_000}, []int64{0, 30_000, 80_000, 140_000, 200_000},
			"attempts_used_up", "5 attempts; the last one comes 3 min after the first."},
		"fixed": {job.Retry{Curve: job.Fixed, First: seconds(7)[0], Jitter: jitter(1)}, 3,
			[]int64{0, 0, 0}, []int64{0, 7_000, 14_000}, []int64{0, 14_000, 28_000},
			"attempts_used_up", "3 attempts; the last one comes 0 ms to 28 s after the first."},
		"list": {job.Retry{Curve: job.List, Delays: seconds(1, 5), Jitter: jitter(0.5)}, 4,
			[]int64{0, 500, 3_000, 5_500}, []int64{0, 1_000, 6_000, 11_000}, []int64{0, 1_500, 9_000, 16_500},
			"attempts_used_up", "4 attempts; the last one comes 5.5 s to 16 s after the first."},
		"too old": {job.Retry{Curve: job.Fixed, First: seconds(10)[0], GiveUpAfter: seconds(25)[0]}, 17,
			[]int64{0, 8_000, 16_000}, []int64{0, 10_000, 20_000}, []int64{0, 12_000, 24_000},
			"too_old", "3 attempts; the last one comes 16 s to 24 s after the first, and the next would come later than give_up_after (25s)."},
		"without end": {job.Retry{Curve: job.Fixed, First: seconds(10)[0], Jitter: jitter(0)}, 0,
			[]int64{0, 10_000, 20_000, 30_000, 40_000, 50_000}, []int64{0, 10_000, 20_000, 30_000, 40_000, 50_000}, []int64{0, 10_000, 20_000, 30_000, 40_000, 50_000},
			"never", "Attempts go on without end; the 6th comes 50 s after the first, and the next 10 s later."},
		"once": {job.Retry{}, 1, []int64{0}, []int64{0}, []int64{0}, "attempts_used_up", "One attempt; a job that fails is dead at once."},
	} {
		got := Preview(job.Policy{MaxAttempts: c.most, Retry: c.retry.WithDefaults()}, 6)
		var earliest, expected, latest []int64
		for i, a := range got.Attempts {
			assert.Equal(t, i+1, a.Attempt)
			earliest, expected, latest = append(earliest, a.EarliestMS), append(expected, a.ExpectedMS), append(latest, a.LatestMS)
		}
		assert.Equal(t, [][]int64{c.earliest, c.expected, c.latest}, [][]int64{earliest, expected, latest}, name)
		assert.Equal(t, c.expected[len(c.expected)-1], got.TotalMS, name)
		assert.Equal(t, []string{c.ends, c.says}, []string{got.Ends, got.Summary}, name)
	}
	built := Preview((&job.Spec{}).Policy(), 9)
	assert.Len(t, built.Attempts, 9)
	assert.Equal(t, "17 attempts; the last one comes 2 days to 3 days after the first.", built.Summary)
	assert.InDelta(t, 63, (time.Duration(built.TotalMS) * time.Millisecond).Hours(), 0.5)
	// A million attempts neither overflow nor take long.
	huge := job.Policy{MaxAttempts: 1_000_000, Retry: job.Retry{Factor: 100}.WithDefaults()}
	long := Preview(huge, MostPlanned)
	assert.Len(t, long.Attempts, MostPlanned)
	assert.Equal(t, "1000000 attempts; the last one comes 730 years to 1095 years after the first.", long.Summary)
	assert.Equal(t, 8*time.Hour, Base(huge.Retry, 1_000_000))
}
