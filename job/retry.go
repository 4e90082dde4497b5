package job

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"humblemule.example/internal/check"
	"humblemule.example/internal/text"
)

// The curves of a retry.
const (
	Exponential = "exponential"
	Linear      = "linear"
	Fixed       = "fixed"
	List        = "list"
)

// MaxDelays bounds the delays of a list.
const MaxDelays = 100

// Retry says how long a failed job waits for its next attempt: d(n) after the n-th
// counted attempt of a round, drawn uniformly from d × (1 ± jitter).
//
//	exponential  d(n) = min(first × factor^(n-1), ceiling)
//	linear       d(n) = min(first + step × (n-1), ceiling)
//	fixed        d(n) = first
//	list         d(n) = the n-th of delays; the last one repeats
//
// A field that is zero takes the curve's default. A field that the curve does not
// have is refused.
type Retry struct {
	// Curve is exponential where it is empty.
	Curve string `json:"curve,omitzero"`
	// First is the wait after the first failure: 1ms to 30d; 10s for an
	// exponential curve, 30s for a linear, 1m for a fixed one.
	First Duration `json:"first,omitzero"`
	// Factor multiplies the wait each time: 1 to 100; default 2.5.
	Factor float64 `json:"factor,omitzero"`
	// Step is added each time: 1ms to 30d; default 30s.
	Step Duration `json:"step,omitzero"`
	// Ceiling bounds the wait before jitter, from First to 30d; default 8h.
	Ceiling Duration `json:"ceiling,omitzero"`
	// Delays are 1 to 100 waits of 1ms to 30d each.
	Delays []Duration `json:"delays,omitzero"`
	// Jitter is 0 to 1; nil means 0.2.
	Jitter *float64 `json:"jitter,omitzero"`
	// GiveUpAfter makes a job dead when its next attempt would come later
	// than this after the first start of its round; zero means never.
	GiveUpAfter Duration `json:"give_up_after,omitzero"`
}

// curveFields are the fields that each curve has, beside jitter and give_up_after,
// which all have.
var curveFields = map[string][]string{Exponential: {"first", "factor", "ceiling"}, Linear: {"first", "step", "ceiling"}, Fixed: {"first"}, List: {"delays"}}

func (r *Retry) check() []FieldError {
	var c check.List
	full := r.WithDefaults()
	fields, known := curveFields[full.Curve]
	if !known {
		c.Add("retry.curve", "%q is not a valid curve; it is exponential, linear, fixed or list", text.Shorten(r.Curve))
		return c
	}
	given := map[string]bool{"first": r.First != 0, "factor": r.Factor != 0, "step": r.Step != 0, "ceiling": r.Ceiling != 0, "delays": r.Delays != nil}
	for _, name := range []string{"first", "factor", "step", "ceiling", "delays"} {
		has := slices.Contains(fields, name)
		switch {
		case given[name] && !has:
			c.Add("retry."+name, "does not belong to the curve %s, which has %s", full.Curve, strings.Join(fields, ", "))
		case has:
			full.checkField(&c, name)
		}
	}
	if r.GiveUpAfter < 0 || r.GiveUpAfter > MaxDuration {
		c.Add("retry.give_up_after", "%s is outside 0s to ten years", r.GiveUpAfter)
	}
	if j := *full.Jitter; math.IsNaN(j) || j < 0 || j > 1 {
		c.Add("retry.jitter", "%v is outside 0 to 1", j)
	}
	return c
}

func (r *Retry) checkField(c *check.List, name string) {
	span := func(field string, d Duration) {
		if d < Duration(1e6) || d > longestWait {
			c.Add(field, "%s is outside 1ms to 30d", d)
		}
	}
	switch name {
	case "first":
		span("retry.first", r.First)
	case "step":
		span("retry.step", r.Step)
	case "factor":
		if !(r.Factor >= 1 && r.Factor <= 100) {
			c.Add("retry.factor", "%v is outside 1 to 100", r.Factor)
		}
	case "ceiling":
		if r.Ceiling < r.First || r.Ceiling > longestWait {
			c.Add("retry.ceiling", "%s is outside first (%s) to 30d", r.Ceiling, r.First)
		}
	case "delays":
		if len(r.Delays) == 0 || len(r.Delays) > MaxDelays {
			c.Add("retry.delays", "holds %d waits; give 1 to %d, the last one repeats", len(r.Delays), MaxDelays)
			return
		}
		for i, d := range r.Delays {
			span(fmt.Sprintf("retry.delays[%d]", i), d)
		}
	}
}

// Zeros answers an error for each field of those named that was given as zero, which
// would silently take its default.
func (r *Retry) Zeros(named []string) []FieldError {
	var c check.List
	zero := map[string]bool{"first": r.First == 0, "factor": r.Factor == 0, "step": r.Step == 0, "ceiling": r.Ceiling == 0, "give_up_after": r.GiveUpAfter == 0}
	for _, name := range named {
		if zero[name] {
			c.Add("retry."+name, "is 0; leave it out for its default")
		}
	}
	return c
}

// WithDefaults fills the fields of the curve that the retry omits.
func (r Retry) WithDefaults() Retry {
	if r.Curve == "" {
		r.Curve = Exponential
	}
	if r.First == 0 {
		r.First = map[string]Duration{Exponential: Duration(10e9), Linear: Duration(30e9), Fixed: Duration(60e9)}[r.Curve]
	}
	switch r.Curve {
	case Exponential:
		r.Factor = cmp.Or(r.Factor, 2.5)
	case Linear:
		r.Step = cmp.Or(r.Step, Duration(30e9))
	}
	if r.Ceiling == 0 && (r.Curve == Exponential || r.Curve == Linear) {
		r.Ceiling = max(Duration(8*3600e9), r.First)
	}
	if r.Jitter == nil {
		jitter := 0.2
		r.Jitter = &jitter
	}
	return r
}
