package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/harbour"
	"humblemule.example/internal/proof"
	"humblemule.example/job"
)

// subscriber is somebody who is told, and fails at random.
type subscriber struct {
	*httptest.Server
	t     *testing.T
	mu    sync.Mutex
	fails int // one in so many; 0 for none
	got   map[string]int
	data  map[string]api.JobEnded
}

func newSubscriber(t *testing.T, fails int) *subscriber {
	s := &subscriber{t: t, fails: fails, got: map[string]int{}, data: map[string]api.JobEnded{}}
	s.Server = httptest.NewServer(http.HandlerFunc(s.take))
	t.Cleanup(s.Close)
	return s
}

func (s *subscriber) take(w http.ResponseWriter, r *http.Request) {
	raw, err := io.ReadAll(r.Body)
	if err != nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	var e api.CloudEvent
	assert.NoError(s.t, json.Unmarshal(raw, &e))
	assert.Equal(s.t, "application/cloudevents+json; charset=utf-8", r.Header.Get("Content-Type"))
	assert.Equal(s.t, []string{"1.0", e.ID}, []string{e.SpecVersion, r.Header.Get("webhook-id")})
	assert.Empty(s.t, proof.Check(api.Hook{Proof: standard}.WithDefaults().Proof, [][]byte{[]byte("salt marsh")}, r.Header, "", raw, time.Now()))
	if s.fails > 0 && rand.IntN(s.fails) == 0 {
		if rand.IntN(2) == 0 { // after it has taken it
			s.got[e.ID]++
		}
		w.WriteHeader(http.StatusInternalServerError)
		return
	}
	s.got[e.ID]++
	var said api.JobEnded
	assert.NoError(s.t, json.Unmarshal(e.Data, &said))
	s.data[e.ID] = said
}

func (s *subscriber) has() map[string]api.JobEnded {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := map[string]api.JobEnded{}
	for id, said := range s.data {
		all[id] = said
	}
	return all
}

// telling starts a service that may tell others on this machine.
func telling(t *testing.T, more string) *service {
	file := filepath.Join(t.TempDir(), "hmule.yaml")
	require.NoError(t, os.WriteFile(file, []byte("calls: {allow: [127.0.0.1]}\nsecrets:\n  events: {env: EVENTS_KEY, tasks: [hmule.call], hosts: [127.0.0.1]}\n"+more), 0o600))
	s := &service{t: t, data: filepath.Join(t.TempDir(), "e2e.db"), listen: freeAddress(t), flags: []string{"--config", file}, env: []string{"EVENTS_KEY=salt marsh", "PILOTS_KEY=" + pilotsKey}}
	s.start()
	t.Cleanup(s.kill)
	return s
}

// A receiver that fails at random, and a service that is killed: every message arrives, each with one id.
func TestNoticesArrive(t *testing.T) {
	t.Parallel()
	customs := newSubscriber(t, 4)
	s := telling(t, "")
	m := s.mule()
	fast := job.Retry{Curve: job.Fixed, First: job.Duration(100 * time.Millisecond), Jitter: new(0.0)}
	_, err := m.PutTask(t.Context(), job.TaskCall, api.Defaults{Retry: &fast})
	require.NoError(t, err)
	_, err = m.PutEndpoint(t.Context(), "customs", api.Endpoint{URL: customs.URL + "/events", Secret: "events", Events: []api.EventRule{{On: []job.State{job.Done, job.Dead}}}})
	require.NoError(t, err)
	const n = 300
	specs := make([]job.Spec, n)
	for i := range specs {
		specs[i] = job.Spec{Task: "tide.predict", Owner: fmt.Sprint("agent-", i%3)}
	}
	_, err = m.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)
	want := map[string]bool{}
	about, err := m.About(t.Context())
	require.NoError(t, err)
	for done := 0; done < n; {
		for i, l := range lease(t, m, "w", 50) {
			outcome := api.Settlement{Token: l.Token, Outcome: job.OutcomeDone}
			state := job.Done
			if i%5 == 0 {
				outcome.Outcome, outcome.Error, state = job.OutcomeGiveUp, &job.Failure{Type: "silt", Message: "too shallow"}, job.Dead
			}
			_, err := m.Source().Settle(t.Context(), []api.Settlement{outcome})
			require.NoError(t, err)
			want[fmt.Sprintf("%s-%d-1-%s", about.Store, l.Job.ID, state)] = true
			if done++; done == n/2 {
				s.kill()
				s.start()
			}
		}
	}
	require.Eventually(t, func() bool { return len(customs.has()) == n }, time.Minute, 50*time.Millisecond, "each is delivered")
	for id := range customs.has() {
		assert.True(t, want[id], id)
	}
	e, err := m.Endpoint(t.Context(), "customs")
	require.NoError(t, err)
	assert.InDelta(t, n, e.Delivered, 20, "those that were under way at the kill may be counted later")
}

