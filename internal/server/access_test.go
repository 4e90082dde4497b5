package server

import (
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every route, and the roles that may use it beside operators, who may use all.
var mayUse = map[string]string{
	"GET /openapi.yaml":           "reader producer worker",
	"GET /metrics":                "reader",
	"GET /v1":                     "reader producer worker",
	"POST /v1/jobs":               "producer worker",
	"GET /v1/jobs":                "reader",
	"POST /v1/jobs/bulk":          "producer worker",
	"POST /v1/jobs/:id/discard":   "",
	"POST /v1/jobs/:id/undiscard": "",
	"GET /openapi.json":           "reader producer worker",
	"GET /v1/queues/:name/lanes":  "reader",
	"PATCH /v1/queues/:name":      "",
	"PATCH /v1/tasks/:name":       "",
	"PATCH /v1/schedules/:name":   "",
	"POST /v1/batches":            "producer worker",
	"GET /v1/batches":             "reader",
	"GET /v1/batches/:id":         "reader producer worker",
	"GET /v1/batches/:id/graph":   "reader",
	"POST /v1/batches/:id/jobs":   "producer worker",
	"POST /v1/batches/:id/close":  "producer worker",
	"GET /v1/owners/:name":        "reader producer worker",
	"GET /v1/follow":              "reader",
	"GET /v1/follow/:name":        "reader",
	"PUT /v1/follow/:name":        "",
	"DELETE /v1/follow/:name":     "",
	"GET /v1/jobs/count":          "reader",
	"GET /v1/jobs/export":         "reader",
	"GET /v1/jobs/slow":           "reader",
	"GET /v1/jobs/:id":            "reader producer worker",
	"GET /v1/jobs/:id/log":        "reader producer worker",
	"POST /v1/jobs/:id/cancel":    "producer worker",
	"POST /v1/jobs/:id/requeue":   "",
	"POST /v1/jobs/:id/start_now": "",
	"POST /v1/jobs/:id/accept":    "",
	"POST /v1/jobs/:id/end_lease": "",
	"PATCH /v1/jobs/:id":          "",
	"POST /v1/leases":             "worker",
	"POST /v1/leases/extend":      "worker",
	"POST /v1/leases/settle":      "worker",
	"GET /v1/workers":             "reader",
	"GET /v1/workers/:id":         "reader",
	"PUT /v1/workers/:id":         "worker",
	"DELETE /v1/workers/:id":      "worker",
	"GET /v1/workers/:id/wanted":  "worker",
	"POST /v1/workers/:id/resume": "",
	"POST /v1/workers/:id/drain":  "",
	"POST /v1/workers/:id/leave":  "",
	"GET /v1/queues":              "reader",
	"GET /v1/queues/:name":        "reader",
	"POST /v1/queues/:name/pause": "",
	"POST /v1/queues/:name/purge": "",
	"DELETE /v1/queues/:name":     "",
	"DELETE /v1/tasks/:name":      "",

	"POST /v1/queues/:name/lanes/:lane/pass": "",
	"GET /v1/queues/:name/starts":            "reader",

	"POST /v1/queues/:name/resume":    "",
	"PUT /v1/queues/:name":            "",
	"GET /v1/setup":                   "reader",
	"GET /v1/check":                   "reader",
	"GET /v1/schedules":               "reader",
	"GET /v1/schedules/:name":         "reader",
	"PUT /v1/schedules/:name":         "",
	"DELETE /v1/schedules/:name":      "",
	"GET /v1/schedules/:name/runs":    "reader",
	"POST /v1/schedules/:name/run":    "",
	"POST /v1/schedules/:name/pause":  "",
	"POST /v1/schedules/:name/resume": "",
	"GET /v1/hooks":                   "reader",
	"GET /v1/hooks/:name":             "reader",
	"PUT /v1/hooks/:name":             "",
	"PATCH /v1/hooks/:name":           "",
	"DELETE /v1/hooks/:name":          "",
	"POST /v1/hooks/:name/test":       "",
	"GET /v1/hooks/:name/deliveries":  "reader",
	"GET /v1/endpoints":               "reader",
	"GET /v1/endpoints/:name":         "reader",
	"PUT /v1/endpoints/:name":         "",
	"PATCH /v1/endpoints/:name":       "",
	"DELETE /v1/endpoints/:name":      "",
	"POST /v1/endpoints/:name/pause":  "",
	"POST /v1/endpoints/:name/resume": "",
	"POST /v1/endpoints/:name/test":   "",
	"GET /v1/alerts":                  "reader",
	"GET /v1/alerts/rules":            "reader",
	"POST /v1/alerts/test":            "",
	"GET /v1/alerts/:id":              "reader",
	"POST /v1/alerts/:id/see":         "",
	"POST /v1/alerts/:id/mute":        "",
	"GET /v1/explain/cron":            "reader producer worker",

	"POST /v1/hooks/:name/deliveries/:number/again": "",

	"GET /v1/coming":                  "reader",
	"PUT /v1/setup":                   "",
	"GET /v1/tasks":                   "reader",
	"GET /v1/tasks/:name":             "reader",
	"PUT /v1/tasks/:name":             "",
	"POST /v1/explain/retry":          "reader producer worker",
	"GET /v1/causes":                  "reader",
	"GET /v1/causes/:id":              "reader",
	"POST /v1/jobs/act":               "",
	"GET /v1/operations":              "reader",
	"GET /v1/operations/:id":          "reader",
	"POST /v1/operations/:id/stop":    "",
	"POST /v1/operations/:id/undo":    "",
	"GET /v1/actions":                 "reader",
	"GET /v1/stats":                   "reader",
	"GET /v1/stats/history":           "reader",
	"GET /v1/queues/:name/forecast":   "reader",
	"GET /v1/marks":                   "reader",
	"POST /v1/marks":                  "",
	"DELETE /v1/marks/:id":            "",
	"GET /v1/events":                  "reader",
	"GET /v1/session":                 "reader producer worker",
	"DELETE /v1/session":              "reader producer worker",
	"GET /v1/sessions":                "reader producer worker",
	"DELETE /v1/sessions/:id":         "reader producer worker",
	"GET /v1/tokens":                  "",
	"GET /v1/export":                  "keeper",
	"GET /v1/imports":                 "reader",
	"POST /v1/imports":                "keeper",
	"POST /v1/imports/:store/lines":   "keeper",
	"GET /v1/imports/:store/jobs/:id": "reader",
	"GET /v1/backups":                 "reader",
	"POST /v1/backups":                "",
	"GET /v1/backups/:name":           "reader",
	"DELETE /v1/backups/:name":        "",
	"GET /v1/backups/:name/file":      "",
	"GET /v1/data":                    "reader",
	"POST /v1/data/compact":           "",
	"POST /v1/data/compact/stop":      "",
}

// withTokens gives a server that knows a token of every role, named as its role.
func withTokens(t *testing.T) *Server {
	s, _ := setUp(t)
	var all []Token
	for _, r := range Roles() {
		all = append(all, Token{Name: string(r), Role: r, Hash: HashToken("secret-" + string(r))})
	}
	s.SetTokens(all)
	return s
}

// call makes a request with a token, from another machine.
func call(s *Server, token, method, path, body string, headers ...string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, path, strings.NewReader(body))
	r.Host = "mule.example:6853"
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		r.Header.Set(name, value)
	}
	w := httptest.NewRecorder()
	s.Handler().ServeHTTP(w, r)
	return w
}

