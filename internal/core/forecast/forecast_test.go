package forecast

import (
	"container/heap"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// site is a queue that is simulated: jobs come one by one or several at once, and take spans
// that are spread more or less.
type site struct {
	perMinute float64
	atOnce    int
	mean      float64 // minutes
	sigma     float64 // of the logarithm
	slots     int
	fails     float64
}

func (s *site) work(r *rand.Rand) (minutes float64, attempts []float64) {
	for {
		one := s.mean * math.Exp(s.sigma*r.NormFloat64()-s.sigma*s.sigma/2)
		minutes += one
		attempts = append(attempts, one)
		if r.Float64() >= s.fails {
			return minutes, attempts
		}
	}
}

// seen is what a service would have seen of the site in so many minutes.
func (s *site) seen(r *rand.Rand, minutes int) Queue {
	var sum, squares float64
	for range minutes {
		n := 0.0
		for at := r.ExpFloat64() * float64(s.atOnce) / s.perMinute; at < 1; at += r.ExpFloat64() * float64(s.atOnce) / s.perMinute {
			n += float64(s.atOnce)
		}
		sum += n
		squares += n * n
	}
	k := float64(minutes)
	q := Queue{Slots: s.slots, Come: Rate{PerMinute: sum / k, Variance: squares/k - sum*sum/k/k, Minutes: minutes}}
	var spans []float64
	jobs := 0
	for range max(int(sum), 30) {
		_, attempts := s.work(r)
		spans = append(spans, attempts...)
		jobs++
	}
	mean, deviation := 0.0, 0.0
	for _, x := range spans {
		mean += x / float64(len(spans))
	}
	for _, x := range spans {
		deviation += (x - mean) * (x - mean) / float64(len(spans))
	}
	span := func(minutes float64) time.Duration { return time.Duration(minutes * float64(time.Minute)) }
	q.Run = Span{Mean: span(mean), Deviation: span(math.Sqrt(deviation)), N: int64(len(spans))}
	q.Attempts = float64(len(spans)) / float64(jobs)
	return q
}

type ends []float64

func (e ends) Len() int           { return len(e) }
func (e ends) Less(i, j int) bool { return e[i] < e[j] }
func (e ends) Swap(i, j int)      { e[i], e[j] = e[j], e[i] }
func (e *ends) Push(x any)        { *e = append(*e, x.(float64)) }
func (e *ends) Pop() any          { last := (*e)[len(*e)-1]; *e = (*e)[:len(*e)-1]; return last }

// run simulates the site event by event with jobs waiting at first: it tells when none waits
// any more and, where it goes on to a time, how long jobs waited on average.
func (s *site) run(r *rand.Rand, waiting int, until float64) (clear, meanWait float64) {
	var busy ends
	queue := make([]float64, waiting)
	for range s.slots {
		if waiting > 0 { // while jobs wait, no slot is free
			// Of a run that is under way at a moment: the longer it is, the likelier it is met.
			met := s.mean / (1 - s.fails) * math.Exp(s.sigma*r.NormFloat64()+s.sigma*s.sigma/2)
			heap.Push(&busy, met*r.Float64())
		}
	}
	next := r.ExpFloat64() * float64(s.atOnce) / s.perMinute
	var waited, started float64
	clear = -1
	for now := 0.0; ; {
		for len(busy) < s.slots && len(queue) > 0 {
			waited += now - queue[0]
			started++
			queue = queue[1:]
			took, _ := s.work(r)
			heap.Push(&busy, now+took)
		}
		if len(queue) == 0 && clear < 0 {
			clear = now
		}
		if (clear >= 0 && until == 0) || (until > 0 && now > until) || now > 1e6 {
			return clear, waited / max(started, 1)
		}
		if len(busy) > 0 && busy[0] < next {
			now = heap.Pop(&busy).(float64)
			continue
		}
		now = next
		for range s.atOnce {
			queue = append(queue, now)
		}
		next = now + r.ExpFloat64()*float64(s.atOnce)/s.perMinute
	}
}

// The range in which a queue is clear holds in at least eight runs of ten of a simulation, by
// what would have been seen of it before, for steady and bursty arrivals, even and widely
// spread run times, one slot and many, and jobs that fail; and the likely time lies amid them.
func TestClearHolds(t *testing.T) {
	r := rand.New(rand.NewPCG(6853, 16))
	for _, s := range []site{
		{perMinute: 30, atOnce: 1, mean: 0.1, sigma: 0.5, slots: 6},
		{perMinute: 30, atOnce: 1, mean: 0.1, sigma: 1.3, slots: 4},
		{perMinute: 60, atOnce: 12, mean: 0.2, sigma: 0.8, slots: 18},
		{perMinute: 4, atOnce: 1, mean: 0.15, sigma: 1, slots: 1},
		{perMinute: 20, atOnce: 1, mean: 0.3, sigma: 0.3, slots: 12, fails: 0.3},
		{perMinute: 600, atOnce: 5, mean: 0.05, sigma: 1, slots: 40},
	} {
		for _, waiting := range []int{20, 400} {
			within, early := 0, 0
			const runs = 200
			for range runs {
				q := s.seen(r, 30)
				q.Waiting, q.Running = int64(waiting), int64(s.slots)
				got, _ := s.run(r, waiting, 0)
				c := q.Clear(s.slots)
				if got >= c.Earliest.Minutes() && (c.Latest == Never || got <= c.Latest.Minutes()) {
					within++
				}
				if c.Likely == Never || got <= c.Likely.Minutes() {
					early++
				}
			}
			what := fmt.Sprintf("%+v with %d waiting: %d of %d within, %d before the likely time", s, waiting, within, runs, early)
			assert.GreaterOrEqual(t, within, runs*8/10, what)
			assert.InDelta(t, runs/2, early, runs/4, what)
			t.Log(what)
		}
	}
}

// How long jobs wait in the long run is about what a simulation gives.
func TestWaitHolds(t *testing.T) {
	r := rand.New(rand.NewPCG(6853, 17))
	for _, s := range []site{
		{perMinute: 5, atOnce: 1, mean: 0.15, sigma: 0.8, slots: 1},
		{perMinute: 34, atOnce: 1, mean: 0.1, sigma: 0.5, slots: 4},
		{perMinute: 54, atOnce: 1, mean: 0.3, sigma: 1, slots: 18},
	} {
		q := s.seen(r, 5000)
		want, waiting := q.Wait(s.slots)
		_, got := s.run(r, 0, 40_000)
		t.Logf("%+v: %.3f min reckoned, %.3f simulated", s, want.Minutes(), got)
		assert.InEpsilon(t, got, want.Minutes(), 0.25, "%+v", s)
		assert.InEpsilon(t, want.Minutes()*q.Come.PerMinute*q.Attempts, waiting, 0.01)
	}
}

// What binds is what would have to be changed; more slots help where slots bind, and nowhere
// else; and what is needed by a time is enough, and one slot fewer is not.
func TestBindsAndNeeds(t *testing.T) {
	base := Queue{Waiting: 600, Running: 6, Slots: 6, Come: Rate{PerMinute: 12, Variance: 12, Minutes: 60}, Run: Span{Mean: 20 * time.Second, Deviation: 10 * time.Second, N: 500}, Attempts: 1}
	with := func(change func(*Queue)) *Queue { q := base; change(&q); return &q }
	for bind, q := range map[Bind]*Queue{
		BySlots: with(func(*Queue) {}), ByMaxRunning: with(func(q *Queue) { q.MaxRunning = 5 }), ByLane: with(func(q *Queue) { q.Lanes = 5 }),
		ByRate: with(func(q *Queue) { q.PerSecond = 0.25 }), ByNobody: with(func(q *Queue) { q.Slots = 0 }), ByArrivals: with(func(q *Queue) { q.Waiting = 0 }),
	} {
		assert.Equal(t, bind, q.Binds())
		now, _ := q.Capacity(q.Slots)
		more, _ := q.Capacity(q.Slots + 1)
		assert.Equal(t, bind == BySlots || bind == ByNobody || bind == ByArrivals, more > now, "a slot more where %s binds", bind)
	}
	assert.InDelta(t, 100, base.Clear(6).Likely.Minutes(), 1)
	assert.Equal(t, Clear{Never, Never, Never}, base.Clear(0))
	assert.Equal(t, Never, base.Clear(3).Likely, "9 go out, and 12 come")
	assert.Zero(t, with(func(q *Queue) { q.Waiting = 0 }).Clear(0))
	likely, sure := base.Needs(20 * time.Minute)
	assert.LessOrEqual(t, base.Clear(likely).Likely, 20*time.Minute)
	assert.Greater(t, base.Clear(likely-1).Likely, 20*time.Minute)
	assert.LessOrEqual(t, base.Clear(sure).Latest, 20*time.Minute)
	assert.Greater(t, sure, likely)
	none, _ := with(func(q *Queue) { q.PerSecond = 0.25 }).Needs(20 * time.Minute)
	assert.Zero(t, none, "no number of slots goes beyond a rate")
	later := with(func(q *Queue) { q.Coming = []Lump{{In: time.Hour, Jobs: 120}} })
	assert.InDelta(t, 120, later.Clear(6).Likely.Minutes(), 1, "120 more jobs at 6 a minute")
	late := with(func(q *Queue) { q.Coming = []Lump{{In: 3 * time.Hour, Jobs: 120}} })
	assert.Equal(t, base.Clear(6).Likely, late.Clear(6).Likely, "what comes when it is clear")
	var times []time.Duration
	for n := 4; n < 40; n++ {
		if at := base.Clear(n).Likely; at >= 0 {
			times = append(times, -at)
		}
	}
	assert.True(t, slices.IsSorted(times), "more slots are never slower")
	for _, odd := range []Queue{{}, {Waiting: 5}, {Waiting: 5, Slots: 3}, {Waiting: -5, Slots: -3}, {Waiting: math.MaxInt64, Slots: math.MaxInt32, Come: Rate{PerMinute: math.Inf(1)}, Run: Span{Mean: time.Hour, N: 1}}} {
		odd.Clear(odd.Slots)
		odd.Needs(time.Hour)
		odd.Wait(odd.Slots)
		assert.False(t, math.IsNaN(odd.Utilisation(odd.Slots)))
	}
}
