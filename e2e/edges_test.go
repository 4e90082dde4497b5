package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"math/rand/v2"
	"net/http"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
	"humblemule.example/worker"
)

// strict fails the test where any call of a pool is refused as a whole.
type strict struct {
	t    *testing.T
	next http.RoundTripper
}

func (s strict) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := s.next.RoundTrip(r)
	if err == nil && answer.StatusCode >= 400 && answer.StatusCode < 500 && strings.HasPrefix(r.URL.Path, "/v1/leases") {
		body, _ := io.ReadAll(answer.Body)
		s.t.Errorf("%s %s was refused: %s", r.Method, r.URL.Path, body)
		answer.Body = io.NopCloser(bytes.NewReader(body))
	}
	return answer, err
}

// oddError is an error that panics when it is asked for its text.
type oddError struct{ text *string }

func (e *oddError) Error() string { return *e.text }

// odd is a handler that returns, reports, logs and panics with whatever comes to mind.
type odd struct {
	mu     sync.Mutex
	random *rand.Rand
}

func (o *odd) draw(n int) int {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.random.IntN(n)
}

func (o *odd) text() string {
	return []string{"", "x", strings.Repeat("\x00", 3000), strings.Repeat("é", 20_000), "\xff\xfe\xfd", "\u202e\x1b[2J", strings.Repeat("a\n", 5000)}[o.draw(7)]
}

func (o *odd) number() float64 {
	return []float64{0, 50, -1, 1e300, math.NaN(), math.Inf(1), math.Inf(-1)}[o.draw(7)]
}

func (o *odd) span() time.Duration {
	return []time.Duration{0, -1, -time.Hour, time.Second, math.MaxInt64, math.MinInt64}[o.draw(6)]
}

func (o *odd) result() any {
	deep := any("x")
	for range []int{3, 500, 20_000}[o.draw(3)] {
		deep = []any{deep}
	}
	loop := map[string]any{}
	loop["loop"] = loop
	return []any{nil, "moored", o.number(), o.text(), deep, loop, make(chan int), func() {}, json.RawMessage("{"), json.RawMessage(`{"a":1,"a":2}`), json.RawMessage(`"\ud800"`), json.RawMessage("\"\xff\""), bytes.Repeat([]byte("x"), 200_000), map[string]any{"n": json.Number("12345678901234567890")}}[o.draw(14)]
}

// tell reports something of a job.
func (o *odd) tell(r *worker.Running) {
	switch o.draw(6) {
	case 0:
		r.Progress(o.number(), o.text())
	case 1:
		for range o.draw(3000) {
			r.Log("%s", o.text()[:min(1, len(o.text()))])
		}
	case 2:
		r.Log("%s", o.text())
	case 3:
		r.Label(o.text(), o.text())
	case 4:
		for n := range 30 {
			r.Label(fmt.Sprint("label-", n), o.text())
		}
	case 5:
		payload := map[string]any{"n": 1}
		r.FollowUp(job.Spec{Task: "follow.up", Payload: job.JSON(payload), Delay: job.Duration(o.span()), Timeout: job.Duration(o.span()), Owner: o.text(), Labels: map[string]string{o.text(): o.text()}})
		r.FollowUp(job.Spec{Task: o.text(), Payload: job.JSON(o.result()), RunAt: job.Time(o.span())})
		r.FollowUp(job.Spec{Task: "follow.up", Payload: job.JSON(payload), Delay: job.Duration(time.Hour)})
		payload["n"] = math.NaN() // after it was taken
	}
}

// end ends an attempt in some way.
func (o *odd) end() (any, error) {
	var none *oddError
	switch o.draw(14) {
	case 0:
		panic(o.text())
	case 1:
		panic(errors.New(o.text()))
	case 2:
		runtime.Goexit()
	case 3:
		return nil, none // a nil pointer in an error
	case 4:
		return nil, &oddError{}
	case 5:
		return nil, errors.New(o.text())
	case 6:
		return nil, worker.GiveUp(errors.New(o.text()))
	case 7:
		return nil, worker.GiveUp(none)
	case 8:
		return nil, worker.Skip(o.text())
	case 9:
		return nil, worker.RetryIn(o.span(), errors.New(o.text()))
	case 10:
		return nil, worker.Postpone(o.span())
	}
	return o.result(), nil
}