// With tokens every route answers those roles that it is for, and refuses all
// others, and whoever has no good token; but the probes and the console's files.
func TestRoles(t *testing.T) {
	s := withTokens(t)
	open := []string{"GET /livez", "GET /readyz", "POST /v1/session"}
	seen := map[string]bool{}
	for _, r := range s.router.Routes() {
		route := r.Method + " " + r.Path
		if ofConsole(r.Path) {
			continue
		}
		if route == "POST /v1/session" || route == "POST /hooks/:name" {
			continue // they ask for a token, and for what proves a sender, themselves
		}
		if slices.Contains(open, route) {
			assert.Equal(t, http.StatusOK, call(s, "", r.Method, r.Path, "").Code, route)
			continue
		}
		seen[route] = true
		may, known := mayUse[route]
		require.True(t, known, "%s is not in mayUse: who may use it?", route)
		path := strings.NewReplacer(":id", "77", ":name", "berths", ":store", "elsewhere").Replace(r.Path)
		for _, token := range []string{"", "secret-of-nobody", HashToken("secret-operator")} {
			w := call(s, token, r.Method, path, "{}")
			assert.Equal(t, http.StatusUnauthorized, w.Code, "%s with the token %q", route, token)
			assert.Equal(t, `Bearer realm="Humble Mule"`, w.Header().Get("WWW-Authenticate"))
		}
		for _, role := range Roles() {
			if route == "GET /v1/events" && (role == Reader || role.operates()) {
				continue // a stream, which a test of its own reads
			}
			w := call(s, "secret-"+string(role), r.Method, path, "{}")
			if role == Operator && may == "keeper" {
				assert.Equal(t, http.StatusForbidden, w.Code, "%s by a %s", route, role)
				continue
			}
			if role.operates() || slices.Contains(strings.Fields(may), string(role)) {
				assert.NotContains(t, []int{http.StatusUnauthorized, http.StatusForbidden}, w.Code, "%s by a %s: %s", route, role, w.Body)
			} else {
				assert.Equal(t, http.StatusForbidden, w.Code, "%s by a %s", route, role)
				assert.Contains(t, w.Body.String(), "has the role "+string(role)+", which may not")
			}
		}
	}
	for route := range mayUse {
		assert.True(t, seen[route], "%s is in mayUse and not there", route)
	}
	assert.Equal(t, http.StatusUnauthorized, call(s, "", "GET", "/v1/nowhere", "").Code)
	assert.Equal(t, http.StatusNotFound, call(s, "secret-reader", "GET", "/v1/nowhere", "").Code)
}

