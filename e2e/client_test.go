package e2e

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/server"
	"humblemule.example/job"

	"github.com/getkin/kin-openapi/openapi3"
)

// reached notes which operations of openapi.yaml were called.
type reached struct {
	next http.RoundTripper
	mu   sync.Mutex
	all  map[string]bool
}

func (r *reached) RoundTrip(req *http.Request) (*http.Response, error) {
	router, err := described()
	if err != nil {
		return nil, err
	}
	if route, _, err := router.FindRoute(req); err == nil {
		r.mu.Lock()
		r.all[route.Operation.OperationID] = true
		r.mu.Unlock()
	}
	return r.next.RoundTrip(req)
}

// The client has a method for every operation, and each does what its name says.
func TestEveryOperation(t *testing.T) {
	t.Parallel()
	s := telling(t, "")
	seen := &reached{next: checked(t), all: map[string]bool{}}
	m, err := client.New(s.url, client.HTTPClient(&http.Client{Transport: seen}))
	require.NoError(t, err)
	ctx := t.Context()
	must := func(_ any, err error) {
		t.Helper()
		require.NoError(t, err)
	}
	must(m.About(ctx))
	require.NoError(t, m.Live(ctx))
	must(m.Ready(ctx))
	description, err := m.OpenAPI(ctx)
	require.NoError(t, err)
	assert.True(t, json.Valid(description))

	// Producers, and people who look at jobs.
	one, err := m.Enqueue(ctx, job.Spec{Task: "tide.predict", MaxAttempts: new(1)})
	require.NoError(t, err)
	must(m.EnqueueMany(ctx, []job.Spec{{Task: "berth.plan", Queue: "berths", Lane: "berth-3"}, {Task: "berth.plan", Queue: "berths", Lane: "berth-3"}, {Task: "log.pack", Delay: job.For(time.Hour)}, {Task: "log.pack", Queue: "archive"}}))
	must(m.ListJobs(ctx, api.Filter{Limit: 2}))
	jobs, err := client.Collect(m.Jobs(ctx, api.Filter{Limit: 2, Order: api.OldestFirst}))
	require.NoError(t, err)
	require.Len(t, jobs, 5, "three pages")
	some, err := client.First(3, m.Jobs(ctx, api.Filter{Limit: 2}))
	require.NoError(t, err)
	assert.Len(t, some, 3)
	must(m.PatchJob(ctx, jobs[3].ID, map[string]any{"priority": 7}))
	must(m.StartJob(ctx, jobs[3].ID))

	// Pools.
	source := m.Source()
	must(source.PutWorker(ctx, api.Worker{ID: "w", Queues: []string{"common", "berths"}, Slots: 2}))
	must(source.Wanted(ctx, "w", api.WantRun, 0))
	leased, err := source.Lease(ctx, api.LeaseRequest{Worker: "w", Queues: []string{"common"}, Tasks: []string{"tide.predict"}, Limit: 1})
	require.NoError(t, err)
	require.Len(t, leased.Leases, 1)
	must(source.Extend(ctx, api.ExtendRequest{Leases: []api.Extension{{Token: leased.Leases[0].Token, Report: api.Report{Log: []string{"one", "two"}}}}}))
	lines, err := client.Collect(m.LogLines(ctx, one.ID))
	require.NoError(t, err)
	assert.Equal(t, []string{"one", "two"}, []string{lines[0].Text, lines[1].Text})
	must(source.Settle(ctx, []api.Settlement{{Token: leased.Leases[0].Token, Outcome: job.OutcomeFailed, Error: &job.Failure{Type: "tide", Message: "the gauge is silent"}}}))
	followed, err := client.Collect(m.FollowLog(ctx, one.ID))
	require.NoError(t, err)
	assert.Len(t, followed, 2, "the log of a finished job ends")
	must(m.DrainWorker(ctx, "w"))
	must(m.ResumeWorker(ctx, "w"))
	must(m.LeaveWorker(ctx, "w"))
	must(m.Worker(ctx, "w"))
	workers, err := client.Collect(m.Workers(ctx))
	require.NoError(t, err)
	assert.Len(t, workers, 1)

	// Operators.
	causes, err := client.Collect(m.Causes(ctx, api.CauseFilter{}))
	require.NoError(t, err)
	require.Len(t, causes, 1)
	must(m.Cause(ctx, causes[0].ID))
	must(m.Job(ctx, one.ID))
	must(m.RequeueJob(ctx, one.ID, api.Requeue{}))
	must(m.CancelJob(ctx, one.ID))
	require.NoError(t, m.DiscardJob(ctx, one.ID))
	must(m.UndiscardJob(ctx, one.ID))
	op, err := m.ActOnJobs(ctx, api.ActRequest{Action: api.ActDiscard, IDs: []int64{one.ID}})
	require.NoError(t, err)
	must(m.Operation(ctx, op.ID))
	must(m.UndoOperation(ctx, op.ID))
	_, err = m.StopOperation(ctx, op.ID)
	require.ErrorIs(t, err, job.ErrWrongState)
	operations, err := client.Collect(m.Operations(ctx))
	require.NoError(t, err)
	assert.Len(t, operations, 1)
	running, err := source.Lease(ctx, api.LeaseRequest{Worker: "v", Queues: []string{"berths"}, Limit: 1})
	require.NoError(t, err)
	lanes, err := client.Collect(m.Lanes(ctx, "berths"))
	require.NoError(t, err)
	assert.Equal(t, []api.Lane{{Name: "berth-3", Job: jobs[1].ID, Task: "berth.plan", State: job.Running, Waiting: 1}}, lanes)
	must(m.EndLease(ctx, running.Leases[0].Job.ID, api.EndLease{FreeLane: true}))
	_, err = m.AcceptJob(ctx, one.ID)
	require.ErrorIs(t, err, job.ErrWrongState)
	_, err = m.PassLane(ctx, "berths", "berth-3")
	require.ErrorIs(t, err, job.ErrWrongState)
	starts, err := client.Collect(m.Starts(ctx, "berths"))
	require.NoError(t, err)
	assert.Len(t, starts, 1)
	must(m.PauseQueue(ctx, "berths"))
	must(m.ResumeQueue(ctx, "berths"))
	must(m.PurgeQueue(ctx, "berths", api.PurgeRequest{Tasks: []string{"berth.plan"}, DryRun: true}))
	must(m.PutQueue(ctx, "quay", api.Defaults{Priority: new(3)}))
	must(m.PatchQueue(ctx, "quay", map[string]any{"priority": nil}))
	must(m.Queue(ctx, "quay"))
	require.NoError(t, m.DeleteQueue(ctx, "quay"))
	must(m.PutTask(ctx, "fog.bulletin", api.Defaults{Priority: new(9)}))
	must(m.PatchTask(ctx, "fog.bulletin", map[string]any{"priority": nil}))
	must(m.Task(ctx, "fog.bulletin"))
	require.NoError(t, m.DeleteTask(ctx, "fog.bulletin"))
	for _, list := range []func() ([]string, error){
		func() ([]string, error) {
			return namesOf(client.Collect(m.Queues(ctx)))(func(q api.Queue) string { return q.Name })
		},
		func() ([]string, error) {
			return namesOf(client.Collect(m.Tasks(ctx)))(func(t api.Task) string { return t.Name })
		},
	} {
		all, err := list()
		require.NoError(t, err)
		assert.IsIncreasing(t, all)
		assert.Len(t, all, 3)
	}
	must(m.PutSchedule(ctx, "tides", api.Schedule{Cron: "30 3 * * *", Job: job.Spec{Task: "tide.predict"}}))
	must(m.PatchSchedule(ctx, "tides", map[string]any{"zone": "Europe/Lisbon"}))
	must(m.Schedule(ctx, "tides"))
	must(m.RunSchedule(ctx, "tides"))
	must(m.PauseSchedule(ctx, "tides"))
	must(m.ResumeSchedule(ctx, "tides"))
	schedules, err := client.Collect(m.Schedules(ctx))
	require.NoError(t, err)
	assert.Len(t, schedules, 1)
	runs, err := client.Collect(m.Runs(ctx, "tides"))
	require.NoError(t, err)
	assert.Len(t, runs, 1)
	must(m.ListComing(ctx, api.ComingQuery{Span: job.For(48 * time.Hour)}))
	require.NoError(t, m.DeleteSchedule(ctx, "tides"))
	must(m.ExplainCron(ctx, api.CronQuery{Expr: "30 3 * * *"}))
	must(m.ExplainRetry(ctx, api.RetryQuery{}))
	must(m.Setup(ctx))
	must(m.PutSetup(ctx, api.SetupRequest{DryRun: true}))
	must(m.Stats(ctx, ""))
	must(m.History(ctx, api.HistoryQuery{By: api.ByTask, Times: true}))
	require.NoError(t, m.ExportJobs(ctx, api.Filter{}, "csv", io.Discard))
	open, err := m.Start(ctx, client.NewBatch("voyage").Open().Last(job.Spec{Task: "notice.publish"}))
	require.NoError(t, err)
	must(m.AddToBatch(ctx, open.ID, []api.BatchJob{{Ref: "a", Spec: job.Spec{Task: "tide.predict"}}}))
	must(m.CloseBatch(ctx, open.ID))
	must(m.Batch(ctx, open.ID))
	must(m.BatchGraph(ctx, open.ID))
	must(m.Owner(ctx, "Heron Lines"))
	must(m.ListBatches(ctx, api.BatchQuery{Name: "voyage", State: api.BatchRunning}))
	must(m.Follow(ctx, "heron", api.NewFollow{Name: "ship", Value: "heron"}))
	must(m.Follows(ctx))
	must(m.Followed(ctx, "heron"))
	must(m.History(ctx, api.HistoryQuery{Follow: "heron"}))
	require.NoError(t, m.Unfollow(ctx, "heron"))
	must(m.SlowJobs(ctx))
	must(m.CountJobs(ctx, api.Filter{Queues: []string{"common"}, Labels: map[string]string{"ship": "heron"}}))
	must(m.Forecast(ctx, api.ForecastQuery{Queue: "common", Slots: 3, More: 40, By: job.At(time.Now().Add(time.Hour))}))
	note, err := m.Mark(ctx, api.NewMark{Text: "v2.3"})
	must(note, err)
	marks, err := m.Marks(ctx, 0, 0)
	must(marks, err)
	assert.Contains(t, marks, note)
	require.NoError(t, m.DeleteMark(ctx, note.ID))
	must(m.Check(ctx))
	actions, err := client.Collect(m.Actions(ctx, one.ID))
	require.NoError(t, err)
	assert.NotEmpty(t, actions)
	require.NoError(t, source.DeleteWorker(ctx, "w"))
	figures, err := m.Metrics(ctx)
	require.NoError(t, err)
	assert.Contains(t, figures, "hmule_build_info{")

	// The data file, and who may do what.
	backup, err := m.MakeBackup(ctx)
	require.NoError(t, err)
	for !backup.Over() && err == nil {
		backup, err = m.Backup(ctx, backup.Name)
	}
	require.NoError(t, err)
	var file bytes.Buffer
	n, err := m.BackupFile(ctx, backup.Name, &file)
	require.NoError(t, err)
	assert.Equal(t, backup.Bytes, n)
	backups, err := m.Backups(ctx)
	require.NoError(t, err)
	assert.Len(t, backups.Backups, 1)
	require.NoError(t, m.DeleteBackup(ctx, backup.Name))
	must(m.Compact(ctx))
	must(m.DataFile(ctx))
	_, err = m.StopCompact(ctx)
	assert.True(t, err == nil || errors.Is(err, job.ErrWrongState), err)
	export, err := m.ExportAll(ctx, client.ExportPart{JobsOnly: true})
	require.NoError(t, err)
	text, err := io.ReadAll(export)
	require.NoError(t, err)
	require.NoError(t, export.Close())
	exported := strings.SplitAfter(string(text), "\n")
	var first api.ExportLine
	require.NoError(t, json.Unmarshal([]byte(exported[0]), &first))
	first.Export.Store = "elsewhere"
	must(m.BeginImport(ctx, api.ImportRequest{Export: *first.Export, IDs: api.IDsNew}))
	imported, err := m.ImportLines(ctx, "elsewhere", []byte(exported[1]), false)
	require.NoError(t, err)
	require.Len(t, imported.IDs, 1)
	as, err := m.ImportedAs(ctx, "elsewhere", imported.IDs[0].First)
	require.NoError(t, err)
	assert.Equal(t, imported.IDs[0].Job, as.Job)
	must(m.Imports(ctx))
	must(m.PutHook(ctx, "arrivals", api.Hook{Task: "manifest.check", Proof: api.Proof{Kind: api.ProofNone}}))
	must(m.PatchHook(ctx, "arrivals", map[string]any{"queue": "berths"}))
	must(m.TestHook(ctx, "arrivals", []byte("fog"), "text/plain", nil))
	must(m.Hooks(ctx))
	must(m.Hook(ctx, "arrivals"))
	deliveries, err := client.Collect(m.Deliveries(ctx, "arrivals"))
	require.NoError(t, err)
	must(m.SendAgain(ctx, "arrivals", deliveries[0].Number))
	require.NoError(t, m.DeleteHook(ctx, "arrivals"))
	must(m.PutEndpoint(ctx, "customs", api.Endpoint{URL: "http://127.0.0.1:9/"}))
	must(m.PatchEndpoint(ctx, "customs", map[string]any{"note": "asleep"}))
	must(m.Endpoints(ctx))
	must(m.Endpoint(ctx, "customs"))
	must(m.TestEndpoint(ctx, "customs"))
	must(m.PauseEndpoint(ctx, "customs"))
	must(m.ResumeEndpoint(ctx, "customs"))
	require.NoError(t, m.DeleteEndpoint(ctx, "customs"))
	_, err = m.PutSetup(ctx, api.SetupRequest{Setup: api.Setup{Alerts: &api.Alerts{Channels: map[string]api.AlertChannel{"watch-house": {Call: &job.Call{URL: "http://127.0.0.1:9/"}}}}}})
	require.NoError(t, err)
	must(m.AlertSetup(ctx))
	must(m.TestAlerts(ctx, "watch-house"))
	must(m.Alerts(ctx, api.AlertOpen))
	for _, refused := range []func() (api.Alert, error){
		func() (api.Alert, error) { return m.Alert(ctx, 9) }, func() (api.Alert, error) { return m.SeeAlert(ctx, 9, "") }, func() (api.Alert, error) { return m.MuteAlert(ctx, 9, job.For(time.Hour)) },
	} {
		_, err = refused()
		require.ErrorIs(t, err, job.ErrNotFound)
	}
	who, err := m.SessionStatus(ctx)
	require.NoError(t, err)
	assert.Equal(t, api.SessionStatus{Principal: "local", Role: "operator"}, who)
	must(m.Sessions(ctx))
	require.NoError(t, m.EndSession(ctx, 7), "which is not there")
	must(m.Tokens(ctx))
	ended := fmt.Errorf("seen")
	require.ErrorIs(t, m.Events(ctx, "", func(client.Event) error { return ended }), ended)

	doc, err := openapi3.NewLoader().LoadFromData(server.OpenAPI())
	require.NoError(t, err)
	for path, item := range doc.Paths.Map() {
		for method, o := range item.Operations() {
			assert.True(t, seen.all[o.OperationID] || slices.Contains([]string{"openAPIAsYAML", "beginSession", "endSession", "deliver"}, o.OperationID), // which are for browsers and for others
				"no method of the client was seen to call %s: %s %s", o.OperationID, method, path)
		}
	}
}

