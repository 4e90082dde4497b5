package engine

import (
	"flag"
	"testing"

	"go.uber.org/goleak"

	"humblemule.example/job"
)

// No test leaves a goroutine behind.
func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var long = flag.Bool("long", false, "run random tests in their long form under the race detector and with -short too")

// alone leaves a test in which one goroutine reckons for long to the run without the race detector.
func alone(t *testing.T) {
	t.Helper()
	if racing && !*long {
		t.Skip("one goroutine reckons for long; it runs without the race detector")
	}
}

// rounds is how often a random test goes round: less often where it is slow, or is to be
// short.
func rounds(most, few int) int {
	if (racing || testing.Short()) && !*long {
		return few
	}
	return most
}

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
