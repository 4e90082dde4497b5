package api

import (
	"regexp"

	"humblemule.example/internal/check"
	"humblemule.example/job"
)

// Retention is how long finished jobs are kept where their queue says nothing; zero
// where it is as built in.
type Retention struct {
	Done      job.Duration `json:"done,omitzero"`
	Skipped   job.Duration `json:"skipped,omitzero"`
	Cancelled job.Duration `json:"cancelled,omitzero"`
	Dead      job.Duration `json:"dead,omitzero"`
	// MaxDone is how many done jobs a queue keeps at most, 1 to 1 000 000 000; nil means
	// 5 million.
	MaxDone *int64 `json:"max_done,omitzero"`
}

// kept is how long a finished job is kept in a state where nothing was set, and mostDone
// how many done ones a queue keeps.
var kept = map[job.State]job.Duration{job.Done: job.Duration(3 * day), job.Skipped: job.Duration(10 * day), job.Cancelled: job.Duration(10 * day), job.Dead: job.Duration(90 * day)}

func (r *Retention) byState() map[job.State]job.Duration {
	return map[job.State]job.Duration{job.Done: r.Done, job.Skipped: r.Skipped, job.Cancelled: r.Cancelled, job.Dead: r.Dead}
}

// For is how long finished jobs of a queue are kept in a state; its defaults, and r, may
// be nil.
func (r *Retention) For(queue *Defaults, s job.State) job.Duration {
	if queue != nil {
		if keep, set := queue.Keep[s]; set {
			return keep
		}
	}
	if r != nil && r.byState()[s] != 0 {
		return r.byState()[s]
	}
	return kept[s]
}

// MaxDoneJobs is how many done jobs a queue keeps; r may be nil.
func (r *Retention) MaxDoneJobs() int64 {
	if r == nil || r.MaxDone == nil {
		return mostDone
	}
	return *r.MaxDone
}

// WithDefaults gives a retention, which may be nil, with what is built in.
func (r *Retention) WithDefaults() *Retention {
	most := r.MaxDoneJobs()
	return &Retention{Done: r.For(nil, job.Done), Skipped: r.For(nil, job.Skipped), Cancelled: r.For(nil, job.Cancelled), Dead: r.For(nil, job.Dead), MaxDone: &most}
}

// Check answers what is wrong with a retention.
func (r *Retention) Check() []job.FieldError {
	var c check.List
	all := r.byState()
	for _, s := range job.States() {
		if keep := all[s]; keep != 0 && keep < shortKept {
			c.Add(s.String(), "%s is shorter than 1m", keep)
		}
	}
	if r.MaxDone != nil && (*r.MaxDone < 1 || *r.MaxDone > 1_000_000_000) {
		c.Add("max_done", "%d is outside 1 to 1 000 000 000", *r.MaxDone)
	}
	return c
}

// TriageRule names a cause that the built-in rules do not find. The first of the rules
// whose type and pattern an error has decides; they are asked of later failures.
type TriageRule struct {
	// Type is the error's own type; empty for any.
	Type string `json:"type,omitzero"`
	// Matches is a pattern of Go's regexp package (RE2) that is looked for in the message,
	// to 500 bytes.
	Matches string `json:"matches"`
	// Becomes is the cause's text, 1 to 300 bytes, in which $1 is what the pattern's first
	// group has found.
	Becomes string `json:"becomes"`
}

// MaxTriageRules bounds the rules of a service.
const MaxTriageRules = 100

// CheckTriage answers what is wrong with rules of triage.
func CheckTriage(rules []TriageRule) []job.FieldError {
	const longest, longestText = 500, 300
	var c check.List
	if len(rules) > MaxTriageRules {
		c.Add("triage", "holds %d rules; at most %d are taken", len(rules), MaxTriageRules)
	}
	for i, r := range rules[:min(len(rules), MaxTriageRules)] {
		at := func(field string) string { return check.Indexed("triage", i, field) }
		_, err := regexp.Compile(r.Matches)
		switch {
		case r.Matches == "":
			c.Add(at("matches"), "is needed: a pattern that is looked for in the message")
		case len(r.Matches) > longest:
			c.Add(at("matches"), "is longer than %d bytes", longest)
		case err != nil:
			c.Add(at("matches"), "is not a valid pattern: %v", err)
		}
		if r.Becomes == "" || len(r.Becomes) > longestText {
			c.Add(at("becomes"), "is 1 to %d bytes: the cause's text", longestText)
		}
		if len(r.Type) > MaxErrorType {
			c.Add(at("type"), "is longer than %d bytes", MaxErrorType)
		}
	}
	return c
}

const (
	mostDone  = 5_000_000
	shortKept = job.Duration(60e9)
)
