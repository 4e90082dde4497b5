package server

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"humblemule.example/internal/core/engine"
	"humblemule.example/job"
)

// No test leaves a goroutine behind.
func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var silent = slog.New(slog.DiscardHandler)

var files = fstest.MapFS{
	"index.html":      {Data: []byte(`<meta name="style-nonce" content="__NONCE__">`)},
	"assets/a-123.js": {Data: []byte("console.log(1)")},
	"mule.svg":        {Data: []byte("<svg/>")},
}

func setUp(t *testing.T) (*Server, *engine.Engine) { return setUpWith(t, Options{Log: silent}) }

func setUpWith(t *testing.T, o Options) (*Server, *engine.Engine) {
	e, err := engine.Open(filepath.Join(t.TempDir(), "server.db"), engine.Options{Log: silent})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, e.Close()) })
	o.Version, o.Console = "test", files
	return New(e, o), e
}

func textLog(w io.Writer) *slog.Logger { return slog.New(slog.NewTextHandler(w, nil)) }

func ask(s *Server, method, path string, headers ...string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, path, nil)
	r.Host = "127.0.0.1:6853"
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		if name == "Host" {
			r.Host = value
		} else {
			r.Header.Set(name, value)
		}
	}
	w := httptest.NewRecorder()
	s.Handler().ServeHTTP(w, r)
	return w
}

// Only this machine's own names and this service's own pages are answered.
func TestGuard(t *testing.T) {
	s, _ := setUp(t)
	for _, c := range []struct {
		method, path string
		headers      []string
		status       int
	}{
		{"GET", "/v1", nil, 200},
		{"GET", "/v1", []string{"Host: localhost:6853"}, 200},
		{"GET", "/v1", []string{"Host: [::1]:6853"}, 200},
		{"GET", "/v1", []string{"Host: 127.0.0.1"}, 200},
		{"GET", "/v1", []string{"Host: harbour.example:6853"}, 403},
		{"GET", "/v1", []string{"Host: 127.0.0.1.harbour.example"}, 403},
		{"GET", "/v1", []string{"Host: 10.0.0.7:6853"}, 403},
		{"GET", "/", []string{"Host: harbour.example"}, 403},
		{"GET", "/v1", []string{"Origin: http://127.0.0.1:6853"}, 200},
		{"GET", "/v1", []string{"Origin: http://127.0.0.1:8080"}, 403},
		{"GET", "/v1", []string{"Origin: null"}, 403},
		{"POST", "/v1/jobs/1/cancel", []string{"Origin: http://harbour.example"}, 403},
		{"GET", "/v1", []string{"Sec-Fetch-Site: same-origin"}, 200},
		{"GET", "/v1", []string{"Sec-Fetch-Site: none"}, 200},
		{"GET", "/v1", []string{"Sec-Fetch-Site: same-site"}, 403},
		{"GET", "/v1", []string{"Sec-Fetch-Site: cross-site", "Sec-Fetch-Mode: navigate"}, 403},
		{"GET", "/", []string{"Sec-Fetch-Site: cross-site", "Sec-Fetch-Mode: navigate"}, 200},
		{"GET", "/", []string{"Sec-Fetch-Site: cross-site", "Sec-Fetch-Mode: no-cors"}, 403},
	} {
		got := ask(s, c.method, c.path, c.headers...)
		assert.Equal(t, c.status, got.Code, "%s %s %v", c.method, c.path, c.headers)
		assert.Empty(t, got.Header().Get("Access-Control-Allow-Origin"))
		assert.Equal(t, "nosniff", got.Header().Get("X-Content-Type-Options"))
	}
}

