// Package client is the Go client of the service's API.
//
//	mule, err := client.New("http://127.0.0.1:6853")
//	j, err := mule.Enqueue(ctx, job.Spec{Task: "tide.predict", Payload: job.JSON(Day{Berth: 3})})
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
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	jsonv2 "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"go.opentelemetry.io/otel/propagation"

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
	patience time.Duration
	token    string
	tokens   *tokenFile // nil for none
	visible  bool
}

// Option sets up a client.
type Option func(*Client)

// HTTPClient makes the client use c, whose own timeout must be longer than the
// longest wait.
func HTTPClient(c *http.Client) Option { return func(m *Client) { m.http = c } }

// Patience is how long a call is tried again while the service cannot be
// reached or is busy; 10 s unless given. Zero tries once.
func Patience(d time.Duration) Option { return func(m *Client) { m.patience = d } }

// Token is shown to a service that asks for one.
func Token(token string) Option { return func(m *Client) { m.token = token } }

// TokenFile makes the client show the token that a file holds; it is read again whenever
// the service does not take it.
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

// Visible makes characters in text from jobs that could command a terminal visible marks.
func Visible() Option { return func(m *Client) { m.visible = true } }

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
		if key = api.CallKey(ctx); key == "" {
			key = api.NewCallKey(time.Now())
		}
	}
	until := time.Now().Add(m.patience)
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
	return errors.As(err, &gone) || errors.As(err, &p) && api.Passes(p)
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
	if m.visible {
		body = text.VisibleJSON(body)
	}
	if resp.StatusCode >= 400 {
		return problem(resp, body)
	}
	if v == nil {
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
	// Principal and Role are who the service takes the caller for.
	Principal string `json:"principal"`
	Role      string `json:"role"`
}

// About asks what answers at the address.
func (m *Client) About(ctx context.Context) (About, error) {
	return get[About](ctx, m, "/v1")
}

// Enqueue hands a job to the service. It is durable when Enqueue returns. A spec
// without a traceparent carries on the trace of ctx, if there is one.
func (m *Client) Enqueue(ctx context.Context, s job.Spec) (job.Job, error) {
	if s.Traceparent == "" {
		carried := propagation.MapCarrier{}
		propagation.TraceContext{}.Inject(ctx, carried)
		s.Traceparent = carried["traceparent"]
	}
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
	answer, err := m.EnqueueLines(ctx, lines.Bytes())
	return answer.Jobs, err
}

// EnqueueLines hands over jobs that are written as JSON already, a spec a line.
func (m *Client) EnqueueLines(ctx context.Context, ndjson []byte) (answer api.Enqueued, err error) {
	return answer, m.do(ctx, request{method: http.MethodPost, path: "/v1/jobs", body: ndjson, media: "application/x-ndjson"}, &answer)
}

// Job asks for one job.
func (m *Client) Job(ctx context.Context, id int64) (job.Job, error) {
	return get[job.Job](ctx, m, jobPath(id, ""))
}

// Await asks for a job when it is finished, or as it stands after wait: "not yet"
// is an answer. [Result] reads what it has brought.
func (m *Client) Await(ctx context.Context, id int64, wait time.Duration) (job.Job, error) {
	const most = 25 * time.Second // a call
	for until := time.Now().Add(wait); ; {
		left := max(time.Until(until), 0).Truncate(time.Millisecond)
		j, err := get[job.Job](ctx, m, jobPath(id, "?wait="+job.Duration(min(left, most)).String()))
		if err != nil || j.State.Finished() || left <= most {
			return j, err
		}
	}
}

// ErrNotYet is the error of a result that is asked for before the job is
// finished.
var ErrNotYet = errors.New("the job is not finished yet")

// Result reads the result of a job that is done. The error is [ErrNotYet] for one
// that is not finished, and says why there is none for one that ended otherwise
// or whose result is no longer kept.
func Result[T any](j job.Job) (result T, err error) {
	switch {
	case !j.State.Finished():
		return result, fmt.Errorf("job %d is %s: %w", j.ID, j.State, ErrNotYet)
	case j.State != job.Done:
		return result, fmt.Errorf("job %d has no result: it is %s (%s)", j.ID, j.State, j.Reason)
	case j.Result == nil && j.ResultUntil != 0:
		return result, fmt.Errorf("the result of job %d was kept until %s", j.ID, j.ResultUntil)
	case j.Result == nil:
		return result, fmt.Errorf("job %d was done without a result", j.ID)
	}
	if err := json.Unmarshal(j.Result, &result); err != nil {
		return result, fmt.Errorf("the result of job %d cannot be read: %w", j.ID, err)
	}
	return result, nil
}