// namesOf gives a function of each item, unless the list could not be read.
func namesOf[T any](all []T, err error) func(name func(T) string) ([]string, error) {
	return func(name func(T) string) (found []string, _ error) {
		for _, one := range all {
			found = append(found, name(one))
		}
		return found, err
	}
}

// What two people change at once is lost for neither: a change is of the version that was
// read, or of nothing yet; parts are changed beside each other.
func TestConditions(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule()
	ctx := t.Context()
	queue, err := m.PutQueue(ctx, "berths", api.Defaults{Priority: new(3)}, client.IfNew())
	require.NoError(t, err)
	_, err = m.PutQueue(ctx, "berths", api.Defaults{}, client.IfNew())
	require.ErrorIs(t, err, job.ErrOutdated)
	changed, err := m.PatchQueue(ctx, "berths", map[string]any{"timeout": "5m"}, client.IfVersion(queue.Version))
	require.NoError(t, err)
	assert.Equal(t, []any{3, job.For(5 * time.Minute)}, []any{*changed.Defaults.Priority, changed.Defaults.Timeout}, "what is not named stays")
	_, err = m.PatchQueue(ctx, "berths", map[string]any{"timeout": "6m"}, client.IfVersion(queue.Version))
	require.ErrorIs(t, err, job.ErrOutdated)
	require.ErrorIs(t, m.DeleteQueue(ctx, "berths", client.IfVersion(queue.Version)), job.ErrOutdated)

	task, err := m.PutTask(ctx, "dues.charge", api.Defaults{MaxAttempts: new(5)})
	require.NoError(t, err)
	_, err = m.PatchTask(ctx, "dues.charge", map[string]any{"retry": map[string]any{"curve": "fixed", "first": "1m"}})
	require.NoError(t, err)
	_, err = m.PutTask(ctx, "dues.charge", api.Defaults{}, client.IfVersion(task.Version))
	require.ErrorIs(t, err, job.ErrOutdated)

	told, err := m.Enqueue(ctx, job.Spec{Task: "dues.charge", Delay: job.For(time.Hour), Payload: job.JSON(strings.Repeat("x", 2000))})
	require.NoError(t, err)
	j, err := m.Job(ctx, told.ID)
	require.NoError(t, err)
	again, err := m.Job(ctx, told.ID)
	require.NoError(t, err)
	assert.Equal(t, j.Version, again.Version, "it is the same while nothing changes")
	edited, err := m.PatchJob(ctx, told.ID, map[string]any{"priority": 9}, client.IfVersion(j.Version))
	require.NoError(t, err)
	assert.NotEqual(t, j.Version, edited.Version)
	_, err = m.PatchJob(ctx, told.ID, map[string]any{"priority": 1}, client.IfVersion(j.Version))
	require.ErrorIs(t, err, job.ErrOutdated)
	_, err = m.PatchJob(ctx, told.ID, map[string]any{"payload": strings.Repeat("y", 2000)}, client.IfVersion(edited.Version))
	require.NoError(t, err)
	read := s.ask("GET", fmt.Sprint("/v1/jobs/", told.ID), "")
	tag := read.header.Get("ETag")
	assert.Equal(t, 412, s.ask("PATCH", fmt.Sprint("/v1/jobs/", told.ID), `{"priority":2}`, fmt.Sprintf(`If-Match: "%d"`, edited.Version)).status)
	assert.Equal(t, 200, s.ask("PATCH", fmt.Sprint("/v1/jobs/", told.ID), `{"priority":2}`, `If-Match: "1", `+tag).status, "one of several")
	assert.Equal(t, 412, s.ask("PATCH", fmt.Sprint("/v1/jobs/", told.ID), `{"priority":2}`, `If-None-Match: *`).status)

	// Thirty changes of different parts at once: none takes another's away.
	var all sync.WaitGroup
	for i := range 30 {
		all.Go(func() {
			_, err := m.PatchQueue(ctx, "common", map[string]any{"turns": "owner", "owner_weights": map[string]any{fmt.Sprint("agency ", i): i + 2}})
			assert.NoError(t, err)
		})
	}
	all.Wait()
	common, err := m.Queue(ctx, "common")
	require.NoError(t, err)
	assert.Len(t, common.Defaults.OwnerWeights, 30)
}

