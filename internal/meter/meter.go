// Package meter tells the service's figures to whoever gathers those of many programs: as
// OpenMetrics, or in the older text form.
package meter

import (
	"context"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	dto "github.com/prometheus/client_model/go"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/job"
)

// Options set up a handler.
type Options struct {
	// Version, Commit and Driver name the program.
	Version, Commit, Driver string
	// Requests are counts of HTTP requests; nil for none.
	Requests prometheus.Collector
}

// Handler answers the figures of an engine.
func Handler(e *engine.Engine, o Options) http.Handler {
	r := prometheus.NewRegistry()
	info := prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: "hmule_build_info", Help: "The program that answers; always 1."}, []string{"version", "commit", "driver"})
	info.WithLabelValues(o.Version, o.Commit, o.Driver).Set(1)
	r.MustRegister(info, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	if o.Requests != nil {
		r.MustRegister(o.Requests)
	}
	return promhttp.HandlerFor(gatherer{r, (&service{e}).figures}, promhttp.HandlerOpts{EnableOpenMetrics: true, ErrorHandling: promhttp.HTTPErrorOnError})
}

// NewRequests counts HTTP requests by route and status.
func NewRequests() *prometheus.CounterVec {
	return prometheus.NewCounterVec(prometheus.CounterOpts{Name: "hmule_http_requests_total", Help: "Requests that were answered, by method, route and status."}, []string{"method", "route", "status"})
}

// others stands for all queues, tasks or schedules that have no figures of their own.
const others = "(others)"

func named(name string) string {
	if name == "" {
		return others
	}
	return name
}

var (
	jobs        = about("jobs", "Jobs that are kept, by queue and state.", "queue", "state")
	oldest      = about("queue_oldest_ready_seconds", "How long the first job of the queue has been ready; 0 if none is.", "queue")
	paused      = about("queue_paused", "1 if the queue is paused.", "queue")
	workersOf   = about("queue_workers", "Living workers that serve the queue.", "queue")
	enqueued    = about("jobs_enqueued_total", "Jobs that were enqueued.", "queue")
	requeued    = about("jobs_requeued_total", "Jobs that were given a new round.", "queue")
	finished    = about("jobs_finished_total", "Jobs that came to a finished state.", "queue", "state")
	waits       = about("job_wait_seconds", "How long jobs were ready before an attempt was started.", "queue")
	attempts    = about("attempts_total", "Attempts that have ended, by outcome and task.", "outcome", "task")
	retried     = about("retries_total", "Attempts after which the job waits to be retried.", "task")
	lost        = about("leases_lost_total", "Attempts whose leases were not renewed in time.", "task")
	runs        = about("attempt_run_seconds", "How long attempts took.", "task")
	running     = about("task_running", "Jobs of the task that are running.", "task")
	late        = about("schedule_late_seconds", "By how much the next planned time of the schedule is overdue.", "schedule")
	failedRuns  = about("schedule_failed_runs", "How many of the latest runs of the schedule have died in a row.", "schedule")
	folded      = about("folded", "Queues, tasks and schedules beyond the first 200, whose figures are those of the one called "+others+".", "what")
	causes      = about("causes", "Causes of failures by which jobs are in a state.", "state")
	batches     = about("batches", "Batches that have not ended, by whether any of their jobs goes on by itself.", "goes_on")
	hookTook    = about("hook_deliveries_total", "Deliveries that a hook has taken: new, or repeated.", "hook", "result")
	hookRefused = about("hook_refusals_total", "Deliveries that a hook has refused, by reason.", "hook", "reason")
	endpointTo  = about("endpoint_messages_total", "Messages to an endpoint: delivered, died, or missed while it was paused.", "endpoint", "result")
	endpointOff = about("endpoint_paused", "1 while an endpoint is paused.", "endpoint")
	alerts      = about("alerts", "Alerts that are not over, by severity and state.", "severity", "state")
	alertsTook  = about("alerts_look_seconds", "How long it took last to hold the rules of alerts against what was seen.")
	silentHosts = about("silent_hosts", "Hosts that give no answer to calls.")
	workers     = about("workers", "Worker processes, by what they do.", "does")
	slots       = about("slots", "Slots of the worker processes, by what these do.", "does")
	taken       = about("slots_taken", "Slots that run a job.")
	parked      = about("parked_takes", "Requests for jobs that wait until there is one.")
	streams     = about("event_streams", "Streams of events that are open.")
	commitSize  = about("commit_commands", "Commands in a transaction that wrote.")
	commitWork  = about("commit_work_seconds", "How long transactions that wrote were applied.")
	commitDisk  = about("commit_sync_seconds", "How long commits waited for the disk.")
	refusing    = about("disk_refusing", "1 while the disk takes no writes.")
	setAside    = about("set_aside", "Timed work that has failed and is set aside.")
	fileBytes   = about("file_bytes", "Length of the data file.")
	fileFree    = about("file_free_bytes", "How much of the data file nothing uses; hmule compact gives it back.")
	logBytes    = about("log_bytes", "Length of the data file's log.")
	diskFree    = about("disk_free_bytes", "What is free on the disk of the data file.")
	backupAt    = about("backup_last_timestamp_seconds", "The moment that the latest backup in the service's folder shows; absent if there is none.")
	backupBytes = about("backup_last_bytes", "Length of the latest backup.")
	backupWrong = about("backup_failing", "1 if the latest backup that was due by the rules has failed.")
)

// service gathers the figures of an engine when they are asked for.
type service struct{ e *engine.Engine }

// gatheredWithin is how long the gathering of figures may take.
const gatheredWithin = 10 * time.Second

