// Package server puts the engine on the wire: HTTP and JSON under /v1, a stream
// of events, and the console's files. It decides nothing about jobs.
package server

import (
	"cmp"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/goccy/go-yaml"
	"github.com/klauspost/compress/gzhttp"
	"github.com/prometheus/client_golang/prometheus"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/trace"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/internal/meter"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

//go:embed openapi.yaml
var openAPI []byte

// openAPIAsJSON is the description as JSON.
var openAPIAsJSON = sync.OnceValue(func() []byte {
	raw, err := yaml.YAMLToJSON(openAPI)
	if err != nil {
		panic(fmt.Sprintf("the description of the API is not YAML: %v", err))
	}
	return raw
})

// OpenAPI is the description of the wire, as served at /openapi.yaml.
func OpenAPI() []byte { return openAPI }

// features names what this version of the wire can do beyond the first.
var features = []string{"jobs", "leases", "workers", "queues", "tasks", "stats", "events", "reports", "results", "defaults", "retry", "causes", "operations", "actions", "order", "limits", "setup", "schedules", "history", "marks", "forecast", "follow", "count", "export", "after", "batches", "owners", "backups", "compact", "session", "transfer", "hooks", "calls", "endpoints", "alerts"}

// What the service allows a connection.
const (
	MaxBody       = 16 << 20 // bytes of a request's body
	MaxHeader     = 64 << 10 // bytes of a request's headers
	headerTimeout = 10 * time.Second
	// A request may take as long as the longest poll, and some.
	requestTimeout = 2 * time.Minute
	idleTimeout    = 3 * time.Minute
	drainTimeout   = 10 * time.Second
)

// Options set up a server.
type Options struct {
	// Version is the program's version, told by GET /v1, and Commit what it was built of.
	Version, Commit string
	// BasePath is under which path all is answered, such as /jobs; empty for none. It has no slash
	// at its end.
	BasePath string
	// Forwarders are the proxies before the service.
	Forwarders Forwarders
	// LogRequests has each request that was answered told to the log.
	LogRequests bool
	// Console holds the built console; nil serves none.
	Console fs.FS
	// MaxBodies bounds the bodies of all requests under way, in bytes; 0 means 256 MiB.
	MaxBodies int64
	// Settings tells with what the service was started; nil tells none.
	Settings func() []api.Setting
	// Secrets gives the secrets of hooks; nil where there are none.
	Secrets Secrets
	// OpenHooks has hooks whose proof is none take deliveries from other machines.
	OpenHooks bool
	// Log is told what an operator must know; nil means slog.Default().
	Log *slog.Logger
}

// Server serves one engine.
type Server struct {
	engine *engine.Engine
	opts   Options
	log    *slog.Logger
	router *gin.Engine
	// gets answers what reads, compressed where that is asked for. What workers and producers
	// send all the time is not: it costs more processor time than it saves bytes.
	gets http.Handler
	// tokens are asked for where they are not nil.
	tokens atomic.Pointer[access]
	// bodies counts the bytes of bodies under way.
	bodies atomic.Int64
	// answersKept are shared by callers who accept that.
	answersKept sharedAnswers
	// teller tells streams of events what has changed.
	teller teller
	// tries slow down whoever shows wrong tokens, and began is when the server was made.
	tries tries
	// refused are deliveries to hooks that were refused, and not written yet.
	refused refusals
	began   job.Time
	// requests counts those that were answered, and metrics answers all figures.
	requests *prometheus.CounterVec
	metrics  http.Handler
	// bulks has room for the bulks that are read and written at a time.
	bulks chan struct{}
}

// Gin's own talk about routes is for those who write handlers.
func init() { gin.SetMode(gin.ReleaseMode) }

// New makes a server of an engine. The engine stays the caller's to close.
func New(e *engine.Engine, opts Options) *Server {
	if opts.Log == nil {
		opts.Log = slog.Default()
	}
	if opts.MaxBodies == 0 {
		opts.MaxBodies = 256 << 20
	}
	s := &Server{engine: e, opts: opts, log: opts.Log, router: gin.New(), bulks: make(chan struct{}, max(2, runtime.GOMAXPROCS(0))), began: job.At(time.Now())}
	s.router.HandleMethodNotAllowed = true
	s.router.RedirectTrailingSlash = false
	s.requests = meter.NewRequests()
	s.metrics = meter.Handler(e, meter.Options{Version: opts.Version, Commit: opts.Commit, Driver: engine.Driver, Requests: s.requests})
	s.router.Use(s.told, s.recovered, s.guard)
	s.routes()
	s.gets = compressed(s.router)
	return s
}

// Handler answers requests.
func (s *Server) Handler() http.Handler {
	if s.opts.BasePath == "" {
		return http.HandlerFunc(s.serveHTTP)
	}
	return s.under(s.opts.BasePath, http.HandlerFunc(s.serveHTTP))
}

// compressed is a handler whose answers of a kilobyte and more are compressed where the
// caller accepts that. A stream of events and files that are compressed already are not.
func compressed(h http.Handler) http.Handler {
	wrap, err := gzhttp.NewWrapper(gzhttp.MinSize(leastCompressed), gzhttp.ContentTypes([]string{"application/json", "application/problem+json", "application/yaml", "text/html", "text/plain"}))
	if err != nil {
		panic(fmt.Sprintf("the settings of the compression are wrong: %v", err))
	}
	return wrap(h)
}

// Serve answers requests on l until ctx ends, then lets those under way finish.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	root, end := context.WithCancel(context.WithoutCancel(ctx))
	defer end()
	srv := &http.Server{
		Handler:           s.Handler(),
		ReadHeaderTimeout: headerTimeout,
		ReadTimeout:       requestTimeout,
		WriteTimeout:      requestTimeout,
		IdleTimeout:       idleTimeout,
		MaxHeaderBytes:    MaxHeader,
		BaseContext:       func(net.Listener) context.Context { return root },
		ErrorLog:          slog.NewLogLogger(s.log.Handler(), slog.LevelDebug),
	}
	srv.RegisterOnShutdown(end) // long polls and streams end at once
	stopped := make(chan error, 1)
	go func() {
		<-ctx.Done()
		grace, cancel := context.WithTimeout(context.Background(), drainTimeout)
		defer cancel()
		stopped <- srv.Shutdown(grace)
	}()
	defer s.refused.write(s)
	if err := srv.Serve(problems{l}); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return <-stopped
}