func jobPath(id int64, rest string) string { return "/v1/jobs/" + strconv.FormatInt(id, 10) + rest }

// Jobs asks for a page of jobs.
func (m *Client) Jobs(ctx context.Context, f api.Filter) (api.Page, error) {
	return get[api.Page](ctx, m, "/v1/jobs?"+Query(f).Encode())
}

// Query writes a filter as the query of a list.
func Query(f api.Filter) url.Values {
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
	set("error", f.Error)
	if f.InDoubt {
		set("steps", job.StepInDoubt)
	}
	if f.Cause != 0 {
		set("cause", strconv.FormatInt(f.Cause, 10))
	}
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

// Accept makes a job done whose follow-ups were refused, without running it again; its
// follow-ups are those given, or none.
func (m *Client) Accept(ctx context.Context, id int64, followUps []job.Spec) (job.Job, error) {
	return post[job.Job](ctx, m, jobPath(id, "/accept"), struct {
		Enqueue []job.Spec `json:"enqueue,omitempty"`
	}{followUps})
}

// EndLease ends the lease of a running job, which is placed again, uncounted. A job in a
// lane waits until its lease would have ended, unless freeLane is true.
func (m *Client) EndLease(ctx context.Context, id int64, freeLane bool) (job.Job, error) {
	return post[job.Job](ctx, m, jobPath(id, "/end_lease"), struct {
		FreeLane bool `json:"free_lane,omitempty"`
	}{freeLane})
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
func (m *Client) Queues(ctx context.Context) ([]api.Queue, error) {
	answer, err := get[struct{ Queues []api.Queue }](ctx, m, "/v1/queues")
	return answer.Queues, err
}

// Queue asks for one queue.
func (m *Client) Queue(ctx context.Context, name string) (api.Queue, error) {
	return get[api.Queue](ctx, m, "/v1/queues/"+url.PathEscape(name))
}

// Stats asks how things stand in a queue, or in all where it is empty.
func (m *Client) Stats(ctx context.Context, queue string) (api.Stats, error) {
	path := "/v1/stats"
	if queue != "" {
		path += "?queue=" + url.QueryEscape(queue)
	}
	return get[api.Stats](ctx, m, path)
}

// Check asks what is wrong with what the service does.
func (m *Client) Check(ctx context.Context) ([]api.Finding, error) {
	answer, err := get[struct{ Findings []api.Finding }](ctx, m, "/v1/check")
	return answer.Findings, err
}

// Workers asks for the worker processes.
func (m *Client) Workers(ctx context.Context) ([]api.Worker, error) {
	answer, err := get[struct{ Workers []api.Worker }](ctx, m, "/v1/workers")
	return answer.Workers, err
}

// PutWorker registers a worker process, or what it tells anew about itself, and
// answers what is wanted of it.
func (m *Client) PutWorker(ctx context.Context, w api.Worker) (wanted api.Wanted, err error) {
	return wanted, m.put(ctx, workerPath(w.ID, ""), w, &wanted)
}

// DeleteWorker says that a worker's process has ended.
func (m *Client) DeleteWorker(ctx context.Context, id string) error {
	return m.do(ctx, request{method: http.MethodDelete, path: workerPath(id, "")}, nil)
}

// AskWorker asks a worker to run, to drain or to leave.
func (m *Client) AskWorker(ctx context.Context, id string, want api.Want) (api.Worker, error) {
	return post[api.Worker](ctx, m, workerPath(id, "/"+string(want)), struct{}{})
}

func workerPath(id, rest string) string { return "/v1/workers/" + url.PathEscape(id) + rest }

// PauseQueue stops a queue from being leased from; all else goes on.
func (m *Client) PauseQueue(ctx context.Context, name string) (api.Queue, error) {
	return post[api.Queue](ctx, m, "/v1/queues/"+url.PathEscape(name)+"/pause", struct{}{})
}

// ResumeQueue lets a queue be leased from again.
func (m *Client) ResumeQueue(ctx context.Context, name string) (api.Queue, error) {
	return post[api.Queue](ctx, m, "/v1/queues/"+url.PathEscape(name)+"/resume", struct{}{})
}

// PassLane lets the jobs behind a dead letter, or behind a job in backoff, go on.
func (m *Client) PassLane(ctx context.Context, queue, lane string) (api.Queue, error) {
	return post[api.Queue](ctx, m, "/v1/queues/"+url.PathEscape(queue)+"/lanes/"+url.PathEscape(lane)+"/pass", struct{}{})
}

// Starts tells the latest starts of a queue, the latest first; 0 means 100.
func (m *Client) Starts(ctx context.Context, queue string, limit int) ([]api.Start, error) {
	query := ""
	if limit != 0 {
		query = "?limit=" + strconv.Itoa(limit)
	}
	answer, err := get[struct{ Starts []api.Start }](ctx, m, "/v1/queues/"+url.PathEscape(queue)+"/starts"+query)
	return answer.Starts, err
}

// Tasks asks for the tasks with their counts and usual run times.
func (m *Client) Tasks(ctx context.Context) ([]api.Task, error) {
	answer, err := get[struct{ Tasks []api.Task }](ctx, m, "/v1/tasks")
	return answer.Tasks, err
}

// SetTask sets the defaults of a task's jobs; what is not given is taken away.
func (m *Client) SetTask(ctx context.Context, name string, d api.Defaults) (t api.Task, err error) {
	return t, m.put(ctx, "/v1/tasks/"+url.PathEscape(name), d, &t)
}

// SetQueue sets a queue: the defaults of its jobs, their order, its limits; what is not
// given is taken away. Where finished jobs would be kept no longer it is refused, a
// [job.Problem] of the kind [job.WouldRemove].
func (m *Client) SetQueue(ctx context.Context, name string, d api.Defaults) (q api.Queue, err error) {
	return q, m.put(ctx, "/v1/queues/"+url.PathEscape(name), d, &q)
}

// SetQueueRemoving is SetQueue which may also remove such jobs: the queue then tells the
// operation that does so, which can be undone.
func (m *Client) SetQueueRemoving(ctx context.Context, name string, d api.Defaults) (q api.Queue, err error) {
	return q, m.put(ctx, "/v1/queues/"+url.PathEscape(name)+"?removes=true", d, &q)
}

func (m *Client) put(ctx context.Context, path string, in, out any) error {
	body, err := encode(in)
	if err != nil {
		return err
	}
	return m.do(ctx, request{method: http.MethodPut, path: path, body: body, media: "application/json"}, out)
}

// PreviewRetry asks when each attempt of a retry would come, at most the first most
// ones. Nil means the default.
func (m *Client) PreviewRetry(ctx context.Context, r *job.Retry, maxAttempts *int, most int) (api.RetryPreview, error) {
	return post[api.RetryPreview](ctx, m, "/v1/retry/preview", struct {
		Retry       *job.Retry `json:"retry,omitzero"`
		MaxAttempts *int       `json:"max_attempts,omitzero"`
		Limit       int        `json:"limit,omitzero"`
	}{r, maxAttempts, most})
}

// Act applies an action to many jobs. For more than a thousand the answer is an
// operation that goes on by itself; see [Client.Operation].
func (m *Client) Act(ctx context.Context, r api.ActRequest) (api.Operation, error) {
	return post[api.Operation](ctx, m, "/v1/jobs/act", r)
}

// Purge removes what waits in a queue; of some tasks, or of all where none are named.
// With dry it only counts.
func (m *Client) Purge(ctx context.Context, queue string, tasks []string, note string, dry bool) (api.Operation, error) {
	return post[api.Operation](ctx, m, "/v1/queues/"+url.PathEscape(queue)+"/purge", map[string]any{"task": tasks, "note": note, "dry_run": dry})
}

// Operation asks how an operation stands.
func (m *Client) Operation(ctx context.Context, id int64) (api.Operation, error) {
	return get[api.Operation](ctx, m, operationPath(id, ""))
}

// StopOperation stops an operation; what it has changed stays so.
func (m *Client) StopOperation(ctx context.Context, id int64) (api.Operation, error) {
	return post[api.Operation](ctx, m, operationPath(id, "/stop"), struct{}{})
}

// Operations asks for the latest operations.
func (m *Client) Operations(ctx context.Context) ([]api.Operation, error) {
	answer, err := get[struct{ Operations []api.Operation }](ctx, m, "/v1/operations")
	return answer.Operations, err
}

// UndoOperation takes back the removals of an operation.
func (m *Client) UndoOperation(ctx context.Context, id int64) (api.Operation, error) {
	return post[api.Operation](ctx, m, operationPath(id, "/undo"), struct{}{})
}

func operationPath(id int64, rest string) string {
	return "/v1/operations/" + strconv.FormatInt(id, 10) + rest
}

// Actions asks what operators did, the latest first; to one job where it is not 0.
func (m *Client) Actions(ctx context.Context, id int64, limit int) ([]api.Action, error) {
	q := url.Values{"limit": {strconv.Itoa(limit)}}
	if id != 0 {
		q.Set("job", strconv.FormatInt(id, 10))
	}
	answer, err := get[struct{ Actions []api.Action }](ctx, m, "/v1/actions?"+q.Encode())
	return answer.Actions, err
}

// Causes asks what jobs died of, or fail of while they are tried again.
func (m *Client) Causes(ctx context.Context, f api.CauseFilter) ([]api.Cause, error) {
	q := url.Values{}
	for name, value := range map[string]string{"queue": f.Queue, "task": f.Task, "error": f.Error} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if f.State != job.Unplaced {
		q.Set("state", f.State.String())
	}
	answer, err := get[struct{ Causes []api.Cause }](ctx, m, "/v1/dead/causes?"+q.Encode())
	return answer.Causes, err
}

// Log asks for what the handlers of a job wrote, behind a line that is known
// already; the zero line asks from the first one on.
func (m *Client) Log(ctx context.Context, id int64, after api.LogLine) (api.Log, error) {
	q := url.Values{}
	if after.Attempt != 0 {
		q.Set("after", fmt.Sprintf("%d.%d", after.Attempt, after.N))
	}
	return get[api.Log](ctx, m, jobPath(id, "/log?"+q.Encode()))
}

// Lease settles and takes jobs.
func (m *Client) Lease(ctx context.Context, r api.LeaseRequest) (api.LeaseAnswer, error) {
	return post[api.LeaseAnswer](ctx, m, "/v1/leases", struct {
		api.LeaseRequest
		Settle any `json:"settle,omitempty"`
	}{r, asRead(r.Settle)})
}

// asRead are settlements whose follow-ups are told as they came, where a handler has
// brought any that cannot be read; nil for none.
func asRead(items []api.Settlement) any {
	if len(items) == 0 {
		return nil
	}
	if !slices.ContainsFunc(items, func(s api.Settlement) bool { return s.RawEnqueue != nil }) {
		return items
	}
	type asItCame struct {
		api.Settlement
		Enqueue []json.RawMessage `json:"enqueue,omitempty"`
	}
	all := make([]any, len(items))
	for i, s := range items {
		if all[i] = s; s.RawEnqueue != nil {
			all[i] = asItCame{s, s.RawEnqueue}
		}
	}
	return all
}

// Extend renews leases.
func (m *Client) Extend(ctx context.Context, r api.ExtendRequest) (api.ExtendAnswer, error) {
	return post[api.ExtendAnswer](ctx, m, "/v1/leases/extend", r)
}

// Settle ends leases with their outcomes.
func (m *Client) Settle(ctx context.Context, items []api.Settlement) ([]api.SettleResult, error) {
	answer, err := post[struct{ Results []api.SettleResult }](ctx, m, "/v1/leases/settle", struct {
		Leases any `json:"leases"`
	}{asRead(items)})
	return answer.Results, err
}

// Wanted is a worker's heartbeat: it answers when something else is wanted of the
// worker than what it is doing, at the latest after wait.
func (m *Client) Wanted(ctx context.Context, id string, doing api.Want, wait time.Duration) (w api.Wanted, err error) {
	q := url.Values{"doing": {string(doing)}, "wait": {job.Duration(wait).String()}}
	err = m.do(ctx, request{method: http.MethodGet, path: workerPath(id, "/wanted?"+q.Encode()), once: true}, &w)
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
	m.authorize(req)
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
			if m.visible {
				e.Data = text.VisibleJSON(e.Data)
			}
		case lines.Text() == "" && e.Name != "":
			if err := each(e); err != nil {
				return err
			}
			e = Event{}
		}
	}
	return lines.Err()
}