// The full circle: a webhook comes in, becomes a job, its follow-up calls out, and the end is told by an
// endpoint and by mail; what has died is mended, and told again.
func TestFullCircle(t *testing.T) {
	t.Parallel()
	box, err := harbour.NewMailbox("127.0.0.1:0", nil)
	require.NoError(t, err)
	go box.Run(t.Context())
	customs := newSubscriber(t, 0)
	status := http.StatusUnprocessableEntity
	var mu sync.Mutex
	bank := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		w.WriteHeader(status)
		fmt.Fprint(w, `{"charged":true}`)
	}))
	defer bank.Close()
	horn := filepath.Join(t.TempDir(), "horn.json")
	s := telling(t, `  pilots: {env: PILOTS_KEY, hooks: [arrivals]}
commands: {horn: 'cat > "`+horn+`.part" && mv "`+horn+`.part" "`+horn+`"'}
alerts:
  channels: {watch-house: {mail: {to: [watch@harbour.example]}}, horn: {command: horn}}
  rules:
    dead: {over: 0, for: 0s, severity: critical, tell: [watch-house, horn]}
mail: {server: "`+box.Address()+`", from: "Saltmarrow Harbour <jobs@harbour.example>", tls: none, console: "https://jobs.harbour.example"}
hooks:
  arrivals: {task: manifest.check, owner: {pointer: /agent}, proof: {kind: standard, secrets: [pilots]}}
endpoints:
  customs: {url: "`+customs.URL+`/events", secret: events}
tasks:
  dues.collect:
    calls: {}
    notify:
    - {on: [dead], mail: {to: [ada@harbour.example], subject: "[harbour]"}}
    - {on: [dead, done], endpoint: customs}
`)
	m := s.mule()
	told, code, text := s.deliver("arrivals", standard, pilotsKey, "arr-1", `{"agent":"Heron & Sons","cents":4200}`, time.Now())
	require.Equal(t, http.StatusAccepted, code, text)
	l := leaseOf(t, m, "common")
	require.Equal(t, told.Job, l.Job.ID)
	results, err := m.Source().Settle(t.Context(), []api.Settlement{{Token: l.Token, Outcome: job.OutcomeDone, Enqueue: []api.FollowUp{{Spec: job.Spec{Task: "dues.collect", Owner: l.Job.Owner, Call: &job.Call{URL: bank.URL, Body: l.Job.Payload}}}}}})
	require.NoError(t, err)
	require.Equal(t, api.StatusOK, results[0].Status)
	charge := told.Job + 1
	j, err := m.WaitFor(t.Context(), charge, time.Minute)
	require.NoError(t, err)
	require.Equal(t, job.Dead, j.State, j.Summary)
	lettersTo := func(to string) (all []harbour.Letter) {
		for _, l := range box.Letters() {
			if l.To[0] == to {
				all = append(all, l)
			}
		}
		return all
	}
	require.Eventually(t, func() bool { return len(lettersTo("ada@harbour.example")) == 1 && len(customs.has()) == 1 }, 100*time.Second, 20*time.Millisecond, "messages: %s", lateOf(s.messages))
	letter := lettersTo("ada@harbour.example")[0]
	assert.Equal(t, []string{"jobs@harbour.example", "ada@harbour.example"}, []string{letter.From, letter.To[0]})
	for _, says := range []string{
		fmt.Sprintf("Subject: [harbour] dues.collect: job %d is dead", charge), "Message-ID: <" + s.store() + fmt.Sprintf("-%d-1-dead@harbour.example>", charge), "text/plain", "text/html",
		"answered 422 Unprocessable Entity", "Heron & Sons", "Heron &amp; Sons", fmt.Sprintf("https://jobs.harbour.example/jobs/%d", charge),
	} {
		assert.Contains(t, strings.ReplaceAll(letter.Text, "=\n", ""), says)
	}

	// The alert is told at once, by mail and by the command, and seen.
	var n api.CloudEvent
	require.Eventually(t, func() bool {
		raw, err := os.ReadFile(horn)
		return err == nil && json.Unmarshal(raw, &n) == nil && len(lettersTo("watch@harbour.example")) == 1
	}, 40*time.Second, 50*time.Millisecond)
	assert.Equal(t, []string{api.TypeAlerts, "Queue common has 1 dead letter"}, []string{n.Type, n.Subject})
	for _, says := range []string{"Subject: Queue common has 1 dead letter", "likely    1 of 1 died of cause", "https://jobs.harbour.example/alerts/"} {
		assert.Contains(t, strings.ReplaceAll(lettersTo("watch@harbour.example")[0].Text, "=\n", ""), says)
	}
	alerts, err := m.Alerts(t.Context(), api.AlertOpen)
	require.NoError(t, err)
	at := slices.IndexFunc(alerts, func(a api.Alert) bool { return a.Rule == "dead" })
	s.says("is noted as seen; it is over when it is right again.", "alert", "seen", fmt.Sprint(alerts[at].ID), "--note", "the bank mends it")
	said, _, code := run(t, s.url, "status")
	assert.Equal(t, 1, code)
	assert.Contains(t, said, "2 alerts are open, 1 of which nobody has seen.")

	mu.Lock()
	status = http.StatusOK
	mu.Unlock()
	_, err = m.RequeueJob(t.Context(), charge, api.Requeue{})
	require.NoError(t, err)
	j, err = m.WaitFor(t.Context(), charge, time.Minute)
	require.NoError(t, err)
	require.Equal(t, job.Done, j.State, j.Summary)
	require.Eventually(t, func() bool { return len(customs.has()) == 2 }, 20*time.Second, 20*time.Millisecond)
	assert.Equal(t, job.Done, customs.has()[fmt.Sprintf("%s-%d-2-done", s.store(), charge)].State)
	assert.Len(t, lettersTo("ada@harbour.example"), 1)
	require.Eventually(t, func() bool {
		q, err := m.Queue(t.Context(), job.NoticeQueue)
		return err == nil && q.Workers == 1
	}, 20*time.Second, 20*time.Millisecond, "the queue of messages has the service's slots")
	s.says("customs", "endpoint", "list")
	s.says("active", "endpoint", "show", "customs")
	require.Eventually(t, func() bool {
		a, err := m.Alert(t.Context(), alerts[at].ID)
		return err == nil && a.State == api.AlertOver && a.Note == "the bank mends it"
	}, 2*time.Minute, 200*time.Millisecond, "the alert is over by itself")
}

