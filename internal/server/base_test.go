package server

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/internal/console"
)

// Under a base path everything is answered there and nowhere else, but for the probes; what the
// service names begins with it.
func TestBasePath(t *testing.T) {
	s, _ := setUpWith(t, Options{BasePath: "/tools/jobs", Log: silent})
	s.opts.Console = fstest.MapFS{
		"index.html":  {Data: []byte(`<script src="./assets/a.js"></script><meta name="base-path" content="__BASE__">`)},
		"assets/a.js": {Data: []byte("1")},
	}
	to := ask(s, "GET", "/tools/jobs?in=1")
	assert.Equal(t, http.StatusPermanentRedirect, to.Code)
	assert.Equal(t, "/tools/jobs/?in=1", to.Header().Get("Location"))
	for path, want := range map[string]int{
		"/tools/jobs/": 200, "/tools/jobs/jobs/7": 200, "/tools/jobs/v1/jobs": 200, "/tools/jobs/assets/a.js": 200, "/tools/jobs/livez": 200, "/livez": 200, "/readyz": 200, "/metrics": 200,
		"/": 404, "/v1": 404, "/v1/jobs": 404, "/tools": 404, "/tools/jobsx/v1": 404, "/tools/jobs/tools/jobs/v1": 404, "/assets/a.js": 404, "/tools/jobs/../../v1/jobs": 404, "//tools/jobs/v1": 404,
	} {
		assert.Equal(t, want, ask(s, "GET", path).Code, path)
	}
	assert.Contains(t, ask(s, "GET", "/v1/jobs").Body.String(), "this service answers under /tools/jobs/ (base_path)")
	r := httptest.NewRequest("POST", "http://127.0.0.1/tools/jobs/v1/jobs", strings.NewReader(`{"task":"tide.predict"}`))
	w := httptest.NewRecorder()
	s.Handler().ServeHTTP(w, r)
	require.Equal(t, http.StatusCreated, w.Code, w.Body)
	at := w.Header().Get("Location")
	assert.Equal(t, "/tools/jobs/v1/jobs/1", at)
	assert.Equal(t, 200, ask(s, "GET", at).Code)
	page := ask(s, "GET", "/tools/jobs/dead/7").Body.String()
	assert.Equal(t, `<script src="/tools/jobs/assets/a.js"></script><meta name="base-path" content="/tools/jobs">`, page)
	assert.Contains(t, ask(s, "GET", "/tools/jobs/openapi.yaml").Body.String(), "url: /tools/jobs\n")
}

// The page that is built names all its files so that they are found under a base path.
func TestBuiltPage(t *testing.T) {
	s, _ := setUpWith(t, Options{BasePath: "/jobs", Log: silent})
	if s.opts.Console = console.Files(); s.opts.Console == nil {
		t.Skip("the console is not built")
	}
	page := ask(s, "GET", "/jobs/queues").Body.String()
	named := 0
	for _, part := range strings.Split(page, `="`)[1:] {
		if value, _, _ := strings.Cut(part, `"`); strings.HasPrefix(value, "/") && value != "/jobs" {
			named++
			assert.Equal(t, 200, ask(s, "GET", value).Code, value)
			assert.True(t, strings.HasPrefix(value, "/jobs/"), value)
		}
	}
	assert.GreaterOrEqual(t, named, 3, page)
}

// Who asks is what the last proxy says that is known; what anybody else says is not believed.
func TestForwarders(t *testing.T) {
	known := Forwarders{Networks: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("fd00::/8")}}
	for i, c := range []struct {
		by      Forwarders
		remote  string
		forward string
		want    string
		host    string
		secure  bool
	}{
		{known, "10.0.0.1:9", "203.0.113.7", "203.0.113.7", "jobs.example", true},
		{known, "10.0.0.1:9", "198.51.100.1, 203.0.113.7", "203.0.113.7", "jobs.example", true}, // the first was forged
		{known, "10.0.0.1:9", "203.0.113.7, 10.2.3.4", "203.0.113.7", "jobs.example", true},     // two proxies
		{known, "[fd00::1]:9", "[2001:db8::7]:55", "2001:db8::7", "jobs.example", true},
		{known, "10.0.0.1:9", "", "10.0.0.1", "jobs.example", true},
		{known, "10.0.0.1:9", "unknown", "10.0.0.1", "jobs.example", true},
		{known, "10.0.0.1:9", "::ffff:10.9.9.9, 10.2.3.4", "10.9.9.9", "jobs.example", true},
		{known, "203.0.113.7:9", "127.0.0.1", "203.0.113.7", "mule.example", false}, // no proxy
		{Forwarders{}, "127.0.0.1:9", "10.0.0.1", "127.0.0.1", "mule.example", false},
		{known, "@", "203.0.113.7", "@", "mule.example", false},
		{Forwarders{Unix: true}, "@", "203.0.113.7", "203.0.113.7", "jobs.example", true},
	} {
		r := httptest.NewRequest("GET", "/v1", nil)
		r.Host, r.RemoteAddr = "mule.example", c.remote
		if c.forward != "" {
			r.Header.Set("X-Forwarded-For", c.forward)
		}
		r.Header.Set("X-Forwarded-Host", "jobs.example")
		r.Header.Set("X-Forwarded-Proto", "https")
		assert.Equal(t, origin{c.want, c.host, c.secure}, c.by.originOf(r), fmt.Sprint(i, c))
	}
}

// A page of another origin is refused behind a proxy too, and one of the proxy's own name is not.
func TestOriginBehindProxy(t *testing.T) {
	s, _ := setUpWith(t, Options{Forwarders: Forwarders{Networks: []netip.Prefix{netip.MustParsePrefix("192.0.2.1/32")}}, Log: silent}) // httptest's own
	asks := func(origin, host string) int {
		r := httptest.NewRequest("GET", "http://127.0.0.1:6853/v1/jobs", nil)
		r.Header.Set("Origin", origin)
		if host != "" {
			r.Header.Set("X-Forwarded-Host", host)
		}
		w := httptest.NewRecorder()
		s.Handler().ServeHTTP(w, r)
		return w.Code
	}
	assert.Equal(t, 200, asks("https://jobs.example", "jobs.example"))
	assert.Equal(t, 403, asks("https://evil.example", "jobs.example"))
	assert.Equal(t, 403, asks("https://jobs.example", ""))
	s.opts.Forwarders = Forwarders{}
	assert.Equal(t, 403, asks("https://evil.example", "evil.example"), "nobody's word is believed")
}