// Load makes the settings of queues and tasks those of a file, or tells the difference.
func (m *Client) Load(ctx context.Context, r api.SetupRequest) (d api.SetupDiff, err error) {
	return d, m.put(ctx, "/v1/setup", r, &d)
}

// Settings tells all that is in force, and where each comes from.
func (m *Client) Settings(ctx context.Context) (api.Settings, error) {
	return get[api.Settings](ctx, m, "/v1/settings")
}

// Schedules lists schedules by name, each with its next times and its last run.
func (m *Client) Schedules(ctx context.Context) (all []api.ScheduleTold, err error) {
	for cursor := ""; ; {
		page, err := get[struct {
			Schedules  []api.ScheduleTold `json:"schedules"`
			NextCursor string             `json:"next_cursor"`
		}](ctx, m, "/v1/schedules?cursor="+url.QueryEscape(cursor))
		if err != nil {
			return nil, err
		}
		if all = append(all, page.Schedules...); page.NextCursor == "" {
			return all, nil
		}
		cursor = page.NextCursor
	}
}

// Schedule asks for one schedule.
func (m *Client) Schedule(ctx context.Context, name string) (api.ScheduleTold, error) {
	return get[api.ScheduleTold](ctx, m, "/v1/schedules/"+url.PathEscape(name))
}

