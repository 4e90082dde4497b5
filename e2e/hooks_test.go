package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/proof"
	"humblemule.example/job"
)

const pilotsKey = "whsec_c2FsdG1hcnNo"

const hooksFile = `
hooks:
  arrivals:
    task: manifest.check
    owner: {pointer: /agent}
    keep_headers: [x-event]
    proof: {kind: standard, secrets: [pilots]}
  dues:
    task: dues.charge
    id_from: {pointer: /order/id}
    proof: {kind: hmac, secrets: [bank], header: x-seal, part: v1, timestamp_header: x-seal, timestamp_part: t, signs: "{timestamp}.{body}"}
  lost:
    task: log.pack
    proof: {kind: bearer, secrets: [lost]}
  open:
    task: log.pack
    proof: {kind: none}
secrets:
  pilots: {env: PILOTS_KEY, hooks: [arrivals]}
  bank: {file: bank.key, hooks: [dues]}
  lost: {file: lost.key, hooks: [lost]}
calls: {allow: [127.0.0.1]}
`

// withHooks starts a service with hooks.
func withHooks(t *testing.T, flags ...string) *service {
	file := filepath.Join(t.TempDir(), "hmule.yaml")
	require.NoError(t, os.WriteFile(file, []byte(hooksFile), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(file), "bank.key"), []byte("north quay\n"), 0o600))
	s := &service{t: t, data: filepath.Join(t.TempDir(), "e2e.db"), listen: freeAddress(t), flags: append([]string{"--config", file}, flags...), env: []string{"PILOTS_KEY=" + pilotsKey}}
	s.start()
	t.Cleanup(s.kill)
	return s
}

// deliver sends a webhook, changed by whoever wants to.
func (s *service) deliver(hook string, p api.Proof, key, id, body string, at time.Time, change ...func(*http.Request)) (told api.Received, status int, text string) {
	s.t.Helper()
	r, err := http.NewRequest(http.MethodPost, s.url+"/hooks/"+hook, strings.NewReader(body))
	require.NoError(s.t, err)
	r.Header.Set("Content-Type", "application/json")
	proof.Sign(api.Hook{Proof: p}.WithDefaults().Proof, []byte(key), r.Header, id, []byte(body), at)
	for _, c := range change {
		c(r)
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(s.t, err)
	defer answer.Body.Close()
	raw, err := io.ReadAll(answer.Body)
	require.NoError(s.t, err)
	if answer.StatusCode == http.StatusAccepted {
		require.NoError(s.t, json.Unmarshal(raw, &told))
	}
	return told, answer.StatusCode, string(raw)
}

var (
	standard = api.Proof{Kind: api.ProofStandard}
	sealed   = api.Proof{Kind: api.ProofHMAC, Header: "X-Seal", Part: "v1", TimestampHeader: "X-Seal", TimestampPart: "t", Signs: "{timestamp}.{body}"}
)

// A burst of webhooks over two kill -9 of the service: senders send each until it is taken, some at once
// by two ways. Every one that was taken has its job, every id once.
func TestWebhookBurst(t *testing.T) {
	s := withHooks(t)
	url := s.url + "/hooks/arrivals"
	const burst = 10_000
	var next, taken atomic.Int64
	var mu sync.Mutex
	jobs := map[string]int64{}
	third := []chan struct{}{make(chan struct{}), make(chan struct{})}
	send := func(hc *http.Client, n int64) {
		id := fmt.Sprintf("arr-%05d", n)
		body := fmt.Appendf(nil, `{"agent":"Heron & Sons","n":%d}`, n)
		for {
			r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, url, bytes.NewReader(body))
			if !assert.NoError(t, err) {
				return
			}
			proof.Sign(standard, []byte(pilotsKey), r.Header, id, body, time.Now())
			answer, err := hc.Do(r)
			if err != nil {
				if t.Context().Err() != nil {
					return
				}
				continue // no answer: it may be there or not
			}
			raw, err := io.ReadAll(answer.Body)
			answer.Body.Close()
			if err != nil || answer.StatusCode == http.StatusServiceUnavailable {
				continue
			}
			var told api.Received
			if !assert.Equal(t, http.StatusAccepted, answer.StatusCode, "%s", raw) || !assert.NoError(t, json.Unmarshal(raw, &told)) {
				return
			}
			mu.Lock()
			if was := jobs[id]; was != 0 {
				assert.Equal(t, was, told.Job, id)
			}
			jobs[id] = told.Job
			mu.Unlock()
			assert.False(t, told.Differs)
			return
		}
	}
	var work sync.WaitGroup
	for range 16 {
		work.Go(func() {
			hc := newHTTP()
			defer hc.CloseIdleConnections()
			for n := next.Add(1); n <= burst; n = next.Add(1) {
				if n%5 == 0 {
					work.Go(func() { send(http.DefaultClient, n) })
				}
				send(hc, n)
				if done := taken.Add(1); done == burst/3 || done == 2*burst/3 {
					close(third[done/(burst/3)-1])
				}
			}
		})
	}
	for _, reached := range third {
		<-reached
		s.kill()
		s.start()
	}
	work.Wait()
	require.Len(t, jobs, burst)
	m := s.mule()
	byKey := map[string]int64{}
	for j, err := range m.Jobs(t.Context(), api.Filter{Limit: api.MaxPage}) {
		require.NoError(t, err)
		require.Zero(t, byKey[j.Key], j.Key)
		byKey[j.Key] = j.ID
	}
	assert.Equal(t, jobs, byKey)
	h, err := m.Hook(t.Context(), "arrivals")
	require.NoError(t, err)
	assert.Equal(t, int64(burst), h.Counts.Taken)
	assert.Zero(t, h.Counts.Differing)
}

