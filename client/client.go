// Package client is the Go client of the service's API.
//
//	mule, err := client.New("http://127.0.0.1:6853")
//	enqueued, err := mule.Enqueue(ctx, job.Spec{Task: "tide.predict", Payload: job.JSON(Day{Berth: 3})})
//
// A producer needs [Client.Enqueue], [Client.EnqueueMany], [Client.WaitFor] and [Result]. A
// worker pool takes its jobs through [Client.Source]. All other methods are for operators and
// their tools. There is one method for each operation of the API, by its name; a list has a
// second one that reads page after page, such as [Client.Jobs] beside [Client.ListJobs].
//
// A call that changes something carries an Idempotency-Key and is retried under it while the
// service cannot be reached or is busy, so that nothing happens twice. An error that the
// service answers is a [*job.Problem]; errors.Is tells its kind:
//
//	if _, err := mule.Job(ctx, 7); errors.Is(err, job.ErrNotFound) { … }
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	jsonv2 "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"humblemule.example/api"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// DefaultServer is where a service listens unless it is told otherwise.
const DefaultServer = "http://127.0.0.1:6853"

// Client talks to one service. It may be used from any goroutine.
type Client struct {
	base     string
	http     *http.Client
	retryFor time.Duration
	token    string
	tokens   *tokenFile // nil for none
	escaped  bool
}

// Option sets up a client.
type Option func(*Client)

// HTTPClient makes the client use c, whose own timeout must be longer than the
// longest wait.
func HTTPClient(c *http.Client) Option { return func(m *Client) { m.http = c } }

// RetryFor is how long a call is retried while the service cannot be reached or is busy; 10 s
// unless given. Zero makes each call once.
func RetryFor(d time.Duration) Option { return func(m *Client) { m.retryFor = d } }

// Token is shown to a service that asks for one.
func Token(token string) Option { return func(m *Client) { m.token = token } }

// TokenFile makes the client show the token that a file holds; it is read again whenever
// the service refused this pool it.
func TokenFile(path string) Option { return func(m *Client) { m.tokens = &tokenFile{path: path} } }

// tokenFile is the token of a file, as it was read last.
type tokenFile struct {
	path string
	mu   sync.Mutex
	read string
}

// token gives the token, reading the file the first time.
func (f *tokenFile) token() string {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.read == "" {
		f.read = f.again()
	}
	return f.read
}

// changed reads the file again and tells whether it holds another token now.
func (f *tokenFile) changed() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	was := f.read
	f.read = f.again()
	return f.read != was && f.read != ""
}

// again reads the file; one that cannot be read holds no token, which the service says.
func (f *tokenFile) again() string {
	raw, err := os.ReadFile(f.path)
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(raw))
}

// EscapeControls replaces control characters in text that comes from jobs by visible marks,
// so that printing it cannot command a terminal.
func EscapeControls() Option { return func(m *Client) { m.escaped = true } }

// New makes a client of the service at an address such as http://127.0.0.1:6853, or
// https://tools.example/jobs where it answers under a path, or unix:/run/hmule/hmule.sock for its
// socket. It does not connect yet.
func New(server string, options ...Option) (*Client, error) {
	socket, bySocket := strings.CutPrefix(server, "unix:")
	if bySocket && socket == "" {
		return nil, fmt.Errorf("%q names no socket; write it as unix:/run/hmule/hmule.sock", server)
	}
	if bySocket {
		server = "http://localhost"
	}
	if !strings.Contains(server, "://") {
		server = "http://" + server
	}
	u, err := url.Parse(server)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not the address of a service; write it as %s", server, DefaultServer)
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.Proxy = nil
	transport.MaxIdleConnsPerHost = 64
	transport.DisableCompression = true // it costs more processor time than it saves
	if bySocket {
		transport.DialContext = func(ctx context.Context, _, _ string) (net.Conn, error) {
			return new(net.Dialer).DialContext(ctx, "unix", socket)
		}
	}
	m := &Client{base: strings.TrimRight(server, "/"), http: &http.Client{Transport: transport}, retryFor: 10 * time.Second}
	for _, set := range options {
		set(m)
	}
	return m, nil
}

