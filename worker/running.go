package worker

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"math"
	"strings"
	"sync"

	"go.opentelemetry.io/otel/propagation"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/internal/sentence"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// Running is the job that a handler runs, and how the handler speaks of it. What
// it tells reaches the service within about a second. Its methods may be called
// from any goroutine.
type Running struct {
	api.LeasedJob
	news   func()
	logger func() *slog.Logger
	// step tells of a step and answers when it is stored. What was done is told for as
	// long as lasting does, though the handler's own context has ended.
	step    func(ctx context.Context, name string, s api.StepReport) error
	lasting context.Context

	mu       sync.Mutex
	progress *job.Progress
	moved    bool // progress is not told yet
	lines    []string
	first    int               // the number of lines[0]
	labels   map[string]string // not told yet
	labelled map[string]string // told
	enqueues []api.FollowUp
	bytes    int                        // of the follow-ups
	badly    []json.RawMessage          // follow-ups that cannot be read, as they came
	done     map[string]json.RawMessage // steps of this attempt
}

func (p *Pool) newRunning(j api.LeasedJob, news func()) *Running {
	r := &Running{LeasedJob: j, news: news, first: 1, lasting: context.Background()}
	r.step = func(context.Context, string, api.StepReport) error { return nil } // without a service
	r.logger = sync.OnceValue(func() *slog.Logger {
		own := p.log.With("job", j.ID, "task", j.Task, "try", sentence.OfMost(j.Tries, j.MaxAttempts))
		return slog.New(slog.NewMultiHandler(own.Handler(), keepLog(r)))
	})
	return r
}

type runningKey struct{}

// Job gives a handler the job it runs; outside of a handler it is nil.
func Job(ctx context.Context) *Running {
	r, _ := ctx.Value(runningKey{}).(*Running)
	return r
}

// Logger gives a handler a logger that names the job. What is logged stands in
// the pool's log, and from Info on in the attempt's log too. Outside of a handler
// it is slog.Default().
func Logger(ctx context.Context) *slog.Logger {
	if r := Job(ctx); r != nil {
		return r.logger()
	}
	return slog.Default()
}

// contextOf is a handler's context: it carries the job, its logger, and the trace
// context of whoever enqueued it (W3C Trace Context, as OpenTelemetry's
// propagation reads it).
func contextOf(life context.Context, r *Running) context.Context {
	ctx := context.WithValue(life, runningKey{}, r)
	if r.Traceparent != "" {
		ctx = propagation.TraceContext{}.Extract(ctx, propagation.MapCarrier{"traceparent": r.Traceparent})
	}
	return ctx
}

// keptLog keeps what a handler logs with its attempt: the message as it is, its
// level from Warn on, and the attributes as slog.TextHandler writes them.
type keptLog struct {
	slog.Handler // writes the attributes to line
	run          *Running
	mu           *sync.Mutex
	line         *strings.Builder
}

func keepLog(r *Running) slog.Handler {
	line := new(strings.Builder)
	text := slog.NewTextHandler(line, &slog.HandlerOptions{ReplaceAttr: func(groups []string, a slog.Attr) slog.Attr {
		if len(groups) == 0 && (a.Key == slog.TimeKey || a.Key == slog.LevelKey || a.Key == slog.MessageKey) {
			return slog.Attr{}
		}
		return a
	}})
	return &keptLog{text, r, new(sync.Mutex), line}
}

// Handle is slog.Handler's.
func (k *keptLog) Handle(ctx context.Context, record slog.Record) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.line.Reset()
	if err := k.Handler.Handle(ctx, record); err != nil {
		return err
	}
	text := strings.TrimSpace(record.Message + " " + strings.TrimSuffix(k.line.String(), "\n"))
	if record.Level >= slog.LevelWarn {
		text = record.Level.String() + " " + text
	}
	k.run.Log("%s", text)
	return nil
}

// WithAttrs is slog.Handler's.
func (k *keptLog) WithAttrs(attrs []slog.Attr) slog.Handler {
	return &keptLog{k.Handler.WithAttrs(attrs), k.run, k.mu, k.line}
}

// WithGroup is slog.Handler's.
func (k *keptLog) WithGroup(name string) slog.Handler {
	return &keptLog{k.Handler.WithGroup(name), k.run, k.mu, k.line}
}

// Progress tells how far the job has come: 0 to 100 per cent, and a note of at
// most 200 bytes. What is not a valid number tells nothing.
func (r *Running) Progress(percent float64, note string) {
	if math.IsNaN(percent) {
		return
	}
	r.mu.Lock()
	r.progress = &job.Progress{Percent: min(max(percent, 0), 100), Note: text.Cut(note, api.MaxNote)}
	r.moved = true
	r.mu.Unlock()
	r.news()
}

// Log keeps a line with the attempt. Of the lines of an attempt the first 100 and
// the last 400 are kept, each of at most 1000 bytes.
func (r *Running) Log(format string, args ...any) {
	said := format
	if len(args) > 0 {
		said = fmt.Sprintf(format, args...)
	}
	r.mu.Lock()
	for line := range strings.SplitSeq(strings.TrimSuffix(said, "\n"), "\n") {
		r.lines = append(r.lines, text.Cut(line, api.MaxLogLine))
	}
	// While the service is away, no more than it keeps.
	if over := len(r.lines) - api.MaxReportLines; over > 0 {
		r.lines = append(r.lines[:0:0], r.lines[over:]...)
		r.first += over
	}
	r.mu.Unlock()
	r.news()
}

