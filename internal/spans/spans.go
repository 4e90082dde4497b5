// Package spans tells what jobs have gone through to whoever gathers traces: each enqueue, each
// wait and each attempt as a span of OpenTelemetry, sent by OTLP where the standard variables
// OTEL_* ask for it.
package spans

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"log/slog"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"

	"humblemule.example/internal/core/engine"
	"humblemule.example/job"
)

// Exporter sends spans. It is told by the committer, which it never holds up: what it cannot take
// is left out, and counted.
type Exporter struct {
	provider *sdk.TracerProvider
	tracer   trace.Tracer
	sampler  sdk.Sampler
	log      *slog.Logger
	// seed keeps the ids of different stores apart; it is set once the store is known.
	seed   atomic.Pointer[string]
	told   chan []engine.Span
	lost   atomic.Int64
	ended  sync.WaitGroup
	ending sync.Once
}

// waiting is how many times the exporter is told before it has to leave something out.
const waiting = 1024

// Asked tells whether the variables ask for traces.
func Asked() bool {
	if strings.EqualFold(os.Getenv("OTEL_SDK_DISABLED"), "true") || os.Getenv("OTEL_TRACES_EXPORTER") == "none" {
		return false
	}
	return os.Getenv("OTEL_EXPORTER_OTLP_ENDPOINT") != "" || os.Getenv("OTEL_EXPORTER_OTLP_TRACES_ENDPOINT") != ""
}

// New gives an exporter as the variables ask for it. The error names the variable that is wrong.
func New(ctx context.Context, version string, log *slog.Logger) (*Exporter, error) {
	if protocol := cmp.Or(os.Getenv("OTEL_EXPORTER_OTLP_TRACES_PROTOCOL"), os.Getenv("OTEL_EXPORTER_OTLP_PROTOCOL"), "http/protobuf"); protocol != "http/protobuf" {
		return nil, fmt.Errorf("OTEL_EXPORTER_OTLP_PROTOCOL is %q; traces are sent by http/protobuf only, usually to port 4318", protocol)
	}
	if word := os.Getenv("OTEL_TRACES_EXPORTER"); word != "" && word != "otlp" {
		return nil, fmt.Errorf("OTEL_TRACES_EXPORTER is %q; it is otlp or none", word)
	}
	exporter, err := otlptracehttp.New(ctx)
	if err != nil {
		return nil, fmt.Errorf("the variables OTEL_EXPORTER_OTLP_* cannot be used: %w", err)
	}
	return over(sdk.NewBatchSpanProcessor(exporter), version, log)
}

// over gives an exporter that hands spans to a processor.
func over(to sdk.SpanProcessor, version string, log *slog.Logger) (*Exporter, error) {
	sampler, err := samplerOf(os.Getenv("OTEL_TRACES_SAMPLER"), os.Getenv("OTEL_TRACES_SAMPLER_ARG"))
	if err != nil {
		return nil, err
	}
	named, err := resource.New(context.Background(), resource.WithAttributes(attribute.String("service.name", "hmule"), attribute.String("service.version", version)), resource.WithFromEnv(), resource.WithTelemetrySDK())
	if err != nil {
		return nil, fmt.Errorf("OTEL_RESOURCE_ATTRIBUTES cannot be read: %w", err)
	}
	e := &Exporter{sampler: sampler, log: log, told: make(chan []engine.Span, waiting)}
	e.provider = sdk.NewTracerProvider(sdk.WithSampler(sdk.ParentBased(sdk.AlwaysSample())), sdk.WithResource(named), sdk.WithIDGenerator(givenIDs{}), sdk.WithSpanProcessor(to))
	e.tracer = e.provider.Tracer("humblemule.example", trace.WithInstrumentationVersion(version))
	e.ended.Go(func() {
		for all := range e.told {
			for i := range all {
				e.write(&all[i])
			}
		}
	})
	return e, nil
}

// samplerOf is the sampler of jobs that come without a trace; that of others has decided already.
func samplerOf(name, argument string) (sdk.Sampler, error) {
	ratio := 1.0
	if argument != "" {
		var err error
		if ratio, err = strconv.ParseFloat(argument, 64); err != nil || !(ratio >= 0 && ratio <= 1) {
			return nil, fmt.Errorf("OTEL_TRACES_SAMPLER_ARG is %q; it is a share from 0 to 1", argument)
		}
	}
	switch strings.TrimPrefix(cmp.Or(name, "parentbased_always_on"), "parentbased_") {
	case "always_on":
		return sdk.AlwaysSample(), nil
	case "always_off":
		return sdk.NeverSample(), nil
	case "traceidratio":
		return sdk.TraceIDRatioBased(ratio), nil
	}
	return nil, fmt.Errorf("OTEL_TRACES_SAMPLER is %q; it is always_on, always_off or traceidratio, alone or after parentbased_", name)
}

// Of says whose jobs are told.
func (e *Exporter) Of(store string) { e.seed.Store(&store) }

