package load

import (
	"cmp"
	"container/heap"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"

	"humblemule.example/api"
	"humblemule.example/job"
)

// Outcome is what became of a setting.
type Outcome struct {
	Setting string `json:"setting"`
	// Jobs is how many came and were taken in; Refused were not, because a queue was full.
	Jobs    int64 `json:"jobs"`
	Refused int64 `json:"refused"`
	// Finished are those by state; Unfinished had not ended when the waiting was over.
	Finished   map[job.State]int64 `json:"finished"`
	Unfinished int64               `json:"unfinished"`
	// Failures counts failed attempts.
	Failures int64 `json:"failures"`
	// PerSecond is how many were done a second, from the first arrival to the last end.
	PerSecond float64 `json:"per_second"`
	// DrainedMS is from the last arrival to the last end; -1 where something was unfinished.
	DrainedMS float64 `json:"drained_ms"`
	// Busy is the share of the slots' time in which handlers ran.
	Busy float64 `json:"busy"`
	// Wait is from when a job was to come to its first start.
	Wait Waits `json:"wait"`
	// Fairness is Jain's index over the owners' slowdowns: 1 where others slow all down alike,
	// 1/n where they slow down one of n alone; 0 where there are fewer than two owners.
	// Source: Jain, Chiu and Hawe, A Quantitative Measure of Fairness and Discrimination, 1984.
	Fairness float64 `json:"fairness"`
	// Slowdowns tell of each owner how many times as long its jobs took, from when they were to
	// come to the end of a first run, as they would have if there had been no others: the same
	// slots, first come, first served. Source: Mutlu and Moscibroda, Stall-Time Fair Memory
	// Access Scheduling, 2007, who compare what shares memory so.
	Slowdowns map[string]float64 `json:"slowdowns,omitempty"`
	// Starved are jobs that waited more than a second and ten times as long as if their owner
	// had been alone, or were never started.
	Starved int64 `json:"starved"`
	// Longest is the job that waited longest.
	Longest *Longest `json:"longest,omitempty"`
	// Groups are the waits by stream, by priority and by owner.
	Groups []Group `json:"groups"`
	// LateP99MS is how long after its time all but one in a hundred jobs was taken in at the
	// most: where that is much, it was the load that was slow.
	LateP99MS float64 `json:"late_p99_ms"`
}

// Waits are waits in ms: what half of the jobs, 19 of 20, 99 of 100 and all waited at most.
type Waits struct {
	P50MS float64 `json:"p50_ms"`
	P95MS float64 `json:"p95_ms"`
	P99MS float64 `json:"p99_ms"`
	MaxMS float64 `json:"max_ms"`
}

// Longest is the job that waited longest, or has not started at all.
type Longest struct {
	Stream   string  `json:"stream"`
	Priority int     `json:"priority"`
	Owner    string  `json:"owner,omitempty"`
	WaitMS   float64 `json:"wait_ms"`
	Started  bool    `json:"started"`
}

// Group are the jobs that have something in common.
type Group struct {
	// Kind is stream, priority or owner.
	Kind string `json:"kind"`
	Name string `json:"name"`
	Jobs int    `json:"jobs"`
	Wait Waits  `json:"wait"`
}

// Fingerprint tells two loads apart: it is the same where the same jobs come at the same
// moments.
func Fingerprint(all []Arrival) string {
	h := sha256.New()
	for i := range all {
		fmt.Fprintf(h, "%+v\n", all[i])
	}
	return hex.EncodeToString(h.Sum(nil))[:12]
}

func waitsOf(ms []float64) Waits {
	if len(ms) == 0 {
		return Waits{}
	}
	slices.Sort(ms)
	at := func(q float64) float64 { return ms[int(q*float64(len(ms)-1))] }
	return Waits{at(0.5), at(0.95), at(0.99), at(1)}
}

func millis(d time.Duration) float64 { return d.Seconds() * 1000 }

// outcome is told when pools and producers have ended. A job that was never started has
// waited until then.
func (r *run) outcome(stats *api.Stats) Outcome {
	o := Outcome{
		Setting: r.setting.Name, Jobs: r.came.Load(), Refused: r.refused.Load(), Finished: map[job.State]int64{},
		Unfinished: unfinished(stats), Failures: r.failures.Load(), DrainedMS: -1, LateP99MS: waitsOf(spans(r.late)).P99MS,
	}
	for _, s := range job.FinishedStates() {
		o.Finished[s] = stats.Counts[s]
	}
	over, last := time.Since(r.began), time.Duration(0)
	waits := map[int]float64{}
	for n := range r.arrivals {
		started := time.Duration(r.started[n].Load())
		if started == refused {
			continue
		}
		if started == 0 {
			started = over
		}
		waits[n] = millis(max(started-r.arrivals[n].At, 0))
		last = max(last, time.Duration(r.ended[n].Load()))
	}
	if o.Unfinished > 0 {
		last = over
	} else if len(r.arrivals) > 0 {
		o.DrainedMS = millis(max(last-r.arrivals[len(r.arrivals)-1].At, 0))
	}
	if last > 0 {
		o.PerSecond = float64(o.Finished[job.Done]) / last.Seconds()
		o.Busy = float64(r.busy.Load()) / float64(r.slots()) / float64(last)
	}
	r.compare(&o, waits)
	return o
}

