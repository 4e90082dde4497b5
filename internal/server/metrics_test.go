package server

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus/testutil/promlint"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/job"
)

func figures(t *testing.T, s *Server, accept string) (text string, took time.Duration) {
	r := httptest.NewRequest(http.MethodGet, "http://127.0.0.1/metrics", nil)
	r.Header.Set("Accept", accept)
	w := httptest.NewRecorder()
	began := time.Now()
	s.Handler().ServeHTTP(w, r)
	took = time.Since(began)
	require.Equal(t, http.StatusOK, w.Code, w.Body)
	return w.Body.String(), took
}

const openMetrics = "application/openmetrics-text; version=1.0.0"

// The figures are well named, tell what has happened in both forms, and carry the traces of jobs
// as exemplars.
func TestMetrics(t *testing.T) {
	s, e := setUp(t)
	_, err := e.Enqueue(t.Context(), job.Spec{Task: "tide.predict", Traceparent: "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"})
	require.NoError(t, err)
	_, err = e.Enqueue(t.Context(), job.Spec{Task: "fog.bulletin", Queue: "bulletins", Traceparent: "00-00000000000000000000000000000001-00f067aa0ba902b7-00"}) // not sampled
	require.NoError(t, err)
	a, err := e.Lease(t.Context(), api.LeaseRequest{Worker: "w", Queues: []string{"common", "bulletins"}, Limit: 2})
	require.NoError(t, err)
	for _, l := range a.Leases {
		outcome := job.OutcomeDone
		if l.Job.Task == "fog.bulletin" {
			outcome = job.OutcomeFailed
		}
		_, err = e.Settle(t.Context(), []api.Settlement{{Token: l.Token, Outcome: outcome, Error: &job.Failure{Type: "fog", Message: "too thick"}}})
		require.NoError(t, err)
	}
	text, _ := figures(t, s, "text/plain")
	for _, line := range []string{
		`hmule_jobs{queue="common",state="done"} 1`,
		`hmule_jobs{queue="bulletins",state="backoff"} 1`,
		`hmule_jobs_enqueued_total{queue="bulletins"} 1`,
		`hmule_jobs_finished_total{queue="common",state="done"} 1`,
		`hmule_attempts_total{outcome="failed",task="fog.bulletin"} 1`,
		`hmule_retries_total{task="fog.bulletin"} 1`,
		`hmule_job_wait_seconds_count{queue="common"} 1`,
		`hmule_attempt_run_seconds_count{task="tide.predict"} 1`,
		`hmule_causes{state="backoff"} 1`, `hmule_batches{goes_on="no"} 0`,
		`hmule_folded{what="queues"} 0`,
		`hmule_disk_refusing 0`,
		`hmule_workers{does="active"} 1`,
	} {
		assert.Contains(t, text, line+"\n")
	}
	assert.NotContains(t, text, "trace_id", "the older form knows no exemplars")
	problems, err := promlint.New(strings.NewReader(text)).Lint()
	require.NoError(t, err)
	for _, p := range problems {
		assert.Fail(t, p.Metric, p.Text)
	}
	text, _ = figures(t, s, openMetrics)
	assert.Contains(t, text, `trace_id="4bf92f3577b34da6a3ce929d0e0e4736"`)
	assert.NotContains(t, text, `trace_id="00000000000000000000000000000001"`)
	assert.True(t, strings.HasSuffix(text, "# EOF\n"))
	assert.Contains(t, text, `hmule_http_requests_total{method="GET",route="/metrics",status="200"} 1.0`)
}

