package engine

import (
	"testing"

	"go.uber.org/goleak"

	"humblemule/job"
)

// No test leaves a goroutine behind.
func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// unplaced is the place of a spec in messages where there is no file.
func unplaced(int) string { return "" }

// noJobs are the counts of no job.
func noJobs() map[job.State]int64 {
	counts := map[job.State]int64{}
	for _, s := range job.States() {
		counts[s] = 0
	}
	return counts
}
