package server

import (
	"bytes"
	"crypto/rand"
	"encoding/base64"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"humblemule.example/job"
)

// nonceMark stands in the console's page where each answer's nonce goes.
const nonceMark = "__NONCE__"

// consoleRoute is an address of the console and the page that stands there.
type consoleRoute struct{ Path, Page string }

// consoleRoutes are the addresses of the console. The router of its pages is made of this
// list: console/src/shell/routes.ts is written from it by go generate.
var consoleRoutes = []consoleRoute{
	{"/", "now"},
	{"/jobs", "jobs"}, {"/jobs/:job", "jobs"},
	{"/dead", "dead"}, {"/dead/:cause", "dead"},
	{"/alerts", "alerts"}, {"/alerts/:alert", "alerts"},
	{"/coming", "coming"}, {"/coming/:schedule", "coming"},
	{"/batches", "batches"}, {"/batches/:batch", "batches"},
	{"/queues", "queues"}, {"/queues/:queue", "queues"},
	{"/workers", "workers"}, {"/workers/:worker", "workers"},
	{"/outside", "outside"}, {"/outside/hooks/:hook", "outside"}, {"/outside/endpoints/:endpoint", "outside"},
	{"/log", "log"},
	{"/compare", "compare"},
	{"/settings", "settings"}, {"/settings/:task", "settings"},
}

//go:generate env HMULE_WRITE_CONSOLE=1 go test -run ^(TestRoutesOfConsole|TestWords)$ .

// notFound serves the console's files; all else that no route knows is not there.
func (s *Server) notFound(c *gin.Context) {
	name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
	switch {
	case c.Request.Method == http.MethodGet && (strings.HasPrefix(name, "assets/") || path.Ext(name) != "" && !strings.Contains(name, "/")):
		s.file(c, name)
		return
	case name == "v1" || strings.HasPrefix(name, "v1/"):
		if _, err := s.caller(c.Request); err != nil {
			s.fail(c, err)
			return
		}
	}
	s.fail(c, job.Fault(job.NotFound, "%s %s does not exist; /openapi.yaml describes what does", c.Request.Method, c.Request.URL.Path))
}

func (s *Server) file(c *gin.Context, name string) {
	if s.opts.Console == nil {
		s.fail(c, job.Fault(job.NotFound, "there is no file %s", name))
		return
	}
	if info, err := fs.Stat(s.opts.Console, name); err != nil || info.IsDir() || name == "index.html" {
		s.fail(c, job.Fault(job.NotFound, "there is no file %s", name))
		return
	}
	if strings.HasPrefix(name, "assets/") {
		// Their names change with their contents.
		c.Header("Cache-Control", "public, max-age=31536000, immutable")
	}
	// The policy of a worker's script is that of the worker.
	c.Header("Content-Security-Policy", "default-src 'none'; connect-src 'self'")
	s.serveFile(c, name)
}

// serveFile serves a file of the console or, where the caller accepts it, what the build has
// compressed of it.
func (s *Server) serveFile(c *gin.Context, name string) {
	c.Status(http.StatusOK)
	if _, err := fs.Stat(s.opts.Console, name+".gz"); err == nil {
		c.Header("Vary", "Accept-Encoding")
		if acceptsGzip(c.GetHeader("Accept-Encoding")) && c.GetHeader("Range") == "" {
			c.Header("Content-Encoding", "gzip")
			c.Header("Content-Type", mime.TypeByExtension(path.Ext(name)))
			name += ".gz"
		}
	}
	http.ServeFileFS(c.Writer, c.Request, s.opts.Console, name)
}

// acceptsGzip tells whether a caller accepts gzip (RFC 9110, section 12.5.3).
func acceptsGzip(accepted string) bool {
	for part := range strings.SplitSeq(accepted, ",") {
		coding, weight, _ := strings.Cut(strings.TrimSpace(part), ";")
		if coding == "gzip" || coding == "*" {
			_, q, given := strings.Cut(strings.TrimSpace(weight), "=")
			n, err := strconv.ParseFloat(q, 64)
			return !given || err != nil || n > 0
		}
	}
	return false
}

// page serves the console's page with a nonce of its own, the only one under
// which styles may be added to it.
func (s *Server) page(c *gin.Context) {
	var html []byte
	err := fs.ErrNotExist
	if s.opts.Console != nil {
		html, err = fs.ReadFile(s.opts.Console, "index.html")
	}
	if err != nil {
		c.String(http.StatusNotFound, "The console is not part of this build. Build it with: make build\nThe API is at /v1, its description at /openapi.yaml.\n")
		return
	}
	var b [16]byte
	rand.Read(b[:])
	nonce := base64.RawStdEncoding.EncodeToString(b[:])
	c.Header("Referrer-Policy", "no-referrer")
	c.Header("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-"+nonce+"'; img-src 'self' data:; font-src 'self'; connect-src 'self'; worker-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'")
	c.Data(http.StatusOK, "text/html; charset=utf-8", bytes.ReplaceAll(s.basedPage(html), []byte(nonceMark), []byte(nonce)))
}
