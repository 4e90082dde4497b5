package load

import (
	"cmp"
	"hash/fnv"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"time"

	"humblemule.example/job"
)

// Arrival is a job that comes.
type Arrival struct {
	// At is when it comes, since the beginning.
	At time.Duration
	// Stream is the name of its stream, and N its number within that.
	Stream   string
	N        int
	Run      time.Duration
	Bytes    int
	Priority int
	Owner    string
	Lane     string
}

// Arrivals draws all jobs that come, in their order. The same plan gives the same ones; when
// a stream's jobs come does not bear on what they are, nor one stream on another.
func (p *Plan) Arrivals() (all []Arrival) {
	for _, name := range slices.Sorted(maps.Keys(p.Streams)) {
		s := p.Streams[name]
		what := drawer(p.Seed, name+" is")
		priorities, owners := sharesOf(s.Priorities), sharesOf(s.Owners)
		for n, at := range s.Arrivals.times(drawer(p.Seed, name+" comes"), p.For.Go()) {
			a := Arrival{
				At: at, Stream: name, N: n, Priority: job.DefaultPriority,
				Run: s.RunTime.draw(what, longestRun).Go(), Bytes: int(s.PayloadBytes.draw(what, mostBytes)),
			}
			if word := priorities.draw(what); word != "" {
				a.Priority, _ = strconv.Atoi(word) // it was checked
			}
			a.Owner = owners.draw(what)
			if s.Lanes > 0 {
				a.Lane = name + "-" + strconv.Itoa(what.IntN(s.Lanes)+1)
			}
			all = append(all, a)
		}
	}
	slices.SortStableFunc(all, func(a, b Arrival) int { return cmp.Compare(a.At, b.At) })
	return all
}

// drawer draws one thing of a seed.
func drawer(seed uint64, what string) *rand.Rand {
	h := fnv.New64a()
	h.Write([]byte(what))
	return rand.New(rand.NewPCG(seed, h.Sum64()))
}

// times are when jobs come within a span.
func (a *Arrivals) times(draw *rand.Rand, span time.Duration) (all []time.Duration) {
	if b := a.Bursts; b != nil {
		for at := time.Duration(0); at < span; at += b.Every.Go() {
			all = append(all, slices.Repeat([]time.Duration{at}, b.Of)...)
		}
		return all
	}
	for seconds := 0.0; len(all) <= 2*mostArrivals; {
		if a.Poisson > 0 {
			seconds += draw.ExpFloat64() / a.Poisson
		} else {
			seconds = float64(len(all)) / a.Steady
		}
		at := time.Duration(seconds * float64(time.Second))
		if at >= span {
			break
		}
		all = append(all, at)
	}
	return all
}

// draw draws a value, none beyond the most.
func (s *Spread[T]) draw(r *rand.Rand, most T) T {
	v := float64(s.Fixed)
	switch {
	case s.Uniform != nil:
		return s.Uniform.From + T(r.Int64N(int64(s.Uniform.To-s.Uniform.From)+1))
	case s.Exponential != 0:
		v = r.ExpFloat64() * float64(s.Exponential)
	case s.LogNormal != nil:
		const z95 = 1.6448536269514722 // the 95th percentile of the standard normal distribution
		sigma := math.Log(float64(s.LogNormal.P95)/float64(s.LogNormal.Median)) / z95
		v = float64(s.LogNormal.Median) * math.Exp(sigma*r.NormFloat64())
	}
	return T(min(v, float64(most)))
}

// shares are names with how much of what is drawn each has.
type shares struct {
	names []string
	upTo  []float64
}

func sharesOf(all map[string]float64) (s shares) {
	sum := 0.0
	for _, name := range slices.Sorted(maps.Keys(all)) {
		sum += all[name]
		s.names, s.upTo = append(s.names, name), append(s.upTo, sum)
	}
	return s
}

// draw draws a name; empty where there is none.
func (s *shares) draw(r *rand.Rand) string {
	if len(s.names) == 0 {
		return ""
	}
	v := r.Float64() * s.upTo[len(s.upTo)-1]
	i, _ := slices.BinarySearchFunc(s.upTo, v, func(upTo, v float64) int {
		if upTo <= v {
			return -1
		}
		return 1
	})
	return s.names[min(i, len(s.names)-1)]
}

// fails draws whether an attempt at a job fails: it is the same whenever and wherever the
// attempt is made.
func (p *Plan) fails(a *Arrival, attempt int) bool {
	share := p.Streams[a.Stream].Fails
	return share > 0 && drawer(p.Seed, a.Stream+" fails "+strconv.Itoa(a.N)+" "+strconv.Itoa(attempt)).Float64() < share
}
