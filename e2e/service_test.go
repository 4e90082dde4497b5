// Package e2e tests the built program through what its users touch: its
// commands, its HTTP interface, its client and its console.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/server"
	"humblemule.example/job"
)

// hmule is the built program, and buildFlags are how it is built.
var (
	hmule      string
	buildFlags = []string{"build"}
)

func TestMain(m *testing.M) {
	if server := os.Getenv(poolServer); server != "" {
		if err := poolProcess(server); err != nil {
			panic(err)
		}
		return
	}
	dir, err := os.MkdirTemp("", "hmule-e2e-")
	if err != nil {
		panic(err)
	}
	hmule = filepath.Join(dir, "hmule")
	build := exec.Command("go", append(buildFlags, "-o", hmule, "./cmd/hmule")...)
	build.Dir = ".." // by the versions of the program's own module, not of the tests'
	build.Stdout, build.Stderr = os.Stderr, os.Stderr
	if err := build.Run(); err != nil {
		panic(err)
	}
	status := m.Run()
	os.RemoveAll(dir)
	os.Exit(status)
}

// service is a running `hmule serve`.
type service struct {
	t      *testing.T
	cmd    *exec.Cmd
	data   string
	listen string
	flags  []string
	env    []string
	url    string
	log    *journal
	ended  chan error
}

// journal keeps what a process has written, and can be waited on.
type journal struct {
	mu   sync.Mutex
	text bytes.Buffer
	more chan struct{}
}

func (l *journal) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	close(l.more)
	l.more = make(chan struct{})
	return l.text.Write(p)
}

func (l *journal) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// find waits until the log matches, and answers the match.
func (l *journal) find(t *testing.T, pattern string) []string {
	t.Helper()
	re := regexp.MustCompile(pattern)
	timeout := time.After(time.Minute)
	for {
		l.mu.Lock()
		found, more := re.FindStringSubmatch(l.text.String()), l.more
		l.mu.Unlock()
		if found != nil {
			return found
		}
		select {
		case <-more:
		case <-timeout:
			t.Fatalf("the log never said %s; it says:\n%s", pattern, l)
		}
	}
}

// serve starts a service on a file of its own, at an address that stays the same
// when it is started again.
func serve(t *testing.T, flags ...string) *service {
	t.Helper()
	s := &service{t: t, data: filepath.Join(t.TempDir(), "e2e.db"), listen: freeAddress(t), flags: flags}
	s.start()
	t.Cleanup(s.kill)
	return s
}

// unalarmed is a service whose alerts are off: they look every ten seconds, and how things stand would
// hang on how long a test takes.
func unalarmed(t *testing.T) *service {
	t.Helper()
	file := filepath.Join(t.TempDir(), "hmule.yaml")
	require.NoError(t, os.WriteFile(file, []byte("alerts: {off: true}\n"), 0o600))
	return serve(t, "--config", file)
}

