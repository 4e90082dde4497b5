package server

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/job"
)

// Whoever shows a token once may show a cookie from then on. The cookie is the browser's alone: no
// script reads it, no other site's page has it sent, and what changes something needs, beside it, a
// word that only a page of the service can have read.

// cookieName is that of this store alone, since a browser sends cookies to all ports of a host.
func (s *Server) cookieName() string { return "hmule_session_" + s.engine.StoreID()[:8] }

// csrfHeader carries the word that goes with a session's cookie, and csrfOf reckons it.
const csrfHeader = "X-CSRF-Token"

func csrfOf(secret string) string {
	sum := sha256.Sum256([]byte("csrf " + secret))
	return hex.EncodeToString(sum[:])
}

// secretOf is what the cookie of a session holds; empty where there is none.
func (s *Server) secretOf(r *http.Request) string {
	c, err := r.Cookie(s.cookieName())
	if err != nil {
		return ""
	}
	return c.Value
}

// safe tells whether a request changes nothing (RFC 9110, section 9.2.1).
func safe(method string) bool { return method == http.MethodGet || method == http.MethodHead }

// callerBySession tells who makes a request by the cookie of a session.
func (s *Server) callerBySession(known *access, r *http.Request, secret string) (c caller, err error) {
	session := s.engine.SessionOf(r.Context(), secret)
	if session == nil {
		return c, job.Fault(job.Unauthenticated, "your session has ended; show your token again")
	}
	t, good := known.good[session.Token]
	if !good || t.expired(time.Now()) {
		return c, job.Fault(job.Unauthenticated, "the token of your session is not valid any more; show another")
	}
	known.used[session.Token].Store(time.Now().UnixMilli())
	if !safe(r.Method) && subtle.ConstantTimeCompare([]byte(r.Header.Get(csrfHeader)), []byte(csrfOf(secret))) != 1 {
		return c, job.Fault(job.Forbidden, "the request changes something by the cookie of a session, and lacks the %s that GET /v1/session tells; nothing was changed", csrfHeader)
	}
	return caller{Token: t, revoked: known.ended[session.Token], session: session}, nil
}

// sessionTold tells of the caller, for a page that has to know what to offer.
func (s *Server) sessionTold(c *gin.Context) api.SessionStatus {
	who := callerOf(c)
	told := api.SessionStatus{Principal: who.Name, Role: string(who.Role), Tokens: s.tokens.Load() != nil}
	if session, _ := c.Get(sessionKey); session != nil {
		is := session.(*engine.Session)
		told.Session, told.EndsAt, told.CSRF = is.ID, is.EndsAt, csrfOf(s.secretOf(c.Request))
	}
	return told
}

func (s *Server) getSession(c *gin.Context) (any, error) { return s.sessionTold(c), nil }