// No handler, whatever it returns, reports, logs or panics with, can make a call of its
// pool fail or keep another job from its outcome; and work that is done is not repeated
// because something of its report could not be kept.
func TestNoHandlerHarmsAnother(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule(client.HTTPClient(&http.Client{Transport: strict{t, http.DefaultTransport.(*http.Transport).Clone()}}))
	o := &odd{random: rand.New(rand.NewPCG(6853, 1))}
	pool := worker.New(m.Source(), worker.Options{Slots: 8, Ahead: 16, Lease: 10 * time.Second, Log: slog.New(slog.DiscardHandler)})
	var plain atomic.Int64
	worker.Handle(pool, "plain", func(context.Context, int) (int64, error) { return plain.Add(1), nil })
	worker.Handle(pool, "odd", func(ctx context.Context, _ int) (any, error) {
		for range o.draw(4) {
			o.tell(worker.Job(ctx))
		}
		return o.end()
	})
	worker.HandleMany(pool, "odd.many", worker.Many{Limit: 4, Gather: 10 * time.Millisecond}, func(ctx context.Context, items []*worker.Item[int, any]) error {
		for _, i := range items {
			o.tell(i.Job())
			if out, err := o.end(); err != nil {
				i.Fail(err)
			} else {
				i.Done(out)
			}
		}
		return nil
	})
	const each = 150
	once := 1
	specs := make([]job.Spec, 0, 3*each)
	for n := range each {
		for _, task := range []string{"plain", "odd", "odd.many"} {
			specs = append(specs, job.Spec{Task: task, Payload: job.JSON(n), MaxAttempts: &once})
		}
	}
	_, err := m.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- pool.Run(ctx) }()
	require.Eventually(t, func() bool {
		// Follow-ups may be ready for ever: nobody does them.
		left, err := m.ListJobs(t.Context(), api.Filter{Tasks: []string{"plain", "odd", "odd.many"}, States: []job.State{job.Ready, job.Running}, Limit: 1})
		require.NoError(t, err)
		return *left.Matched == 0
	}, 2*time.Minute, 50*time.Millisecond)
	cancel()
	require.NoError(t, <-ended)
	assert.Equal(t, int64(each), plain.Load())
	for _, task := range []string{"plain", "odd", "odd.many"} {
		for f := (api.Filter{Tasks: []string{task}, Limit: 500}); ; {
			page, err := m.ListJobs(t.Context(), f)
			require.NoError(t, err)
			for _, j := range page.Jobs {
				if !j.State.Finished() && j.Attempt > 0 && j.State != job.Running { // it was postponed
					continue
				}
				require.True(t, j.State.Finished(), "job %d is %s", j.ID, j.State)
				require.LessOrEqual(t, j.Tries, 1, "job %d", j.ID)
				if task == "plain" {
					require.Equal(t, job.Done, j.State)
				}
				if j.LastError != nil {
					require.NotEqual(t, job.LeaseLost, j.LastError.Type, "job %d", j.ID)
				}
			}
			if f.Cursor = page.NextCursor; f.Cursor == "" {
				break
			}
		}
	}
}

// loser drops answers after the service has given them: of the calls that it picks one in
// so many.
type loser struct {
	next  http.RoundTripper
	picks func(r *http.Request) bool
	one   int64
	n     atomic.Int64
}

func (l *loser) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := l.next.RoundTrip(r)
	if err == nil && l.picks(r) && l.n.Add(1)%l.one == 0 {
		io.Copy(io.Discard, answer.Body)
		answer.Body.Close()
		return nil, errors.New("the line was cut")
	}
	return answer, err
}

// Jobs whose lease answers are lost are not lost to their pool: none waits for the end of
// a lease that nobody knows of, and none is tried twice.
func TestLostAnswers(t *testing.T) {
	s := serve(t)
	takes := func(r *http.Request) bool { return r.URL.Path == "/v1/leases" }
	m := s.mule(client.HTTPClient(&http.Client{Transport: &loser{next: http.DefaultTransport.(*http.Transport).Clone(), picks: takes, one: 3}}), client.RetryFor(0))
	steady := s.mule()
	pool := worker.New(m.Source(), worker.Options{Slots: 3, Lease: time.Hour, Log: slog.New(slog.DiscardHandler)})
	worker.Handle(pool, "plain", func(context.Context, int) (int64, error) { return 1, nil })
	specs := make([]job.Spec, 100)
	for n := range specs {
		specs[n] = job.Spec{Task: "plain", Payload: job.JSON(n)}
	}
	_, err := steady.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- pool.Run(ctx) }()
	require.Eventually(t, func() bool {
		q, err := steady.Queue(t.Context(), "common")
		require.NoError(t, err)
		return q.Counts[job.Done] == 100
	}, 40*time.Second, 50*time.Millisecond)
	cancel()
	require.NoError(t, <-ended)
	page, err := steady.ListJobs(t.Context(), api.Filter{Limit: 500})
	require.NoError(t, err)
	for _, j := range page.Jobs {
		require.Equal(t, 1, j.Attempt, "job %d", j.ID)
	}
}

