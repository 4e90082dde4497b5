// Package client is the Go client of the service's API.
//
//	mule, err := client.New("http://127.0.0.1:6853")
//	j, err := mule.Enqueue(ctx, job.Spec{Task: "tide.predict", Payload: Day{Berth: 3}})
//
// Calls that change something carry an Idempotency-Key of their own and are
// tried again under it while the service cannot be reached or says that it is
// busy, so that a lost answer harms nobody. An error that the service answers is
// a [*job.Problem].
package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"humblemule/core/job"
)

// DefaultServer is where a service listens unless it is told otherwise.
const DefaultServer = "http://127.0.0.1:6853"

// Client talks to one service. It may be used from any goroutine.
type Client struct {
	base     string
	http     *http.Client
	patience time.Duration
}

// Option sets up a client.
type Option func(*Client)

// HTTPClient makes the client use c, whose own timeout must be longer than the
// longest wait.
func HTTPClient(c *http.Client) Option { return func(m *Client) { m.http = c } }

// Patience is how long a call is tried again while the service cannot be
// reached or is busy; 10 s unless given. Zero tries once.
func Patience(d time.Duration) Option { return func(m *Client) { m.patience = d } }

// New makes a client of the service at an address such as
// http://127.0.0.1:6853. It does not connect yet.
func New(server string, options ...Option) (*Client, error) {
	if !strings.Contains(server, "://") {
		server = "http://" + server
	}
	u, err := url.Parse(server)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is no address of a service; write it as %s", server, DefaultServer)
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.Proxy = nil
	transport.MaxIdleConnsPerHost = 64
	m := &Client{base: strings.TrimRight(server, "/"), http: &http.Client{Transport: transport}, patience: 10 * time.Second}
	for _, set := range options {
		set(m)
	}
	return m, nil
}

// Close closes connections that are not in use.
func (m *Client) Close() { m.http.CloseIdleConnections() }

// Unreachable is the error of a service that gives no answer.
type Unreachable struct {
	Server string
	Err    error
}

// Error says what to do.
func (u *Unreachable) Error() string {
	return fmt.Sprintf("no service answers at %s (%v); start one with: hmule serve", u.Server, rootOf(u.Err))
}

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
	body         []byte
	media        string
	// once is true for calls that are not tried again.
	once bool
}

