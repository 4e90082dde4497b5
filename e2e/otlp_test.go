package e2e

import (
	"bytes"
	"compress/gzip"
	"encoding/hex"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	otlp "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"humblemule.example/job"
)

// gathered is what a stand-in for a collector of traces was sent.
type gathered struct {
	mu    sync.Mutex
	spans map[string]*otlp.Span // by name
	of    map[string]string     // attributes of the resource
}

// ServeHTTP takes traces as OTLP over HTTP says.
func (g *gathered) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body := io.Reader(r.Body)
	if r.Header.Get("Content-Encoding") == "gzip" {
		unpacked, err := gzip.NewReader(r.Body)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		body = unpacked
	}
	raw, err := io.ReadAll(body)
	var sent collector.ExportTraceServiceRequest
	if err == nil {
		err = proto.Unmarshal(raw, &sent)
	}
	if err != nil || r.URL.Path != "/v1/traces" || r.Header.Get("Content-Type") != "application/x-protobuf" {
		http.Error(w, "not OTLP", http.StatusBadRequest)
		return
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, of := range sent.ResourceSpans {
		for _, a := range of.Resource.Attributes {
			g.of[a.Key] = a.Value.GetStringValue()
		}
		for _, scope := range of.ScopeSpans {
			for _, span := range scope.Spans {
				g.spans[span.Name] = span
			}
		}
	}
}

func (g *gathered) span(t *testing.T, name string) (s *otlp.Span) {
	require.Eventually(t, func() bool {
		g.mu.Lock()
		defer g.mu.Unlock()
		s = g.spans[name]
		return s != nil
	}, 30*time.Second, 20*time.Millisecond, name)
	return s
}

func attributesOf(s *otlp.Span) map[string]string {
	all := map[string]string{}
	for _, a := range s.Attributes {
		all[a.Key] = a.Value.GetStringValue()
	}
	return all
}

// What a job goes through is told to a collector of traces that speaks OTLP, under the trace of whoever
// enqueued it, whose id stands in the logs of service and pool; a collector that is gone holds up
// nothing.
func TestTracesToCollector(t *testing.T) {
	t.Parallel()
	g := &gathered{spans: map[string]*otlp.Span{}, of: map[string]string{}}
	there := httptest.NewServer(g)
	defer there.Close()
	s := &service{t: t, data: filepath.Join(t.TempDir(), "otlp.db"), listen: freeAddress(t), flags: []string{"--log-requests", "yes"},
		env: []string{"OTEL_EXPORTER_OTLP_ENDPOINT=" + there.URL, "OTEL_SERVICE_NAME=harbour", "OTEL_RESOURCE_ATTRIBUTES=quay=north", "OTEL_BSP_SCHEDULE_DELAY=100"}}
	s.start()
	t.Cleanup(s.kill)
	pool := exec.Command(hmule, "pool", "--queue", "common", "--run", "tide.predict=cat >/dev/null; exit 3")
	log := &journal{more: make(chan struct{})}
	pool.Env, pool.Stderr = append(os.Environ(), "HMULE_SERVER="+s.url), log
	require.NoError(t, pool.Start())
	t.Cleanup(func() {
		pool.Process.Signal(os.Interrupt)
		pool.Wait()
	})

	const id = "4bf92f3577b34da6a3ce929d0e0e4736"
	once := 1
	e, err := s.mule().Enqueue(t.Context(), job.Spec{Task: "tide.predict", MaxAttempts: &once, Traceparent: "00-" + id + "-00f067aa0ba902b7-01"})
	require.NoError(t, err)
	j, err := s.mule().WaitFor(t.Context(), e.ID, time.Minute)
	require.NoError(t, err)
	assert.Equal(t, job.Dead, j.State)
	attempt := g.span(t, "run common")
	assert.Equal(t, id, hex.EncodeToString(attempt.TraceId))
	assert.Equal(t, otlp.Status_STATUS_CODE_ERROR, attempt.Status.Code)
	assert.Subset(t, attributesOf(attempt), map[string]string{"messaging.system": "humblemule", "messaging.destination.name": "common", "messaging.operation.type": "process", "hmule.task": "tide.predict"})
	assert.Subset(t, g.of, map[string]string{"service.name": "harbour", "quay": "north"})
	log.find(t, `msg=failed .*trace_id=`+id)
	resp := s.ask("GET", "/v1/jobs", "", "traceparent: 00-"+id+"-00f067aa0ba902b7-01")
	require.Equal(t, 200, resp.status)
	s.log.find(t, `msg=request .*trace_id=`+id)

	there.Close()
	for range 50 {
		_, err := s.mule().Enqueue(t.Context(), job.Spec{Task: "tide.predict", MaxAttempts: &once})
		require.NoError(t, err)
	}
	require.NoError(t, s.stop())
	assert.False(t, bytes.Contains([]byte(s.log.String()), []byte("panic")))
}
