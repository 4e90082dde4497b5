package api

import (
	"encoding/json"
	"strconv"

	"humblemule.example/job"
)

// Mark is a moment that is drawn on charts.
type Mark struct {
	At   job.Time `json:"at"`
	Kind string   `json:"kind"`
	Text string   `json:"text"`
	// By is who did it; of a deployment, the host on which it was seen first.
	By string `json:"by,omitzero"`
	// ID is the number of a mark that somebody has noted, by which it is deleted; else 0.
	ID int64 `json:"id,omitzero"`
	// Since is, of a start of the service, when it was stopped, as far as is known.
	Since job.Time `json:"since,omitzero"`
	// Before and After are the failures by a cause in the hour before and in the hour after, as
	// far as it is over; told with a cause.
	Before *FailureShare `json:"before,omitzero"`
	After  *FailureShare `json:"after,omitzero"`
}

// The kinds of marks.
const (
	MarkDeploy   = "deploy"
	MarkSettings = "settings"
	MarkPause    = "pause"
	MarkRequeue  = "requeue"
	MarkRestart  = "restart"
	MarkNote     = "note"
)

// MaxMarkText is the longest text of a mark, in characters.
const MaxMarkText = 100

// NewMark is what somebody notes; At is now where it is left out.
type NewMark struct {
	Text string   `json:"text"`
	At   job.Time `json:"at,omitzero"`
}

// What history can be listed by.
const (
	ByQueue   = "queue"
	ByTask    = "task"
	ByVersion = "version"
	ByHost    = "host"
	ByFollow  = "follow"
)

// HistoryQuery asks what moved over time: from a time on and before another, in steps. From
// is an hour ago where it is 0, and To now; the step that suits the span is taken where Step
// is 0. By lists a series for each queue, task, version of worker programs or host; Queue or
// Task is the only one that is asked for. Times asks for how long jobs waited and ran.
type HistoryQuery struct {
	From, To    job.Time
	Step        job.Duration
	By          string
	Queue, Task string
	// Follow is the name of a label that is followed.
	Follow string
	Times  bool
}

// Points are figures of the steps of a span, in order; -1, on the wire null, where the service
// was not running, or nothing was there to be measured.
type Points []int64

// MarshalJSON writes null for -1.
func (p Points) MarshalJSON() ([]byte, error) {
	b := append(make([]byte, 0, 2+4*len(p)), '[')
	for i, n := range p {
		if i > 0 {
			b = append(b, ',')
		}
		if n < 0 {
			b = append(b, "null"...)
		} else {
			b = strconv.AppendInt(b, n, 10)
		}
	}
	return append(b, ']'), nil
}

// UnmarshalJSON reads null as -1.
func (p *Points) UnmarshalJSON(b []byte) error {
	var all []*int64
	if err := json.Unmarshal(b, &all); err != nil {
		return err
	}
	*p = make(Points, len(all))
	for i, n := range all {
		if (*p)[i] = -1; n != nil {
			(*p)[i] = *n
		}
	}
	return nil
}

// Flow counts what moved. Finished jobs are those done, dead, skipped and cancelled; an attempt
// that failed counts under Failed, whatever became of its job.
type Flow struct {
	Enqueued  int64 `json:"enqueued"`
	Requeued  int64 `json:"requeued"`
	Started   int64 `json:"started"`
	Done      int64 `json:"done"`
	Failed    int64 `json:"failed"`
	Dead      int64 `json:"dead"`
	Skipped   int64 `json:"skipped"`
	Cancelled int64 `json:"cancelled"`
	// Wait tells how long jobs were ready before they were started, Run how long the attempts
	// took that got their jobs done; nil where there were none, or where nobody asked.
	Wait *Spans `json:"wait,omitzero"`
	Run  *Spans `json:"run,omitzero"`
	// Unmeasured is of how many starts, of those that Wait would tell, how long things took was
	// not kept: where a step has more series than there is room for, it is left out of those with
	// the fewest moves, whose points are then -1.
	Unmeasured int64 `json:"unmeasured,omitzero"`
}

// FlowPoints are what a [Flow] tells, step by step.
type FlowPoints struct {
	Enqueued  Points `json:"enqueued"`
	Requeued  Points `json:"requeued"`
	Started   Points `json:"started"`
	Done      Points `json:"done"`
	Failed    Points `json:"failed"`
	Dead      Points `json:"dead"`
	Skipped   Points `json:"skipped"`
	Cancelled Points `json:"cancelled"`
	WaitP50MS Points `json:"wait_p50_ms,omitempty"`
	WaitP95MS Points `json:"wait_p95_ms,omitempty"`
	RunP50MS  Points `json:"run_p50_ms,omitempty"`
	RunP95MS  Points `json:"run_p95_ms,omitempty"`
}

// Series is what moved of one queue, task, version or host.
type Series struct {
	// Name is empty for the whole, and for Rest: those beyond the number that is kept apart.
	Name   string     `json:"name"`
	Rest   bool       `json:"rest,omitzero"`
	Sum    Flow       `json:"sum"`
	Points FlowPoints `json:"points"`
}

// History is what moved over time. The first step begins at From, the last ends at To.
type History struct {
	AsOf job.Time `json:"as_of"`
	// Since is since when anything is known; 0 where nothing has moved yet.
	Since  job.Time `json:"since,omitzero"`
	From   job.Time `json:"from"`
	To     job.Time `json:"to"`
	StepMS int64    `json:"step_ms"`
	By     string   `json:"by,omitzero"`
	// Series are those asked for, the most jobs first; Total is their sum.
	Series []Series `json:"series"`
	Total  Series   `json:"total"`
	// Marks are moments within the span.
	Marks []Mark `json:"marks"`
}