// What is not valid HTTP is refused by a problem too, and long answers are compressed where
// the caller accepts that.
func TestPlainHTTP(t *testing.T) {
	t.Parallel()
	s := serve(t)
	raw := func(request string) (status int, body string, header http.Header) {
		c, err := net.Dial("tcp", s.listen)
		require.NoError(t, err)
		defer c.Close()
		_, err = io.WriteString(c, request)
		require.NoError(t, err)
		answer, err := io.ReadAll(c)
		require.NoError(t, err)
		head, text, _ := strings.Cut(string(answer), "\r\n\r\n")
		_, err = fmt.Sscanf(head, "HTTP/1.1 %d", &status)
		require.NoError(t, err, head)
		header = http.Header{}
		for _, line := range strings.Split(head, "\r\n")[1:] {
			name, value, _ := strings.Cut(line, ": ")
			header.Set(name, value)
		}
		return status, text, header
	}
	for want, request := range map[int]string{
		400: "GET /v1 HTTP/1.1\r\nHost 127.0.0.1\r\n\r\n",
		431: "GET /v1 HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Long: " + strings.Repeat("x", 80<<10) + "\r\n\r\n",
		505: "GET /v1 HTTP/3.9\r\nHost: 127.0.0.1\r\n\r\n",
	} {
		status, body, header := raw(request)
		assert.Equal(t, want, status)
		assert.Equal(t, "application/problem+json", header.Get("Content-Type"))
		var p struct {
			Title  string
			Status int
			Detail string
		}
		require.NoError(t, json.Unmarshal([]byte(body), &p), body)
		assert.Equal(t, []any{http.StatusText(want), want}, []any{p.Title, p.Status})
		assert.NotEmpty(t, p.Detail)
	}
	get := func(path, accept string) (*http.Response, string) {
		req, err := http.NewRequestWithContext(context.Background(), "GET", s.url+path, nil)
		require.NoError(t, err)
		req.Header.Set("Accept-Encoding", accept)
		resp, err := http.DefaultTransport.RoundTrip(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		in := io.Reader(resp.Body)
		if resp.Header.Get("Content-Encoding") == "gzip" {
			in, err = gzip.NewReader(resp.Body)
			require.NoError(t, err)
		}
		text, err := io.ReadAll(in)
		require.NoError(t, err)
		return resp, string(text)
	}
	plain, text := get("/openapi.json", "identity")
	small, same := get("/openapi.json", "gzip")
	assert.Equal(t, []string{"", "gzip", text}, []string{plain.Header.Get("Content-Encoding"), small.Header.Get("Content-Encoding"), same})
	short, _ := get("/v1", "gzip")
	assert.Empty(t, short.Header.Get("Content-Encoding"), "a short answer is not worth it")
	_, page := get("/", "gzip")
	script := page[strings.Index(page, "/assets/"):]
	script = script[:strings.IndexAny(script, `"'`)]
	packed, code := get(script, "gzip, br")
	whole, uncompressed := get(script, "gzip;q=0")
	assert.Equal(t, []string{"gzip", ""}, []string{packed.Header.Get("Content-Encoding"), whole.Header.Get("Content-Encoding")})
	assert.Equal(t, code, uncompressed)
	assert.Equal(t, whole.Header.Get("Content-Type"), packed.Header.Get("Content-Type"))
	head, err := http.Head(s.url + "/v1/queues")
	require.NoError(t, err)
	assert.Equal(t, 200, head.StatusCode)
}