// The page of alerts tells what is wrong; whoever has seen it says so there.
func TestPageOfAlerts(t *testing.T) {
	t.Parallel()
	s := telling(t, `alerts:
  channels: {customs: {call: {url: "http://127.0.0.1:9/alerts"}}}
  tell: [customs]
  rules: {dead: {over: 0, for: 0s}}
`)
	m := s.mule(client.HTTPClient(newHTTP()))
	once := 1
	_, err := m.Enqueue(t.Context(), job.Spec{Task: "dues.charge", MaxAttempts: &once})
	require.NoError(t, err)
	l := leaseOf(t, m, "common")
	_, err = m.Source().Settle(t.Context(), []api.Settlement{{Token: l.Token, Outcome: job.OutcomeFailed, Error: &job.Failure{Type: "bank", Message: "account 17 is locked"}}})
	require.NoError(t, err)
	p := open(t, s.url+"/alerts")
	p.says("Nothing is wrong that a rule looks for.")
	p.says("customs is a call of http://127.0.0.1:9/alerts.")
	p.says("2 alerts are open that nobody has seen.")
	p.accessible("alerts")
	p.press(`//tr[@data-alert]//a[starts-with(., "New cause")]`)
	p.says("1 dead letter of dues.charge")
	p.press(`//aside//button[.="Mute"]`)
	p.accessible("an alert is muted")
	p.submit()
	p.says("nobody yet. It is muted.")
	p.press(`//aside//button[.="I have seen it"]`)
	p.submit()
	p.says("Seen and over: alert")
	p.press(`//button[.="Send a test"]`)
	p.submit()
	p.says("Sent as job 2.")
	p.press(`//nav//a[.="Now"]`)
	p.press(`//a[.="1 alert open"]`)
	p.says("1 alert is open that nobody has seen.")
	p.quiet()
	_, stderr, status := run(t, s.url, "alert", "mute", "9", "--for", "soon")
	assert.Equal(t, 2, status)
	assert.Contains(t, stderr, "--for")
	_, stderr, status = run(t, s.url, "alert", "seen", "9")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "there is no alert 9")
}

