package job

import (
	"encoding/json"
	"fmt"
	"slices"

	"humblemule.example/internal/check"
)

// What a job may wait for.
const (
	// MaxAfter is how many jobs one may wait for.
	MaxAfter = 10_000
	// MaxRef bounds the name of a job within its batch, in bytes.
	MaxRef = 100
)

// After says that a job waits for others.
type After struct {
	// Jobs are the ids of those that it waits for: they must be there when it is enqueued.
	Jobs []int64 `json:"jobs,omitzero"`
	// Refs are the names of those of its own batch that it waits for.
	Refs []string `json:"refs,omitzero"`
	// When says when they are over for it: done, once each is done or skipped by its handler, or
	// finished, once each has ended in any way. Empty means done.
	When AfterWhen `json:"when,omitzero"`
	// IfNot says what becomes of the job where one of them ends in another way than When asks for:
	// hold, it waits on until somebody acts, or cancel, it is cancelled. Empty means hold.
	IfNot AfterIfNot `json:"if_not,omitzero"`
}

// AfterWhen says when a job that is waited for is over.
type AfterWhen string

// When a job that is waited for is over.
const (
	WhenDone     AfterWhen = "done"
	WhenFinished AfterWhen = "finished"
)

// AfterIfNot says what becomes of a job that waits for one which has ended in another way.
type AfterIfNot string

// What becomes of a job that waits for one which has ended in another way.
const (
	IfNotHold   AfterIfNot = "hold"
	IfNotCancel AfterIfNot = "cancel"
)

// WithDefaults gives the rule with what is not given filled in.
func (a After) WithDefaults() After {
	if a.When == "" {
		a.When = WhenDone
	}
	if a.IfNot == "" && a.When == WhenDone {
		a.IfNot = IfNotHold
	}
	return a
}

// CheckRule adds to a list what is wrong with when and if_not.
func (a *After) CheckRule(c *check.List, field string) {
	if a.When != "" {
		c.OneOf(field+".when", string(a.When), string(WhenDone), string(WhenFinished))
	}
	if a.IfNot == "" {
		return
	}
	if c.OneOf(field+".if_not", string(a.IfNot), string(IfNotHold), string(IfNotCancel)); a.When == WhenFinished {
		c.Add(field+".if_not", "says nothing beside when: finished, which any end meets; leave it out")
	}
}

// check adds to a list what is wrong with the rule of a job that is in no batch.
func (a *After) check(c *check.List) {
	a.CheckRule(c, "after")
	switch {
	case len(a.Refs) > 0:
		c.Add("after.refs", "name jobs of a batch, and this job is in none; give the ids of jobs")
	case len(a.Jobs) == 0:
		c.Add("after.jobs", "is empty; name the ids of the jobs that this one waits for, or leave after out")
	}
	a.CheckJobs(c)
}

// CheckJobs adds to a list what is wrong with the ids.
func (a *After) CheckJobs(c *check.List) {
	if len(a.Jobs) > MaxAfter {
		c.Add("after.jobs", "are %d; a job waits for at most %d others: put them into a batch, whose last job waits for all of them", len(a.Jobs), MaxAfter)
		return
	}
	seen := make(map[int64]bool, len(a.Jobs))
	for i, id := range a.Jobs {
		switch {
		case id < 1:
			c.Add(fmt.Sprintf("after.jobs[%d]", i), "%d is not a valid id of a job", id)
		case seen[id]:
			c.Add(fmt.Sprintf("after.jobs[%d]", i), "%d is named twice", id)
		}
		seen[id] = true
	}
}

// Same tells whether two rules ask for the same.
func (a *After) Same(b *After) bool {
	if a == nil || b == nil {
		return a == b
	}
	x, y := a.WithDefaults(), b.WithDefaults()
	return x.When == y.When && x.IfNot == y.IfNot && slices.Equal(slices.Sorted(slices.Values(x.Jobs)), slices.Sorted(slices.Values(y.Jobs)))
}

// Edge is that one job waits for another, as it stands.
type Edge struct {
	// Job is the other one: that is waited for or, of those that wait, that waits.
	Job int64 `json:"job"`
	// Ref is its name in the batch.
	Ref  string `json:"ref,omitzero"`
	Task string `json:"task,omitzero"`
	// State and Reason are those of the other job; both are empty where it is no longer kept.
	State  State  `json:"state,omitzero"`
	Reason Reason `json:"reason,omitzero"`
	// Is tells how the edge stands; empty where a job is told of by itself.
	Is EdgeState `json:"is,omitzero"`
	// Fate is what becomes of a job that waits where the one that it waits for dies: it is held until somebody
	// acts, is cancelled, or goes on; told of those that wait while the edge is unmet.
	Fate Fate `json:"fate,omitzero"`
}

// Fate is what becomes of a job that waits for one that dies.
type Fate string

// The fates.
const (
	FateHeld      Fate = "held"
	FateCancelled Fate = "cancelled"
	FateGoesOn    Fate = "goes_on"
)

// EdgeState tells how it stands that one job waits for another.
type EdgeState string

// How it stands that one job waits for another.
const (
	// EdgeUnmet: it is waited for; EdgeMet: it has ended as was asked for; EdgeDropped: somebody has
	// let the job go on without it.
	EdgeUnmet   EdgeState = "unmet"
	EdgeMet     EdgeState = "met"
	EdgeDropped EdgeState = "dropped"
)

// Edges are those of a job, on one side.
type Edges struct {
	// When and IfNot are as in After; told of what a job waits for.
	When  AfterWhen  `json:"when,omitzero"`
	IfNot AfterIfNot `json:"if_not,omitzero"`
	// Total is how many there are, and Unmet how many of them are unmet.
	Total int64 `json:"total"`
	Unmet int64 `json:"unmet"`
	// First are the first hundred of them, unmet ones first.
	First []Edge `json:"first"`
}

// InBatch tells of which batch a job is.
type InBatch struct {
	ID   int64  `json:"id"`
	Name string `json:"name,omitzero"`
	// Ref is the job's name in it.
	Ref string `json:"ref,omitzero"`
	// Last tells that it is the job that waits for all others.
	Last bool `json:"last,omitzero"`
	// Counts are the jobs of the batch by state, told to the handler of the last one.
	Counts map[State]int64 `json:"counts,omitzero"`
}

// Input is what has become of a job that another waited for, told to the handler of that.
type Input struct {
	Job    int64  `json:"job"`
	Ref    string `json:"ref,omitzero"`
	State  State  `json:"state,omitzero"`
	Reason Reason `json:"reason,omitzero"`
	// Result is its result. Together they are at most 64 KiB: of those that do not fit, and of jobs
	// that are no longer kept, Omitted is true.
	Result  json.RawMessage `json:"result,omitzero"`
	Omitted bool            `json:"omitted,omitzero"`
}

// MaxInputBytes bounds the results that are handed to a job, together.
const MaxInputBytes = 64 << 10