// do makes a call and reads its answer into v.
func (m *Client) do(ctx context.Context, r request, v any) error {
	key := ""
	if r.method != http.MethodGet && r.method != http.MethodPut {
		key = rand.Text()
	}
	until := time.Now().Add(m.patience)
	for pause := firstPause; ; pause = min(2*pause, mostPause) {
		err := m.try(ctx, r, key, v)
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
	return errors.As(err, &gone) || errors.As(err, &p) && p.Kind == job.Busy
}

func (m *Client) try(ctx context.Context, r request, key string, v any) error {
	req, err := http.NewRequestWithContext(ctx, r.method, m.base+r.path, bytes.NewReader(r.body))
	if err != nil {
		return err
	}
	if r.body != nil {
		req.Header.Set("Content-Type", r.media)
	}
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	resp, err := m.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return &Unreachable{m.base, err}
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		return &Unreachable{m.base, err}
	}
	if resp.StatusCode >= 400 {
		return problem(resp, body)
	}
	if v == nil {
		return nil
	}
	if err := json.Unmarshal(body, v); err != nil {
		return fmt.Errorf("the answer of %s cannot be read (is it a Humble Mule service?): %w", m.base, err)
	}
	return nil
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

func post[T any](ctx context.Context, m *Client, path string, in any) (out T, err error) {
	body, err := encode(in)
	if err == nil {
		err = m.do(ctx, request{method: http.MethodPost, path: path, body: body, media: "application/json"}, &out)
	}
	return out, err
}

func get[T any](ctx context.Context, m *Client, path string) (out T, err error) {
	err = m.do(ctx, request{method: http.MethodGet, path: path}, &out)
	return out, err
}

// encode writes JSON without escaping what needs no escape.
func encode(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return b.Bytes(), err
}

// About is what a service tells of itself.
type About struct {
	Version  string   `json:"version"`
	Store    string   `json:"store"`
	Features []string `json:"features"`
}

// About asks what answers at the address.
func (m *Client) About(ctx context.Context) (About, error) {
	return get[About](ctx, m, "/v1")
}

// Enqueue hands a job to the service. It is durable when Enqueue returns.
func (m *Client) Enqueue(ctx context.Context, s job.Spec) (job.Job, error) {
	return post[job.Job](ctx, m, "/v1/jobs", s)
}

// EnqueueMany hands over up to 10 000 jobs, all or none, and answers their ids
// and states in order.
func (m *Client) EnqueueMany(ctx context.Context, specs []job.Spec) ([]job.Job, error) {
	var lines bytes.Buffer
	for i := range specs {
		line, err := encode(&specs[i])
		if err != nil {
			return nil, fmt.Errorf("spec %d: %w", i, err)
		}
		lines.Write(line)
	}
	return m.EnqueueLines(ctx, lines.Bytes())
}

// EnqueueLines hands over jobs that are written as JSON already, a spec a line.
func (m *Client) EnqueueLines(ctx context.Context, ndjson []byte) ([]job.Job, error) {
	var answer job.Page
	err := m.do(ctx, request{method: http.MethodPost, path: "/v1/jobs", body: ndjson, media: "application/x-ndjson"}, &answer)
	return answer.Jobs, err
}

// Job asks for one job.
func (m *Client) Job(ctx context.Context, id int64) (job.Job, error) {
	return get[job.Job](ctx, m, jobPath(id, ""))
}

// Await asks for a job when it is finished, or as it stands after wait, at most
// a minute.
func (m *Client) Await(ctx context.Context, id int64, wait time.Duration) (job.Job, error) {
	return get[job.Job](ctx, m, jobPath(id, "?wait="+job.Duration(wait).String()))
}

func jobPath(id int64, rest string) string { return "/v1/jobs/" + strconv.FormatInt(id, 10) + rest }

// Jobs asks for a page of jobs.
func (m *Client) Jobs(ctx context.Context, f job.Filter) (job.Page, error) {
	return get[job.Page](ctx, m, "/v1/jobs?"+Query(f).Encode())
}

// Query writes a filter as the query of a list.
func Query(f job.Filter) url.Values {
	q := url.Values{}
	set := func(name, value string) {
		if value != "" {
			q.Set(name, value)
		}
	}
	var states, ids []string
	for _, s := range f.States {
		states = append(states, s.String())
	}
	for _, id := range f.IDs {
		ids = append(ids, strconv.FormatInt(id, 10))
	}
	set("state", strings.Join(states, ","))
	set("queue", strings.Join(f.Queues, ","))
	set("task", strings.Join(f.Tasks, ","))
	set("ids", strings.Join(ids, ","))
	set("owner", f.Owner)
	set("key", f.Key)
	set("order", string(f.Order))
	set("cursor", f.Cursor)
	for name, value := range f.Labels {
		q.Add("label", name+":"+value)
	}
	if f.Since != 0 {
		q.Set("since", f.Since.String())
	}
	if f.Until != 0 {
		q.Set("until", f.Until.String())
	}
	if f.Limit != 0 {
		q.Set("limit", strconv.Itoa(f.Limit))
	}
	return q
}

// Cancel ends an unfinished job; one that runs is asked to end.
func (m *Client) Cancel(ctx context.Context, id int64) (job.Job, error) {
	return post[job.Job](ctx, m, jobPath(id, "/cancel"), struct{}{})
}

// Requeue gives a finished job a new round, with another payload where payload
// is not nil.
func (m *Client) Requeue(ctx context.Context, id int64, payload any) (job.Job, error) {
	return post[job.Job](ctx, m, jobPath(id, "/requeue"), struct {
		Payload any `json:"payload,omitzero"`
	}{payload})
}

// StartNow makes a job that waits for its time, or for its next attempt, ready at
// once.
func (m *Client) StartNow(ctx context.Context, id int64) (job.Job, error) {
	return post[job.Job](ctx, m, jobPath(id, "/start_now"), struct{}{})
}

// Patch changes a job that does not run, by an RFC 7396 merge patch such as
// map[string]any{"priority": 9}.
func (m *Client) Patch(ctx context.Context, id int64, patch any) (j job.Job, err error) {
	body, err := encode(patch)
	if err == nil {
		err = m.do(ctx, request{method: http.MethodPatch, path: jobPath(id, ""), body: body, media: "application/merge-patch+json"}, &j)
	}
	return j, err
}

// Delete removes a finished job; it can be restored for ten minutes.
func (m *Client) Delete(ctx context.Context, id int64) error {
	return m.do(ctx, request{method: http.MethodDelete, path: jobPath(id, "")}, nil)
}

// Restore takes back the removal of a job.
func (m *Client) Restore(ctx context.Context, id int64) (job.Job, error) {
	return post[job.Job](ctx, m, jobPath(id, "/restore"), struct{}{})
}

// Queues asks for the queues.
func (m *Client) Queues(ctx context.Context) ([]job.Queue, error) {
	answer, err := get[struct{ Queues []job.Queue }](ctx, m, "/v1/queues")
	return answer.Queues, err
}

// Stats asks how things stand in a queue, or in all where it is empty.
func (m *Client) Stats(ctx context.Context, queue string) (job.Stats, error) {
	path := "/v1/stats"
	if queue != "" {
		path += "?queue=" + url.QueryEscape(queue)
	}
	return get[job.Stats](ctx, m, path)
}

// Workers asks for the worker processes.
func (m *Client) Workers(ctx context.Context) ([]job.Worker, error) {
	answer, err := get[struct{ Workers []job.Worker }](ctx, m, "/v1/workers")
	return answer.Workers, err
}

// PutWorker registers a worker process.
func (m *Client) PutWorker(ctx context.Context, w job.Worker) error {
	body, err := encode(w)
	if err != nil {
		return err
	}
	return m.do(ctx, request{method: http.MethodPut, path: "/v1/workers/" + url.PathEscape(w.ID), body: body, media: "application/json"}, nil)
}

// Lease settles and takes jobs.
func (m *Client) Lease(ctx context.Context, r job.LeaseRequest) (job.LeaseAnswer, error) {
	return post[job.LeaseAnswer](ctx, m, "/v1/leases", r)
}

// Extend renews leases.
func (m *Client) Extend(ctx context.Context, items []job.Extension) (job.ExtendAnswer, error) {
	return post[job.ExtendAnswer](ctx, m, "/v1/leases/extend", struct {
		Leases []job.Extension `json:"leases"`
	}{items})
}

// Settle ends leases with their outcomes.
func (m *Client) Settle(ctx context.Context, items []job.Settlement) ([]job.SettleResult, error) {
	answer, err := post[struct{ Results []job.SettleResult }](ctx, m, "/v1/leases/settle", struct {
		Leases []job.Settlement `json:"leases"`
	}{items})
	return answer.Results, err
}

// Wanted is a worker's heartbeat: it answers when something is wanted of the
// worker, at the latest after wait.
func (m *Client) Wanted(ctx context.Context, worker string, wait time.Duration) (w job.Wanted, err error) {
	path := "/v1/workers/" + url.PathEscape(worker) + "/wanted?wait=" + job.Duration(wait).String()
	err = m.do(ctx, request{method: http.MethodGet, path: path, once: true}, &w)
	return w, err
}

// Event is one of the service's events: reset, counts or jobs, with its data.
type Event struct {
	Name string
	Data json.RawMessage
}

// Events follows what changes until ctx ends, the service goes, or each answers
// an error.
func (m *Client) Events(ctx context.Context, each func(Event) error) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, m.base+"/v1/events", nil)
	if err != nil {
		return err
	}
	resp, err := m.http.Do(req)
	if err != nil {
		return &Unreachable{m.base, err}
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		body, _ := io.ReadAll(resp.Body)
		return problem(resp, body)
	}
	var e Event
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		name, value, _ := strings.Cut(lines.Text(), ": ")
		switch {
		case name == "event":
			e.Name = value
		case name == "data":
			e.Data = json.RawMessage(value)
		case lines.Text() == "" && e.Name != "":
			if err := each(e); err != nil {
				return err
			}
			e = Event{}
		}
	}
	return lines.Err()
}
