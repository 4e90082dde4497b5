// Package tally counts what happens from the start of the service on, for those who gather such
// figures from many programs: how often, and how long things took, in buckets that are the same
// everywhere, so that figures of several services add up.
package tally

import "humblemule.example/job"

// spans are the upper bounds of the buckets of spans, in seconds: those of requests, of jobs that
// run for minutes, and of waits of hours.
var spans = []float64{.01, .05, .1, .5, 1, 5, 10, 60, 300, 900, 3600, 21600}

// Histogram counts values by buckets. The zero value is empty; its buckets are those of spans
// unless Upper says otherwise. It is not safe for concurrent use.
type Histogram struct {
	// Upper are the upper bounds of the buckets, rising; nil means those of spans.
	Upper []float64
	// Counts are the values of each bucket alone, the last one of those above all bounds. Nil where
	// there is none.
	Counts []uint64
	Sum    float64
	// Exemplars are a late value of each bucket that had a trace.
	Exemplars []Exemplar
}

// Exemplar is a value, and the id of the trace in which it came about.
type Exemplar struct {
	Trace string
	Value float64
	At    job.Time
}

// Uppers are the upper bounds of the buckets.
func (h *Histogram) Uppers() []float64 {
	if h.Upper == nil {
		return spans
	}
	return h.Upper
}

// Add counts a value, which may have come about in a trace.
func (h *Histogram) Add(value float64, trace string, at job.Time) {
	upper := h.Uppers()
	if h.Counts == nil {
		h.Counts = make([]uint64, len(upper)+1)
	}
	i := 0
	for i < len(upper) && value > upper[i] {
		i++
	}
	h.Counts[i]++
	h.Sum += value
	if trace == "" {
		return
	}
	if h.Exemplars == nil {
		h.Exemplars = make([]Exemplar, len(upper)+1)
	}
	h.Exemplars[i] = Exemplar{trace, value, at}
}

// Merge adds another histogram with the same buckets.
func (h *Histogram) Merge(o *Histogram) {
	if o.Counts == nil {
		return
	}
	if h.Counts == nil {
		h.Upper, h.Counts = o.Upper, make([]uint64, len(o.Counts))
	}
	for i, n := range o.Counts {
		h.Counts[i] += n
	}
	h.Sum += o.Sum
	if o.Exemplars == nil {
		return
	}
	if h.Exemplars == nil {
		h.Exemplars = make([]Exemplar, len(o.Exemplars))
	}
	for i, e := range o.Exemplars {
		if e.At > h.Exemplars[i].At {
			h.Exemplars[i] = e
		}
	}
}

// Copy is the histogram as it stands.
func (h *Histogram) Copy() Histogram {
	var c Histogram
	c.Upper = h.Upper
	c.Merge(h)
	return c
}

// Count is how many values were counted.
func (h *Histogram) Count() (n uint64) {
	for _, k := range h.Counts {
		n += k
	}
	return n
}

// TraceOf is the id of the trace that a W3C traceparent names; empty where it names none, or where
// that trace is not sampled, so that nobody could look at it.
func TraceOf(traceparent string) string {
	const form = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"
	if len(traceparent) != len(form) || (traceparent[len(form)-1]-'0')&1 == 0 {
		return ""
	}
	return traceparent[3:35]
}