// Close closes connections that are not in use.
func (m *Client) Close() { m.http.CloseIdleConnections() }

// ErrUnreachable is what errors.Is tells of every [*Unreachable].
var ErrUnreachable = errors.New("no service answers")

// Unreachable is the error of a service that gives no answer.
type Unreachable struct {
	Server string
	Err    error
}

// Error says what to do.
func (u *Unreachable) Error() string {
	return fmt.Sprintf("no service answers at %s (%v); start one with: hmule serve", u.Server, rootOf(u.Err))
}

// Is tells that the error is ErrUnreachable.
func (u *Unreachable) Is(target error) bool { return target == ErrUnreachable }

// Unwrap gives what the connection said.
func (u *Unreachable) Unwrap() error { return u.Err }

func rootOf(err error) error {
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Err
	}
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

const (
	firstPause = 50 * time.Millisecond
	mostPause  = 2 * time.Second
)

// request is one call.
type request struct {
	method, path string
	query        url.Values
	body         []byte
	media        string
	// once is true for calls that are not tried again.
	once bool
	// headers are those beside the usual ones, such as If-Match.
	headers http.Header
}

// address is the path with the query.
func (r *request) address() string {
	if len(r.query) == 0 {
		return r.path
	}
	return r.path + "?" + r.query.Encode()
}

// CallOption changes one call.
type CallOption func(*request)

// IfVersion makes a change take effect only on a version of a queue, a task, a schedule or a
// job, as it was read. If it has changed since, the error is [job.ErrOutdated].
func IfVersion(version int64) CallOption {
	return func(r *request) { r.headers.Set("If-Match", strconv.Quote(strconv.FormatInt(version, 10))) }
}

// IfNew makes a change take effect only where nothing is there yet, else the error is
// [job.ErrOutdated].
func IfNew() CallOption {
	return func(r *request) { r.headers.Set("If-None-Match", "*") }
}

// MayRemove allows a change of a queue that keeps finished jobs for a shorter time, and so
// removes some. Without it such a change is refused with [job.ErrWouldRemove].
func MayRemove() CallOption {
	return func(r *request) { r.query.Set("may_remove", "true") }
}

// do makes a call and reads its answer into v.
func (m *Client) do(ctx context.Context, r request, v any) error {
	key := ""
	if r.method != http.MethodGet && (r.method != http.MethodPut || len(r.headers) > 0) {
		if key = api.CallKey(ctx); key == "" {
			key = api.NewCallKey(time.Now())
		}
	}
	until := time.Now().Add(m.retryFor)
	for pause := firstPause; ; pause = min(2*pause, mostPause) {
		err := m.try(ctx, r, key, v)
		if api.Denied(err) && m.tokens != nil && m.tokens.changed() {
			err = m.try(ctx, r, key, v)
		}
		if err == nil || r.once || !passing(err) || ctx.Err() != nil || time.Now().Add(pause).After(until) {
			return err
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return err
		}
	}
}

// passing tells whether the same call may succeed a little later.
func passing(err error) bool {
	var gone *Unreachable
	var p *job.Problem
	return errors.As(err, &gone) || errors.As(err, &p) && api.Temporary(p)
}

