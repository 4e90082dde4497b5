package trend

import (
	"cmp"
	"encoding/binary"
	"errors"
	"maps"
	"math/bits"
	"slices"

	"humblemule.example/internal/core/packed"
	"humblemule.example/job"
)

// Count is what is counted of jobs over time.
type Count int

// What is counted.
const (
	Enqueued  Count = iota // new jobs
	Requeued               // rounds opened for jobs that had finished
	Started                // attempts started
	Done                   // jobs done
	Failed                 // attempts that failed, whatever became of their jobs
	Dead                   // jobs that died
	Skipped                // jobs skipped
	Cancelled              // jobs cancelled, with those removed before they had finished
	NumCounts
)

// Figures are what is kept of a series of jobs, such as those of a queue, over a span of
// time. They add up.
type Figures struct {
	N [NumCounts]int64
	// Waits are how long jobs were ready before each start, and Runs how long the attempts
	// took that got their jobs done.
	Waits, Runs Sketch
}

// Merge adds other figures.
func (f *Figures) Merge(o *Figures) {
	f.add(o)
	f.Waits.Merge(&o.Waits)
	f.Runs.Merge(&o.Runs)
}

// add adds other counts.
func (f *Figures) add(o *Figures) {
	for c, n := range o.N {
		f.N[c] += n
	}
}

// Reset empties the figures and keeps their room.
func (f *Figures) Reset() {
	f.N = [NumCounts]int64{}
	f.Waits.Reset()
	f.Runs.Reset()
}

// In is how many jobs came, new and requeued, and Out how many finished.
func (f *Figures) In() int64 { return f.N[Enqueued] + f.N[Requeued] }

// Out goes with [Figures.In].
func (f *Figures) Out() int64 { return f.N[Done] + f.N[Dead] + f.N[Skipped] + f.N[Cancelled] }

func (f *Figures) moves() (n int64) {
	for _, k := range f.N {
		n += k
	}
	return n
}

func (f *Figures) appendCounts(b []byte) []byte {
	filled := uint64(0)
	for c, n := range f.N {
		if n != 0 {
			filled |= 1 << c
		}
	}
	b = binary.AppendUvarint(b, filled)
	for _, n := range f.N {
		if n != 0 {
			b = binary.AppendUvarint(b, uint64(n))
		}
	}
	return b
}

func (f *Figures) readCounts(r *packed.Reader) {
	filled := r.Unsigned()
	for ; filled != 0; filled &= filled - 1 {
		if c := bits.TrailingZeros64(filled); c < int(NumCounts) {
			f.N[c] = r.Int()
		} else {
			r.Fail()
		}
	}
}

func (f *Figures) timed() bool { return f.Waits.count+f.Runs.count > 0 }

func (f *Figures) appendSpans(b []byte) []byte {
	return appendSized(appendSized(b, &f.Waits), &f.Runs)
}

// appendSized appends a sketch behind its length.
func appendSized(b []byte, s *Sketch) []byte {
	if s.count == 0 {
		return append(b, 0)
	}
	const room = 2 // for the length of most
	at := len(b)
	b = s.append(append(b, make([]byte, room)...))
	var length [binary.MaxVarintLen64]byte
	n := binary.PutUvarint(length[:], uint64(len(b)-at-room))
	return slices.Replace(b, at, at+room, length[:n]...)
}

func (f *Figures) readSpans(r *packed.Reader) {
	for _, s := range []*Sketch{&f.Waits, &f.Runs} {
		if err := s.UnmarshalBinary(r.Bytes()); err != nil {
			r.Fail()
		}
	}
}

// Rest is the series of all that are beyond the number that is kept apart, and of those that
// have no series; None is no series.
const (
	None int64 = iota
	Rest
	// FirstSeries is the lowest number of a series of its own.
	FirstSeries
)

// Series are figures by the numbers of their series, over one span of time.
type Series map[int64]*Figures

// Of gives the figures of a series, made where there are none. Where there are already so
// many others they are those of the rest.
func (s Series) Of(id int64, most int) *Figures {
	if f := s[id]; f != nil {
		return f
	}
	if len(s) >= most {
		if f := s[Rest]; f != nil {
			return f
		}
		id = Rest
	}
	f := new(Figures)
	s[id] = f
	return f
}

// Merge adds other series.
func (s Series) Merge(o Series, most int) {
	for id, f := range o {
		s.Of(id, most).Merge(f)
	}
}

// Trimmed gives the series with the most moves, so many at most, and the rest as one.
func (s Series) Trimmed(most int) Series {
	if len(s) <= most {
		return s
	}
	kept := make(Series, most+1)
	for _, id := range s.busiest() {
		if id != Rest {
			kept.Of(id, most).Merge(s[id])
		}
	}
	if rest := s[Rest]; rest != nil {
		kept.Of(Rest, most).Merge(rest)
	}
	return kept
}

// Pack writes series as they are stored: their counts, and, apart since most questions do not
// need them, how long things took. That takes so many bytes at most: where it would take more,
// it is left out of the series with the fewest moves.
func (s Series) Pack(most int) (counts, spans []byte) {
	last, lastTimed := int64(0), int64(0)
	timed := s.timedWithin(most)
	for _, id := range slices.Sorted(maps.Keys(s)) {
		f := s[id]
		counts = binary.AppendUvarint(counts, uint64(id-last))
		counts = f.appendCounts(counts)
		last = id
		if b := timed[id]; b != nil {
			spans = binary.AppendUvarint(spans, uint64(id-lastTimed))
			spans = append(spans, b...)
			lastTimed = id
		}
	}
	return counts, spans
}

