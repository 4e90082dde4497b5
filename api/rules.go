package api

import (
	"fmt"
	"maps"
	"math"
	"slices"

	"humblemule.example/internal/check"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// Rules say in what order jobs of a queue start, and how many of them.
type Rules struct {
	// Order is priority (the default: the highest priority first, then the longest
	// waiting) or ageing, where a job's rank is its due time, Boost earlier for each
	// priority: one of priority p is never overtaken by one that is due later than (9-p)
	// × Boost after it.
	Order string `json:"order,omitzero"`
	// Boost is what one priority is worth under ageing, to 30d; zero means 1m.
	Boost job.Duration `json:"boost,omitzero"`
	// Turns is owner where the owners take turns, weighted by OwnerWeights (1 to 1000; 1
	// where an owner is not named); empty for none. It goes with the order priority.
	Turns        string         `json:"turns,omitzero"`
	OwnerWeights map[string]int `json:"owner_weights,omitzero"`
	// LaneOnBackoff is wait (the default), where a job that waits for its next attempt
	// keeps its lane, or pass; LaneOnDead is pass (the default) or stop, where a dead
	// letter keeps its lane until it is requeued, discarded, or the lane is told to pass.
	LaneOnBackoff string `json:"lane_on_backoff,omitzero"`
	LaneOnDead    string `json:"lane_on_dead,omitzero"`
	// MaxRunning bounds the jobs that run at once, over all pools: 1 to 100 000; nil means
	// no bound.
	MaxRunning *int `json:"max_running,omitzero"`
	// MaxWaiting bounds the jobs that wait: an enqueue of more is refused. 1 to 1 000 000 000;
	// nil means no bound. Follow-ups and runs of schedules are taken all the same.
	MaxWaiting *int64 `json:"max_waiting,omitzero"`
	// Rate bounds how many start; nil for no bound.
	Rate *Rate `json:"rate,omitzero"`
}

// Describe tells in what order jobs start, and how fast.
func (r *Rules) Describe() string {
	says := "by priority"
	switch {
	case r.Order == OrderAgeing:
		says = fmt.Sprintf("by due time, %s earlier for each priority", r.Boost)
	case r.Turns != "":
		says = "by priority, owners take turns"
	}
	if r.Rate != nil {
		says += fmt.Sprintf(", at most %v a second", r.Rate.PerSecond)
	}
	return says
}

// Rate is how many jobs may start: in every span of d seconds at most Burst +
// PerSecond × d.
type Rate struct {
	// PerSecond is above 0, to 100 000.
	PerSecond float64 `json:"per_second"`
	// Burst is 1 to 100 000, how many may start at once after a quiet time; nil means 1.
	Burst *int `json:"burst,omitzero"`
}

// WithDefaults gives a rate with its default.
func (r Rate) WithDefaults() Rate {
	if r.Burst == nil {
		one := 1
		r.Burst = &one
	}
	return r
}

// The words of rules.
const (
	OrderPriority   = "priority"
	OrderAgeing     = "ageing"
	TurnsOwner      = "owner"
	LaneWaits       = "wait"
	LanePasses      = "pass"
	LaneStops       = "stop"
	MaxRunningLimit = 100_000
	// MaxOwnerWeights bounds the owners that have a weight of their own.
	MaxOwnerWeights = 1000
)

// WithDefaults gives the rules with their defaults.
func (r Rules) WithDefaults() Rules {
	orElse := func(s *string, word string) {
		if *s == "" {
			*s = word
		}
	}
	orElse(&r.Order, OrderPriority)
	orElse(&r.LaneOnBackoff, LaneWaits)
	orElse(&r.LaneOnDead, LanePasses)
	if r.Order == OrderAgeing && r.Boost == 0 {
		r.Boost = defaultBoost
	}
	if r.Rate != nil {
		whole := r.Rate.WithDefaults()
		r.Rate = &whole
	}
	return r
}

// Full tells whether so many running jobs are as many as there may be.
func (r *Rules) Full(running int64) bool {
	return r.MaxRunning != nil && running >= int64(*r.MaxRunning)
}

// Weight is that of an owner; the one without a name stands for all jobs without one.
func (r *Rules) Weight(owner string) int { return max(r.OwnerWeights[owner], 1) }

// SameOrder tells whether jobs stand in the same places by both rules, which are whole.
func (r *Rules) SameOrder(other *Rules) bool {
	return r.Order == other.Order && r.Boost == other.Boost && r.Turns == other.Turns
}

func (r *Rules) check(ofQueue bool) []job.FieldError {
	var c check.List
	if r.MaxRunning != nil && (*r.MaxRunning < 1 || *r.MaxRunning > MaxRunningLimit) {
		c.Add("max_running", "%d is outside 1 to %d; leave it out for no bound, or pause the queue where nothing may run", *r.MaxRunning, MaxRunningLimit)
	}
	if !ofQueue {
		given := map[string]bool{
			"order": r.Order != "", "boost": r.Boost != 0, "turns": r.Turns != "", "owner_weights": r.OwnerWeights != nil,
			"lane_on_backoff": r.LaneOnBackoff != "", "lane_on_dead": r.LaneOnDead != "", "rate": r.Rate != nil, "max_waiting": r.MaxWaiting != nil,
		}
		for _, name := range slices.Sorted(maps.Keys(given)) {
			if given[name] {
				c.Add(name, "cannot be set for a task; set it for its queue")
			}
		}
		return c
	}
	c.OneOf("order", r.Order, OrderPriority, OrderAgeing)
	c.OneOf("turns", r.Turns, TurnsOwner)
	c.OneOf("lane_on_backoff", r.LaneOnBackoff, LaneWaits, LanePasses)
	c.OneOf("lane_on_dead", r.LaneOnDead, LanePasses, LaneStops)
	switch {
	case r.Boost < 0 || r.Boost > longestBoost:
		c.Add("boost", "%s is outside 1ms to 30d", r.Boost)
	case r.Boost != 0 && r.Order != OrderAgeing:
		c.Add("boost", "belongs to the order ageing; the order here is priority")
	}
	if r.MaxWaiting != nil && (*r.MaxWaiting < 1 || *r.MaxWaiting > mostWaiting) {
		c.Add("max_waiting", "%d is outside 1 to %d; leave it out for no bound", *r.MaxWaiting, mostWaiting)
	}
	if r.Turns != "" && r.Order == OrderAgeing {
		c.Add("turns", "cannot be combined with the order ageing: turns already keep any owner from starving; leave one of the two out")
	}
	r.checkWeights(&c)
	if r.Rate != nil {
		r.Rate.check(&c)
	}
	return c
}

func (r *Rules) checkWeights(c *check.List) {
	if len(r.OwnerWeights) > MaxOwnerWeights {
		c.Add("owner_weights", "are %d; at most %d are taken, and others weigh 1", len(r.OwnerWeights), MaxOwnerWeights)
	}
	if r.OwnerWeights != nil && r.Turns == "" {
		c.Add("owner_weights", "need turns: owner")
	}
	for _, owner := range slices.Sorted(maps.Keys(r.OwnerWeights)) {
		c.Word("owner_weights."+text.Shorten(owner), owner, job.MaxWordBytes)
		if w := r.OwnerWeights[owner]; w < 1 || w > mostWeight {
			c.Add("owner_weights."+text.Shorten(owner), "%d is outside 1 to %d", w, mostWeight)
		}
	}
}

func (r *Rate) check(c *check.List) {
	if math.IsNaN(r.PerSecond) || r.PerSecond <= 0 || r.PerSecond > mostPerSec {
		c.Add("rate.per_second", "%v is not above 0, to %d; pause the queue where nothing may start", r.PerSecond, mostPerSec)
	} else if r.PerSecond < 1e-5 {
		c.Add("rate.per_second", "%v is less than one start a day", r.PerSecond)
	}
	if r.Burst != nil && (*r.Burst < 1 || *r.Burst > mostPerSec) {
		c.Add("rate.burst", "%d is outside 1 to %d", *r.Burst, mostPerSec)
	}
}

const (
	defaultBoost = job.Duration(60e9)
	longestBoost = job.Duration(30 * day)
	mostPerSec   = 100_000
	mostWaiting  = 1_000_000_000
	mostWeight   = 1000
)
