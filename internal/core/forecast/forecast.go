// Package forecast reckons how a queue will fare: when no job waits any more, how many slots
// that takes by a time, how long jobs wait in the long run, and what keeps it from going
// faster. It goes by how fast jobs came lately and how long their runs take, and by how much
// both vary; it knows nothing of what is new.
//
// While jobs wait, the number that do is taken for a Brownian motion with drift, as renewal
// processes become in the long run (Kleinrock, Queueing Systems II, 1976, chapter 2: the
// diffusion approximation): it begins at W and drifts by λ - μ, with the variance λc²ₐ + μc²ₛ,
// where λ and μ are the rates of arrivals and of finishing and c²ₐ, c²ₛ the squared coefficients
// of variation of the spans between them. When it is first at nothing has the inverse Gaussian
// distribution (Schrödinger 1915). What is not known of the drift itself is averaged over. In
// the long run jobs wait as Allen and Cunneen approximate it for
// G/G/c (Allen, Probability, Statistics and Queueing Theory, 1990, section 5.3), and Little's
// law (Little 1961) gives how many wait.
package forecast

import (
	"math"
	"time"
)

// Queue is what a forecast goes by.
type Queue struct {
	// Waiting is how many jobs wait to be started, and Running how many are run, in so many
	// Slots.
	Waiting, Running int64
	Slots            int
	// Come is how fast jobs come.
	Come Rate
	// Run is how long an attempt takes, and Attempts how many a job takes, on average: at
	// least 1.
	Run      Span
	Attempts float64
	// Measured is how many jobs finish a minute in all slots, where jobs waited while that was
	// measured; 0 where it is not known and the run times tell.
	Measured float64
	// MaxRunning and Lanes bound how many run at once, whatever the slots; 0 for no bound.
	// PerSecond bounds the starts.
	MaxRunning, Lanes int
	PerSecond         float64
	// Coming are jobs that will come beside those that come all the time, the first ones first.
	Coming []Lump
}

// Rate is how many jobs come a minute, with the variance of the number that come in one, as
// seen in so many minutes.
type Rate struct {
	PerMinute, Variance float64
	Minutes             int
}

// Span is how long something takes: its mean and standard deviation, of so many.
type Span struct {
	Mean, Deviation time.Duration
	N               int64
}

// Lump is some jobs that come at once, after a span.
type Lump struct {
	In   time.Duration
	Jobs int64
}

// Bind is what keeps a queue from going faster.
type Bind string

// What can bind.
const (
	BySlots      Bind = "slots"
	ByMaxRunning Bind = "max_running"
	ByRate       Bind = "rate"
	ByLane       Bind = "lane"
	ByNobody     Bind = "no_worker"
	ByArrivals   Bind = "arrivals" // it could go faster if there were more to do
)

// Longest is how far ahead a forecast looks: what takes longer, takes too long to be told.
const Longest = 30 * 24 * time.Hour

// Clear is when no job waits any more: most likely, and a range that holds in nine cases of
// ten. What takes longer than [Longest] is negative: never, at this rate.
type Clear struct{ Likely, Earliest, Latest time.Duration }

// Never is the span of what does not come about at this rate.
const Never time.Duration = -1

func (q *Queue) perJob() float64 { return max(q.Attempts, 1) * q.Run.Mean.Minutes() }

// Capacity is how many jobs a minute can finish with a number of slots, and what bounds it.
func (q *Queue) Capacity(slots int) (perMinute float64, by Bind) {
	at, by := slots, BySlots
	if q.MaxRunning > 0 && q.MaxRunning < at {
		at, by = q.MaxRunning, ByMaxRunning
	}
	if q.Lanes > 0 && q.Lanes < at {
		at, by = q.Lanes, ByLane
	}
	switch {
	case slots <= 0:
		return 0, ByNobody
	case q.Measured > 0:
		perMinute = q.Measured / float64(max(q.bound(), 1)) * float64(at)
	case q.perJob() > 0:
		perMinute = float64(at) / q.perJob()
	default:
		perMinute = math.Inf(1)
	}
	if starts := q.PerSecond * 60 / max(q.Attempts, 1); q.PerSecond > 0 && starts < perMinute {
		return starts, ByRate
	}
	return perMinute, by
}

