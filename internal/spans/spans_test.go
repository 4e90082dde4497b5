package spans

import (
	"context"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.opentelemetry.io/otel/codes"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/sdk/trace/tracetest"
	"go.opentelemetry.io/otel/trace"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/job"
)

var silent = slog.New(slog.DiscardHandler)

// traced is an engine whose spans are kept.
func traced(t *testing.T) (*engine.Engine, func() map[string][]sdk.ReadOnlySpan) {
	kept := tracetest.NewSpanRecorder()
	e, err := over(kept, "test", silent)
	require.NoError(t, err)
	eng, err := engine.Open(filepath.Join(t.TempDir(), "jobs.db"), engine.Options{Log: silent, Tracer: e})
	require.NoError(t, err)
	e.Of(eng.StoreID())
	return eng, func() map[string][]sdk.ReadOnlySpan {
		require.NoError(t, eng.Close())
		require.NoError(t, e.Close())
		all := map[string][]sdk.ReadOnlySpan{}
		for _, s := range kept.Ended() {
			all[s.Name()] = append(all[s.Name()], s)
		}
		return all
	}
}

func attributes(s sdk.ReadOnlySpan) map[string]string {
	all := map[string]string{}
	for _, a := range s.Attributes() {
		all[string(a.Key)] = a.Value.String()
	}
	return all
}

// What a job goes through is told as spans of the trace in which it was enqueued, or of one of its
// own: the enqueue, each wait and each attempt, whose span the handler carries on.
func TestSpans(t *testing.T) {
	t.Setenv("OTEL_RESOURCE_ATTRIBUTES", "deployment.environment=quay")
	e, ended := traced(t)
	const from = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"
	carried, err := e.Enqueue(t.Context(), job.Spec{Task: "tide.predict", Traceparent: from})
	require.NoError(t, err)
	_, err = e.Enqueue(t.Context(), job.Spec{Task: "tide.predict", Queue: "unsampled", Traceparent: "00-00000000000000000000000000000001-00f067aa0ba902b7-00"})
	require.NoError(t, err)
	own, err := e.Enqueue(t.Context(), job.Spec{Task: "fog.bulletin", Queue: "bulletins"})
	require.NoError(t, err)
	time.Sleep(5 * time.Millisecond)
	handlers := map[int64]string{}
	a, err := e.Lease(t.Context(), api.LeaseRequest{Worker: "w", Queues: []string{"common", "bulletins", "unsampled"}, Limit: 3})
	require.NoError(t, err)
	for _, l := range a.Leases {
		handlers[l.Job.ID] = l.Job.Traceparent
		s := api.Settlement{Token: l.Token, Outcome: job.OutcomeDone}
		if l.Job.ID == own.ID {
			s = api.Settlement{Token: l.Token, Outcome: job.OutcomeGiveUp, Error: &job.Failure{Type: "fog", Message: "too thick"}}
		}
		_, err = e.Settle(t.Context(), []api.Settlement{s})
		require.NoError(t, err)
	}
	all := ended()
	require.Len(t, all, 6, "%v", all)

	for _, name := range []string{"enqueue common", "wait common", "run common"} {
		require.Len(t, all[name], 1, name)
		s := all[name][0]
		assert.Equal(t, "4bf92f3577b34da6a3ce929d0e0e4736", s.SpanContext().TraceID().String(), name)
		assert.Equal(t, "00f067aa0ba902b7", s.Parent().SpanID().String(), name)
	}
	run := all["run common"][0]
	assert.Equal(t, trace.SpanKindConsumer, run.SpanKind())
	require.Len(t, run.Links(), 1)
	assert.Equal(t, "00f067aa0ba902b7", run.Links()[0].SpanContext.SpanID().String(), "a link to the enqueue")
	assert.Equal(t, "00-4bf92f3577b34da6a3ce929d0e0e4736-"+run.SpanContext().SpanID().String()+"-01", handlers[carried.ID], "the handler's spans stand below the attempt")
	told := attributes(run)
	for key, want := range map[string]string{"messaging.system": "humblemule", "messaging.operation.type": "process", "messaging.destination.name": "common", "messaging.message.id": "1", "hmule.task": "tide.predict", "hmule.attempt": "1", "hmule.outcome": "done"} {
		assert.Equal(t, want, told[key], key)
	}
	assert.Less(t, all["wait common"][0].StartTime(), all["wait common"][0].EndTime())
	environment, _ := run.Resource().Set().Value("deployment.environment")
	assert.Equal(t, "quay", environment.AsString())

	first, failed := all["enqueue bulletins"][0], all["run bulletins"][0]
	assert.False(t, first.Parent().IsValid(), "it is the first of a trace of its own")
	assert.Equal(t, trace.SpanKindProducer, first.SpanKind())
	assert.Equal(t, first.SpanContext().TraceID(), failed.SpanContext().TraceID())
	assert.Equal(t, first.SpanContext().SpanID(), failed.Parent().SpanID())
	assert.Equal(t, codes.Error, failed.Status().Code)
	assert.Equal(t, "fog", attributes(failed)["error.type"])
}