func (s *Server) routes() {
	r := s.router
	r.GET("/livez", func(c *gin.Context) { c.String(http.StatusOK, "alive\n") })
	r.GET("/readyz", s.ready)
	// Who may do what, besides operators, who may do everything. What a worker may
	// do includes what a producer may.
	anyone := s.only(Reader, Producer, Worker)
	readers := s.only(Reader)
	producers := s.only(Producer, Worker)
	workers := s.only(Worker)
	holders := s.letIn(true, Worker) // of leases, whatever became of their tokens
	operators := s.only()

	r.GET("/metrics", readers, func(c *gin.Context) { s.metrics.ServeHTTP(c.Writer, c.Request) })
	r.GET("/openapi.json", anyone, func(c *gin.Context) { c.Data(http.StatusOK, "application/json", s.based(openAPIAsJSON())) })
	r.GET("/openapi.yaml", anyone, func(c *gin.Context) { c.Data(http.StatusOK, "application/yaml", s.based(openAPI)) })
	v1 := r.Group("/v1")
	v1.GET("", anyone, s.handle(s.about))
	v1.POST("/jobs", producers, s.handle(s.enqueue))
	v1.POST("/jobs/bulk", producers, s.handle(s.enqueueMany))
	v1.GET("/jobs", readers, s.shared(s.listJobs))
	v1.GET("/jobs/count", readers, s.shared(s.countJobs))
	v1.GET("/jobs/slow", readers, s.shared(s.slowJobs))
	v1.GET("/jobs/export", readers, s.exportJobs)
	v1.GET("/jobs/:id", anyone, s.handle(s.getJob))
	v1.GET("/jobs/:id/log", anyone, s.handle(s.getLog))
	v1.POST("/jobs/:id/cancel", producers, s.handle(s.cancelJob))
	v1.POST("/jobs/:id/requeue", operators, s.handle(s.requeueJob))
	v1.POST("/jobs/:id/accept", operators, s.handle(s.acceptJob))
	v1.POST("/jobs/:id/end_lease", operators, s.handle(s.endLease))
	v1.POST("/jobs/:id/start_now", operators, s.handle(s.startJob))
	v1.POST("/jobs/:id/discard", operators, s.handle(s.discardJob))
	v1.POST("/jobs/:id/undiscard", operators, s.handle(s.undiscardJob))
	v1.PATCH("/jobs/:id", operators, s.handle(s.patchJob))
	v1.POST("/leases", workers, s.lease)
	v1.POST("/leases/extend", holders, s.handle(s.extend))
	v1.POST("/leases/settle", holders, s.handle(s.settle))
	v1.GET("/workers", readers, s.listed("workers", s.listWorkers))
	v1.GET("/workers/:id", readers, s.handle(s.getWorker))
	v1.PUT("/workers/:id", workers, s.handle(s.putWorker))
	v1.DELETE("/workers/:id", workers, s.handle(s.deleteWorker))
	v1.GET("/workers/:id/wanted", workers, s.handle(s.wanted))
	v1.POST("/workers/:id/resume", operators, s.handle(s.askWorker(api.WantRun)))
	v1.POST("/workers/:id/drain", operators, s.handle(s.askWorker(api.WantDrain)))
	v1.POST("/workers/:id/leave", operators, s.handle(s.askWorker(api.WantLeave)))
	v1.GET("/queues", readers, s.listed("queues", s.listQueues))
	v1.GET("/queues/:name", readers, s.handle(s.getQueue))
	v1.POST("/queues/:name/pause", operators, s.handle(s.setQueue(s.engine.PauseQueue)))
	v1.POST("/queues/:name/resume", operators, s.handle(s.setQueue(s.engine.ResumeQueue)))
	v1.PUT("/queues/:name", operators, s.handle(s.putQueue))
	v1.PATCH("/queues/:name", operators, s.handle(s.patchQueue))
	v1.DELETE("/queues/:name", operators, s.handle(s.deleteName(s.engine.DeleteQueue)))
	v1.GET("/schedules", readers, s.listed("schedules", s.listSchedules))
	v1.GET("/schedules/:name", readers, s.handle(s.getSchedule))
	v1.PUT("/schedules/:name", operators, s.handle(s.putSchedule))
	v1.PATCH("/schedules/:name", operators, s.handle(s.patchSchedule))
	v1.DELETE("/schedules/:name", operators, s.handle(s.deleteName(s.engine.DeleteSchedule)))
	v1.GET("/schedules/:name/runs", readers, s.handle(s.listRuns))
	v1.POST("/schedules/:name/run", operators, s.handle(s.setSchedule(s.engine.RunSchedule)))
	v1.POST("/schedules/:name/pause", operators, s.handle(s.setSchedule(s.engine.PauseSchedule)))
	v1.POST("/schedules/:name/resume", operators, s.handle(s.setSchedule(s.engine.ResumeSchedule)))
	r.POST(hooksPath+":name", s.handle(s.deliver)) // whose senders prove themselves in their own way
	v1.GET("/hooks", readers, s.listed("hooks", s.listHooks))
	v1.GET("/hooks/:name", readers, s.handle(s.getHook))
	v1.PUT("/hooks/:name", operators, s.handle(s.putHook))
	v1.PATCH("/hooks/:name", operators, s.handle(s.patchHook))
	v1.DELETE("/hooks/:name", operators, s.handle(s.deleteName(s.engine.DeleteHook)))
	v1.POST("/hooks/:name/test", operators, s.handle(s.testHook))
	v1.GET("/hooks/:name/deliveries", readers, s.handle(s.listDeliveries))
	v1.POST("/hooks/:name/deliveries/:number/again", operators, s.handle(s.sendAgain))
	v1.GET("/endpoints", readers, s.listed("endpoints", s.listEndpoints))
	v1.GET("/endpoints/:name", readers, s.handle(s.getEndpoint))
	v1.PUT("/endpoints/:name", operators, s.handle(s.putEndpoint))
	v1.PATCH("/endpoints/:name", operators, s.handle(s.patchEndpoint))
	v1.DELETE("/endpoints/:name", operators, s.handle(s.deleteName(s.engine.DeleteEndpoint)))
	v1.POST("/endpoints/:name/pause", operators, s.handle(s.setEndpoint(s.engine.PauseEndpoint)))
	v1.POST("/endpoints/:name/resume", operators, s.handle(s.setEndpoint(s.engine.ResumeEndpoint)))
	v1.POST("/endpoints/:name/test", operators, s.handle(s.testEndpoint))
	v1.GET("/alerts", readers, s.listed("alerts", s.listAlerts))
	v1.GET("/alerts/rules", readers, s.handle(s.listAlertRules))
	v1.POST("/alerts/test", operators, s.handle(s.testAlerts))
	v1.GET("/alerts/:id", readers, s.handle(s.getAlert))
	v1.POST("/alerts/:id/see", operators, s.handle(s.seeAlert))
	v1.POST("/alerts/:id/mute", operators, s.handle(s.muteAlert))
	v1.GET("/explain/cron", anyone, s.handle(s.tellCron))
	v1.GET("/coming", readers, s.shared(s.coming))
	v1.GET("/setup", readers, s.handle(s.setup))
	v1.PUT("/setup", operators, s.handle(s.putSetup))
	v1.GET("/tasks", readers, s.listed("tasks", s.listTasks))
	v1.GET("/tasks/:name", readers, s.handle(s.getTask))
	v1.PUT("/tasks/:name", operators, s.handle(s.putTask))
	v1.PATCH("/tasks/:name", operators, s.handle(s.patchTask))
	v1.DELETE("/tasks/:name", operators, s.handle(s.deleteName(s.engine.DeleteTask)))
	v1.POST("/explain/retry", anyone, s.handle(s.previewRetry))
	v1.GET("/causes", readers, s.listed("causes", s.listCauses))
	v1.GET("/causes/:id", readers, s.handle(s.getCause))
	v1.POST("/jobs/act", operators, s.handle(s.actOnMany))
	v1.POST("/queues/:name/purge", operators, s.handle(s.purgeQueue))
	v1.POST("/queues/:name/lanes/:lane/pass", operators, s.handle(s.passLane))
	v1.GET("/queues/:name/lanes", readers, s.handle(s.listLanes))
	v1.GET("/queues/:name/starts", readers, s.shared(s.listStarts))
	v1.GET("/queues/:name/forecast", readers, s.shared(s.forecast))
	v1.GET("/operations", readers, s.listed("operations", s.listOperations))
	v1.GET("/operations/:id", readers, s.handle(s.operation(s.engine.Operation)))
	v1.POST("/operations/:id/stop", operators, s.handle(s.operation(s.engine.StopOperation)))
	v1.POST("/operations/:id/undo", operators, s.handle(s.operation(s.engine.UndoOperation)))
	v1.GET("/actions", readers, s.listed("actions", s.listActions))
	v1.GET("/stats", readers, s.shared(s.stats))
	v1.GET("/stats/history", readers, s.shared(s.history))
	v1.POST("/batches", producers, s.handle(s.makeBatch))
	v1.GET("/batches", readers, s.shared(s.listBatches))
	v1.GET("/batches/:id", anyone, s.handle(s.getBatch))
	v1.GET("/batches/:id/graph", readers, s.shared(s.getBatchGraph))
	v1.POST("/batches/:id/jobs", producers, s.handle(s.addToBatch))
	v1.POST("/batches/:id/close", producers, s.handle(s.closeBatch))
	v1.GET("/owners/:name", anyone, s.handle(s.getOwner))
	v1.GET("/follow", readers, s.listed("follows", s.listFollows))
	v1.GET("/follow/:name", readers, s.handle(s.getFollow))
	v1.PUT("/follow/:name", operators, s.handle(s.putFollow))
	v1.DELETE("/follow/:name", operators, s.handle(s.deleteName(s.engine.Unfollow)))
	v1.GET("/marks", readers, s.shared(s.marks))
	v1.POST("/marks", operators, s.handle(s.addMark))
	v1.DELETE("/marks/:id", operators, s.handle(s.deleteMark))
	v1.POST("/session", s.beginSession)
	v1.GET("/session", anyone, s.handle(s.getSession))
	v1.DELETE("/session", anyone, s.handle(s.endSession))
	v1.GET("/sessions", anyone, s.handle(s.listSessions))
	v1.DELETE("/sessions/:id", anyone, s.handle(s.endOtherSession))
	v1.GET("/tokens", operators, s.handle(s.listTokens))
	v1.GET("/backups", readers, s.handle(s.listBackups))
	v1.POST("/backups", operators, s.handle(s.makeBackup))
	v1.GET("/backups/:name", readers, s.handle(s.getBackup))
	v1.DELETE("/backups/:name", operators, s.handle(s.deleteName(s.engine.DeleteBackup)))
	v1.GET("/backups/:name/file", operators, s.getBackupFile)
	v1.GET("/export", operators, s.keepers("an export"), s.exportAll)
	v1.GET("/imports", readers, s.handle(s.listImports))
	v1.POST("/imports", operators, s.keepers("an import"), s.handle(s.beginImport))
	v1.POST("/imports/:store/lines", operators, s.keepers("an import"), s.handle(s.importLines))
	v1.GET("/imports/:store/jobs/:id", readers, s.handle(s.importedAs))
	v1.GET("/data", readers, s.handle(s.getDataFile))
	v1.POST("/data/compact", operators, s.handle(s.setDataFile(s.engine.Compact)))
	v1.POST("/data/compact/stop", operators, s.handle(s.setDataFile(s.engine.StopCompact)))
	v1.GET("/check", readers, s.handle(s.check))
	v1.GET("/events", readers, s.events)
	r.NoMethod(func(c *gin.Context) {
		s.fail(c, &statusProblem{http.StatusMethodNotAllowed, c.Request.Method + " is not answered at " + c.Request.URL.Path})
	})
	for _, at := range consoleRoutes {
		r.GET(at.Path, s.page)
	}
	r.NoRoute(s.notFound)
}