// figures gives all.
func (s *service) figures() (map[*figure]*dto.MetricFamily, error) {
	ctx, cancel := context.WithTimeout(context.Background(), gatheredWithin)
	defer cancel()
	m, err := s.e.Meter(ctx)
	if err != nil {
		return nil, err
	}
	p := newPen()
	for i := range m.Queues {
		p.queue(&m.Queues[i])
	}
	for i := range m.Tasks {
		p.task(&m.Tasks[i])
	}
	for _, one := range m.Schedules {
		p.gauge(late, one.Late.Seconds(), named(one.Name))
		p.gauge(failedRuns, float64(one.Failed), named(one.Name))
	}
	for what, n := range map[string]int{"queues": m.Folded.Queues, "tasks": m.Folded.Tasks, "schedules": m.Folded.Schedules} {
		p.gauge(folded, float64(n), what)
	}
	for _, state := range []job.State{job.Backoff, job.Dead} {
		p.gauge(causes, float64(m.Causes[state]), state.String())
	}
	p.gauge(batches, float64(m.Batches[false]), "yes")
	p.gauge(batches, float64(m.Batches[true]), "no")
	for _, severity := range []string{api.SeverityCritical, api.SeverityWarning} {
		for _, state := range []string{api.AlertOpen, api.AlertSeen, api.AlertMuted} {
			p.gauge(alerts, float64(m.Alerts[[2]string{severity, state}]), severity, state)
		}
	}
	p.gauge(alertsTook, s.e.Took().Seconds())
	p.gauge(silentHosts, float64(m.SilentHosts))
	for i := range m.Hooks {
		p.hook(&m.Hooks[i])
	}
	for i := range m.Endpoints {
		p.endpoint(&m.Endpoints[i])
	}
	for _, does := range []string{"active", "draining", "silent"} {
		p.gauge(workers, float64(m.Workers[does]), does)
		p.gauge(slots, float64(m.Slots[does]), does)
	}
	p.gauge(taken, float64(m.Taken))
	p.gauge(parked, float64(s.e.Parked()))
	p.gauge(streams, float64(s.e.Watching()))
	p.gauge(refusing, truth(m.Refusing))
	p.gauge(setAside, float64(m.SetAside))
	p.gauge(fileBytes, float64(m.File.All*m.File.Bytes))
	p.gauge(fileFree, float64(m.File.Free*m.File.Bytes))
	p.gauge(logBytes, float64(m.LogBytes))
	if m.DiskFree >= 0 {
		p.gauge(diskFree, float64(m.DiskFree))
	}
	size, work, disk := s.e.Commits()
	p.histogram(commitSize, &size)
	p.histogram(commitWork, &work)
	p.histogram(commitDisk, &disk)
	s.backups(ctx, p)
	return p.families, nil
}

func (s *service) backups(ctx context.Context, p *pen) {
	all, err := s.e.Backups(ctx)
	if err != nil {
		return
	}
	p.gauge(backupWrong, truth(s.e.BackupsWrong() != ""))
	var last job.Time
	var bytes int64
	for _, b := range all.Backups {
		if b.Store != "" && b.At > last {
			last, bytes = b.At, b.Bytes
		}
	}
	if last != 0 {
		p.gauge(backupAt, float64(last)/1000)
		p.gauge(backupBytes, float64(bytes))
	}
}

func truth(is bool) float64 {
	if is {
		return 1
	}
	return 0
}

// always are the states of which a queue's figure is told where it is 0 too; of all others a figure
// is told where there is something to tell, since each costs whoever gathers it.
var always = map[job.State]bool{job.Ready: true, job.Running: true, job.Backoff: true, job.Dead: true}

func (p *pen) queue(q *engine.MeteredJobs) {
	name := named(q.Name)
	for _, state := range job.States() {
		if n := q.Counts[state]; n != 0 || always[state] {
			p.gauge(jobs, float64(n), name, state.String())
		}
		if n := q.Finished[state]; n != 0 || state == job.Done || state == job.Dead {
			p.counter(finished, n, name, state.String())
		}
	}
	p.gauge(oldest, q.OldestReady.Seconds(), name)
	if q.Name != "" {
		p.gauge(paused, truth(q.Paused), name)
		p.gauge(workersOf, float64(q.Workers), name)
	}
	p.counter(enqueued, q.Enqueued, name)
	p.counter(requeued, q.Requeued, name)
	p.histogram(waits, &q.Waits, name)
}

func (p *pen) hook(h *api.HookStatus) {
	p.counter(hookTook, uint64(h.Counts.Taken), h.Name, "new")
	p.counter(hookTook, uint64(h.Counts.Repeated), h.Name, "repeated")
	for reason, n := range h.Counts.Refused {
		p.counter(hookRefused, uint64(n), h.Name, reason)
	}
}

func (p *pen) endpoint(e *api.EndpointStatus) {
	p.counter(endpointTo, uint64(e.Delivered), e.Name, "delivered")
	p.counter(endpointTo, uint64(e.Failed), e.Name, "died")
	p.counter(endpointTo, uint64(e.Missed), e.Name, "missed")
	p.gauge(endpointOff, truth(e.PausedAt != 0), e.Name)
}

func (p *pen) task(t *engine.MeteredJobs) {
	name := named(t.Name)
	for _, outcome := range job.Outcomes() {
		if n := t.Attempts[outcome]; n != 0 || outcome == job.OutcomeDone || outcome == job.OutcomeFailed {
			p.counter(attempts, n, string(outcome), name)
		}
	}
	p.counter(retried, t.Retried, name)
	p.counter(lost, t.Lost, name)
	p.gauge(running, float64(t.Counts[job.Running]), name)
	p.histogram(runs, &t.Runs, name)
}