// bound is how many run at once now.
func (q *Queue) bound() int {
	at := q.Slots
	for _, most := range []int{q.MaxRunning, q.Lanes} {
		if most > 0 {
			at = min(at, most)
		}
	}
	return at
}

// Binds tells what keeps the queue from going faster: what bounds its capacity while jobs wait.
func (q *Queue) Binds() Bind {
	_, by := q.Capacity(q.Slots)
	if by != ByNobody && q.Waiting == 0 {
		return ByArrivals
	}
	return by
}

// variation is the squared coefficient of variation of the work of a job, of a number of
// attempts that is geometric.
func (q *Queue) variation() float64 {
	a := max(q.Attempts, 1)
	return q.runVariation()/a + (a-1)/a
}

func (q *Queue) runVariation() float64 {
	if q.Run.Mean <= 0 {
		return 0
	}
	c := float64(q.Run.Deviation) / float64(q.Run.Mean)
	return c * c
}

// arriving is the variance of how many jobs come in a minute: at least that of chance alone.
func (q *Queue) arriving() float64 { return max(q.Come.Variance, q.Come.PerMinute) }

// Clear tells when no job waits any more with a number of slots.
func (q *Queue) Clear(slots int) Clear {
	capacity, by := q.Capacity(slots)
	left := float64(q.Waiting)
	if by != ByRate { // slots that are free take a job at once
		left -= max(float64(q.boundOf(slots))-float64(q.Running), 0)
	}
	if left <= 0 || math.IsInf(capacity, 1) {
		return Clear{}
	}
	// Variances a minute of the backlog, and of the drift itself, which is known only as well
	// as what was seen tells.
	moving, unsure := q.arriving(), 0.0
	if q.Come.Minutes > 0 {
		unsure = q.arriving() / float64(q.Come.Minutes)
	}
	if by != ByRate {
		moving += capacity * q.variation()
		if q.Run.N > 0 {
			unsure += capacity * capacity * q.variation() / float64(q.Run.N)
		}
	}
	drift, unsure := capacity-q.Come.PerMinute, math.Sqrt(unsure)
	chance := func(minutes float64) (sum float64) {
		waiting := left
		for _, l := range q.Coming {
			if l.In.Minutes() <= minutes {
				waiting += float64(l.Jobs)
			}
		}
		for _, n := range nodes {
			sum += n.weight * reached(minutes, waiting, drift+n.at*unsure, moving)
		}
		return sum
	}
	return Clear{Likely: first(chance, 0.5), Earliest: first(chance, 0.05), Latest: first(chance, 0.95)}
}

// nodes are those of Gauss and Hermite by which a function of a normal value is averaged.
var nodes = []struct{ at, weight float64 }{{0, 8.0 / 15}, {1.3556262, 0.2220759}, {-1.3556262, 0.2220759}, {2.8569700, 0.0112574}, {-2.8569700, 0.0112574}}

// reached is the chance that a Brownian motion with drift has gone a way after a time: the
// distribution of the inverse Gaussian. Its second term is a product of a factor that may be
// huge with one that may be tiny; with Mills' ratio neither is.
func reached(time, way, drift, variance float64) float64 {
	if variance <= 0 {
		if drift*time >= way {
			return 1
		}
		return 0
	}
	scale := math.Sqrt(variance * time)
	ahead, behind := (drift*time-way)/scale, (drift*time+way)/scale
	if behind < 0 {
		return normal(ahead) + math.Exp(2*drift*way/variance)*normal(-behind)
	}
	return normal(ahead) + math.Exp(-ahead*ahead/2)/math.Sqrt(2*math.Pi)*mills(behind)
}

