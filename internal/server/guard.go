package server

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"humblemule.example/job"
)

// guard refuses what a web page of another site could send: a foreign Host (a
// name that was made to point here) and cross-origin requests. It sets the
// headers that every answer carries.
func (s *Server) guard(c *gin.Context) {
	h := c.Writer.Header()
	for name, value := range everywhere {
		h[name] = value
	}
	// A page of another site knows no token, nor the secret of a hook: where one is asked for any name is
	// good. A hook without a secret looks at the name itself.
	if s.tokens.Load() == nil && !strings.HasPrefix(c.Request.URL.Path, hooksPath) && !loopback(c.Request.Host) && !bySocket(c.Request) {
		s.fail(c, job.Fault(job.Forbidden, "the Host %q is not this service; ask for it at 127.0.0.1 or localhost", c.Request.Host))
		return
	}
	if why := foreign(c.Request, s.opts.Forwarders.originOf(c.Request).host); why != "" {
		s.fail(c, job.Fault(job.Forbidden, "%s; only pages of this service may ask it from a browser", why))
		return
	}
	b := &bounded{ReadCloser: http.MaxBytesReader(c.Writer, c.Request.Body, MaxBody), s: s}
	c.Request.Body = b
	defer b.release()
	c.Next()
}

// bounded counts what is read of a body among the bytes of all bodies under way, until
// its request is answered.
type bounded struct {
	io.ReadCloser
	s    *Server
	read int64
}

var errBodies = errors.New("too many bytes under way")

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	b.read += int64(n)
	if b.s.bodies.Add(int64(n)) > b.s.opts.MaxBodies {
		return n, errBodies
	}
	return n, err
}

func (b *bounded) release() { b.s.bodies.Add(-b.read) }

// serveHTTP answers HEAD wherever GET is answered, as GET would be, but without a body, at
// once: a HEAD never waits, and follows no events.
func (s *Server) serveHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.Method {
	case http.MethodGet:
		s.gets.ServeHTTP(w, r)
		return
	case http.MethodHead:
	default:
		s.router.ServeHTTP(w, r)
		return
	}
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	get := r.Clone(ctx)
	get.Method = http.MethodGet
	q := get.URL.Query()
	if q.Has("wait") {
		q.Del("wait")
		get.URL.RawQuery = q.Encode()
	}
	s.router.ServeHTTP(&headOnly{ResponseWriter: w, end: cancel}, get)
}

// headOnly writes the head of an answer and drops its body; a stream ends with its first
// event.
type headOnly struct {
	http.ResponseWriter
	end context.CancelFunc
}

func (h *headOnly) Write(b []byte) (int, error)       { return len(b), nil }
func (h *headOnly) WriteString(s string) (int, error) { return len(s), nil }

func (h *headOnly) Flush() { h.end() }

// Unwrap lets a response controller set deadlines.
func (h *headOnly) Unwrap() http.ResponseWriter { return h.ResponseWriter }

// everywhere are headers of every answer. The values are shared: they are
// replaced, never appended to.
var everywhere = http.Header{
	"X-Content-Type-Options":  {"nosniff"},
	"Content-Security-Policy": {"default-src 'none'; frame-ancestors 'none'"},
	"Cache-Control":           {"no-store"},
}

// bySocket tells whether a request comes by a socket of this machine, which no page of a browser
// can ask at.
func bySocket(r *http.Request) bool {
	at, _ := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	return at != nil && at.Network() == "unix"
}

// loopback tells whether a Host header names this machine.
func loopback(host string) bool {
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	}
	name = strings.Trim(name, "[]")
	if strings.EqualFold(name, "localhost") {
		return true
	}
	ip := net.ParseIP(name)
	return ip != nil && ip.IsLoopback()
}

// foreign says why a request comes from another site's page; empty where it does
// not. A link that leads to the console is no such request. The host is the name by which the
// service was asked for.
func foreign(r *http.Request, host string) string {
	if origin := r.Header.Get("Origin"); origin != "" {
		u, err := url.Parse(origin)
		if err != nil || u.Host != host {
			return "the request comes from the page of another origin (" + origin + ")"
		}
	}
	site := r.Header.Get("Sec-Fetch-Site")
	follows := r.Method == http.MethodGet && r.Header.Get("Sec-Fetch-Mode") == "navigate" && !strings.HasPrefix(r.URL.Path, "/v1")
	if site != "" && site != "same-origin" && site != "none" && !follows {
		return "the browser marks the request as " + site
	}
	return ""
}