func (m *Client) try(ctx context.Context, r request, key string, v any) error {
	req, err := http.NewRequestWithContext(ctx, r.method, m.base+r.address(), bytes.NewReader(r.body))
	if err != nil {
		return err
	}
	if r.body != nil {
		req.Header.Set("Content-Type", r.media)
	}
	for name, values := range r.headers {
		req.Header[name] = values
	}
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	m.authorize(req)
	resp, err := m.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return &Unreachable{m.base, err}
	}
	defer resp.Body.Close()
	body, err := readAll(resp)
	if err != nil {
		return &Unreachable{m.base, err}
	}
	if m.escaped {
		body = text.VisibleJSON(body)
	}
	if resp.StatusCode >= 400 {
		return problem(resp, body)
	}
	if v == nil || resp.StatusCode == http.StatusNoContent {
		return nil
	}
	if text, is := v.(*string); is {
		*text = string(body)
		return nil
	}
	if err := jsonv2.Unmarshal(body, v, answers); err != nil {
		return fmt.Errorf("the answer of %s cannot be read (is it a Humble Mule service?): %w", m.base, err)
	}
	return nil
}

// answers are read as they were sent: what producers have put in a payload is no concern of
// the client's.
var answers = jsonv2.JoinOptions(jsonv2.MatchCaseInsensitiveNames(true), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))

// readAll reads a body in one piece, where its length is told.
func readAll(resp *http.Response) ([]byte, error) {
	const most = 64 << 20
	if resp.ContentLength < 0 || resp.ContentLength > most {
		return io.ReadAll(resp.Body)
	}
	body := make([]byte, resp.ContentLength)
	_, err := io.ReadFull(resp.Body, body)
	return body, err
}

func (m *Client) authorize(req *http.Request) {
	token := m.token
	if m.tokens != nil {
		token = m.tokens.token()
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
}

// problem reads an RFC 9457 answer.
func problem(resp *http.Response, body []byte) error {
	var p struct {
		Type, Title, Detail string
		Errors              []job.FieldError
	}
	if err := json.Unmarshal(body, &p); err != nil || p.Detail == "" {
		return fmt.Errorf("the service answered %s", resp.Status)
	}
	kind := job.Kind(strings.TrimPrefix(p.Type, "urn:humblemule:problem:"))
	return &job.Problem{Kind: kind, Detail: p.Detail, Fields: p.Errors}
}

func get[T any](ctx context.Context, m *Client, path string, query url.Values) (out T, err error) {
	err = m.do(ctx, request{method: http.MethodGet, path: path, query: query}, &out)
	return out, err
}

func post[T any](ctx context.Context, m *Client, path string, in any, options ...CallOption) (T, error) {
	return change[T](ctx, m, http.MethodPost, "application/json", path, in, options)
}

func put[T any](ctx context.Context, m *Client, path string, in any, options ...CallOption) (T, error) {
	return change[T](ctx, m, http.MethodPut, "application/json", path, in, options)
}

// patch sends an RFC 7396 merge patch.
func patch[T any](ctx context.Context, m *Client, path string, in any, options ...CallOption) (T, error) {
	return change[T](ctx, m, http.MethodPatch, "application/merge-patch+json", path, in, options)
}

func remove(ctx context.Context, m *Client, path string, options ...CallOption) error {
	_, err := change[struct{}](ctx, m, http.MethodDelete, "", path, nil, options)
	return err
}

func change[T any](ctx context.Context, m *Client, method, media, path string, in any, options []CallOption) (out T, err error) {
	r := request{method: method, path: path, media: media, query: url.Values{}, headers: http.Header{}}
	if in != nil {
		if r.body, err = encode(in); err != nil {
			return out, err
		}
	}
	for _, set := range options {
		set(&r)
	}
	return out, m.do(ctx, r, &out)
}

// nothing is the body of a call that says all in its path.
var nothing = struct{}{}

// path writes a path whose parts after /v1 are escaped.
func path(parts ...string) string {
	var b strings.Builder
	b.WriteString("/v1")
	for _, p := range parts {
		b.WriteString("/" + url.PathEscape(p))
	}
	return b.String()
}

func number(id int64) string { return strconv.FormatInt(id, 10) }

// encode writes JSON without escaping what needs no escape.
func encode(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return b.Bytes(), err
}