// A pool that the service will never take says why and ends at once.
func TestPoolsThatCannotWork(t *testing.T) {
	t.Parallel()
	s := serve(t)
	quiet := worker.Options{Log: slog.New(slog.DiscardHandler)}
	with := func(change func(o *worker.Options)) worker.Options {
		o := quiet
		change(&o)
		return o
	}
	handle := func(p *worker.Pool, task string) {
		worker.Handle(p, task, func(context.Context, int) (int, error) { return 0, nil })
	}
	for says, o := range map[string]worker.Options{
		"is not a valid name":              with(func(o *worker.Options) { o.Queues = []string{"Common"} }),
		"has no effect":                    with(func(o *worker.Options) { o.Weights = map[string]int{"berths": 3} }),
		"outside 1 to 1000":                with(func(o *worker.Options) { o.Weights = map[string]int{"common": -3} }),
		"lease 2h is outside":              with(func(o *worker.Options) { o.Lease = 2 * time.Hour }),
		"the service refused this pool":    with(func(o *worker.Options) { o.Name = strings.Repeat("x", 300) }),
		`task "plain" has a second handle`: with(func(o *worker.Options) { o.Name = "twice" }),
	} {
		p := worker.New(s.mule().Source(), o)
		handle(p, "plain")
		if o.Name == "twice" {
			handle(p, "plain")
		}
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		assert.ErrorContains(t, p.Run(ctx), says)
		assert.NoError(t, ctx.Err(), "within a second")
		cancel()
	}
}

// HEAD is answered wherever GET is, at once; what is nowhere is not a page of the console.
func TestHeads(t *testing.T) {
	t.Parallel()
	s := serve(t)
	began := time.Now()
	for path, status := range map[string]int{"/livez": 200, "/readyz": 200, "/v1": 200, "/v1/events": 200, "/v1/jobs": 200, "/v1/jobs/1?wait=50s": 404, "/": 200, "/dead/17": 200, "/healthz": 404, "/metrics": 200, "/v1x": 404, "/v1/nothing": 404} {
		r, err := http.Head(s.url + path)
		require.NoError(t, err)
		assert.Equal(t, status, r.StatusCode, path)
		r.Body.Close()
	}
	assert.Less(t, time.Since(began), 10*time.Second)
	got := s.ask("GET", "/healthz", "")
	assert.Contains(t, got.body, "GET /healthz does not exist")
	assert.NotContains(t, got.body, "<html")
}

// Text from jobs cannot command a terminal, piped or not; as JSON it stays what it is.
func TestTerminalsAreSafe(t *testing.T) {
	t.Parallel()
	s := serve(t)
	const evil = "\x1b[2J\u202egnp.exe\a"
	m := s.mule()
	for field, spec := range map[string]job.Spec{"owner": {Task: "t", Owner: evil}, "key": {Task: "t", Key: evil}, "lane": {Task: "t", Lane: evil}, "labels": {Task: "t", Labels: map[string]string{"a": evil}}} {
		_, err := m.Enqueue(t.Context(), spec)
		assert.ErrorContains(t, err, field)
		assert.ErrorContains(t, err, "U+001B")
	}
	once := 1
	_, err := m.Enqueue(t.Context(), job.Spec{Task: "t", Payload: job.JSON(evil), MaxAttempts: &once})
	require.NoError(t, err)
	l := lease(t, m, "w", 1)[0]
	_, err = m.Source().Settle(t.Context(), []api.Settlement{{Token: l.Token, Outcome: job.OutcomeFailed, Report: api.Report{Log: []string{evil}}, Error: &job.Failure{Type: evil, Message: evil}}})
	require.NoError(t, err)
	for _, command := range [][]string{{"job", "list"}, {"job", "show", "1"}, {"job", "why", "1"}, {"job", "log", "1"}, {"dead", "list"}, {"job", "list", "-o", "json"}, {"job", "show", "1", "-o", "json"}, {"job", "log", "1", "-o", "json"}, {"job", "requeue", "1", "--payload", "x"}} {
		out, errs, _ := run(t, s.url, command...)
		assert.NotContains(t, out+errs, "\x1b", command)
		assert.NotContains(t, out+errs, "\u202e", command)
		assert.NotContains(t, out+errs, "\a", command)
	}
	out, _, _ := run(t, s.url, "job", "show", "1")
	assert.Contains(t, out, "␛[2J‹U+202E›gnp.exe␇")
	out, _, _ = run(t, s.url, "job", "show", "1", "-o", "json")
	var j job.Job
	require.NoError(t, json.Unmarshal([]byte(out), &j))
	assert.Equal(t, evil, j.Attempts[0].Error.Message, "exactly")
}

