package api

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"

	"humblemule.example/internal/check"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// DroppedResult is kept in the place of a result that cannot be.
type DroppedResult struct {
	Dropped struct {
		Bytes int    `json:"bytes"`
		Why   string `json:"why"`
	} `json:"result_dropped"`
}

// DropResult tells of a result of so many bytes why it is not kept, as JSON.
func DropResult(bytes int, why string) json.RawMessage {
	var d DroppedResult
	d.Dropped.Bytes, d.Dropped.Why = bytes, why
	raw, err := json.Marshal(d)
	if err != nil {
		panic(fmt.Sprintf("a number and a text are always JSON: %v", err))
	}
	return raw
}

// ResultFault says why a result cannot be kept; empty where it can.
func ResultFault(raw []byte) string {
	if len(raw) > MaxResultBytes {
		return ResultTooLong(len(raw))
	}
	if len(raw) == 0 {
		return ""
	}
	return check.JSONFault(raw)
}

// ResultTooLong says that a result of so many bytes cannot be kept.
func ResultTooLong(bytes int) string {
	return fmt.Sprintf("is %d bytes; at most %d are kept: store the data elsewhere and give its id", bytes, MaxResultBytes)
}

// Mend makes what a handler told beside its outcome such that it can be kept, and answers
// what was changed or left out. The outcome counts all the same.
func (s *Settlement) Mend() []job.FieldError {
	c := check.List(s.Report.Mend())
	if why := ResultFault(s.Result); why != "" {
		s.Result = DropResult(len(s.Result), why)
		c.Add("result", "%s; it was left out", why)
	}
	if s.RunMS < 0 {
		c.Add("run_ms", "%d is negative; it was left out", s.RunMS)
		s.RunMS = 0
	}
	if s.Delay < 0 || s.Delay > job.MaxDuration {
		c.Add("delay", "%s is outside 0s to ten years; it was left out", s.Delay)
		s.Delay = 0
	}
	if s.Outcome == job.OutcomePostponed && s.Delay < MinPostponement {
		if s.Delay != 0 || len(s.Misread) == 0 {
			c.Add("delay", "%s is too short; a postponed job waits at least 1s, so this one waits 1s", s.Delay)
		}
		s.Delay = MinPostponement
	}
	if s.Outcome == job.OutcomeSkipped && strings.TrimSpace(s.ReasonText) == "" {
		c.Add("reason_text", "is missing; say why the job is skipped")
		s.ReasonText = NoReasonGiven
	}
	return c
}

// Simple tells whether nothing is told beside an outcome but what it needs.
func (s *Settlement) Simple() bool {
	return s.Report.Empty() && s.Error == nil && len(s.Enqueue) == 0 && (len(s.Result) == 0 || strings.HasPrefix(string(s.Result), `{"result_dropped"`))
}

// NoReasonGiven stands for the words of a handler that has skipped a job without any.
const NoReasonGiven = "no reason given"

// MinPostponement is the least that a postponed job waits.
const MinPostponement = job.Duration(1e9)

// Mend makes a report such that it can be kept, and answers what was changed or left
// out.
func (r *Report) Mend() []job.FieldError {
	var c check.List
	if p := r.Progress; p != nil {
		switch {
		case math.IsNaN(p.Percent):
			c.Add("progress.percent", "is not a valid number; the progress was left out")
			r.Progress = nil
		case p.Percent < 0 || p.Percent > 100:
			c.Add("progress.percent", "%v is outside 0 to 100; the nearest value was taken", p.Percent)
			r.Progress = &job.Progress{Percent: min(max(p.Percent, 0), 100), Note: p.Note}
		}
	}
	if r.LogFrom < 0 {
		c.Add("log_from", "%d is negative; the first line of an attempt is 1", r.LogFrom)
		r.LogFrom = 0
	}
	if over := len(r.Log) - MaxReportLines; over > 0 {
		c.Add("log", "holds %d lines; at most %d are taken at once, and the first %d were left out", len(r.Log), MaxReportLines, over)
		r.Log = r.Log[over:]
		if r.LogFrom > 0 {
			r.LogFrom += over
		}
	}
	if wrong := (&Report{Labels: r.Labels}).Check(); wrong != nil {
		kept := map[string]string{}
		for name, value := range r.Labels {
			if len(kept) < job.MaxLabels && (&Report{Labels: map[string]string{name: value}}).Check() == nil {
				kept[name] = value
			}
		}
		r.Labels, c = kept, append(c, wrong...)
	}
	return c
}

// CheckOutcome answers why a settlement is refused, so that it changes nothing: its
// outcome is none.
func (s *Settlement) CheckOutcome() []job.FieldError {
	switch s.Outcome {
	case job.OutcomeDone, job.OutcomeFailed, job.OutcomeGiveUp, job.OutcomeReleased, job.OutcomeSkipped, job.OutcomePostponed:
		return nil
	}
	return []job.FieldError{{Field: "outcome", Message: fmt.Sprintf("%q is not a valid outcome; the outcomes are done, failed, give_up, skipped, postponed and released", text.Shorten(string(s.Outcome)))}}
}

