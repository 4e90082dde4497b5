package job

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/go-json-experiment/json/jsontext"
)

// deepestJSON is how deep values may be nested in what a handler brings.
const deepestJSON = 1000

// JSONFault says why bytes are no JSON value that can be kept and told on: not valid by
// RFC 8259, not UTF-8, a name twice in one object, or nested too deep. Empty means that
// they are one.
func JSONFault(raw []byte) string {
	depth := 0
	inString := false
	for i := 0; i < len(raw); i++ {
		switch c := raw[i]; {
		case inString && c == '\\':
			i++
		case c == '"':
			inString = !inString
		case inString:
		case c == '{' || c == '[':
			if depth++; depth > deepestJSON {
				return fmt.Sprintf("is nested deeper than %d levels", deepestJSON)
			}
		case c == '}' || c == ']':
			depth--
		}
	}
	if !jsontext.Value(raw).IsValid() {
		return "is not a JSON value in valid UTF-8, in which each name of an object stands once"
	}
	return ""
}

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
	return JSONFault(raw)
}

// ResultTooLong says that a result of so many bytes cannot be kept.
func ResultTooLong(bytes int) string {
	return fmt.Sprintf("is %d bytes; at most %d are kept: store the data elsewhere and give its id", bytes, MaxResultBytes)
}

// Mend makes what a handler told beside its outcome such that it can be kept, and answers
// what was changed or left out. The outcome counts all the same.
func (s *Settlement) Mend() []FieldError {
	c := checks(s.Report.Mend())
	if why := ResultFault(s.Result); why != "" {
		s.Result = DropResult(len(s.Result), why)
		c.add("result", "%s; it was left out", why)
	}
	if s.RunMS < 0 {
		c.add("run_ms", "%d is negative; it was left out", s.RunMS)
		s.RunMS = 0
	}
	if s.Delay < 0 || s.Delay > LongestDuration {
		c.add("delay", "%s is outside 0s to ten years; it was left out", s.Delay)
		s.Delay = 0
	}
	if s.Outcome == OutcomePostponed && s.Delay < ShortestPostponement {
		if s.Delay != 0 || len(s.Misread) == 0 {
			c.add("delay", "%s is too short; a postponed job waits 1s at least, and this one does", s.Delay)
		}
		s.Delay = ShortestPostponement
	}
	if s.Outcome == OutcomeSkipped && strings.TrimSpace(s.ReasonText) == "" {
		c.add("reason_text", "is missing; say why the job is skipped")
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

// ShortestPostponement is the least that a postponed job waits.
const ShortestPostponement = Duration(1e9)

// Mend makes a report such that it can be kept, and answers what was changed or left
// out.
func (r *Report) Mend() []FieldError {
	var c checks
	if p := r.Progress; p != nil {
		switch {
		case math.IsNaN(p.Percent):
			c.add("progress.percent", "is no number; the progress was left out")
			r.Progress = nil
		case p.Percent < 0 || p.Percent > 100:
			c.add("progress.percent", "%v is outside 0 to 100; the nearest of these was taken", p.Percent)
			r.Progress = &Progress{Percent: min(max(p.Percent, 0), 100), Note: p.Note}
		}
	}
	if r.LogFrom < 0 {
		c.add("log_from", "%d is negative; the first line of an attempt is 1", r.LogFrom)
		r.LogFrom = 0
	}
	if over := len(r.Log) - MaxReportLines; over > 0 {
		c.add("log", "holds %d lines; at most %d are taken at once, and the first %d were left out", len(r.Log), MaxReportLines, over)
		r.Log = r.Log[over:]
		if r.LogFrom > 0 {
			r.LogFrom += over
		}
	}
	if wrong := (&Report{Labels: r.Labels}).Check(); wrong != nil {
		kept := map[string]string{}
		for name, value := range r.Labels {
			if len(kept) < MaxLabels && (&Report{Labels: map[string]string{name: value}}).Check() == nil {
				kept[name] = value
			}
		}
		r.Labels, c = kept, append(c, wrong...)
	}
	return c
}

// CheckOutcome answers why a settlement is refused, so that it changes nothing: its
// outcome is none.
func (s *Settlement) CheckOutcome() []FieldError {
	switch s.Outcome {
	case OutcomeDone, OutcomeFailed, OutcomeGiveUp, OutcomeReleased, OutcomeSkipped, OutcomePostponed:
		return nil
	}
	return []FieldError{{Field: "outcome", Message: fmt.Sprintf("%q is no outcome; the outcomes are done, failed, give_up, skipped, postponed and released", shorten(string(s.Outcome)))}}
}

// CheckEnqueue answers why the follow-ups of a settlement cannot be enqueued. maxPayload
// bounds their payloads.
func (s *Settlement) CheckEnqueue(maxPayload int) []FieldError {
	c := checks(s.BadEnqueue)
	if len(s.Enqueue) > MaxSpecs {
		c.add("enqueue", "holds %d specs; at most %d are taken at once", len(s.Enqueue), MaxSpecs)
		return c
	}
	for i := range s.Enqueue {
		for _, e := range s.Enqueue[i].Check(maxPayload) {
			c.add(indexed("enqueue", i, e.Field), "%s", e.Message)
		}
	}
	return c
}

// RefusedOutcome is what a handler brought whose job is dead because of it.
type RefusedOutcome struct {
	// Enqueue are the follow-ups as they came.
	Enqueue []json.RawMessage `json:"enqueue,omitzero"`
	// Errors say why they were refused.
	Errors []FieldError `json:"errors"`
}

// SetAside is timed work that has failed and waits to be tried again.
type SetAside struct {
	// What and ID say what it is: a schedule, lease end, due job and so on.
	What string `json:"what"`
	ID   int64  `json:"id"`
	// Since is when it failed first; Times how often it has.
	Since     Time  `json:"since"`
	Times     int   `json:"times"`
	AgainInMS int64 `json:"again_in_ms"`
}

// String tells of it in words.
func (a SetAside) String() string {
	again := time.Duration(a.AgainInMS) * time.Millisecond
	return fmt.Sprintf("set aside: %s %d has failed %d times since %s and is tried again in %s; the log says why", a.What, a.ID, a.Times, a.Since, Roughly(again))
}