// What a stranger sends is refused without a word of why, and its reason is seen by those of the house.
func TestWebhookRefusals(t *testing.T) {
	t.Parallel()
	s := withHooks(t)
	m := s.mule()
	now := time.Now()
	body := `{"agent":"Heron & Sons","order":{"id":7}}`
	refused := func(want int, status int, text string) {
		t.Helper()
		assert.Equal(t, want, status, text)
		for _, told := range []string{"signature", "timestamp", "secret", "hmac", "pilots"} {
			assert.NotContains(t, strings.ToLower(text), told)
		}
	}
	for _, c := range []struct {
		want   int
		key    string
		at     time.Time
		change func(*http.Request)
	}{
		{http.StatusUnauthorized, "whsec_bm9ib2R5", now, nil},
		{http.StatusUnauthorized, pilotsKey, now.Add(-time.Hour), nil},
		{http.StatusUnauthorized, pilotsKey, now, func(r *http.Request) { r.Body = io.NopCloser(strings.NewReader(strings.Replace(body, "7", "8", 1))) }},
		{http.StatusUnauthorized, pilotsKey, now, func(r *http.Request) { r.Header.Del("webhook-signature") }},
		{http.StatusUnauthorized, pilotsKey, now, func(r *http.Request) { r.Header.Set("webhook-id", "arr-2") }},
		{http.StatusUnsupportedMediaType, pilotsKey, now, func(r *http.Request) { r.Header.Set("Content-Encoding", "gzip") }},
	} {
		if c.change == nil {
			c.change = func(*http.Request) {}
		}
		_, status, text := s.deliver("arrivals", standard, c.key, "arr-1", body, c.at, c.change)
		refused(c.want, status, text)
	}
	_, status, text := s.deliver("arrivals", standard, pilotsKey, "arr-1", strings.Repeat("x", 20<<20), now)
	refused(http.StatusRequestEntityTooLarge, status, text)
	_, status, text = s.deliver("arrivals", standard, pilotsKey, "arr-1", strings.Repeat("x", 200<<10), now, func(r *http.Request) { r.ContentLength = -1 })
	refused(http.StatusRequestEntityTooLarge, status, text)
	_, status, _ = s.deliver("departures", standard, pilotsKey, "arr-1", body, now)
	assert.Equal(t, http.StatusNotFound, status)
	_, status, text = s.deliver("lost", api.Proof{Kind: api.ProofBearer}, "anything", "", body, now)
	assert.Equal(t, http.StatusServiceUnavailable, status, "a sender is to try again while the service lacks a secret: %s", text)
	assert.Equal(t, http.StatusMethodNotAllowed, s.ask("PUT", "/hooks/arrivals", body).status)

	h, err := m.Hook(t.Context(), "arrivals")
	require.NoError(t, err)
	assert.Equal(t, map[string]int64{api.RefusedSignature: 3, api.RefusedTimestamp: 1, api.RefusedUnproved: 1, api.RefusedTooLarge: 2, api.RefusedEncoding: 1}, h.Counts.Refused)
	assert.Equal(t, "127.0.0.1", h.Counts.Refusals[0].From)
	lost, err := m.Hook(t.Context(), "lost")
	require.NoError(t, err)
	assert.Contains(t, strings.Join(lost.Faults, " "), "secret lost cannot be read")
	findings, err := m.Check(t.Context())
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(findings), "Hook lost refuses every delivery: secret lost cannot be read")
	assert.Contains(t, fmt.Sprint(findings), "Hook open: There is no id_from")

	told, status, text := s.deliver("arrivals", standard, pilotsKey, "arr-1", body, now, func(r *http.Request) {
		r.Host = "harbour.example" // a sender knows the service by whatever name leads to it
		r.Header.Set("X-Event", "arrival")
	})
	require.Equal(t, http.StatusAccepted, status, text)
	j, err := m.Job(t.Context(), told.Job)
	require.NoError(t, err)
	assert.Equal(t, []string{`{"headers":{"x-event":"arrival"},"body":` + body + `}`, "Heron & Sons", "arr-1"}, []string{string(j.Payload), j.Owner, j.Key})
	again, _, _ := s.deliver("arrivals", standard, pilotsKey, "arr-1", `{"agent":"Tern"}`, now)
	assert.Equal(t, api.Received{Job: told.Job, Repeated: true, Differs: true}, again)

	// Nothing has to be proved to the hook that is open, from this machine alone.
	for _, c := range []struct {
		want   int
		change func(*http.Request)
	}{
		{http.StatusAccepted, func(*http.Request) {}},
		{http.StatusUnauthorized, func(r *http.Request) { r.Header.Set("X-Forwarded-For", "192.0.2.7") }},
		{http.StatusUnauthorized, func(r *http.Request) { r.Host = "harbour.example" }},
		{http.StatusForbidden, func(r *http.Request) { r.Header.Set("Origin", "https://evil.example") }},
	} {
		_, status, text := s.deliver("open", api.Proof{Kind: api.ProofNone}, "", "", "1", now, c.change)
		assert.Equal(t, c.want, status, text)
	}

	// A secret is replaced while the service runs, and both are good meanwhile.
	config := s.flags[1]
	next := strings.NewReplacer("secrets: [bank]", "secrets: [bank-2027, bank]", "  lost: {file: lost.key", "  bank-2027: {file: bank2.key, hooks: [dues]}\n  lost: {file: bank.key").Replace(hooksFile)
	require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(config), "bank2.key"), []byte("south quay"), 0o600))
	require.NoError(t, os.WriteFile(config, []byte(next), 0o600))
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool {
		h, err := m.Hook(t.Context(), "dues")
		return err == nil && len(h.Proof.Secrets) == 2
	}, 10*time.Second, 10*time.Millisecond)
	for i, key := range []string{"north quay", "south quay"} {
		_, status, text := s.deliver("dues", sealed, key, "", fmt.Sprintf(`{"order":{"id":%d}}`, i), now)
		assert.Equal(t, http.StatusAccepted, status, text)
	}
	_, status, _ = s.deliver("lost", api.Proof{Kind: api.ProofBearer}, "north quay", "", "1", now)
	assert.Equal(t, http.StatusAccepted, status, "the secret is there now")
}

