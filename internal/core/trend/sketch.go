package trend

import (
	"encoding/binary"
	"errors"
	"math"
)

// Accuracy is the relative error of a sketch's quantiles.
const Accuracy = 0.01

// Sketch keeps a distribution of spans in bounded memory: every quantile it tells
// is within [Accuracy] of a value that was added. It is DDSketch (Masson, Rim,
// Lee: DDSketch, a fast and fully-mergeable quantile sketch with relative-error
// guarantees, VLDB 2019): a value x falls into bin ⌈log_γ x⌉, γ = (1+a)/(1-a).
// Sketches add up, so that those of minutes make those of hours. The zero value
// is empty and ready to use. It is not safe for concurrent use.
type Sketch struct {
	bins  []uint32 // of the indexes from first on
	first int
	zeros int64 // values below least
	count int64
	max   float64
}

// Values are milliseconds; what is shorter than a microsecond counts as none, and
// what is longer than ten years as ten years, so that there are at most 1800 bins.
const (
	least = 1e-3
	most  = 10 * 365 * 24 * 3600e3
)

var (
	gamma    = (1 + Accuracy) / (1 - Accuracy)
	logGamma = math.Log(gamma)
)

func binOf(ms float64) int { return int(math.Ceil(math.Log(ms) / logGamma)) }

// Add adds a span in milliseconds.
func (s *Sketch) Add(ms float64) {
	s.count++
	s.max = max(s.max, min(ms, most))
	if !(ms >= least) { // NaN too
		s.zeros++
		return
	}
	s.bin(binOf(min(ms, most)), 1)
}

func (s *Sketch) bin(index int, n uint32) {
	switch {
	case len(s.bins) == 0:
		s.bins, s.first = []uint32{0}, index
	case index < s.first:
		s.bins = append(make([]uint32, s.first-index), s.bins...)
		s.first = index
	case index >= s.first+len(s.bins):
		s.bins = append(s.bins, make([]uint32, index-s.first-len(s.bins)+1)...)
	}
	s.bins[index-s.first] += n
}

// Count is how many spans were added.
func (s *Sketch) Count() int64 { return s.count }

// Max is the longest span in milliseconds; 0 for an empty sketch.
func (s *Sketch) Max() float64 { return s.max }

// Quantile gives the span in milliseconds below which a share q, 0 to 1, of all
// lie; 0 for an empty sketch.
func (s *Sketch) Quantile(q float64) float64 {
	rank := int64(math.Floor(q*float64(s.count-1))) - s.zeros
	if rank < 0 {
		return 0
	}
	for i, n := range s.bins {
		if rank -= int64(n); rank < 0 {
			// The middle of the bin (γ^(i-1), γ^i] in relative terms.
			return min(2*math.Pow(gamma, float64(s.first+i))/(gamma+1), s.max)
		}
	}
	return s.max
}

// Merge adds what another sketch holds.
func (s *Sketch) Merge(o *Sketch) {
	s.count += o.count
	s.zeros += o.zeros
	s.max = max(s.max, o.max)
	for i, n := range o.bins {
		if n > 0 {
			s.bin(o.first+i, n)
		}
	}
}

// AppendBinary appends the sketch as varints, each filled bin as its distance
// from the one before and its number, so that history can be kept.
func (s *Sketch) AppendBinary(b []byte) ([]byte, error) {
	b = binary.AppendVarint(b, s.count)
	b = binary.AppendVarint(b, s.zeros)
	b = binary.AppendUvarint(b, math.Float64bits(s.max))
	last := 0
	for i, n := range s.bins {
		if n > 0 {
			b = binary.AppendVarint(b, int64(s.first+i-last))
			b = binary.AppendUvarint(b, uint64(n))
			last = s.first + i
		}
	}
	return b, nil
}

var errCut = errors.New("the sketch is cut short")

// UnmarshalBinary reads what AppendBinary has written.
func (s *Sketch) UnmarshalBinary(b []byte) error {
	*s = Sketch{}
	var failed error
	signed := func() int64 {
		v, n := binary.Varint(b)
		if n <= 0 {
			failed, n = errCut, 0
		}
		b = b[n:]
		return v
	}
	unsigned := func() uint64 {
		v, n := binary.Uvarint(b)
		if n <= 0 {
			failed, n = errCut, 0
		}
		b = b[n:]
		return v
	}
	s.count, s.zeros, s.max = signed(), signed(), math.Float64frombits(unsigned())
	for index := 0; len(b) > 0 && failed == nil; {
		index += int(signed())
		n := unsigned()
		if index < binOf(least) || index > binOf(most) {
			return errors.New("the sketch has a bin that is out of range")
		}
		s.bin(index, uint32(n))
	}
	return failed
}
