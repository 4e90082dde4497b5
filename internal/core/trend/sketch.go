package trend

import (
	"encoding/binary"
	"math"

	"humblemule.example/internal/core/packed"
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

// lowest and highest are the bins of least and most.
var lowest, highest = binOf(least), binOf(most)

func binOf(ms float64) int { return int(math.Ceil(math.Log(ms) / logGamma)) }

// Add adds a span in milliseconds.
func (s *Sketch) Add(ms float64) { s.AddMany(ms, 1) }

// AddMany adds the same span several times.
func (s *Sketch) AddMany(ms float64, n uint32) {
	if n == 0 {
		return
	}
	s.count += int64(n)
	s.max = max(s.max, min(ms, most))
	if !(ms >= least) { // NaN too
		s.zeros += int64(n)
		return
	}
	s.bin(binOf(min(ms, most)), n)
}

func (s *Sketch) bin(index int, n uint32) {
	s.reach(index, index)
	s.bins[index-s.first] += n
}

// reach makes room for the bins from one index to another.
func (s *Sketch) reach(from, to int) {
	if len(s.bins) == 0 {
		if n := to - from + 1; n <= cap(s.bins) {
			s.bins = s.bins[:n]
			clear(s.bins)
		} else {
			s.bins = make([]uint32, n)
		}
		s.first = from
		return
	}
	if gap := s.first - from; gap > 0 {
		n := gap + len(s.bins)
		if n > cap(s.bins) {
			s.bins = append(make([]uint32, gap, 2*n), s.bins...)
		} else {
			s.bins = s.bins[:n]
			copy(s.bins[gap:], s.bins)
			clear(s.bins[:gap])
		}
		s.first = from
	}
	if more := to - s.first + 1 - len(s.bins); more > 0 {
		s.bins = append(s.bins, make([]uint32, more)...)
	}
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
			return s.middle(i)
		}
	}
	return s.max
}

// Merge adds what another sketch holds.
func (s *Sketch) Merge(o *Sketch) {
	s.count += o.count
	s.zeros += o.zeros
	s.max = max(s.max, o.max)
	if len(o.bins) == 0 {
		return
	}
	s.reach(o.first, o.first+len(o.bins)-1)
	into := s.bins[o.first-s.first:]
	for i, n := range o.bins {
		into[i] += n
	}
}

// Reset empties the sketch and keeps its room.
func (s *Sketch) Reset() {
	clear(s.bins)
	*s = Sketch{bins: s.bins[:0]}
}

// Mean is the mean of the spans in milliseconds, and Deviation their standard deviation, as
// far as the bins tell; 0 for an empty sketch.
func (s *Sketch) Mean() float64 { mean, _ := s.moments(); return mean }

// Deviation goes with [Sketch.Mean].
func (s *Sketch) Deviation() float64 { _, deviation := s.moments(); return deviation }

func (s *Sketch) moments() (mean, deviation float64) {
	if s.count == 0 {
		return 0, 0
	}
	var squares float64
	for i, n := range s.bins {
		x := s.middle(i)
		mean += float64(n) * x
		squares += float64(n) * x * x
	}
	mean /= float64(s.count)
	return mean, math.Sqrt(max(squares/float64(s.count)-mean*mean, 0))
}

// middle is the middle of the bin (γ^(i-1), γ^i] in relative terms.
func (s *Sketch) middle(i int) float64 {
	return min(2*math.Pow(gamma, float64(s.first+i))/(gamma+1), s.max)
}

// append appends the sketch: the spans below least, the longest in microseconds, and of each
// filled bin its distance from the one before with whether it holds more than one span, and
// where it does how many.
func (s *Sketch) append(b []byte) []byte {
	b = binary.AppendUvarint(b, uint64(s.zeros))
	b = binary.AppendUvarint(b, uint64(math.Round(s.max*1000)))
	last := lowest
	for i, n := range s.bins {
		if n == 0 {
			continue
		}
		gap := uint64(s.first+i-last) << 1
		if last = s.first + i; n == 1 {
			b = binary.AppendUvarint(b, gap)
		} else {
			b = binary.AppendUvarint(binary.AppendUvarint(b, gap|1), uint64(n))
		}
	}
	return b
}

// MarshalBinary writes the sketch, so that history can be kept.
func (s *Sketch) MarshalBinary() ([]byte, error) { return s.append(nil), nil }

// UnmarshalBinary reads what MarshalBinary has written. The longest span is then right to a
// microsecond.
func (s *Sketch) UnmarshalBinary(b []byte) error {
	s.Reset()
	return s.add(b)
}

// add adds what MarshalBinary has written of another sketch.
func (s *Sketch) add(b []byte) error {
	if len(b) == 0 {
		return nil
	}
	r := packed.Read(b)
	zeros := r.Int()
	s.zeros += zeros
	s.count += zeros
	s.max = max(s.max, min(float64(r.Unsigned())/1000, most))
	for index := lowest; r.More(); {
		gap, n := r.Unsigned(), uint64(1)
		if index += int(gap >> 1); gap&1 == 1 {
			n = r.Unsigned()
		}
		if r.Err() != nil || gap>>1 > uint64(highest-lowest) || index > highest || n > math.MaxUint32 {
			return packed.ErrCut
		}
		s.bin(index, uint32(n))
		s.count += int64(n)
	}
	return r.Err()
}