// about tells what answers here.
func (s *Server) about(c *gin.Context) (any, error) {
	who := callerOf(c)
	return api.About{
		Version: s.opts.Version, Store: s.engine.StoreID(), Driver: engine.Driver, Features: features, Principal: who.Name, Role: string(who.Role),
		Limits: api.Limits{
			BodyBytes: MaxBody, PayloadBytes: s.engine.MaxPayload(), ResultBytes: api.MaxResultBytes, SpecsInCall: job.MaxSpecs, LeasesInCall: api.MaxLeaseItems,
			LogLinesInReport: api.MaxReportLines, LogLineBytes: api.MaxLogLine, Labels: job.MaxLabels, LongestWait: api.MaxWait, ReceiptsKept: engine.ReceiptsKept,
		},
	}, nil
}

func (s *Server) ready(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c.Request.Context(), 2*time.Second)
	defer cancel()
	if err := s.engine.Ready(ctx); err != nil {
		s.fail(c, job.Fault(job.Busy, "the service cannot work now: %v", err))
		return
	}
	c.String(http.StatusOK, "%s\n", strings.Join(append([]string{"ready"}, s.engine.Notes()...), "\n"))
}

// told counts a request that was answered, and has the log tell of it where that is wanted: never
// of what it carries.
func (s *Server) told(c *gin.Context) {
	began, id := time.Now(), ""
	if s.opts.LogRequests {
		id = requestID(c, began)
	}
	c.Next()
	route, status := cmp.Or(c.FullPath(), "(none)"), c.Writer.Status()
	s.requests.WithLabelValues(c.Request.Method, route, strconv.Itoa(status)).Inc()
	if !s.opts.LogRequests {
		return
	}
	log := s.log
	if in := trace.SpanContextFromContext(propagation.TraceContext{}.Extract(context.Background(), propagation.HeaderCarrier(c.Request.Header))); in.IsValid() {
		log = log.With("trace_id", in.TraceID().String())
	}
	log.Info("request", "id", id, "principal", s.nameOf(c), "method", c.Request.Method, "path", text.Shorten(c.Request.URL.Path), "route", route, "status", status,
		"took", time.Since(began).Round(time.Microsecond), "bytes", max(c.Writer.Size(), 0), "from", s.opts.Forwarders.originOf(c.Request).from)
}

