package server

import (
	"bytes"
	"encoding"
	stdjson "encoding/json"
	"strconv"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"humblemule.example/api"
	"humblemule.example/job"
)

// pen writes the answers of the hot paths, jobs and leases, field by field: looking at their
// types anew for each costs a tenth of an enqueue. What it writes is what package json writes;
// what is rare in an answer it leaves to that package.
type pen struct {
	b   []byte
	err error
}

// name begins a member. Names are written as they are.
func (p *pen) name(name string) {
	if last := p.b[len(p.b)-1]; last != '{' {
		p.b = append(p.b, ',')
	}
	p.b = append(append(append(p.b, '"'), name...), '"', ':')
}

func (p *pen) string(name, s string) {
	p.name(name)
	p.quoted(s)
}

func (p *pen) quoted(s string) {
	b, err := jsontext.AppendQuote(p.b, s)
	if p.b = b; err != nil {
		p.err = err
	}
}

func (p *pen) someString(name, s string) {
	if s != "" {
		p.string(name, s)
	}
}

func (p *pen) int(name string, n int64) {
	p.name(name)
	p.b = strconv.AppendInt(p.b, n, 10)
}

func (p *pen) someInt(name string, n int64) {
	if n != 0 {
		p.int(name, n)
	}
}

func (p *pen) yes(name string, is bool) {
	if is {
		p.name(name)
		p.b = append(p.b, "true"...)
	}
}

// text writes what has a text of its own, which holds nothing that is to be escaped.
func (p *pen) text(name string, v encoding.TextAppender) {
	p.name(name)
	b, err := v.AppendText(append(p.b, '"'))
	if p.b = append(b, '"'); err != nil {
		p.err = err
	}
}

func (p *pen) someTime(name string, t job.Time) {
	if t != 0 {
		p.text(name, t)
	}
}

// raw writes a value that is JSON already: a payload, or a result.
func (p *pen) raw(name string, v stdjson.RawMessage) {
	if v == nil {
		return
	}
	p.name(name)
	b, err := jsontext.AppendFormat(p.b, v, out)
	if p.b = b; err != nil {
		p.err = err
	}
}

// rest writes a value by package json, unless there is none.
func (p *pen) rest(name string, is bool, v any) {
	if !is {
		return
	}
	b, err := json.Marshal(v, out)
	p.name(name)
	if p.b = append(p.b, b...); err != nil {
		p.err = err
	}
}

func (p *pen) job(j *job.Job) {
	p.b = append(p.b, '{')
	p.int("id", j.ID)
	p.string("task", j.Task)
	p.string("queue", j.Queue)
	p.text("state", j.State)
	p.someString("reason", string(j.Reason))
	p.someString("reason_text", j.ReasonText)
	p.int("priority", int64(j.Priority))
	p.someString("owner", j.Owner)
	p.someString("lane", j.Lane)
	p.someString("key", j.Key)
	p.someString("dedupe", j.Dedupe)
	p.rest("labels", j.Labels != nil, j.Labels)
	p.someString("traceparent", j.Traceparent)
	p.int("max_attempts", int64(j.MaxAttempts))
	p.rest("retry", j.Retry != nil, j.Retry)
	if j.Timeout != 0 {
		p.text("timeout", j.Timeout)
	}
	if j.KeepResult != nil {
		p.text("keep_result", *j.KeepResult)
	}
	if f := &j.PolicyFrom; *f != (job.Origins{}) {
		p.name("policy_from")
		p.b = append(p.b, '{')
		p.string("max_attempts", string(f.MaxAttempts))
		p.string("retry", string(f.Retry))
		p.string("timeout", string(f.Timeout))
		p.string("keep_result", string(f.KeepResult))
		p.b = append(p.b, '}')
	}
	p.int("round", int64(j.Round))
	p.int("attempt", int64(j.Attempt))
	p.int("tries", int64(j.Tries))
	p.rest("schedule", j.Schedule != nil, j.Schedule)
	p.rest("batch", j.Batch != nil, j.Batch)
	p.rest("waits_for", j.WaitsFor != nil, j.WaitsFor)
	p.rest("awaited_by", j.AwaitedBy != nil, j.AwaitedBy)
	p.text("enqueued_at", j.EnqueuedAt)
	p.someTime("run_at", j.RunAt)
	p.someTime("start_by", j.StartBy)
	p.someTime("ready_at", j.ReadyAt)
	p.someTime("started_at", j.StartedAt)
	p.someTime("finished_at", j.FinishedAt)
	p.someTime("next_at", j.NextAt)
	p.someTime("cancel_asked_at", j.CancelAskedAt)
	p.someTime("lease_ends_at", j.LeaseEndsAt)
	p.rest("progress", j.Progress != nil, j.Progress)
	p.someTime("reported_at", j.ReportedAt)
	p.someInt("usual_ms", j.UsualMS)
	p.someInt("long_ms", j.LongMS)
	p.raw("payload", j.Payload)
	p.someString("calls", j.Calls)
	p.someString("payload_head", j.PayloadHead)
	p.int("payload_bytes", int64(j.PayloadBytes))
	p.raw("result", j.Result)
	p.someTime("result_until", j.ResultUntil)
	p.rest("attempts", j.Attempts != nil, j.Attempts)
	p.someInt("attempts_folded", int64(j.AttemptsFolded))
	p.rest("steps", j.Steps != nil, j.Steps)
	p.rest("edits", j.Edits != nil, j.Edits)
	p.someTime("kept_until", j.KeptUntil)
	p.someInt("cause", j.Cause)
	p.rest("last_error", j.LastError != nil, j.LastError)
	p.someString("summary", j.Summary)
	p.someString("waiting_because", j.WaitingBecause)
	p.someInt("position", j.Position)
	p.someTime("expected_start", j.ExpectedStart)
	p.rest("refused", j.Refused != nil, j.Refused)
	p.rest("imported_from", j.ImportedFrom != nil, j.ImportedFrom)
	p.someInt("version", j.Version)
	p.rest("warnings", j.Warnings != nil, j.Warnings)
	p.b = append(p.b, '}')
}

