package tally

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Every value falls into the bucket that its bound says, whatever it is, and histograms add up to
// what one of all values would be.
func TestHistogram(t *testing.T) {
	values := []float64{0, .01, .0101, 1, 21600, 21601, 1e12}
	var whole, first, second Histogram
	for i, v := range values {
		whole.Add(v, "", 0)
		if i%2 == 0 {
			first.Add(v, "a", 1)
		} else {
			second.Add(v, "b", 2)
		}
	}
	var both Histogram
	both.Merge(&first)
	both.Merge(&Histogram{})
	both.Merge(&second)
	assert.Equal(t, whole.Counts, both.Counts)
	assert.Equal(t, whole.Sum, both.Sum)
	assert.EqualValues(t, len(values), both.Count())
	assert.EqualValues(t, 2, both.Counts[0], "a bound belongs to its bucket")
	assert.EqualValues(t, 1, both.Counts[1])
	assert.EqualValues(t, 2, both.Counts[len(both.Counts)-1], "what is above all bounds")
	assert.Equal(t, Exemplar{"b", .01, 2}, both.Exemplars[0], "the later one")
	kept := both.Copy()
	both.Add(1, "", 0)
	assert.EqualValues(t, len(values), kept.Count(), "a copy stays")
	commits := Histogram{Upper: []float64{1, 10}}
	commits.Add(5, "", 0)
	assert.Equal(t, []uint64{0, 1, 0}, commits.Counts)
}

func TestTraceOf(t *testing.T) {
	for given, want := range map[string]string{
		"": "", "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01": "4bf92f3577b34da6a3ce929d0e0e4736",
		"00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-00": "", "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-03": "4bf92f3577b34da6a3ce929d0e0e4736",
		"00-4bf9": "",
	} {
		assert.Equal(t, want, TraceOf(given), given)
	}
}
