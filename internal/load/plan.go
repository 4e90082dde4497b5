// Package load runs a load that was thought out beforehand against one or two settings of
// queues and pools, one after the other, and compares what became of it: how long jobs waited,
// how many a second went through, whether owners fared alike, and who was starved. What comes
// is drawn by distributions and a seed, so that both settings meet the same jobs at the same
// moments.
package load

import (
	"fmt"
	"maps"
	"slices"
	"strconv"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/job"
)

// Plan is what a load file holds.
type Plan struct {
	// Seed draws all that is left to chance; 0 is a seed like any other.
	Seed uint64 `json:"seed,omitzero"`
	// For is how long jobs come, 1 s to 24 h.
	For job.Duration `json:"for"`
	// ThenWait is how long the rest may take when no more come; 0 means a minute.
	ThenWait job.Duration `json:"then_wait,omitzero"`
	// Streams are jobs that come alike, by names.
	Streams map[string]Stream `json:"streams"`
	// Settings are one or two, each tried on a service of its own.
	Settings []Setting `json:"settings"`
}

// Stream are jobs that come alike.
type Stream struct {
	// Task is what is to be done, the stream's name where it is empty; Queue is where its
	// jobs wait.
	Task     string   `json:"task,omitzero"`
	Queue    string   `json:"queue,omitzero"`
	Arrivals Arrivals `json:"arrivals"`
	// RunTime is how long an attempt takes; none means no time at all.
	RunTime Spread[job.Duration] `json:"run_time,omitzero"`
	// Fails is the share of attempts that fail, 0 to 1.
	Fails float64 `json:"fails,omitzero"`
	// PayloadBytes is how long payloads are; none means a few bytes.
	PayloadBytes Spread[Bytes] `json:"payload_bytes,omitzero"`
	// Priorities and Owners say how large a share of the jobs each has.
	Priorities map[string]float64 `json:"priorities,omitzero"`
	Owners     map[string]float64 `json:"owners,omitzero"`
	// Lanes is over how many lanes the jobs are spread; 0 means none.
	Lanes int `json:"lanes,omitzero"`
}

// Bytes is a length.
type Bytes int64

// Arrivals say when jobs come; one of its parts is given.
type Arrivals struct {
	// Steady is so many a second, evenly.
	Steady float64 `json:"steady,omitzero"`
	// Poisson is so many a second on average, each without regard to the others.
	Poisson float64 `json:"poisson,omitzero"`
	Bursts  *Bursts `json:"bursts,omitzero"`
}

// Bursts are so many jobs at once, again and again, the first at the beginning.
type Bursts struct {
	Of    int          `json:"of"`
	Every job.Duration `json:"every"`
}

// Spread is how a value is drawn; one of its parts is given.
type Spread[T ~int64] struct {
	Fixed       T             `json:"fixed,omitzero"`
	Uniform     *Range[T]     `json:"uniform,omitzero"`
	Exponential T             `json:"exponential,omitzero"` // its mean
	LogNormal   *LogNormal[T] `json:"lognormal,omitzero"`
}

// Range is from the least to the most, both included.
type Range[T ~int64] struct {
	From T `json:"from"`
	To   T `json:"to"`
}

// LogNormal has a long tail: half of the values are below the median, 19 of 20 below P95.
type LogNormal[T ~int64] struct {
	Median T `json:"median"`
	P95    T `json:"p95"`
}

// Setting is what is tried: settings of queues and tasks as in a set-up file, and pools.
type Setting struct {
	Name   string                  `json:"name"`
	Queues map[string]api.Defaults `json:"queues,omitzero"`
	Tasks  map[string]api.Defaults `json:"tasks,omitzero"`
	Pools  []Pool                  `json:"pools"`
}

// Pool is a worker pool that has handlers for the tasks of all streams.
type Pool struct {
	// Queues are those it serves; none means all that the streams use.
	Queues   []string       `json:"queues,omitzero"`
	Weights  map[string]int `json:"weights,omitzero"`
	Slots    int            `json:"slots"`
	MaxSlots int            `json:"max_slots,omitzero"`
	Ahead    int            `json:"ahead,omitzero"`
	// Count is how many there are of the kind; 0 means one.
	Count int `json:"count,omitzero"`
}

// The bounds of a plan.
const (
	shortestFor  = job.Duration(1e9)
	longestFor   = job.Duration(24 * 3600e9)
	longestRun   = job.Duration(3600e9)
	mostArrivals = 1_000_000
	mostBytes    = Bytes(job.MaxPayloadBytes)
	mostStreams  = 50
	mostSettings = 2
	mostSlots    = 2000
	mostShares   = 1000
)