// A share of the jobs without a trace is told, each whole or not at all; what is not sampled costs
// no span.
func TestSampling(t *testing.T) {
	t.Setenv("OTEL_TRACES_SAMPLER", "parentbased_traceidratio")
	t.Setenv("OTEL_TRACES_SAMPLER_ARG", "0.1")
	e, ended := traced(t)
	specs := make([]job.Spec, 2000)
	for i := range specs {
		specs[i] = job.Spec{Task: "tide.predict"}
	}
	_, err := e.EnqueueMany(t.Context(), specs, func(int) string { return "" })
	require.NoError(t, err)
	for {
		a, err := e.Lease(t.Context(), api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Limit: 500})
		require.NoError(t, err)
		if len(a.Leases) == 0 {
			break
		}
		var items []api.Settlement
		for _, l := range a.Leases {
			items = append(items, api.Settlement{Token: l.Token, Outcome: job.OutcomeDone})
		}
		_, err = e.Settle(t.Context(), items)
		require.NoError(t, err)
	}
	all := ended()
	assert.InDelta(t, 200, len(all["enqueue common"]), 60)
	begun, ran := map[trace.TraceID]bool{}, map[trace.TraceID]bool{}
	for _, s := range all["enqueue common"] {
		begun[s.SpanContext().TraceID()] = true
	}
	for _, s := range all["run common"] {
		ran[s.SpanContext().TraceID()] = true
	}
	assert.Equal(t, begun, ran)
}

func TestVariables(t *testing.T) {
	for _, c := range []struct{ name, value, wrong string }{
		{"OTEL_TRACES_SAMPLER", "sometimes", `OTEL_TRACES_SAMPLER is "sometimes"; it is always_on`},
		{"OTEL_TRACES_SAMPLER_ARG", "NaN", "it is a share from 0 to 1"},
		{"OTEL_TRACES_SAMPLER_ARG", "2", "it is a share from 0 to 1"},
		{"OTEL_EXPORTER_OTLP_PROTOCOL", "grpc", "by http/protobuf only"},
		{"OTEL_TRACES_EXPORTER", "zipkin", "it is otlp or none"},
	} {
		t.Run(c.value, func(t *testing.T) {
			t.Setenv(c.name, c.value)
			_, err := New(context.Background(), "test", silent)
			require.ErrorContains(t, err, c.wrong)
		})
	}
	assert.False(t, Asked())
	t.Setenv("OTEL_EXPORTER_OTLP_ENDPOINT", "http://127.0.0.1:4318")
	assert.True(t, Asked())
	t.Setenv("OTEL_SDK_DISABLED", "true")
	assert.False(t, Asked())
}

// Whoever tells spans is never held up, however slowly they are sent.
func TestSlowCollector(t *testing.T) {
	e := &Exporter{log: silent, told: make(chan []engine.Span, 1)}
	began := time.Now()
	for range 1000 {
		e.Told(make([]engine.Span, 3))
	}
	assert.Less(t, time.Since(began), time.Second)
	assert.EqualValues(t, 3*999, e.lost.Load())
}