func spans(all []time.Duration) []float64 {
	ms := make([]float64, len(all))
	for i, d := range all {
		ms[i] = millis(d)
	}
	return ms
}

func (r *run) slots() (n int) {
	for _, p := range r.setting.Pools {
		n += max(p.Count, 1) * max(p.Slots, p.MaxSlots)
	}
	return n
}

// compare tells of the waits: of all, of groups, and who was starved.
func (r *run) compare(o *Outcome, waits map[int]float64) {
	o.Wait = waitsOf(slices.Collect(maps.Values(waits)))
	alone := r.alone()
	by := map[string]map[string][]float64{"stream": {}, "priority": {}, "owner": {}}
	for n, ms := range waits {
		a := &r.arrivals[n]
		started := r.started[n].Load() != 0
		if ms > max(10*alone[n], 1000) || !started {
			o.Starved++
		}
		if o.Longest == nil || ms > o.Longest.WaitMS {
			o.Longest = &Longest{a.Stream, a.Priority, a.Owner, ms, started}
		}
		for kind, name := range map[string]string{"stream": a.Stream, "priority": strconv.Itoa(a.Priority), "owner": a.Owner} {
			if name != "" {
				by[kind][name] = append(by[kind][name], ms)
			}
		}
	}
	for _, kind := range []string{"stream", "priority", "owner"} {
		for _, name := range slices.Sorted(maps.Keys(by[kind])) {
			ms := by[kind][name]
			o.Groups = append(o.Groups, Group{kind, name, len(ms), waitsOf(ms)})
		}
	}
	slices.SortStableFunc(o.Groups, func(a, b Group) int {
		if a.Kind != b.Kind || a.Kind == "stream" {
			return 0
		}
		if a.Kind == "priority" {
			return -cmp.Compare(a.Name, b.Name)
		}
		return -cmp.Compare(a.Jobs, b.Jobs)
	})
	o.Slowdowns = r.slowdowns(waits, alone)
	o.Fairness = jain(slices.Collect(maps.Values(o.Slowdowns)))
}

// alone simulates for each arrival how long it would wait, in ms, if there were no owners but
// its own: the same slots, first come, first served.
func (r *run) alone() []float64 {
	free, waits := map[string]*slots{}, make([]float64, len(r.arrivals))
	for n := range r.arrivals { // in the order in which they come
		a := &r.arrivals[n]
		if free[a.Owner] == nil {
			s := make(slots, r.slots())
			free[a.Owner] = &s
		}
		waits[n] = millis(free[a.Owner].start(a.At, a.Run) - a.At)
	}
	return waits
}

// slowdowns compares each owner's jobs with what they would be alone.
func (r *run) slowdowns(waits map[int]float64, alone []float64) map[string]float64 {
	took, least := map[string]float64{}, map[string]float64{}
	for n, wait := range waits {
		if a := &r.arrivals[n]; a.Owner != "" {
			took[a.Owner] += wait + millis(a.Run)
			least[a.Owner] += alone[n] + millis(a.Run)
		}
	}
	all := map[string]float64{}
	for owner, ms := range took {
		const shortest = 1 // a job that takes no time is not slowed down without end
		all[owner] = max(ms, shortest) / max(least[owner], shortest)
	}
	return all
}

// slots are when each of some slots is free, as a heap.
type slots []time.Duration

// start takes the slot that is free first for a job that comes at a time, and tells when it
// starts.
func (s *slots) start(at, takes time.Duration) time.Duration {
	start := max(at, (*s)[0])
	(*s)[0] = start + takes
	heap.Fix(s, 0)
	return start
}

// Len is heap.Interface's, as are the others below.
func (s slots) Len() int { return len(s) }

// Less tells which is free first.
func (s slots) Less(i, j int) bool { return s[i] < s[j] }

// Swap changes two places.
func (s slots) Swap(i, j int) { s[i], s[j] = s[j], s[i] }

// Push is not needed: there are always as many.
func (s *slots) Push(any) {}

// Pop goes with Push.
func (s *slots) Pop() any { return nil }

// jain is his index of how alike values are.
func jain(all []float64) float64 {
	if len(all) < 2 {
		return 0
	}
	sum, squares := 0.0, 0.0
	for _, v := range all {
		sum, squares = sum+v, squares+v*v
	}
	return sum * sum / (float64(len(all)) * squares)
}