// normal is the distribution of the standard normal.
func normal(x float64) float64 { return math.Erfc(-x/math.Sqrt2) / 2 }

// mills is Mills' ratio: (1 - Φ(x))/φ(x); for large x by its continued fraction (Laplace).
func mills(x float64) float64 {
	const large, terms = 5, 40
	if x < large {
		return normal(-x) * math.Sqrt(2*math.Pi) * math.Exp(x*x/2)
	}
	f := x
	for i := terms; i > 0; i-- {
		f = x + float64(i)/f
	}
	return 1 / f
}

// first finds the first span after which a chance is as large as asked for; Never where that
// is not within [Longest].
func first(chance func(minutes float64) float64, asked float64) time.Duration {
	const finest, growth = 1.0 / 600, 1.08
	low := 0.0
	for high := finest; ; high *= growth {
		high = min(high, Longest.Minutes())
		if chance(high) >= asked {
			for range 30 {
				if middle := (low + high) / 2; chance(middle) >= asked {
					high = middle
				} else {
					low = middle
				}
			}
			return time.Duration(high * float64(time.Minute))
		}
		if low = high; high >= Longest.Minutes() {
			return Never
		}
	}
}

// mostSlots bounds the slots that are looked for.
const mostSlots = 100_000

// Needs tells how many slots it takes for no job to wait after a span: most likely, and in
// nine cases of ten; 0 where no number of slots will do.
func (q *Queue) Needs(by time.Duration) (likely, sure int) {
	least := func(of func(Clear) time.Duration) int {
		fits := func(n int) bool {
			at := of(q.Clear(n))
			return at >= 0 && at <= by
		}
		if !fits(mostSlots) {
			return 0
		}
		low, high := 0, mostSlots
		for high-low > 1 {
			if middle := (low + high) / 2; fits(middle) {
				high = middle
			} else {
				low = middle
			}
		}
		return high
	}
	return least(func(c Clear) time.Duration { return c.Likely }), least(func(c Clear) time.Duration { return c.Latest })
}

// Utilisation is which share of the capacity is used up by the jobs that come.
func (q *Queue) Utilisation(slots int) float64 {
	capacity, _ := q.Capacity(slots)
	if capacity <= 0 {
		if q.Come.PerMinute > 0 {
			return math.Inf(1)
		}
		return 0
	}
	return q.Come.PerMinute / capacity
}

// Wait is how long jobs wait to be started in the long run, and how many wait then; Never
// where more come than can finish.
func (q *Queue) Wait(slots int) (wait time.Duration, waiting float64) {
	n := min(slots, max(q.boundOf(slots), 1))
	use := q.Utilisation(slots)
	if use >= 1 || slots <= 0 {
		return Never, math.Inf(1)
	}
	if q.Come.PerMinute <= 0 || q.Run.Mean <= 0 {
		return 0, 0
	}
	starts := q.Come.PerMinute * max(q.Attempts, 1)
	offered := use * float64(n)
	mean := offered / starts // minutes a start
	arrivals := q.arriving() / q.Come.PerMinute
	minutes := erlangC(n, offered) * mean / (float64(n) - offered) * (arrivals + q.runVariation()) / 2
	return time.Duration(minutes * float64(time.Minute)), starts * minutes
}

func (q *Queue) boundOf(slots int) int {
	with := *q
	with.Slots = slots
	return with.bound()
}

// erlangC is the chance that a job has to wait in M/M/n, by Erlang's formula, reckoned by the
// recursion of his loss formula, which does not overflow.
func erlangC(n int, offered float64) float64 {
	lost := 1.0
	for i := 1; i <= n; i++ {
		lost = offered * lost / (float64(i) + offered*lost)
	}
	use := offered / float64(n)
	return lost / (1 - use*(1-lost))
}
