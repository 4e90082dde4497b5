package client

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// scripted is a service that answers calls as a script says, and remembers them.
type scripted struct {
	*httptest.Server
	mu      sync.Mutex
	answers []func(w http.ResponseWriter, r *http.Request)
	keys    []string
	bodies  []string
}

func script(t *testing.T, answers ...func(http.ResponseWriter, *http.Request)) *scripted {
	s := &scripted{answers: answers}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		s.mu.Lock()
		next := s.answers[min(len(s.keys), len(s.answers)-1)]
		s.keys = append(s.keys, r.Header.Get("Idempotency-Key"))
		s.bodies = append(s.bodies, string(body))
		s.mu.Unlock()
		next(w, r)
	}))
	t.Cleanup(s.Close)
	return s
}

func (s *scripted) client(t *testing.T, retryFor time.Duration) *Client {
	m, err := New(s.URL, RetryFor(retryFor))
	require.NoError(t, err)
	t.Cleanup(m.Close)
	return m
}

func lost(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }

func problemOf(status int, body string) func(http.ResponseWriter, *http.Request) {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(status)
		io.WriteString(w, body)
	}
}

const busy = `{"type":"urn:humblemule:problem:busy","title":"Not now","status":503,"detail":"try again"}`

func enqueued(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, `{"id":7,"state":"ready"}`) }

// A call whose answer is lost, or that comes at a busy time, is made again under
// the same key; every new call has a key of its own.
func TestRetry(t *testing.T) {
	s := script(t, lost, problemOf(503, busy), lost, enqueued)
	m := s.client(t, 10*time.Second)
	j, err := m.Enqueue(t.Context(), job.Spec{Task: "tide.predict", Payload: job.JSON("a<b")})
	require.NoError(t, err)
	assert.Equal(t, int64(7), j.ID)
	require.Len(t, s.keys, 4)
	for i := range s.keys {
		assert.Equal(t, s.keys[0], s.keys[i])
		assert.Equal(t, s.bodies[0], s.bodies[i])
	}
	assert.Contains(t, s.bodies[0], `"a<b"`, "nothing is escaped that needs no escape")
	_, err = m.Enqueue(t.Context(), job.Spec{Task: "tide.predict"})
	require.NoError(t, err)
	assert.NotEqual(t, s.keys[0], s.keys[4])
}

// What the service refuses is not tried again, and says what it says.
func TestRefusal(t *testing.T) {
	s := script(t, problemOf(422, `{"type":"urn:humblemule:problem:invalid","title":"x","status":422,"detail":"the job was not enqueued","errors":[{"field":"priority","message":"10 is outside 0 to 9"}]}`))
	_, err := s.client(t, 10*time.Second).Enqueue(t.Context(), job.Spec{Task: "a"})
	var p *job.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, job.Invalid, p.Kind)
	assert.EqualError(t, err, "the job was not enqueued: priority 10 is outside 0 to 9")
	assert.Len(t, s.keys, 1)
}

func TestNoService(t *testing.T) {
	s := script(t, lost)
	address := s.URL
	s.Close()
	m, err := New(address, RetryFor(150*time.Millisecond))
	require.NoError(t, err)
	began := time.Now()
	_, err = m.About(t.Context())
	var gone *Unreachable
	require.ErrorAs(t, err, &gone)
	assert.Contains(t, err.Error(), "hmule serve")
	assert.Less(t, time.Since(began), 5*time.Second)

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = m.About(ctx)
	assert.ErrorIs(t, err, context.Canceled)
	for _, wrong := range []string{"", "ftp://harbour", "http://", "::"} {
		_, err := New(wrong)
		assert.ErrorContains(t, err, DefaultServer, wrong)
	}
}

// Something else that answers at the address is not taken for a service.
func TestOtherServer(t *testing.T) {
	s := script(t, func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "<html>welcome</html>") }, problemOf(502, "<html>bad gateway</html>"))
	m := s.client(t, 0)
	_, err := m.About(t.Context())
	assert.ErrorContains(t, err, "is it a Humble Mule service?")
	_, err = m.About(t.Context())
	assert.ErrorContains(t, err, "502")
}

func TestQuery(t *testing.T) {
	q := Query(api.Filter{
		States: []job.State{job.Dead, job.Backoff}, Queues: []string{"berths"}, Labels: map[string]string{"berth": "a&b:c"}, IDs: []int64{3, 4},
		Since: 1_795_000_000_000, Order: api.OldestFirst, Limit: 5,
	})
	assert.Equal(t, "ids=3%2C4&label=berth%3Aa%26b%3Ac&limit=5&order=oldest&queue=berths&since=2026-11-18T11%3A06%3A40.000Z&state=dead%2Cbackoff", q.Encode())
}

func TestEvents(t *testing.T) {
	s := script(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		io.WriteString(w, ": alive\n\nevent: reset\ndata: {\"store\":\"x\"}\n\nevent: jobs\nid: a-7\ndata: {\"jobs\":[],\"many\":true}\n\n")
	})
	var got []Event
	require.NoError(t, s.client(t, 0).Events(t.Context(), "", func(e Event) error { got = append(got, e); return nil }))
	assert.Equal(t, []Event{{"", "reset", json.RawMessage(`{"store":"x"}`)}, {"a-7", "jobs", json.RawMessage(`{"jobs":[],"many":true}`)}}, got)
}