// SetSchedule keeps a schedule under a name; the same again changes nothing.
func (m *Client) SetSchedule(ctx context.Context, name string, s api.Schedule) (told api.ScheduleTold, err error) {
	s.Name = ""
	return told, m.put(ctx, "/v1/schedules/"+url.PathEscape(name), s, &told)
}

// RunSchedule enqueues a run of a schedule now.
func (m *Client) RunSchedule(ctx context.Context, name string) (api.ScheduleTold, error) {
	return post[api.ScheduleTold](ctx, m, "/v1/schedules/"+url.PathEscape(name)+"/run", struct{}{})
}

// PauseSchedule stops a schedule, or lets it go on.
func (m *Client) PauseSchedule(ctx context.Context, name string, pause bool) (api.ScheduleTold, error) {
	verb := map[bool]string{true: "/pause", false: "/resume"}[pause]
	return post[api.ScheduleTold](ctx, m, "/v1/schedules/"+url.PathEscape(name)+verb, struct{}{})
}

// Runs tells the history of a schedule, the latest planned time first.
func (m *Client) Runs(ctx context.Context, name string, limit int) ([]api.Run, error) {
	page, err := get[struct {
		Runs []api.Run `json:"runs"`
	}](ctx, m, fmt.Sprintf("/v1/schedules/%s/runs?limit=%d", url.PathEscape(name), limit))
	return page.Runs, err
}

// Cron tells what an expression means in a zone, with its next times.
func (m *Client) Cron(ctx context.Context, expr, zone string, count int) (api.CronTold, error) {
	return get[api.CronTold](ctx, m, "/v1/cron?"+url.Values{"expr": {expr}, "zone": {zone}, "count": {fmt.Sprint(count)}}.Encode())
}

// Coming tells what becomes due within a span, of a queue and a task where they are named.
func (m *Client) Coming(ctx context.Context, span job.Duration, queue, task string, limit int) (api.Coming, error) {
	return get[api.Coming](ctx, m, "/v1/coming?"+url.Values{"span": {span.String()}, "queue": {queue}, "task": {task}, "limit": {fmt.Sprint(limit)}}.Encode())
}

// DeleteSchedule removes a schedule and its history; its jobs stay.
func (m *Client) DeleteSchedule(ctx context.Context, name string) error {
	return m.do(ctx, request{method: http.MethodDelete, path: "/v1/schedules/" + url.PathEscape(name)}, nil)
}