// Where every request needs a token, a hook still asks for what it asks for, and a stranger for nothing
// else; a hook for which nobody has to prove anything is refused to other machines.
func TestWebhooksBesideTokens(t *testing.T) {
	t.Parallel()
	tokens := filepath.Join(t.TempDir(), "tokens.yaml")
	token, _, status := run(t, "", "token", "new", "ada", "--role", "operator", "--tokens", tokens, "-q")
	require.Zero(t, status)
	s := withHooks(t, "--tokens", tokens, "--forwarders", "127.0.0.1", "--open-hooks", "no")
	m := s.mule(client.Token(strings.TrimSpace(token)))
	_, status, text := s.deliver("arrivals", standard, pilotsKey, "arr-1", `{}`, time.Now())
	require.Equal(t, http.StatusAccepted, status, text)
	_, status, _ = s.deliver("open", api.Proof{Kind: api.ProofNone}, "", "", "1", time.Now(), func(r *http.Request) { r.Header.Set("X-Forwarded-For", "192.0.2.7") })
	assert.Equal(t, http.StatusUnauthorized, status)
	h, err := m.Hook(t.Context(), "open")
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.7", h.Counts.Refusals[0].From)
	told, err := m.TestHook(t.Context(), "dues", []byte(`{"order":{"id":1}}`), "", nil)
	require.NoError(t, err)
	j, err := m.Job(t.Context(), told.Job)
	require.NoError(t, err)
	assert.Equal(t, job.Ready, j.State)

	// A hook that is made by hand is left alone by a file; one that names another's secret is refused.
	_, err = m.PutHook(t.Context(), "tides", api.Hook{Task: "tide.predict", Proof: api.Proof{Kind: api.ProofStandard, Secrets: []string{"bank"}}})
	assert.ErrorContains(t, err, "secret bank is not for hook tides")
	_, err = m.PutHook(t.Context(), "tides", api.Hook{Task: "tide.predict", Proof: api.Proof{Kind: api.ProofNone}})
	require.NoError(t, err)
	diff, err := m.PutSetup(t.Context(), api.SetupRequest{Setup: api.Setup{Hooks: map[string]api.Hook{"open": {Task: "tide.predict", Proof: api.Proof{Kind: api.ProofNone}}, "new": {Task: "log.pack", Proof: api.Proof{Kind: api.ProofNone}}}}})
	require.NoError(t, err)
	changes := map[string]string{}
	for _, c := range diff.Changes {
		changes[c.Kind+" "+c.Name] = c.Change
	}
	assert.Equal(t, map[string]string{"hook new": "add", "hook open": "change", "hook arrivals": "remove", "hook dues": "remove", "hook lost": "remove"}, changes)
	all, err := m.Hooks(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "[new open tides]", fmt.Sprint(func() (names []string) {
		for _, h := range all {
			names = append(names, h.Name)
		}
		return names
	}()))
}