func (p *pen) leases(a *api.LeaseAnswer) {
	p.b = append(p.b, '{')
	p.name("leases")
	list(p, a.Leases, p.lease)
	if a.Results != nil {
		p.name("results")
		list(p, a.Results, p.result)
	}
	p.string("wanted", string(a.Wanted))
	p.someInt("waiting", a.Waiting)
	p.int("settings", a.Settings)
	p.rest("ignored", a.Ignored != nil, a.Ignored)
	p.b = append(p.b, '}')
}

func (p *pen) lease(l *api.Lease) {
	j := &l.Job
	p.b = append(p.b, '{')
	p.string("token", l.Token)
	p.text("expires_at", l.ExpiresAt)
	p.name("job")
	p.b = append(p.b, '{')
	p.int("id", j.ID)
	p.string("task", j.Task)
	p.raw("payload", j.Payload)
	p.string("queue", j.Queue)
	p.int("priority", int64(j.Priority))
	p.int("round", int64(j.Round))
	p.int("attempt", int64(j.Attempt))
	p.int("tries", int64(j.Tries))
	p.int("max_attempts", int64(j.MaxAttempts))
	p.someString("owner", j.Owner)
	p.someString("lane", j.Lane)
	p.rest("labels", j.Labels != nil, j.Labels)
	p.someInt("timeout_ms", j.TimeoutMS)
	p.text("enqueued_at", j.EnqueuedAt)
	p.someString("traceparent", j.Traceparent)
	p.rest("schedule", j.Schedule != nil, j.Schedule)
	p.rest("steps", j.Steps != nil, j.Steps)
	p.rest("batch", j.Batch != nil, j.Batch)
	p.rest("inputs", j.Inputs != nil, j.Inputs)
	p.b = append(p.b, "}}"...)
}

func (p *pen) result(r *api.SettleResult) {
	p.b = append(p.b, '{')
	p.string("token", r.Token)
	p.string("status", string(r.Status))
	p.yes("repeated", r.Repeated)
	if r.State != 0 {
		p.text("state", r.State)
	}
	p.someTime("next_at", r.NextAt)
	p.rest("errors", r.Errors != nil, r.Errors)
	p.b = append(p.b, '}')
}

func (p *pen) settled(a *settleAnswer) {
	p.b = append(p.b, '{')
	p.name("results")
	list(p, a.Results, p.result)
	p.rest("ignored", len(a.Ignored) > 0, a.Ignored)
	p.b = append(p.b, '}')
}

func (p *pen) enqueuedMany(a *api.EnqueuedMany) {
	p.b = append(p.b, '{')
	p.name("jobs")
	list(p, a.Jobs, p.enqueued)
	p.rest("warnings", a.Warnings != nil, a.Warnings)
	p.b = append(p.b, '}')
}

// enqueued writes what became of a spec.
func (p *pen) enqueued(j *api.Enqueued) {
	p.b = append(p.b, '{')
	p.int("id", j.ID)
	if j.State != 0 {
		p.text("state", j.State)
	}
	p.someString("queue", j.Queue)
	p.someTime("next_at", j.NextAt)
	p.yes("duplicate", j.Duplicate)
	p.yes("same_spec", j.SameSpec)
	p.yes("removed", j.Removed)
	p.rest("warnings", j.Warnings != nil, j.Warnings)
	p.b = append(p.b, '}')
}

// list writes all, each in its own way.
func list[T any](p *pen, all []T, write func(*T)) {
	p.b = append(p.b, '[')
	for i := range all {
		if i > 0 {
			p.b = append(p.b, ',')
		}
		write(&all[i])
	}
	p.b = append(p.b, ']')
}

// written writes a value at the end of b.
func written(b []byte, v any) ([]byte, error) {
	p := pen{b: b}
	switch v := v.(type) {
	case job.Job:
		p.job(&v)
	case api.LeaseAnswer:
		p.leases(&v)
	case settleAnswer:
		p.settled(&v)
	case api.Enqueued:
		p.enqueued(&v)
	case api.EnqueuedMany:
		p.enqueuedMany(&v)
	default:
		into := bytes.NewBuffer(b)
		err := json.MarshalWrite(into, v, out)
		return into.Bytes(), err
	}
	return p.b, p.err
}
