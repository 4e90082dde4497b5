// Package calls makes the requests that the service makes itself: those of jobs that are calls. It says
// what may be called, judges the answers, and keeps the slots in which calls are made.
package calls

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/textproto"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/internal/proof"
	"humblemule.example/internal/reach"
	"humblemule.example/internal/text"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// What of an answer is kept, and what a call does at most.
const (
	mostAnswer     = 64 << 10
	mostHeaders    = 50
	mostHeaderText = 1000
	mostRedirects  = 5
	mostSaid       = 300 // of an answer, in the error of an attempt
	connectTimeout = 10 * time.Second
	mostIdle       = 100
	idleFor        = 90 * time.Second
	mostHeadBytes  = 64 << 10
	mostTook       = 40 // bytes of what is added to an answer later
	// silentAfter is after how many calls in a row without an answer a host is said to give none.
	silentAfter = 5
	// again is when a call is looked at again whose host gives no answer: its job is held then.
	again = time.Second
)

// Secrets gives the secrets that calls show, or are signed with.
type Secrets interface {
	OfCall(secret, task, host string) ([]byte, error)
}

// Hosts is told which hosts give no answer.
type Hosts interface {
	HostSilent(ctx context.Context, host, why string) error
	HostAnswers(ctx context.Context, host string) error
	Silent(host string) bool
}

// Caller makes calls. Its methods may be called from any goroutine.
type Caller struct {
	reach   *reach.Reach
	secrets Secrets
	hosts   Hosts
	agent   string
	// direct looks at each address before it is called; proxied leaves that to the proxy, which the
	// environment names.
	direct, proxied *http.Client

	mu     sync.Mutex
	failed map[string]int // calls in a row without an answer, by host
}

// NewCaller gives a caller, which says to be an agent.
func NewCaller(may *reach.Reach, secrets Secrets, hosts Hosts, agent string) *Caller {
	c := &Caller{reach: may, secrets: secrets, hosts: hosts, agent: agent, failed: map[string]int{}}
	transport := func(control func(*net.Dialer)) *http.Transport {
		d := &net.Dialer{Timeout: connectTimeout}
		control(d)
		return &http.Transport{
			Proxy: http.ProxyFromEnvironment, DialContext: d.DialContext, ForceAttemptHTTP2: true, MaxIdleConns: mostIdle, MaxIdleConnsPerHost: mostIdle, IdleConnTimeout: idleFor,
			TLSHandshakeTimeout: connectTimeout, ExpectContinueTimeout: time.Second, MaxResponseHeaderBytes: mostHeadBytes, TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12},
			DisableCompression: true, // the first bytes are kept as they came
		}
	}
	guarded, open := transport(func(d *net.Dialer) { d.Control = may.Control }), transport(func(*net.Dialer) {})
	guarded.Proxy = nil
	stop := func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	c.direct, c.proxied = &http.Client{Transport: guarded, CheckRedirect: stop}, &http.Client{Transport: open, CheckRedirect: stop}
	return c
}

// ProxiedBy is the variable of the environment that names a proxy, empty where none does: then it is the proxy
// that finds the addresses of hosts.
func ProxiedBy() string {
	for _, name := range []string{"HTTPS_PROXY", "https_proxy", "HTTP_PROXY", "http_proxy"} {
		if os.Getenv(name) != "" {
			return name
		}
	}
	return ""
}

// Close closes connections that are not in use.
func (c *Caller) Close() {
	c.direct.CloseIdleConnections()
	c.proxied.CloseIdleConnections()
}

// Asked is a call of a job.
type Asked struct {
	// Task is the job's, and Rules how its answers are judged.
	Task  string
	Rules *api.Calls
	Call  job.Call
	// ID is the same for each attempt of a round, by which a receiver knows a call again.
	ID, Traceparent string

	shown [][]byte // the secrets that the request has shown
}

// fault is why an attempt has failed, with a type under which it is kept.
type fault struct {
	kind string
	err  error
}

