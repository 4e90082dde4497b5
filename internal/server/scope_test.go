package server

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/internal/core/scope"
	"humblemule.example/job"
)

// What these routes answer is the same for everybody: it is of no queue, task or job.
var ofNobody = []string{"GET /livez", "GET /readyz", "GET /metrics", "POST /v1/session", "GET /v1/session", "DELETE /v1/session", "GET /openapi.yaml", "GET /openapi.json", "GET /v1", "GET /v1/explain/cron", "POST /v1/explain/retry", "POST /hooks/:name"}

// Whoever holds a lease may renew and settle it, whatever its queue: its token says so.
var ofHolders = []string{"GET /v1/workers/:id/wanted"}

// bodies are those without which a route refuses a request before it asks for anything.
var bodies = map[string]string{
	"POST /v1/jobs":                   `{"task":"tide.predict"}`,
	"PATCH /v1/jobs/:id":              `{"priority":1}`,
	"POST /v1/jobs/act":               `{"action":"cancel","ids":[1]}`,
	"POST /v1/leases":                 `{"worker":"quay-7","queues":["common"],"limit":1}`,
	"POST /v1/leases/settle":          `{"items":[{"token":"AAAA","outcome":"done"}]}`,
	"POST /v1/leases/extend":          `{"worker":"quay-7","tokens":["AAAA"]}`,
	"PUT /v1/workers/:id":             `{"queues":["common"],"slots":1}`,
	"PUT /v1/queues/:name":            `{"priority":1}`,
	"PUT /v1/tasks/:name":             `{"priority":1}`,
	"PUT /v1/schedules/:name":         `{"every":"1h","job":{"task":"tide.predict"}}`,
	"PUT /v1/hooks/:name":             `{"task":"manifest.check","proof":{"kind":"none"}}`,
	"PATCH /v1/hooks/:name":           `{"task":"manifest.check","proof":{"kind":"none"}}`,
	"PUT /v1/endpoints/:name":         `{"url":"https://press.example"}`,
	"PATCH /v1/endpoints/:name":       `{"url":"https://press.example"}`,
	"PUT /v1/setup":                   `{"dry_run":true}`,
	"POST /v1/jobs/bulk":              `[{"task":"tide.predict"}]`,
	"POST /v1/batches":                `{"jobs":[{"task":"tide.predict"}]}`,
	"POST /v1/batches/:id/jobs":       `{"jobs":[{"task":"tide.predict"}]}`,
	"PATCH /v1/queues/:name":          `{"priority":1}`,
	"PATCH /v1/tasks/:name":           `{"priority":1}`,
	"PATCH /v1/schedules/:name":       `{"every":"1h","job":{"task":"tide.predict"}}`,
	"POST /v1/queues/:name/purge":     `{"state":["ready"],"dry_run":true}`,
	"GET /v1/coming":                  "",
	"POST /v1/marks":                  `{"text":"v2.3"}`,
	"PUT /v1/follow/:name":            `{"label":"customer:acme"}`,
	"POST /v1/operations/:id/stop":    "",
	"POST /v1/jobs/:id/requeue":       "",
	"POST /v1/schedules/:name/pause":  "",
	"POST /v1/schedules/:name/resume": "",
}

// Every route passes on what its caller may see.
func TestScopeOfRoutes(t *testing.T) {
	s, e := setUp(t)
	for queue, task := range map[string]string{"common": "tide.predict", "customs": "customs.clear"} {
		_, err := e.Enqueue(t.Context(), job.Spec{Task: task, Queue: queue})
		require.NoError(t, err)
	}
	var asked atomic.Bool
	none := scope.Only(func(string, string) bool { return false }).Noting(&asked)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.Handler().ServeHTTP(w, r.WithContext(scope.With(r.Context(), none)))
	}))
	defer srv.Close()
	for _, r := range s.router.Routes() {
		route := r.Method + " " + r.Path
		if ofConsole(r.Path) || slices.Contains(ofNobody, route) || slices.Contains(ofHolders, route) {
			continue
		}
		path := strings.NewReplacer(":id", "1", ":number", "1", ":name", "common", ":lane", "berth-3").Replace(r.Path)
		ctx, end := context.WithTimeout(t.Context(), 10*time.Second)
		req, err := http.NewRequestWithContext(ctx, r.Method, srv.URL+path, strings.NewReader(bodies[route]))
		require.NoError(t, err)
		if bodies[route] != "" {
			req.Header.Set("Content-Type", "application/json")
		}
		asked.Store(false)
		resp, err := srv.Client().Do(req)
		require.NoError(t, err, route)
		var body []byte
		if route == "GET /v1/events" { // it goes on
			assert.Eventually(t, asked.Load, 5*time.Second, time.Millisecond)
		} else {
			body, err = io.ReadAll(resp.Body)
			require.NoError(t, err, route)
		}
		assert.True(t, asked.Load(), "%s does not ask what its caller may see; it answered %d %s", route, resp.StatusCode, body)
		assert.Less(t, resp.StatusCode, 500, "%s: %s", route, body)
		assert.NotContains(t, string(body), "customs", "%s tells of jobs that its caller may not see", route)
		require.NoError(t, resp.Body.Close())
		end()
	}
}