// nameOf names who has made a request; (none) is who showed no good token.
func (s *Server) nameOf(c *gin.Context) string {
	if _, known := c.Get(tokenKey); !known && s.tokens.Load() != nil {
		return "(none)"
	}
	return callerOf(c).Name
}

// requestID is the id by which a request is told in the log, and in its answer: the one that a
// proxy gave it, or a new one.
func requestID(c *gin.Context, now time.Time) string {
	id := c.GetHeader("X-Request-Id")
	if id == "" || len(id) > longestRequestID || strings.ContainsFunc(id, text.Commands) {
		id = api.NewCallKey(now)
	}
	c.Header("X-Request-Id", id)
	return id
}

// longestRequestID is how long an id of a request may be that a proxy gives.
const longestRequestID = 128

// MetricsHandler answers the figures, and nothing else, to anybody: for an address of its own.
func (s *Server) MetricsHandler() http.Handler {
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", s.metrics)
	return mux
}

// recovered turns a panic of a handler into an answer and a line in the log.
func (s *Server) recovered(c *gin.Context) {
	defer func() {
		if p := recover(); p == http.ErrAbortHandler {
			panic(p) // the answer has to break off
		} else if p != nil {
			s.log.Error("a request panicked", "path", c.Request.URL.Path, "panic", p, "stack", string(debug.Stack()))
			s.fail(c, job.Fault(job.Broken, "internal error; the service's log has it. Whether the request took effect is not known"))
		}
	}()
	c.Next()
}