// A person reads on one page which hook refuses and why, sends a delivery again, and pauses an endpoint.
func TestPageOfHooks(t *testing.T) {
	t.Parallel()
	s := withHooks(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	_, err := m.PutEndpoint(t.Context(), "customs", api.Endpoint{URL: "http://127.0.0.1:9/ends", Events: []api.EventRule{{On: []job.State{job.Dead}, Tasks: []string{"dues.charge"}}}})
	require.NoError(t, err)
	told, status, text := s.deliver("arrivals", standard, pilotsKey, "arr-1", `{"manifest":"tern-0033","agent":"Okonkwo Lines"}`, time.Now())
	require.Equal(t, http.StatusAccepted, status, text)
	_, status, _ = s.deliver("arrivals", standard, "whsec_d3Jvbmc=", "arr-2", `{}`, time.Now())
	require.Equal(t, http.StatusUnauthorized, status)

	p := open(t, s.url+"/outside")
	p.says("lost refuses every delivery.")
	p.says("1 delivery has become jobs at 4 hooks.")
	p.accessible("in and out")
	p.press(`//tr[@data-name="lost"]//a`)
	p.says("It refuses every delivery:")
	p.press(`//tr[@data-name="arrivals"]//a`)
	p.says("What is posted to /hooks/arrivals becomes a job of manifest.check")
	p.says("from /agent of the body")
	p.says("the signature or the secret is wrong")
	p.press(`//li[@data-delivery]//button[.="Send again"]`)
	p.accessible("a delivery is sent again")
	p.submit()
	p.says(fmt.Sprintf("Enqueued: job %d.", told.Job+1))
	again, err := m.Job(t.Context(), told.Job+1)
	require.NoError(t, err)
	assert.Equal(t, "Okonkwo Lines", again.Owner)
	p.press(`//tr[@data-name="customs"]//a[.="customs"]`)
	p.says("dead of task dues.charge")
	p.press(`//aside//button[.="Pause"]`)
	p.submit()
	p.says("Paused: customs.")
	p.press(`//aside//button[.="Resume"]`)
	p.submit()
	p.waitFor(`!document.body.innerText.includes("Paused: customs.")`)
	p.quiet()
}