// An enqueue for which nobody is there says so, with the nearest name.
func TestUnservedIsSaid(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule()
	_, err := m.Source().PutWorker(t.Context(), api.Worker{ID: "w", Queues: []string{"berths"}, Tasks: []string{"tide.predict"}})
	require.NoError(t, err)
	for _, c := range []struct {
		spec       job.Spec
		code, says string
	}{
		{job.Spec{Task: "tide.predict", Queue: "berth"}, job.WarnQueueUnserved, "No worker serves queue berth (the nearest is berths): the job waits until one does."},
		{job.Spec{Task: "tide.predcit", Queue: "berths"}, job.WarnTaskUndone, "No worker of queue berths does the task tide.predcit (the nearest is tide.predict): the job waits until one does."},
		{job.Spec{Task: "tide.predict", Queue: "berths"}, "", ""},
	} {
		j, err := m.Enqueue(t.Context(), c.spec)
		require.NoError(t, err)
		if c.code == "" {
			assert.Empty(t, j.Warnings)
			continue
		}
		require.Len(t, j.Warnings, 1)
		assert.Equal(t, job.Warning{Code: c.code, Message: c.says}, j.Warnings[0])
	}
	answer, err := m.EnqueueLines(t.Context(), []byte(strings.Repeat(`{"task":"a","queue":"berths"}`+"\n"+`{"task":"tide.predict","queue":"berths"}`+"\n", 3)))
	require.NoError(t, err)
	assert.Len(t, answer.Warnings, 1, "one for each queue and task")
	_, errs, status := run(t, s.url, "enqueue", "tide.predict", "--queue", "quay")
	assert.Equal(t, 0, status)
	assert.Contains(t, errs, "Note: No worker serves queue quay")
	_, err = m.DrainWorker(t.Context(), "w")
	require.NoError(t, err)
	time.Sleep(1100 * time.Millisecond) // what was found is good for a second
	j, err := m.Enqueue(t.Context(), job.Spec{Task: "tide.predict", Queue: "berths"})
	require.NoError(t, err)
	assert.Len(t, j.Warnings, 1, "a draining worker takes nothing")
}

// Whatever a job is called, a filter by it lists, counts and acts on that job and those like it, and on no
// others: through the client and by the flags of a command.
func TestFiltersFind(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule()
	draw := rand.New(rand.NewPCG(20261201, 1))
	word := func() string {
		text := ""
		for range 1 + draw.IntN(3) {
			text += []string{"a", "B", ":", "%", "%3A", ",", "+", "&", "#", "?", "/", `"`, "'", "\\", "$x", "*", "--", "ü", "🚢", "а", "null", "0"}[draw.IntN(22)] // no equals sign: it ends the name of a flag
		}
		return text
	}
	var specs []job.Spec
	for range 90 {
		spec := job.Spec{Task: "tide.predict", Owner: word(), Key: word(), Labels: map[string]string{word(): word()}, Lane: word()}
		if len(spec.Check(job.MaxPayloadBytes)) == 0 {
			specs = append(specs, spec)
		}
	}
	require.Greater(t, len(specs), 60, "most words are taken")
	took, err := m.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)
	find := func(why string, f api.Filter, flag string, matches func(job.Spec) bool) {
		t.Helper()
		var want, got []int64
		for i, spec := range specs {
			if matches(spec) {
				want = append(want, took.Jobs[i].ID)
			}
		}
		want = slices.Compact(slices.Sorted(slices.Values(want)))
		for _, j := range must(m.ListJobs(t.Context(), f))(t).Jobs {
			got = append(got, j.ID)
		}
		slices.Sort(got)
		assert.Equal(t, want, got, why)
		assert.EqualValues(t, len(want), must(m.CountJobs(t.Context(), f))(t).Matched, why)
		op := must(m.ActOnJobs(t.Context(), api.ActRequest{Action: api.ActCancel, DryRun: true, Filter: &api.Selection{Owner: f.Owner, Key: f.Key, Labels: f.Labels}}))(t)
		assert.EqualValues(t, len(want), op.Matched, why)
		if draw.IntN(20) > 0 {
			return
		}
		out, errs, status := run(t, s.url, "job", "list", flag, "-o", "json")
		require.Zero(t, status, errs)
		assert.Len(t, regexp.MustCompile(`(?m)^ *"id": `).FindAllString(out, -1), len(want), flag)
	}
	for _, spec := range specs {
		for name, value := range spec.Labels {
			find(fmt.Sprintf("label %q of %q", name, value), api.Filter{Labels: spec.Labels}, "--label="+name+"="+value, func(other job.Spec) bool { return other.Labels[name] == value })
		}
		find(fmt.Sprintf("owner %q", spec.Owner), api.Filter{Owner: spec.Owner}, "--owner="+spec.Owner, func(other job.Spec) bool { return other.Owner == spec.Owner })
		find(fmt.Sprintf("key %q", spec.Key), api.Filter{Key: spec.Key}, "--key="+spec.Key, func(other job.Spec) bool { return other.Key == spec.Key })
	}
}