// timedWithin packs how long things took, of the busiest series first, as far as the room
// reaches.
func (s Series) timedWithin(room int) map[int64][]byte {
	packed := make(map[int64][]byte, len(s))
	for _, id := range s.busiest() {
		if f := s[id]; f.timed() {
			b := f.appendSpans(nil)
			if room -= len(b) + binary.MaxVarintLen64; room < 0 {
				break
			}
			packed[id] = b
		}
	}
	return packed
}

// busiest are the numbers of the series, those with the most moves first.
func (s Series) busiest() []int64 {
	ids := slices.Collect(maps.Keys(s))
	slices.SortFunc(ids, func(a, b int64) int {
		return cmp.Or(cmp.Compare(s[b].moves(), s[a].moves()), cmp.Compare(a, b))
	})
	return ids
}

// Unpack adds what Pack has written, of the series that are wanted.
func (s Series) Unpack(counts, spans []byte, wanted func(id int64) bool) error {
	r := packed.Read(counts)
	for id := int64(0); r.More(); {
		id += r.Int()
		var f Figures
		f.readCounts(r)
		if r.Err() == nil && wanted(id) {
			s.Of(id, len(s)+1).add(&f)
		}
	}
	if r.Err() != nil {
		return r.Err()
	}
	r = packed.Read(spans)
	for id := int64(0); r.More(); {
		id += r.Int()
		waits, runs := r.Bytes(), r.Bytes()
		if r.Err() == nil && wanted(id) {
			f := s.Of(id, len(s)+1)
			if err := errors.Join(f.Waits.add(waits), f.Runs.add(runs)); err != nil {
				return err
			}
		}
	}
	return r.Err()
}

// Failure is what failed attempts and dead jobs are counted by: the cause, where the jobs
// belong, and the program that they failed in. All but the cause are numbers of series.
type Failure struct {
	Cause                      int64
	Queue, Task, Version, Host int64
}

// Failures count failed attempts and jobs that died, over one span of time.
type Failures map[Failure]*Deaths

// Deaths are how many attempts failed, and how many jobs died.
type Deaths struct{ Failed, Dead int64 }

// Of gives the counts of a failure, made where there are none. Beyond so many, hosts and
// versions are no longer told apart, and beyond twice as many all are one.
func (s Failures) Of(at Failure, most int) *Deaths {
	for _, at := range []Failure{at, {Cause: at.Cause, Queue: at.Queue, Task: at.Task, Version: Rest, Host: Rest}, {Queue: Rest, Task: Rest, Version: Rest, Host: Rest}} {
		if n := s[at]; n != nil {
			return n
		}
		if len(s) < most || at.Cause == 0 {
			n := new(Deaths)
			s[at] = n
			return n
		}
		most = 2 * most
	}
	panic("unreachable: the last has no cause")
}

// Merge adds other failures.
func (s Failures) Merge(o Failures, most int) {
	for at, n := range o {
		into := s.Of(at, most)
		into.Failed += n.Failed
		into.Dead += n.Dead
	}
}

// Pack writes failures as they are stored.
func (s Failures) Pack() (b []byte) {
	for at, n := range s {
		for _, v := range []int64{at.Cause, at.Queue, at.Task, at.Version, at.Host, n.Failed, n.Dead} {
			b = binary.AppendUvarint(b, uint64(v))
		}
	}
	return b
}

// Unpack adds what Pack has written.
func (s Failures) Unpack(b []byte) error {
	r := packed.Read(b)
	for r.More() {
		at := Failure{r.Int(), r.Int(), r.Int(), r.Int(), r.Int()}
		n := Deaths{r.Int(), r.Int()}
		if r.Err() == nil {
			into := s.Of(at, len(s)+1)
			into.Failed += n.Failed
			into.Dead += n.Dead
		}
	}
	return r.Err()
}

// Moved is what moved of the jobs that belong to some series: of each kind one, or none.
type Moved struct {
	Of [NumKinds]int64
	*Figures
}

// Delta is what the n-th of the commits that have moved something has moved, at a time. Starts
// are the jobs that it started, as others pack them.
type Delta struct {
	N        int64
	At       job.Time
	Moved    []Moved
	Failures Failures
	Starts   []byte
}

// Append appends a delta as it is stored.
func (d *Delta) Append(b []byte) []byte {
	b = binary.AppendVarint(binary.AppendUvarint(b, uint64(d.N)), int64(d.At))
	b = binary.AppendUvarint(b, uint64(len(d.Moved)))
	for _, m := range d.Moved {
		for _, id := range m.Of {
			b = binary.AppendUvarint(b, uint64(id))
		}
		b = m.appendSpans(m.appendCounts(b))
	}
	return append(packed.AppendBytes(b, d.Failures.Pack()), d.Starts...)
}

// Unpack reads what Append has written.
func (d *Delta) Unpack(b []byte) error {
	r := packed.Read(b)
	*d = Delta{N: r.Int(), At: job.Time(r.Signed()), Failures: Failures{}}
	for n := r.Unsigned(); n > 0 && r.Err() == nil; n-- {
		m := Moved{Figures: new(Figures)}
		for kind := range m.Of {
			m.Of[kind] = r.Int()
		}
		m.readCounts(r)
		m.readSpans(r)
		d.Moved = append(d.Moved, m)
	}
	if err := d.Failures.Unpack(r.Bytes()); err != nil {
		return err
	}
	d.Starts = r.Rest()
	return r.Err()
}