// lateOf is told when it is printed.
type lateOf func() string

func (f lateOf) String() string { return f() }

// messages tells of the messages that are there, and what has become of them.
func (s *service) messages() (all string) {
	for j, err := range s.mule().Jobs(s.t.Context(), api.Filter{Queues: []string{job.NoticeQueue}}) {
		require.NoError(s.t, err)
		all += fmt.Sprintf("%d %s is %s: %+v\n", j.ID, j.Task, j.State, j.LastError)
	}
	return all
}

// store is the id of the service's store.
func (s *service) store() string {
	about, err := s.mule().About(s.t.Context())
	require.NoError(s.t, err)
	return about.Store
}

// Whoever waits for a batch is told of its end by a call, and an action on many jobs is one message; the
// dialog says how many messages there are.
func TestBatchAndManyAreTold(t *testing.T) {
	t.Parallel()
	told := make(chan api.CloudEvent, 10)
	receiver := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var n api.CloudEvent
		if json.NewDecoder(r.Body).Decode(&n) == nil {
			told <- n
		}
	}))
	defer receiver.Close()
	s := telling(t, "")
	m := s.mule(client.HTTPClient(newHTTP()))
	tell := func(on job.State) job.Notify {
		return job.Notify{On: []job.State{on}, Call: &job.Call{URL: receiver.URL}}
	}
	voyage := client.NewBatch("voyage 12").Tell(tell(job.Done))
	voyage.Add(job.Spec{Task: "manifest.check"})
	b, err := m.Start(t.Context(), voyage)
	require.NoError(t, err)
	_, err = m.Source().Settle(t.Context(), []api.Settlement{{Token: leaseOf(t, m, "common").Token, Outcome: job.OutcomeDone}})
	require.NoError(t, err)
	n := <-told
	assert.Equal(t, []string{"humblemule.batch.done", fmt.Sprintf("batches/%d", b.ID)}, []string{n.Type, n.Subject})

	specs := make([]job.Spec, 12)
	for i := range specs {
		specs[i] = job.Spec{Task: "log.pack", Notify: []job.Notify{tell(job.Cancelled)}}
	}
	_, err = m.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)
	p := open(t, s.url+"/jobs?task=log.pack")
	p.press(`//button[contains(.,"Act on")]`)
	p.press(`//*[@role="menuitem"][contains(.,"Cancel")]`)
	p.says("12 jobs are cancelled and will not run")
	p.says("1 message tells of it.")
	p.submit()
	n = <-told
	assert.Equal(t, "humblemule.jobs.cancelled", n.Type)
	var many api.JobsEnded
	require.NoError(t, json.Unmarshal(n.Data, &many))
	assert.Equal(t, int64(12), many.Count)
	assert.Len(t, many.Jobs, 12)
	p.quiet()
}