// The console's page has a nonce of its own each time; its files are served, and
// nothing else is.
func TestFiles(t *testing.T) {
	s, e := setUp(t)
	nonce := regexp.MustCompile(`content="([^"]+)"`)
	seen := map[string]bool{}
	for _, path := range []string{"/", "/jobs/7", "/settings/dues.charge", "/dead/17"} {
		got := ask(s, "GET", path)
		require.Equal(t, 200, got.Code, path)
		n := nonce.FindStringSubmatch(got.Body.String())[1]
		assert.False(t, seen[n] || n == nonceMark, "the nonce is new")
		seen[n] = true
		policy := got.Header().Get("Content-Security-Policy")
		assert.Contains(t, policy, "'nonce-"+n+"'")
		assert.NotContains(t, policy, "unsafe")
	}
	asset := ask(s, "GET", "/assets/a-123.js")
	assert.Equal(t, 200, asset.Code)
	assert.Contains(t, asset.Header().Get("Cache-Control"), "immutable")
	assert.Contains(t, asset.Header().Get("Content-Type"), "javascript")
	assert.Equal(t, 200, ask(s, "GET", "/mule.svg").Code)
	for _, path := range []string{"/assets/gone.js", "/index.html", "/../server.go", "/v1/nothing", "/v1x/../v1/nothing", "/healthz", "/v1x", "/jobs/7/more", "/Dead"} {
		assert.Equal(t, 404, ask(s, "GET", path).Code, path)
	}
	bare := New(e, Options{Log: silent})
	got := ask(bare, "GET", "/")
	assert.Equal(t, 404, got.Code)
	assert.Contains(t, got.Body.String(), "make build")
}

// serving runs the server on loopback until the end of the test.
func serving(t *testing.T, s *Server) (address string, stop func() error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx, l) }()
	return l.Addr().String(), func() error {
		cancel()
		return <-ended
	}
}

// A worker whose connection breaks while its take is parked is dealt nothing; the
// job stays ready and uncounted.
func TestBrokenConnection(t *testing.T) {
	s, e := setUp(t)
	address, stop := serving(t, s)
	body := `{"worker":"w","queues":["common"],"limit":1,"wait":"30s"}`
	c, err := net.Dial("tcp", address)
	require.NoError(t, err)
	fmt.Fprintf(c, "POST /v1/leases HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s", address, len(body), body)
	require.Eventually(t, func() bool {
		return len(e.Workers(t.Context())) == 1
	}, 5*time.Second, 5*time.Millisecond)
	require.NoError(t, c.Close())
	// The server notices in its own time; either way the job must stay.
	told, err := e.Enqueue(t.Context(), job.Spec{Task: "tide.predict"})
	require.NoError(t, err)
	var j job.Job
	require.Eventually(t, func() bool {
		j, err = e.Job(t.Context(), told.ID)
		return err == nil && j.State == job.Ready && j.Tries == 0
	}, 5*time.Second, 5*time.Millisecond, "%+v", j)
	require.NoError(t, stop())
}

// The server ends at once though polls and streams are open; each is answered.
func TestShutdown(t *testing.T) {
	s, _ := setUp(t)
	address, stop := serving(t, s)
	transport := &http.Transport{}
	defer transport.CloseIdleConnections()
	web := &http.Client{Transport: transport}
	stream, err := web.Get("http://" + address + "/v1/events")
	require.NoError(t, err)
	lines := bufio.NewReader(stream.Body)
	first, err := lines.ReadString('\n')
	require.NoError(t, err)
	assert.Equal(t, "event: reset\n", first)
	polled := make(chan int, 1)
	go func() {
		resp, err := web.Post("http://"+address+"/v1/leases", "application/json", strings.NewReader(`{"worker":"w","queues":["common"],"limit":1,"wait":"30s"}`))
		if assert.NoError(t, err) {
			io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
			polled <- resp.StatusCode
		}
	}()
	require.Eventually(t, func() bool {
		resp, err := web.Get("http://" + address + "/v1/workers/w")
		if err != nil {
			return false
		}
		resp.Body.Close()
		return resp.StatusCode == 200
	}, 5*time.Second, 5*time.Millisecond)
	began := time.Now()
	require.NoError(t, stop())
	assert.Less(t, time.Since(began), 5*time.Second)
	assert.Equal(t, 200, <-polled)
	_, err = io.ReadAll(lines)
	assert.NoError(t, err, "the stream ends cleanly")
	stream.Body.Close()
}