func (f *fault) Error() string     { return f.err.Error() }
func (f *fault) ErrorType() string { return f.kind }
func (f *fault) Unwrap() error     { return f.err }

func failure(kind, format string, args ...any) error {
	return &fault{kind, fmt.Errorf(format, args...)}
}

// Make makes a call, and gives what is kept of its answer; an error says how the attempt ends.
func (c *Caller) Make(ctx context.Context, a Asked) (*api.CallAnswer, error) {
	call := a.Call.WithDefaults()
	host := call.Host()
	ctx, cancel := context.WithTimeout(ctx, call.Timeout.Go())
	defer cancel()
	began := time.Now()
	answer, err := c.follow(ctx, &a, &call)
	if err != nil {
		return nil, c.unanswered(ctx, host, call.Timeout, err)
	}
	defer answer.Body.Close()
	if silent := answer.StatusCode >= 502 && answer.StatusCode <= 504; !silent {
		c.answered(ctx, host)
	}
	kept := keep(answer, a.shown)
	kept.TookMS = time.Since(began).Milliseconds()
	switch a.Rules.Judge(answer.StatusCode, call.OK) {
	case api.VerdictDone:
		return kept, nil
	case api.VerdictGiveUp:
		return nil, worker.GiveUp(refused(host, answer, kept))
	}
	err = refused(host, answer, kept)
	if wait, asked := retryAfter(answer.Header.Get("Retry-After"), time.Now()); asked {
		return nil, worker.RetryIn(wait, err)
	}
	if answer.StatusCode >= 502 && answer.StatusCode <= 504 {
		return nil, c.unanswered(ctx, host, call.Timeout, err)
	}
	return nil, err
}

// refused is the error of an answer whose status is not good.
func refused(host string, answer *http.Response, kept *api.CallAnswer) error {
	said := kept.Text
	if kept.Body != nil {
		said = string(kept.Body)
	}
	if said = text.Visible(strings.TrimSpace(said)); said != "" {
		said = ": " + text.Cut(said, mostSaid)
	}
	return failure(fmt.Sprintf("status_%d", answer.StatusCode), "%s answered %d %s%s", host, answer.StatusCode, http.StatusText(answer.StatusCode), said)
}

// follow makes a request and those that its answers lead to, where it only reads.
func (c *Caller) follow(ctx context.Context, a *Asked, call *job.Call) (*http.Response, error) {
	at := call.URL
	for range mostRedirects + 1 {
		answer, err := c.ask(ctx, a, call, at)
		if err != nil {
			return nil, err
		}
		to := answer.Header.Get("Location")
		leads := answer.StatusCode == 301 || answer.StatusCode == 302 || answer.StatusCode == 303 || answer.StatusCode == 307 || answer.StatusCode == 308
		if !leads || to == "" || call.Method != http.MethodGet && call.Method != http.MethodHead {
			return answer, nil
		}
		answer.Body.Close()
		next, err := answer.Request.URL.Parse(to)
		if err != nil {
			return nil, worker.GiveUp(failure("redirect", "%s leads to %q, which is not a valid URL", call.Host(), text.Shorten(to)))
		}
		at = next.String()
	}
	return nil, worker.GiveUp(failure("redirect", "%s leads on more than %d times", call.Host(), mostRedirects))
}

