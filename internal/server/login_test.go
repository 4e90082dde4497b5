package server

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// visitor is a browser: it keeps the cookie that it was given.
type visitor struct {
	t      *testing.T
	s      *Server
	cookie *http.Cookie
	csrf   string
}

func (v *visitor) ask(method, path, body string, headers ...string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, path, strings.NewReader(body))
	r.Host = "mule.example"
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	if v.cookie != nil {
		r.AddCookie(v.cookie)
	}
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		r.Header.Set(name, value)
	}
	w := httptest.NewRecorder()
	v.s.Handler().ServeHTTP(w, r)
	for _, c := range w.Result().Cookies() {
		if v.cookie = c; c.MaxAge < 0 {
			v.cookie = nil
		}
	}
	return w
}

func (v *visitor) enters(token string) *httptest.ResponseRecorder {
	w := v.ask("POST", "/v1/session", fmt.Sprintf(`{"token":%q}`, token))
	var told api.SessionStatus
	if w.Code == http.StatusCreated {
		require.NoError(v.t, json.Unmarshal(w.Body.Bytes(), &told))
		v.csrf = told.CSRF
	}
	return w
}

// streaming opens a stream of events, and answers what is closed when it has ended.
func streaming(t *testing.T, s *Server, as func(*http.Request)) <-chan struct{} {
	srv := httptest.NewServer(s.Handler())
	t.Cleanup(srv.Close)
	r, err := http.NewRequestWithContext(t.Context(), "GET", srv.URL+"/v1/events", nil)
	require.NoError(t, err)
	as(r)
	resp, err := srv.Client().Do(r)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, resp.StatusCode)
	over := make(chan struct{})
	go func() {
		defer close(over)
		defer resp.Body.Close()
		_, _ = io.Copy(io.Discard, resp.Body)
	}()
	return over
}

// A session stands for its token: its cookie is out of reach of scripts and of other sites, what
// changes something needs the word beside it, and it ends with the token, when it is ended, or by
// itself.
func TestSession(t *testing.T) {
	s := withTokens(t)
	ada, rita := &visitor{t: t, s: s}, &visitor{t: t, s: s}
	w := ada.enters("secret-operator")
	require.Equal(t, http.StatusCreated, w.Code, w.Body)
	assert.Regexp(t, `^hmule_session_[0-9a-f]{8}=[A-Z2-7]{26}; Path=/; Max-Age=604800; HttpOnly; SameSite=Strict$`, w.Header().Get("Set-Cookie"))
	assert.NotContains(t, w.Body.String(), ada.cookie.Value)
	require.Equal(t, http.StatusCreated, rita.enters("secret-reader").Code)
	assert.Contains(t, ada.ask("GET", "/v1/session", "").Body.String(), `"principal":"operator","role":"operator"`)

	assert.Equal(t, http.StatusOK, ada.ask("GET", "/v1/jobs", "").Code)
	w = ada.ask("POST", "/v1/jobs", `{"task":"tide.predict"}`)
	assert.Equal(t, http.StatusForbidden, w.Code)
	assert.Contains(t, w.Body.String(), "lacks the X-CSRF-Token")
	assert.Equal(t, http.StatusForbidden, ada.ask("POST", "/v1/jobs", `{"task":"tide.predict"}`, "X-CSRF-Token: "+rita.csrf).Code, "another's word")
	assert.Equal(t, http.StatusForbidden, ada.ask("POST", "/v1/jobs", `{"task":"tide.predict"}`, "X-CSRF-Token: "+ada.csrf, "Origin: https://evil.example").Code, "from another origin")
	assert.Equal(t, http.StatusForbidden, ada.ask("GET", "/v1/jobs", "", "Sec-Fetch-Site: cross-site").Code)
	assert.Equal(t, http.StatusCreated, ada.ask("POST", "/v1/jobs", `{"task":"tide.predict"}`, "X-CSRF-Token: "+ada.csrf, "Origin: http://mule.example").Code)
	assert.Equal(t, http.StatusForbidden, rita.ask("POST", "/v1/queues/common/pause", "{}", "X-CSRF-Token: "+rita.csrf).Code, "a reader stays one")
	assert.Contains(t, ada.ask("POST", "/v1/queues/common/pause", "{}", "X-CSRF-Token: "+ada.csrf).Body.String(), `"paused_by":"operator"`)
	for _, secret := range []string{"", "A", strings.Repeat("A", 26), ada.cookie.Value + "A", HashToken(ada.cookie.Value)} {
		forged := &visitor{t: t, s: s, cookie: &http.Cookie{Name: ada.cookie.Name, Value: secret}}
		assert.Equal(t, http.StatusUnauthorized, forged.ask("GET", "/v1/jobs", "").Code, secret)
	}
	w = ada.ask("GET", "/v1/jobs", "", "Authorization: Bearer wrong")
	assert.Equal(t, http.StatusUnauthorized, w.Code, "a wrong token is not made good by a cookie")

	sessions := func(v *visitor) (all []api.Session) {
		var told struct{ Sessions []api.Session }
		require.NoError(t, json.Unmarshal(v.ask("GET", "/v1/sessions", "").Body.Bytes(), &told))
		return told.Sessions
	}
	assert.Len(t, sessions(rita), 1, "one's own")
	all := sessions(ada)
	require.Len(t, all, 2)
	assert.Equal(t, "192.0.2.1", all[0].Address)
	assert.True(t, all[1].This)
	stream := streaming(t, s, func(r *http.Request) { r.AddCookie(rita.cookie) })
	assert.Equal(t, http.StatusNoContent, rita.ask("DELETE", fmt.Sprint("/v1/sessions/", all[1].ID), "", "X-CSRF-Token: "+rita.csrf).Code)
	assert.Len(t, sessions(ada), 2, "nobody else's")
	select {
	case <-stream:
		assert.Fail(t, "a stream ended before its session")
	default:
	}
	assert.Equal(t, http.StatusNoContent, ada.ask("DELETE", fmt.Sprint("/v1/sessions/", all[0].ID), "", "X-CSRF-Token: "+ada.csrf).Code)
	<-stream // it ends with its session
	assert.Contains(t, rita.ask("GET", "/v1/jobs", "").Body.String(), "your session has ended")
	assert.Contains(t, ada.ask("GET", "/v1/actions", "").Body.String(), "operator ended a session of reader.")

	assert.Equal(t, http.StatusNoContent, ada.ask("DELETE", "/v1/session", "", "X-CSRF-Token: "+ada.csrf).Code)
	assert.Nil(t, ada.cookie)
	assert.Equal(t, http.StatusUnauthorized, ada.ask("GET", "/v1/jobs", "").Code)

	require.Equal(t, http.StatusCreated, ada.enters("secret-operator").Code)
	s.SetTokens([]Token{{Name: "reader", Role: Reader, Hash: HashToken("secret-reader")}})
	assert.Contains(t, ada.ask("GET", "/v1/jobs", "").Body.String(), "the token of your session is not valid any more")
}