// beginSession gives whoever shows a token the cookie of a session.
func (s *Server) beginSession(c *gin.Context) {
	told, err := s.enter(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	s.answer(c, http.StatusCreated, told)
}

func (s *Server) enter(c *gin.Context) (told api.SessionStatus, err error) {
	known := s.tokens.Load()
	if known == nil {
		return told, job.Fault(job.WrongState, "this service asks for no token: everybody on its machine may do everything")
	}
	var b struct {
		Token string `json:"token"`
	}
	if _, err := read(c, &b, false, strict); err != nil {
		return told, err
	}
	from := s.opts.Forwarders.originOf(c.Request)
	if wait := s.tries.wait(from.from); wait > 0 {
		c.Header("Retry-After", strconv.Itoa(int(wait.Seconds())+1))
		return told, &statusProblem{http.StatusTooManyRequests, fmt.Sprintf("too many wrong tokens came from %s; try again in %d s", from.from, int(wait.Seconds())+1)}
	}
	t, good := known.good[HashToken(b.Token)]
	if !good || t.expired(time.Now()) {
		s.tries.failed(from.from)
		s.log.Warn("somebody has shown a wrong token to the console", "from", from.from)
		return told, job.Fault(job.Unauthenticated, "this token is not valid; get a new one with: hmule token new")
	}
	s.tries.succeeded(from.from)
	known.used[t.Hash].Store(time.Now().UnixMilli())
	ctx := engine.WithCall(c.Request.Context(), engine.Call{Principal: t.Name})
	secret, err := s.engine.BeginSession(ctx, t.Hash, t.Name, from.from, c.GetHeader("User-Agent"))
	if err != nil {
		return told, err
	}
	session := s.engine.SessionOf(ctx, secret)
	if session == nil {
		return told, job.Fault(job.Busy, "the session could not be begun; try again")
	}
	s.setCookie(c, secret, from.secure)
	return api.SessionStatus{Principal: t.Name, Role: string(t.Role), Tokens: true, Session: session.ID, EndsAt: session.EndsAt, CSRF: csrfOf(secret)}, nil
}

// setCookie gives the caller the cookie of a session, or takes it away where the secret is empty.
func (s *Server) setCookie(c *gin.Context, secret string, secure bool) {
	cookie := &http.Cookie{Name: s.cookieName(), Value: secret, Path: s.opts.BasePath + "/", HttpOnly: true, Secure: secure, SameSite: http.SameSiteStrictMode, MaxAge: int(engine.LongestSession.Seconds())}
	if secret == "" {
		cookie.MaxAge = -1
	}
	http.SetCookie(c.Writer, cookie)
}

// endSession signs the caller out.
func (s *Server) endSession(c *gin.Context) (any, error) {
	session, _ := c.Get(sessionKey)
	if session == nil {
		return nil, job.Fault(job.WrongState, "the request was made without the cookie of a session; there is none to end")
	}
	ctx, err := asCall(c, nil)
	if err == nil {
		err = s.engine.EndSession(ctx, session.(*engine.Session).ID, callerOf(c).Name)
	}
	if err == nil {
		s.setCookie(c, "", s.opts.Forwarders.originOf(c.Request).secure)
	}
	return deleted{}, err
}

// ofCaller is whose sessions a caller sees and ends: its own, or everybody's where it may do
// everything.
func ofCaller(c *gin.Context) string {
	if who := callerOf(c); !who.Role.operates() {
		return who.Name
	}
	return ""
}

func (s *Server) listSessions(c *gin.Context) (any, error) {
	all, err := s.engine.Sessions(c.Request.Context(), ofCaller(c))
	if err != nil {
		return nil, err
	}
	told := make([]api.Session, len(all))
	own, _ := c.Get(sessionKey)
	for i, one := range all {
		told[i] = api.Session{ID: one.ID, Principal: one.Principal, MadeAt: one.MadeAt, SeenAt: one.SeenAt, EndsAt: one.EndsAt, Address: one.Address, Agent: one.Agent}
		told[i].This = own != nil && own.(*engine.Session).ID == one.ID
	}
	return struct {
		Sessions []api.Session `json:"sessions"`
	}{told}, nil
}

func (s *Server) endOtherSession(c *gin.Context) (any, error) {
	id, err := pathNumber(c, "a session")
	if err != nil {
		return nil, err
	}
	ctx, err := asCall(c, nil)
	if err == nil {
		err = s.engine.EndSession(ctx, id, ofCaller(c))
	}
	return deleted{}, err
}

// listTokens tells which tokens are good, and when each was used last.
func (s *Server) listTokens(c *gin.Context) (any, error) {
	if err := engine.Whole(c.Request.Context()); err != nil {
		return nil, err
	}
	all := []api.TokenStatus{}
	if known := s.tokens.Load(); known != nil {
		all = known.list(s.began)
	}
	return struct {
		Tokens []api.TokenStatus `json:"tokens"`
	}{all}, nil
}

// tries slow down whoever shows wrong tokens: after a few, each has to wait twice as long.
type tries struct {
	mu  sync.Mutex
	all map[string]try
}

type try struct {
	failed int
	until  time.Time
}

const (
	freeTries   = 5
	longestTry  = 5 * time.Minute
	mostTriers  = 10_000
	forgetTries = time.Hour
)

func (t *tries) wait(from string) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	return time.Until(t.all[from].until)
}

func (t *tries) failed(from string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.all == nil || len(t.all) >= mostTriers {
		t.all = map[string]try{}
	}
	one := t.all[from]
	if time.Since(one.until) > forgetTries {
		one.failed = 0
	}
	one.failed++
	one.until = time.Now()
	if over := one.failed - freeTries; over >= 0 {
		one.until = time.Now().Add(min(time.Second<<min(over, 10), longestTry))
	}
	t.all[from] = one
}

func (t *tries) succeeded(from string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.all, from)
}