// However many queues and tasks there are, the figures stay as many as those of 200, and the rest
// is added up in one.
func TestMetricsOfManyQueues(t *testing.T) {
	s, e := setUp(t)
	const queues, each = 10_000, 2
	for from := 0; from < queues; from += 1000 {
		specs := make([]job.Spec, 1000)
		for i := range specs {
			specs[i] = job.Spec{Task: fmt.Sprint("task-", from+i), Queue: fmt.Sprint("queue-", from+i)}
		}
		for range each {
			_, err := e.EnqueueMany(t.Context(), specs, func(int) string { return "" })
			require.NoError(t, err)
		}
	}
	text, took := figures(t, s, "text/plain")
	assert.Equal(t, engine.Metered+1, strings.Count(text, `state="ready"} `))
	assert.Contains(t, text, fmt.Sprintf("hmule_jobs{queue=\"(others)\",state=\"ready\"} %d\n", each*(queues-engine.Metered)))
	assert.Contains(t, text, fmt.Sprintf("hmule_folded{what=\"queues\"} %d\n", queues-engine.Metered))
	assert.Contains(t, text, fmt.Sprintf("hmule_folded{what=\"tasks\"} %d\n", queues-engine.Metered))
	assert.Less(t, len(text), 2<<20)
	assert.Less(t, took, 5*time.Second)
	t.Logf("%d queues: %d KiB in %v", queues, len(text)>>10, took)
}

// The log tells of requests where that is wanted, one line each, by an id that is answered too,
// and never of what they carry.
func TestRequestLog(t *testing.T) {
	var log strings.Builder
	s, _ := setUpWith(t, Options{LogRequests: true, Log: textLog(&log)})
	s.SetTokens([]Token{{Name: "ada", Role: Producer, Hash: HashToken("secret-word")}})
	w := call(s, "secret-word", "POST", "/v1/jobs", `{"task":"tide.predict","payload":{"card":"4111"}}`, "X-Request-Id: from-proxy")
	require.Equal(t, http.StatusCreated, w.Code, w.Body)
	assert.Equal(t, "from-proxy", w.Header().Get("X-Request-Id"))
	w = call(s, "wrong-word", "GET", "/v1/jobs/1?x=%0Aforged", "", "X-Request-Id: a\nb")
	require.Equal(t, http.StatusUnauthorized, w.Code)
	lines := strings.Split(strings.TrimSpace(log.String()), "\n")
	require.Len(t, lines, 2)
	assert.Contains(t, lines[0], "id=from-proxy principal=ada method=POST path=/v1/jobs route=/v1/jobs status=201")
	assert.Regexp(t, ` bytes=[1-9]\d* `, lines[0])
	assert.Contains(t, lines[1], "id="+w.Header().Get("X-Request-Id")+" principal=(none) method=GET path=/v1/jobs/1 route=/v1/jobs/:id status=401")
	for _, secret := range []string{"4111", "secret-word", "wrong-word", "forged"} {
		assert.NotContains(t, log.String(), secret)
	}
}

// The rules of alerts and the dashboard name only figures that are told.
func TestFiguresOfAlerts(t *testing.T) {
	s, e := setUp(t)
	_, err := e.Enqueue(t.Context(), job.Spec{Task: "tide.predict"})
	require.NoError(t, err)
	a, err := e.Lease(t.Context(), api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Limit: 1})
	require.NoError(t, err)
	_, err = e.Settle(t.Context(), []api.Settlement{{Token: a.Leases[0].Token, Outcome: job.OutcomeDone}})
	require.NoError(t, err)
	_, err = e.SetSchedule(t.Context(), "tides", api.Schedule{Every: job.Duration(time.Hour), Job: job.Spec{Task: "tide.predict"}})
	require.NoError(t, err)
	b, err := e.MakeBackup(t.Context())
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		b, err = e.Backup(t.Context(), b.Name)
		return err == nil && b.State == api.BackupDone
	}, 10*time.Second, 10*time.Millisecond)
	text, _ := figures(t, s, "text/plain")
	for _, file := range []string{"alerts.yaml", "dashboard.json"} {
		raw, err := os.ReadFile("../../docs/monitoring/" + file)
		require.NoError(t, err)
		named := regexp.MustCompile(`hmule_[a-z_]+`).FindAllString(string(raw), -1)
		require.Greater(t, len(named), 15)
		for _, name := range named {
			for _, part := range []string{"_bucket", "_sum", "_count"} {
				name = strings.TrimSuffix(name, part)
			}
			assert.Contains(t, text, "# TYPE "+name+" ", "%s names it", file)
		}
		assert.True(t, file != "dashboard.json" || json.Valid(raw), file)
	}
}