func freeAddress(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

func (s *service) start() {
	s.t.Helper()
	s.log = &journal{more: make(chan struct{})}
	s.cmd = exec.Command(hmule, append([]string{"serve", "--data", s.data, "--listen", s.listen}, s.flags...)...)
	s.cmd.Stderr, s.cmd.Env = s.log, append(os.Environ(), s.env...)
	require.NoError(s.t, s.cmd.Start())
	s.ended = make(chan error, 1)
	go func() { s.ended <- s.cmd.Wait() }()
	s.url = strings.TrimSuffix(s.log.find(s.t, `api=(\S+)/v1`)[1], "/v1")
}

// kill ends the service as a crash would.
func (s *service) kill() {
	if strings.Contains(s.log.String(), "DATA RACE") {
		s.t.Errorf("the service has a data race:\n%s", s.log)
	}
	s.cmd.Process.Kill()
	<-s.ended
	s.ended <- nil
}

// stop ends the service as a deploy would.
func (s *service) stop() error {
	s.cmd.Process.Signal(syscall.SIGTERM)
	err := <-s.ended
	s.ended <- nil
	return err
}

// mule is a client whose every answer is checked against openapi.yaml.
func (s *service) mule(options ...client.Option) *client.Client {
	s.t.Helper()
	m, err := client.New(s.url, append([]client.Option{client.HTTPClient(&http.Client{Transport: checked(s.t)})}, options...)...)
	require.NoError(s.t, err)
	s.t.Cleanup(m.Close)
	return m
}

// answer is what an HTTP request brought.
type answer struct {
	status int
	header http.Header
	body   string
}

// problem reads the answer as RFC 9457.
func (a answer) problem(t *testing.T) (detail string, fields []job.FieldError) {
	t.Helper()
	var p struct {
		Status int
		Detail string
		Errors []job.FieldError
	}
	require.Equal(t, "application/problem+json", a.header.Get("Content-Type"), a.body)
	require.NoError(t, json.Unmarshal([]byte(a.body), &p))
	require.Equal(t, a.status, p.Status)
	return p.Detail, p.Errors
}

// ask makes an HTTP request; headers are "Name: value".
func (s *service) ask(method, path, body string, headers ...string) answer {
	s.t.Helper()
	req, err := http.NewRequest(method, s.url+path, strings.NewReader(body))
	require.NoError(s.t, err)
	req.Header.Set("Content-Type", "application/json")
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		if name == "Host" {
			req.Host = value
		} else {
			req.Header.Set(name, value)
		}
	}
	tr := checked(s.t)
	resp, err := tr.RoundTrip(req)
	require.NoError(s.t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(s.t, err)
	return answer{resp.StatusCode, resp.Header, string(text)}
}

// closed changes the description so that an answer with a property that is not described is
// wrong: clients are told to expect more properties, and tests are to find them. A value that
// may be any JSON may be null too, which the validator would not take from a schema that says
// nothing.
func closed(schema any) {
	switch v := schema.(type) {
	case map[string]any:
		if properties, is := v["properties"].(map[string]any); is {
			if _, set := v["additionalProperties"]; !set {
				v["additionalProperties"] = false
			}
			for _, p := range properties {
				if p, is := p.(map[string]any); is && p["type"] == nil && p["$ref"] == nil && p["properties"] == nil && p["anyOf"] == nil {
					p["anyOf"] = []any{map[string]any{"type": "null"}, map[string]any{}}
				}
			}
		}
		for _, inner := range v {
			closed(inner)
		}
	case []any:
		for _, inner := range v {
			closed(inner)
		}
	}
}

// described finds the description of a request in openapi.yaml.
var described = sync.OnceValues(func() (routers.Router, error) {
	var text any
	if err := yaml.Unmarshal(server.OpenAPI(), &text); err != nil {
		return nil, err
	}
	closed(text)
	raw, err := json.Marshal(text)
	if err != nil {
		return nil, err
	}
	doc, err := openapi3.NewLoader().LoadFromData(raw)
	if err != nil {
		return nil, err
	}
	doc.Servers = nil
	if err := doc.Validate(context.Background()); err != nil {
		return nil, err
	}
	return gorillamux.NewRouter(doc)
})

type checker struct {
	t *testing.T
}

func checked(t *testing.T) http.RoundTripper { return checker{t} }

// RoundTrip fails the test where an answer is not what openapi.yaml says.
func (c checker) RoundTrip(req *http.Request) (*http.Response, error) {
	resp, err := http.DefaultTransport.RoundTrip(req)
	if err != nil || !strings.HasPrefix(req.URL.Path, "/v1") || resp.Header.Get("Content-Type") == "text/event-stream" {
		return resp, err
	}
	body, err := io.ReadAll(resp.Body)
	resp.Body.Close()
	resp.Body = io.NopCloser(bytes.NewReader(body))
	if err != nil {
		return resp, err
	}
	router, err := described()
	if err != nil {
		c.t.Errorf("openapi.yaml: %v", err)
		return resp, nil
	}
	route, params, err := router.FindRoute(req)
	if err != nil {
		if resp.StatusCode < 400 {
			c.t.Errorf("%s %s is not described in openapi.yaml", req.Method, req.URL.Path)
		}
		return resp, nil
	}
	err = openapi3filter.ValidateResponse(context.Background(), &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{Request: req, PathParams: params, Route: route},
		Status:                 resp.StatusCode, Header: resp.Header, Body: io.NopCloser(bytes.NewReader(body)),
		Options: &openapi3filter.Options{IncludeResponseStatus: true, ExcludeResponseBody: strings.HasPrefix(resp.Header.Get("Content-Type"), "application/x-ndjson")},
	})
	if err != nil {
		c.t.Errorf("%s %s answered %d, which openapi.yaml does not describe: %v\n%s", req.Method, req.URL.Path, resp.StatusCode, err, body)
	}
	return resp, nil
}

// run runs a command and answers its output and exit status.
func run(t *testing.T, server string, args ...string) (stdout, stderr string, status int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, hmule, args...)
	cmd.Env = append(os.Environ(), "HMULE_SERVER="+server, "TZ=UTC")
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if cmd.ProcessState == nil {
		t.Fatal(err)
	}
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

func lease(t *testing.T, m *client.Client, worker string, limit int) []api.Lease {
	t.Helper()
	a, err := m.Source().Lease(t.Context(), api.LeaseRequest{Worker: worker, Queues: []string{"common", "berths"}, Limit: limit, Lease: job.Duration(30 * time.Second)})
	require.NoError(t, err)
	return a.Leases
}

// leaseOf takes one job of a queue.
func leaseOf(t *testing.T, m *client.Client, queue string) api.Lease {
	t.Helper()
	a, err := m.Source().Lease(t.Context(), api.LeaseRequest{Worker: "w", Queues: []string{queue}, Limit: 1, Wait: job.Duration(10 * time.Second), Lease: job.Duration(30 * time.Second)})
	require.NoError(t, err)
	require.Len(t, a.Leases, 1)
	return a.Leases[0]
}

func newHTTP() *http.Client {
	return &http.Client{Transport: http.DefaultTransport.(*http.Transport).Clone()}
}

// says runs a command that must succeed and tell something.
func (s *service) says(want string, args ...string) {
	s.t.Helper()
	stdout, stderr, status := run(s.t, s.url, args...)
	assert.Equal(s.t, 0, status, stderr)
	assert.Contains(s.t, stdout, want, args)
}

// pause stops the service's process where it stands, and goOn lets it go on.
func (s *service) pause() { s.cmd.Process.Signal(syscall.SIGSTOP) }

func (s *service) goOn() { s.cmd.Process.Signal(syscall.SIGCONT) }