// CheckEnqueue answers why the follow-ups of a settlement cannot be enqueued. maxPayload
// bounds their payloads.
func (s *Settlement) CheckEnqueue(maxPayload int) []job.FieldError {
	c := check.List(s.BadEnqueue)
	if len(s.Enqueue) > job.MaxSpecs {
		c.Add("enqueue", "holds %d specs; at most %d are taken at once", len(s.Enqueue), job.MaxSpecs)
		return c
	}
	for i := range s.Enqueue {
		f := &s.Enqueue[i]
		if f.Join { // it is checked with its batch
			continue
		}
		if f.Ref != "" {
			c.Add(check.Indexed("enqueue", i, "ref"), "is the name of a job in a batch; give join: true where the job is to join that of this one")
		}
		for _, e := range f.Check(maxPayload) {
			c.Add(check.Indexed("enqueue", i, e.Field), "%s", e.Message)
		}
	}
	return c
}

// Report is what a handler tells of its job while it runs, or at its end.
type Report struct {
	Progress *job.Progress `json:"progress,omitzero"`
	// Log is lines of text, each cut at 1000 bytes.
	Log []string `json:"log,omitzero"`
	// LogFrom is the number, from 1 on, of the first of these lines within the
	// attempt. Lines that are kept already are passed over, so that a report may
	// be sent twice. Zero means that they follow the last one kept.
	LogFrom int `json:"log_from,omitzero"`
	// Labels are merged into those of the job; an empty value removes one.
	Labels map[string]string `json:"labels,omitzero"`
}

// Empty tells whether nothing is reported.
func (r *Report) Empty() bool { return r.Progress == nil && len(r.Log) == 0 && len(r.Labels) == 0 }

// Check answers what of a report is wrong and is left out.
func (r *Report) Check() []job.FieldError {
	var c check.List
	if r.Progress != nil && !(r.Progress.Percent >= 0 && r.Progress.Percent <= 100) {
		c.Add("progress.percent", "%v is outside 0 to 100", r.Progress.Percent)
	}
	if len(r.Log) > MaxReportLines {
		c.Add("log", "holds %d lines; at most %d are taken at once", len(r.Log), MaxReportLines)
	}
	if r.LogFrom < 0 {
		c.Add("log_from", "%d is negative; the first line of an attempt is 1", r.LogFrom)
	}
	job.CheckLabels(&c, r.Labels)
	return c
}

// What a settle may carry; longer texts are cut at these sizes, with a mark.
const (
	MaxErrorType    = 200
	MaxErrorMessage = 8 << 10
	MaxStack        = 32 << 10
	MaxReasonText   = 2000
	MaxResultBytes  = 64 << 10
	MaxLeaseItems   = 1000
	// MaxReportLines is how many lines one report may hold.
	MaxReportLines = 1000
	MaxLogLine     = 1000
	MaxNote        = 200
	// Of the lines of one attempt the first and the last are kept.
	FirstLines = 100
	LastLines  = 400
)

// Settlement ends one lease with an outcome.
type Settlement struct {
	Token   string      `json:"token"`
	Outcome job.Outcome `json:"outcome"`
	Report
	Result json.RawMessage `json:"result,omitzero"`
	Error  *job.Failure    `json:"error,omitzero"`
	// Delay is required for postponed (≥ 1 s) and overrides the policy's
	// wait once for failed.
	Delay job.Duration `json:"delay,omitzero"`
	// ReasonText is required for skipped.
	ReasonText string `json:"reason_text,omitzero"`
	RunMS      int64  `json:"run_ms,omitzero"`
	// Enqueue are follow-ups that exist if and only if the settle took
	// effect.
	Enqueue []FollowUp `json:"enqueue,omitzero"`
	// What was found when the item was read from the wire: Misread are fields that were
	// left out because they could not be read, BadOutcome that token or outcome could
	// not, so that the item is refused, BadEnqueue why follow-ups could not, and
	// RawEnqueue are these as they came.
	Misread    []job.FieldError  `json:"-"`
	BadOutcome []job.FieldError  `json:"-"`
	BadEnqueue []job.FieldError  `json:"-"`
	RawEnqueue []json.RawMessage `json:"-"`
}

// FollowUp is a job that is enqueued as another one ends.
type FollowUp struct {
	job.Spec
	// Join tells that it joins the batch of the job that ends, which may be closed. It may wait for jobs of
	// the batch by their refs, and Ref is its own.
	Join bool   `json:"join,omitzero"`
	Ref  string `json:"ref,omitzero"`
}

// SettleResult is what became of one settlement.
type SettleResult struct {
	Token  string `json:"token"`
	Status Status `json:"status"`
	// Repeated is true where the same settle had taken effect before.
	Repeated bool      `json:"repeated,omitzero"`
	State    job.State `json:"state,omitzero"`
	NextAt   job.Time  `json:"next_at,omitzero"`
	// Errors of a settlement that took effect name what of it was mended or left out, or
	// why its follow-ups were refused, so that its job is dead.
	Errors []job.FieldError `json:"errors,omitzero"`
}