// TaskOf is the task of a stream.
func (s *Stream) taskOf(name string) string {
	if s.Task != "" {
		return s.Task
	}
	return name
}

func (s *Stream) queueOf() string {
	if s.Queue != "" {
		return s.Queue
	}
	return job.DefaultQueue
}

// Check answers what is wrong with the plan.
func (p *Plan) Check() []job.FieldError {
	var c check.List
	if p.For < shortestFor || p.For > longestFor {
		c.Add("for", "%s is outside %s to %s; it is how long jobs arrive", p.For, shortestFor, longestFor)
	}
	if p.ThenWait < 0 || p.ThenWait > longestFor {
		c.Add("then_wait", "%s is outside 0 s to %s", p.ThenWait, longestFor)
	}
	if n := len(p.Streams); n == 0 || n > mostStreams {
		c.Add("streams", "are %d; 1 to %d are needed", n, mostStreams)
	}
	for _, name := range slices.Sorted(maps.Keys(p.Streams)) {
		s := p.Streams[name]
		s.check(&c, "streams."+name, name)
	}
	if n := len(p.Settings); n == 0 || n > mostSettings {
		c.Add("settings", "are %d; give one, or two to compare", n)
	}
	for i := range p.Settings {
		p.checkSetting(&c, i)
	}
	if len(c) == 0 {
		if n := p.expected(); n > mostArrivals {
			c.Add("streams", "bring about %.0f jobs in %s; at most %d are run", n, p.For, mostArrivals)
		}
	}
	return c
}

// expected is about how many jobs come.
func (p *Plan) expected() (n float64) {
	seconds := p.For.Go().Seconds()
	for _, s := range p.Streams {
		n += (s.Arrivals.Steady + s.Arrivals.Poisson) * seconds
		if b := s.Arrivals.Bursts; b != nil {
			n += float64(b.Of) * (1 + seconds/b.Every.Go().Seconds())
		}
	}
	return n
}

func (s *Stream) check(c *check.List, at, name string) {
	c.Name(at+".task", s.taskOf(name))
	c.Name(at+".queue", s.queueOf())
	s.Arrivals.check(c, at+".arrivals")
	s.RunTime.check(c, at+".run_time", longestRun)
	s.PayloadBytes.check(c, at+".payload_bytes", mostBytes)
	if !(s.Fails >= 0 && s.Fails <= 1) {
		c.Add(at+".fails", "%v is outside 0 to 1; it is the share of attempts that fail", s.Fails)
	}
	checkShares(c, at+".priorities", s.Priorities, func(name string) error {
		if n, err := strconv.Atoi(name); err != nil || n < 0 || n > job.MaxPriority {
			return fmt.Errorf("is not a valid priority; those are 0 to %d", job.MaxPriority)
		}
		return nil
	})
	checkShares(c, at+".owners", s.Owners, func(name string) error {
		if wrong := (&job.Spec{Task: "any", Owner: name}).Check(0); len(wrong) > 0 || name == "" {
			return fmt.Errorf("is not an owner that is kept")
		}
		return nil
	})
	if s.Lanes < 0 || s.Lanes > mostArrivals {
		c.Add(at+".lanes", "%d is outside 0 to %d", s.Lanes, mostArrivals)
	}
}

func (a *Arrivals) check(c *check.List, at string) {
	given := 0
	for _, rate := range []struct {
		name string
		n    float64
	}{{"steady", a.Steady}, {"poisson", a.Poisson}} {
		if rate.n != 0 {
			given++
			if !(rate.n > 0 && rate.n <= mostArrivals) {
				c.Add(at+"."+rate.name, "%v is outside 0 to %d; it is how many come a second", rate.n, mostArrivals)
			}
		}
	}
	if b := a.Bursts; b != nil {
		given++
		if b.Of < 1 || b.Of > mostArrivals {
			c.Add(at+".bursts.of", "%d is outside 1 to %d", b.Of, mostArrivals)
		}
		if least := job.Duration(1e6); b.Every < least {
			c.Add(at+".bursts.every", "%s is shorter than %s", b.Every, least)
		}
	}
	if given != 1 {
		c.Add(at, "is one of steady, poisson and bursts")
	}
}

// check wants one part, and no value beyond the most.
func (s *Spread[T]) check(c *check.List, at string, most T) {
	given := 0
	within := func(name string, v, least T) {
		if v < least || v > most {
			c.Add(at+"."+name, "%v is outside %v to %v", v, least, most)
		}
	}
	if s.Fixed != 0 {
		given++
		within("fixed", s.Fixed, 0)
	}
	if s.Exponential != 0 {
		given++
		within("exponential", s.Exponential, 0)
	}
	if u := s.Uniform; u != nil {
		given++
		within("uniform.from", u.From, 0)
		within("uniform.to", u.To, u.From)
	}
	if l := s.LogNormal; l != nil {
		given++
		within("lognormal.median", l.Median, 1)
		within("lognormal.p95", l.P95, l.Median)
	}
	if given > 1 {
		c.Add(at, "is one of fixed, uniform, exponential and lognormal")
	}
}