// ask makes one request. What it shows that is secret goes to no other host than those it is for.
func (c *Caller) ask(ctx context.Context, a *Asked, call *job.Call, at string) (*http.Response, error) {
	to := job.Call{URL: at}
	host := to.Host()
	if wrong := (&job.Spec{Task: "any", Call: &to}).Check(job.MaxPayloadBytes); len(wrong) > 0 {
		return nil, worker.GiveUp(failure("redirect", "%s leads to %q, which %s", call.Host(), text.Shorten(at), wrong[0].Message))
	}
	if err := c.reach.MayCall(host); err != nil {
		return nil, worker.GiveUp(&fault{"host_not_allowed", err})
	}
	body, media := []byte(call.Text), "text/plain; charset=utf-8"
	if call.Body != nil {
		body, media = call.Body, "application/json"
	}
	var reader io.Reader
	if len(body) > 0 {
		reader = strings.NewReader(string(body))
	}
	r, err := http.NewRequestWithContext(ctx, call.Method, at, reader)
	if err != nil {
		return nil, worker.GiveUp(&fault{"call", err})
	}
	r.Header.Set("User-Agent", c.agent)
	r.Header.Set("Idempotency-Key", a.ID)
	if len(body) > 0 {
		r.Header.Set("Content-Type", media)
	}
	if a.Traceparent != "" {
		r.Header.Set("Traceparent", a.Traceparent)
	}
	if err := c.head(r, a, call, host); err != nil {
		return nil, err
	}
	if a.Rules != nil && a.Rules.Sign != "" {
		secret, err := c.secrets.OfCall(a.Rules.Sign, a.Task, reach.Name(host))
		if err != nil {
			return nil, secretFault(err)
		}
		proof.Sign(api.Proof{Kind: api.ProofStandard}, secret, r.Header, a.ID, body, time.Now())
	}
	client := c.direct
	if proxy, err := http.ProxyFromEnvironment(r); err == nil && proxy != nil {
		client = c.proxied
	}
	return client.Do(r)
}

// head sets the headers that the call asks for.
func (c *Caller) head(r *http.Request, a *Asked, call *job.Call, host string) error {
	for name, v := range call.Headers {
		if v.Secret == "" {
			r.Header.Set(name, v.Text)
			continue
		}
		secret, err := c.secrets.OfCall(v.Secret, a.Task, reach.Name(host))
		if err != nil {
			return secretFault(err)
		}
		a.shown = append(a.shown, secret)
		value := v.Prefix + string(secret)
		if strings.ContainsFunc(value, func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }) {
			return secretFault(fmt.Errorf("secret %s holds a control character and cannot be sent in a header", v.Secret))
		}
		r.Header.Set(name, value)
	}
	return nil
}

// secretFault is the error of a secret that cannot be used: it is tried again, since it is mended in the
// set-up of the service.
func secretFault(err error) error { return &fault{"secret", err} }

// unanswered notes that a host gave no answer, and says how the attempt ends: it fails or, where the host has
// given none several times, is not counted and waits until it does.
func (c *Caller) unanswered(ctx context.Context, host string, timeout job.Duration, err error) error {
	var ends interface{ ErrorType() string }
	if cause := context.Cause(ctx); cause != nil && !errors.Is(cause, context.DeadlineExceeded) {
		return err // the job was cancelled, or the service ends
	}
	f := faultOf(host, timeout, err)
	if errors.As(f, &ends) && !counts[ends.ErrorType()] && !strings.HasPrefix(ends.ErrorType(), "status_50") {
		return f
	}
	c.mu.Lock()
	c.failed[host]++
	silent := c.failed[host] >= silentAfter
	c.mu.Unlock()
	if !silent && !c.hosts.Silent(host) {
		return f
	}
	told, cancel := context.WithTimeout(context.WithoutCancel(ctx), connectTimeout)
	defer cancel()
	if err := c.hosts.HostSilent(told, host, f.Error()); err != nil {
		return f
	}
	return worker.Postpone(again)
}

// answered notes that a host has answered.
func (c *Caller) answered(ctx context.Context, host string) {
	c.mu.Lock()
	delete(c.failed, host)
	c.mu.Unlock()
	if c.hosts.Silent(host) {
		told, cancel := context.WithTimeout(context.WithoutCancel(ctx), connectTimeout)
		defer cancel()
		c.hosts.HostAnswers(told, host) // or the next answer does
	}
}

// counts are the faults by which a host is said to give no answer.
var counts = map[string]bool{"no_answer": true, "timeout": true, "certificate": true, "name_not_found": true}