// idsOf are the ids of the trace, and of the first span, of a job that came without a trace: the
// same whenever they are asked for, so that they need not be kept.
func (e *Exporter) idsOf(id int64) (in trace.TraceID, first trace.SpanID) {
	seed := ""
	if s := e.seed.Load(); s != nil {
		seed = *s
	}
	sum := sha256.Sum256(binary.BigEndian.AppendUint64([]byte("job "+seed), uint64(id)))
	copy(in[:], sum[:16])
	copy(first[:], sum[16:])
	return in, first
}

// Root is that of the engine's tracer.
func (e *Exporter) Root(id int64) string {
	in, first := e.idsOf(id)
	if e.sampler.ShouldSample(sdk.SamplingParameters{ParentContext: context.Background(), TraceID: in}).Decision != sdk.RecordAndSample {
		return ""
	}
	return "00-" + hex.EncodeToString(in[:]) + "-" + hex.EncodeToString(first[:]) + "-01"
}

// Told is that of the engine's tracer.
func (e *Exporter) Told(all []engine.Span) {
	select {
	case e.told <- all:
	default:
		if e.lost.Add(int64(len(all))) == int64(len(all)) {
			e.log.Warn("spans are left out: they come faster than they can be sent")
		}
	}
}

// Close sends what is left, and ends.
func (e *Exporter) Close() error {
	e.ending.Do(func() { close(e.told) })
	e.ended.Wait()
	if n := e.lost.Load(); n > 0 {
		e.log.Warn("spans were left out", "spans", n)
	}
	const within = 5 * time.Second
	ctx, cancel := context.WithTimeout(context.Background(), within)
	defer cancel()
	return e.provider.Shutdown(ctx)
}

// what are the words of kinds: the operation, its type in the conventions for messaging, and the
// kind of the span.
var what = map[engine.SpanKind]struct {
	operation, of string
	kind          trace.SpanKind
}{
	engine.SpanEnqueue: {"enqueue", "create", trace.SpanKindProducer},
	engine.SpanWait:    {"wait", "receive", trace.SpanKindInternal},
	engine.SpanAttempt: {"run", "process", trace.SpanKindConsumer},
}

// write makes a span of what was told (OpenTelemetry's semantic conventions for messaging).
func (e *Exporter) write(s *engine.Span) {
	words := what[s.Kind]
	ctx := propagation.TraceContext{}.Extract(context.Background(), propagation.MapCarrier{"traceparent": s.Traceparent})
	parent := trace.SpanContextFromContext(ctx)
	start := []trace.SpanStartOption{
		trace.WithTimestamp(s.From.Go()), trace.WithSpanKind(words.kind),
		trace.WithAttributes(
			attribute.String("messaging.system", "humblemule"), attribute.String("messaging.operation.name", words.operation), attribute.String("messaging.operation.type", words.of),
			attribute.String("messaging.destination.name", s.Queue), attribute.String("messaging.message.id", strconv.FormatInt(s.Job, 10)), attribute.String("hmule.task", s.Task)),
	}
	ids := given{}
	copy(ids.span[:], s.ID[:])
	switch {
	case s.Kind == engine.SpanEnqueue && s.Root: // the first of its trace
		ids.trace, ids.span = parent.TraceID(), parent.SpanID()
		ctx = context.Background()
	case s.Kind != engine.SpanEnqueue:
		start = append(start, trace.WithLinks(trace.Link{SpanContext: parent}))
	}
	_, span := e.tracer.Start(context.WithValue(ctx, givenKey{}, ids), words.operation+" "+s.Queue, start...)
	if s.Kind == engine.SpanAttempt {
		span.SetAttributes(attribute.Int("hmule.attempt", s.Attempt), attribute.String("hmule.outcome", string(s.Outcome)))
		if s.ErrorType != "" {
			span.SetAttributes(attribute.String("error.type", s.ErrorType))
		}
		if s.Outcome == job.OutcomeFailed || s.Outcome == job.OutcomeGiveUp {
			span.SetStatus(codes.Error, s.ErrorType)
		}
	}
	span.End(trace.WithTimestamp(s.To.Go()))
}

// given are the ids of a span that are known before; zero ones are drawn.
type given struct {
	trace trace.TraceID
	span  trace.SpanID
}

type givenKey struct{}

// givenIDs gives spans the ids that are known before.
type givenIDs struct{}

func (givenIDs) NewIDs(ctx context.Context) (trace.TraceID, trace.SpanID) {
	ids, _ := ctx.Value(givenKey{}).(given)
	if !ids.trace.IsValid() {
		rand.Read(ids.trace[:]) // it never fails
	}
	if !ids.span.IsValid() {
		rand.Read(ids.span[:])
	}
	return ids.trace, ids.span
}

// NewSpanID goes with NewIDs.
func (g givenIDs) NewSpanID(ctx context.Context, _ trace.TraceID) trace.SpanID {
	_, id := g.NewIDs(ctx)
	return id
}