// Behind TLS the cookie is for TLS alone, and under a base path for that.
func TestCookieOfSession(t *testing.T) {
	s, _ := setUpWith(t, Options{BasePath: "/jobs", Forwarders: Forwarders{Networks: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}}, Log: silent})
	s.SetTokens([]Token{{Name: "ada", Role: Operator, Hash: HashToken("a")}})
	v := &visitor{t: t, s: s}
	w := v.ask("POST", "/jobs/v1/session", `{"token":"a"}`, "X-Forwarded-Proto: https")
	require.Equal(t, http.StatusCreated, w.Code, w.Body)
	assert.Contains(t, w.Header().Get("Set-Cookie"), "; Path=/jobs/;")
	assert.Contains(t, w.Header().Get("Set-Cookie"), "; Secure;")
	open, _ := setUp(t)
	w = (&visitor{t: t, s: open}).ask("POST", "/v1/session", `{"token":"a"}`, "Host: 127.0.0.1")
	assert.NotEqual(t, http.StatusCreated, w.Code, "without tokens there is nothing to sign in to")
}

// Whoever shows wrong tokens waits longer and longer; others do not.
func TestWrongTokensSlowDown(t *testing.T) {
	var tr tries
	synctest.Test(t, func(t *testing.T) {
		waited := time.Duration(0)
		for range 30 {
			tr.failed("203.0.113.7")
			waited += max(tr.wait("203.0.113.7"), 0)
			time.Sleep(max(tr.wait("203.0.113.7"), 0))
		}
		assert.Greater(t, waited, time.Hour, "thirty guesses")
		assert.LessOrEqual(t, tr.wait("203.0.113.8"), time.Duration(0))
		time.Sleep(2 * forgetTries)
		tr.failed("203.0.113.7")
		assert.LessOrEqual(t, tr.wait("203.0.113.7"), time.Duration(0), "it is forgotten")
		for i := range mostTriers + 10 {
			tr.failed(fmt.Sprint(i))
		}
		assert.LessOrEqual(t, len(tr.all), mostTriers)
	})
	s := withTokens(t)
	v := &visitor{t: t, s: s}
	for range freeTries {
		assert.Equal(t, http.StatusUnauthorized, v.enters("guess").Code)
	}
	w := v.enters("secret-operator")
	assert.Equal(t, http.StatusTooManyRequests, w.Code, "the right one has to wait too")
	assert.Equal(t, "1", w.Header().Get("Retry-After"))
	assert.Equal(t, http.StatusOK, call(s, "secret-operator", "GET", "/v1/jobs", "").Code, "programs are not held up by it")
}

// A token that has expired is refused, says so, and ends what it has under way; a worker may still
// settle what it holds.
func TestTokenExpires(t *testing.T) {
	s, _ := setUp(t)
	past, soon := job.At(time.Now().Add(-time.Minute)), job.At(time.Now().Add(2*time.Second))
	s.SetTokens([]Token{{Name: "old", Role: Operator, Hash: HashToken("old"), Expires: past}, {Name: "ada", Role: Keeper, Hash: HashToken("ada"), Expires: soon}, {Name: "quay", Role: Worker, Hash: HashToken("quay"), Expires: past}})
	assert.Contains(t, call(s, "old", "GET", "/v1/jobs", "").Body.String(), "this token has expired at")
	stream := streaming(t, s, func(r *http.Request) { r.Header.Set("Authorization", "Bearer ada") })
	var told struct{ Tokens []api.TokenStatus }
	require.NoError(t, json.Unmarshal(call(s, "ada", "GET", "/v1/tokens", "").Body.Bytes(), &told))
	require.Len(t, told.Tokens, 3)
	assert.NotZero(t, told.Tokens[0].UsedAt, "ada")
	assert.Zero(t, told.Tokens[1].UsedAt, "old")
	assert.Equal(t, past, told.Tokens[1].Expires)
	v := &visitor{t: t, s: s}
	v.enters("ada")
	<-stream // it ends when the token expires
	assert.Contains(t, v.ask("GET", "/v1/jobs", "").Body.String(), "the token of your session is not valid any more")
	assert.NotEqual(t, http.StatusUnauthorized, call(s, "quay", "POST", "/v1/leases/settle", `{"items":[{"token":"AAAA","outcome":"done"}]}`).Code)
	assert.Equal(t, http.StatusUnauthorized, call(s, "quay", "POST", "/v1/leases", `{"worker":"w","queues":["common"],"limit":1}`).Code)
}