// A page of another site may not ask, whatever token its browser knows; a worker's
// id belongs to the token that has registered it, and so do its lease tokens; and
// every action bears the name of its token.
func TestPrincipals(t *testing.T) {
	s := withTokens(t)
	s.SetTokens([]Token{
		{Name: "quay", Role: Worker, Hash: HashToken("a")}, {Name: "tug", Role: Worker, Hash: HashToken("b")}, {Name: "ada", Role: Operator, Hash: HashToken("c")},
	})
	assert.Equal(t, http.StatusForbidden, call(s, "c", "GET", "/v1/jobs", "", "Origin: https://elsewhere.example").Code)
	assert.Equal(t, http.StatusOK, call(s, "c", "GET", "/v1/jobs", "", "Origin: https://mule.example:6853").Code)
	assert.Contains(t, call(s, "b", "GET", "/v1", "").Body.String(), `"principal":"tug","role":"worker"`)

	register := func(token string) int { return call(s, token, "PUT", "/v1/workers/w1", `{"queues":["berths"]}`).Code }
	assert.Equal(t, http.StatusOK, register("a"))
	assert.Equal(t, http.StatusForbidden, register("b"), "another pool's id")
	for _, c := range [][3]string{
		{"GET", "/v1/workers/w1/wanted", ""}, {"DELETE", "/v1/workers/w1", ""}, {"POST", "/v1/leases", `{"worker":"w1","queues":["berths"],"limit":1}`},
	} {
		assert.Equal(t, http.StatusForbidden, call(s, "b", c[0], c[1], c[2]).Code, c)
	}
	made := call(s, "a", "POST", "/v1/jobs", `{"task":"berth.plan","queue":"berths"}`)
	require.Equal(t, http.StatusCreated, made.Code, made.Body)
	assert.Contains(t, call(s, "c", "POST", "/v1/queues/berths/pause", "").Body.String(), `"paused_by":"ada"`)

	s.SetTokens([]Token{{Name: "ada", Role: Operator, Hash: HashToken("c")}})
	assert.Equal(t, http.StatusUnauthorized, register("a"), "a token that was taken away is good no more")
}
