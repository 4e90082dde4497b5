package memory

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"

	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/tally"
	"humblemule.example/job"
)

// Tracer is told what jobs have gone through, where somebody wants to know. Its methods are called
// by the committer, and must not wait.
type Tracer interface {
	// Root is the traceparent (W3C Trace Context) of a job that came without one; empty where such
	// a job is not traced.
	Root(job int64) string
	// Told gets spans that were committed. They are its own.
	Told(all []Span)
}

// SpanKind says what a span is of.
type SpanKind int

// The kinds of spans.
const (
	SpanEnqueue SpanKind = iota // a job was enqueued
	SpanWait                    // it was ready before an attempt was started
	SpanAttempt                 // an attempt
)

// Span is what a job has gone through, for those who look at traces.
type Span struct {
	Kind SpanKind
	// Traceparent is that of the job, and Root tells that it came without one. ID is the span's own
	// id where others may refer to it; zero where it may be any.
	Traceparent string
	Root        bool
	ID          [8]byte

	Job         int64
	Attempt     int
	Queue, Task string
	From, To    job.Time
	Outcome     job.Outcome
	ErrorType   string
}

// Spans are what a transaction has for the tracer. Nothing of them is kept.
type Spans struct {
	layered
	tracer Tracer
	news   []Span
}

func (p *Spans) load(*file) error { return nil }

// Trace has a tracer told what jobs go through.
func (m *Memory) Trace(t Tracer) { m.Spans.tracer = t }

// of is the traceparent of a job that is traced; empty where it is not.
func (p *Spans) of(r *store.Row) (traceparent string, root bool) {
	if p.tracer == nil {
		return "", false
	}
	if r.Traceparent == "" {
		return p.tracer.Root(r.ID), true
	}
	if tally.TraceOf(r.Traceparent) == "" {
		return "", false // it is not sampled
	}
	return r.Traceparent, false
}

func (p *Spans) note(kind SpanKind, r *store.Row, from, to job.Time) *Span {
	traceparent, root := p.of(r)
	if traceparent == "" {
		return nil
	}
	p.news = append(p.news, Span{Kind: kind, Traceparent: traceparent, Root: root, Job: r.ID, Queue: p.m.Queues.Name(r.Queue), Task: p.m.Tasks.Name(r.Task), From: from, To: to})
	return &p.news[len(p.news)-1]
}

// Enqueued notes that a job is new.
func (p *Spans) Enqueued(r *store.Row) {
	if p.tracer != nil {
		p.note(SpanEnqueue, r, r.EnqueuedAt, p.m.now)
	}
}

// Waited notes that a job is started that was ready.
func (p *Spans) Waited(r *store.Row) {
	if p.tracer != nil && r.ReadyAt != 0 {
		p.note(SpanWait, r, r.ReadyAt, p.m.now)
	}
}

// Ended notes that an attempt has ended.
func (p *Spans) Ended(r *store.Row, outcome job.Outcome, errorType string) {
	if p.tracer == nil {
		return
	}
	if s := p.note(SpanAttempt, r, r.LeasedAt, p.m.now); s != nil {
		s.ID, s.Attempt, s.Outcome, s.ErrorType = attemptID(r), r.Attempt, outcome, errorType
	}
}

// attemptID is the id of an attempt's span. It is made of the lease's token, and tells nothing of
// it.
func attemptID(r *store.Row) (id [8]byte) {
	var b [16]byte
	binary.BigEndian.PutUint64(b[:8], uint64(r.Token))
	binary.BigEndian.PutUint64(b[8:], uint64(r.ID))
	sum := sha256.Sum256(append([]byte("attempt"), b[:]...))
	copy(id[:], sum[:])
	return id
}

// OfAttempt is the traceparent that a handler carries on: the attempt's span, or that of whoever
// enqueued the job where nothing is traced here.
func (p *Spans) OfAttempt(r *store.Row) string {
	traceparent, _ := p.of(r)
	if traceparent == "" {
		return r.Traceparent
	}
	id := attemptID(r)
	const trace, flags = 36, 52 // where the ids of the trace and of the span end in a traceparent
	return traceparent[:trace] + hex.EncodeToString(id[:]) + traceparent[flags:]
}

func (p *Spans) publish() {
	if len(p.news) > 0 {
		p.tracer.Told(p.news)
		p.news = nil
	}
}

func (p *Spans) drop() { p.news = nil }