// Label gives the job a label; an empty value removes it. The error names what is
// wrong with it.
func (r *Running) Label(name, value string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	labels := map[string]string{name: value}
	wrong := (&api.Report{Labels: labels}).Check()
	merged := job.MergeLabels(job.MergeLabels(job.MergeLabels(r.Labels, r.labelled), r.labels), labels)
	if len(merged) > job.MaxLabels {
		wrong = append(wrong, job.FieldError{Field: "labels", Message: fmt.Sprintf("would be %d; at most %d are kept", len(merged), job.MaxLabels)})
	}
	if err := job.Wrong("the label was not set", wrong); err != nil {
		return err
	}
	if r.labels == nil {
		r.labels = map[string]string{}
	}
	r.labels[name] = value
	r.news()
	return nil
}

// FollowUp enqueues another job when this one is done: if and only if its outcome
// takes effect. It carries on this job's trace unless it has one of its own. The
// error names what is wrong with the spec.
//
// The spec is taken as it is now: what it points to may change afterwards. All follow-ups
// of a job are at most 8 MiB, so that they fit into one call.
func (r *Running) FollowUp(s job.Spec) error { return r.followUp(api.FollowUp{Spec: s}) }

// AddToBatch is FollowUp of a job that joins the batch of this one, which may be closed: the last job of the
// batch waits for it too. It may wait for jobs of the batch by their refs, also for those that were added
// before it by this job; ref is its own, empty for none.
func (r *Running) AddToBatch(ref string, s job.Spec) error {
	if r.Batch == nil {
		return job.Fault(job.Invalid, "job %d is of no batch; enqueue a follow-up", r.ID)
	}
	return r.followUp(api.FollowUp{Spec: s, Join: true, Ref: ref})
}

func (r *Running) followUp(f api.FollowUp) error {
	s := f.Spec
	if s.Traceparent == "" {
		s.Traceparent = r.Traceparent
	}
	s, err := s.Frozen()
	if err == nil {
		err = job.Wrong("the follow-up was not taken", checkFollowUp(f.Join, s))
	}
	if err != nil {
		return err
	}
	f.Spec = s
	r.mu.Lock()
	defer r.mu.Unlock()
	bytes := specBytes(&s)
	if len(r.enqueues) == job.MaxSpecs || r.bytes+bytes > mostFollowUpBytes {
		return job.Fault(job.Invalid, "a job has at most %d follow-ups of %d MiB in all; let one of them enqueue the rest", job.MaxSpecs, mostFollowUpBytes>>20)
	}
	r.enqueues, r.bytes = append(r.enqueues, f), r.bytes+bytes
	return nil
}

// checkFollowUp answers what is wrong with a follow-up as far as it can be told here: what one that joins
// a batch waits for is checked by the service.
func checkFollowUp(joins bool, s job.Spec) []job.FieldError {
	if joins {
		s.After = nil
	}
	return s.Check(job.MaxPayloadBytes)
}

const mostFollowUpBytes = 8 << 20

// FollowUpJSON is FollowUp of a spec as JSON, or AddToBatch where it has join: true. One that cannot be read is told to the
// service as it came: the job's work is done then, and the job is dead with what it
// brought, until somebody has accepted it with follow-ups that can be enqueued. The error
// says what is wrong.
func (r *Running) FollowUpJSON(text []byte) error {
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	var f api.FollowUp
	err := decoder.Decode(&f)
	switch {
	case err != nil:
	case f.Join:
		err = r.AddToBatch(f.Ref, f.Spec)
	case f.Ref != "":
		err = job.Fault(job.Invalid, "ref is the name of a job in a batch; give join: true where the job is to join that of this one")
	default:
		err = r.FollowUp(f.Spec)
	}
	if err == nil {
		return nil
	}
	raw := json.RawMessage(bytes.Clone(text))
	if check.JSONFault(text) != "" {
		if raw, _ = json.Marshal(strings.ToValidUTF8(string(text), "\uFFFD")); raw == nil {
			raw = json.RawMessage("null")
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.bytes += len(raw); r.bytes > mostFollowUpBytes {
		raw = json.RawMessage(`"a follow-up that was too long to be kept"`)
	}
	r.badly = append(r.badly, raw)
	return err
}

// rawFollowUps are the follow-ups as JSON, where any of them cannot be read; nil where all
// can.
func (r *Running) rawFollowUps() (all []json.RawMessage) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.badly) == 0 {
		return nil
	}
	for i := range r.enqueues {
		raw, err := json.Marshal(&r.enqueues[i])
		if err != nil {
			continue // it was frozen, and is JSON
		}
		all = append(all, raw)
	}
	return append(all, r.badly...)
}

func (r *Running) followUps() []api.FollowUp {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.enqueues
}

// report is what the service has not been told yet.
func (r *Running) report() (told api.Report) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.moved {
		told.Progress = r.progress
	}
	if len(r.lines) > 0 {
		told.Log, told.LogFrom = append(told.Log, r.lines...), r.first
	}
	told.Labels = maps.Clone(r.labels)
	return told
}

// acknowledge notes that the service knows a report.
func (r *Running) acknowledge(known api.Report) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if known.Progress == r.progress {
		r.moved = false
	}
	if n := known.LogFrom + len(known.Log) - r.first; known.LogFrom > 0 && n > 0 {
		r.lines = append(r.lines[:0:0], r.lines[min(n, len(r.lines)):]...)
		r.first += n
	}
	for name, value := range known.Labels {
		if r.labels[name] == value {
			delete(r.labels, name)
			r.labelled = job.MergeLabels(r.labelled, map[string]string{name: value})
		}
	}
}