func checkShares(c *check.List, at string, all map[string]float64, name func(string) error) {
	sum := 0.0
	for _, n := range slices.Sorted(maps.Keys(all)) {
		if err := name(n); err != nil {
			c.Add(at+"."+n, "%v", err)
		}
		if share := all[n]; !(share >= 0 && share <= 1e9) {
			c.Add(at+"."+n, "%v is not a valid share; give a number from 0 on", share)
		}
		sum += all[n]
	}
	if len(all) > 0 && !(sum > 0) {
		c.Add(at, "have no share above 0")
	}
	if len(all) > mostShares {
		c.Add(at, "are %d; at most %d are drawn from", len(all), mostShares)
	}
}

func (p *Plan) checkSetting(c *check.List, i int) {
	s := &p.Settings[i]
	at := fmt.Sprintf("settings[%d]", i)
	switch {
	case s.Name == "":
		c.Add(at+".name", "is missing; it names the column of the comparison")
	case i > 0 && s.Name == p.Settings[0].Name:
		c.Add(at+".name", "%q is also the name of the other setting", s.Name)
	default:
		c.Word(at+".name", s.Name, 40)
	}
	for _, of := range []struct {
		part  string
		all   map[string]api.Defaults
		check func(*api.Defaults) []job.FieldError
	}{{"queues", s.Queues, (*api.Defaults).CheckQueue}, {"tasks", s.Tasks, (*api.Defaults).CheckTask}} {
		for _, name := range slices.Sorted(maps.Keys(of.all)) {
			d := of.all[name]
			c.Name(at+"."+of.part, name)
			for _, w := range of.check(&d) {
				c.Add(at+"."+of.part+"."+name+"."+w.Field, "%s", w.Message)
			}
		}
	}
	if len(s.Pools) == 0 {
		c.Add(at+".pools", "is empty; nothing would run")
	}
	served, slots := map[string]bool{}, 0
	for k := range s.Pools {
		pool := &s.Pools[k]
		pool.check(c, fmt.Sprintf("%s.pools[%d]", at, k))
		slots += max(pool.Count, 1) * max(pool.Slots, pool.MaxSlots)
		for _, q := range pool.queuesOf(p) {
			served[q] = true
		}
	}
	if slots > mostSlots {
		c.Add(at+".pools", "have %d slots; at most %d are run", slots, mostSlots)
	}
	for _, q := range p.queues() {
		if len(s.Pools) > 0 && !served[q] {
			c.Add(at+".pools", "leave queue %s without a pool", q)
		}
	}
}

func (p *Pool) check(c *check.List, at string) {
	for i, q := range p.Queues {
		c.Name(fmt.Sprintf("%s.queues[%d]", at, i), q)
	}
	if p.Slots < 1 || p.Slots > mostSlots {
		c.Add(at+".slots", "%d is outside 1 to %d", p.Slots, mostSlots)
	}
	if p.MaxSlots != 0 && p.MaxSlots < p.Slots {
		c.Add(at+".max_slots", "%d is less than slots", p.MaxSlots)
	}
	if p.Ahead < -1 || p.Ahead > api.MaxLeaseItems {
		c.Add(at+".ahead", "%d is outside 0 to %d; -1 chooses by the run times", p.Ahead, api.MaxLeaseItems)
	}
	if p.Count < 0 || p.Count > mostSlots {
		c.Add(at+".count", "%d is outside 1 to %d", p.Count, mostSlots)
	}
	for _, q := range slices.Sorted(maps.Keys(p.Weights)) {
		if w := p.Weights[q]; w < 1 || w > api.MaxWeight {
			c.Add(at+".weights."+q, "%d is outside 1 to %d", w, api.MaxWeight)
		}
		if !slices.Contains(p.Queues, q) {
			c.Add(at+".weights."+q, "is not one of the pool's queues")
		}
	}
}

// queues are those that the streams use.
func (p *Plan) queues() (all []string) {
	for _, s := range p.Streams {
		all = append(all, s.queueOf())
	}
	slices.Sort(all)
	return slices.Compact(all)
}

func (p *Pool) queuesOf(plan *Plan) []string {
	if len(p.Queues) > 0 {
		return p.Queues
	}
	return plan.queues()
}