// faultOf is the error of a request, with a type by which such failures are gathered.
func faultOf(host string, timeout job.Duration, err error) error {
	var known interface{ ErrorType() string }
	var refusal *reach.AddressError
	var dns *net.DNSError
	var certificate *tls.CertificateVerificationError
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		err = wrapped.Err // which names the URL, with all that stands in it
	}
	var protocol textproto.ProtocolError
	switch {
	case errors.As(err, &known):
		return err
	case errors.As(err, &refusal):
		return worker.GiveUp(&fault{"host_not_allowed", fmt.Errorf("%s: %w", host, refusal)})
	case errors.As(err, &dns):
		return failure("name_not_found", "%s: its address cannot be found: %s", host, dns.Err)
	case errors.As(err, &certificate):
		return failure("certificate", "%s: its certificate is not good: %w", host, certificate.Err)
	case errors.Is(err, context.DeadlineExceeded) || os.IsTimeout(err):
		return failure("timeout", "%s gave no answer within %s", host, timeout)
	case errors.As(err, &protocol):
		return failure("no_answer", "%s gave an answer that is not HTTP: %w", host, err)
	}
	return failure("no_answer", "%s gave no answer: %w", host, err)
}

// secretMark stands for a secret that an answer repeats.
var secretMark = []byte("(secret)")

// keep reads what is kept of an answer. What it repeats of secrets is left out.
func keep(answer *http.Response, secrets [][]byte) *api.CallAnswer {
	without := func(raw []byte) []byte {
		for _, s := range secrets {
			raw = bytes.ReplaceAll(raw, s, secretMark)
		}
		return raw
	}
	kept := &api.CallAnswer{Status: answer.StatusCode, Headers: map[string]string{}}
	for name, values := range answer.Header {
		if len(kept.Headers) < mostHeaders && name != "Set-Cookie" {
			kept.Headers[strings.ToLower(name)] = text.Cut(strings.ToValidUTF8(string(without([]byte(strings.Join(values, ", ")))), "�"), mostHeaderText)
		}
	}
	raw, err := io.ReadAll(io.LimitReader(answer.Body, mostAnswer+1))
	raw = without(raw)
	if len(raw) > mostAnswer {
		raw, kept.Cut = raw[:mostAnswer], true
	}
	kept.Cut = kept.Cut || err != nil
	kind, _, _ := mime.ParseMediaType(answer.Header.Get("Content-Type"))
	for isJSON := kind == "application/json" || strings.HasSuffix(kind, "+json"); ; {
		hold(kept, raw, isJSON)
		over := len(job.JSON(kept)) - api.MaxResultBytes + mostTook
		if over <= 0 {
			return kept
		}
		raw, kept.Cut = raw[:max(len(raw)-over, 0)], true // escapes make it longer than it is
	}
}

// hold puts what was read of an answer into what is kept of it.
func hold(kept *api.CallAnswer, raw []byte, isJSON bool) {
	kept.Body, kept.Text, kept.Base64 = nil, "", ""
	whole := raw
	for range utf8.UTFMax - 1 {
		if !kept.Cut || utf8.Valid(whole) {
			break
		}
		whole = whole[:max(len(whole)-1, 0)] // it was cut within a character
	}
	switch {
	case len(raw) == 0:
	case isJSON && !kept.Cut && check.JSONFault(raw) == "":
		kept.Body = json.RawMessage(raw)
	case utf8.Valid(whole):
		kept.Text = string(whole)
	default:
		kept.Base64 = base64.StdEncoding.EncodeToString(raw)
	}
}

// retryAfter reads when to try again (RFC 9110, section 10.2.3).
func retryAfter(value string, now time.Time) (time.Duration, bool) {
	if value == "" {
		return 0, false
	}
	if seconds, err := strconv.ParseInt(strings.TrimSpace(value), 10, 64); err == nil {
		if seconds < 0 || seconds > int64(job.MaxDuration.Go()/time.Second) {
			return 0, false
		}
		return time.Duration(seconds) * time.Second, true
	}
	at, err := http.ParseTime(value)
	if err != nil {
		return 0, false
	}
	return max(at.Sub(now), 0), true
}
