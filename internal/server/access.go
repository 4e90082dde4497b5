package server

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/job"
)

// Role is what a token may do.
type Role string

// The roles. A worker may do what a producer may, and an operator everything.
const (
	// Reader reads everything.
	Reader Role = "reader"
	// Producer enqueues jobs, and reads and cancels single ones.
	Producer Role = "producer"
	// Worker leases and settles jobs and speaks for its own worker processes.
	Worker Role = "worker"
	// Operator may do everything, but does not see what tasks hide of their payloads.
	Operator Role = "operator"
	// Keeper may do everything and sees everything.
	Keeper Role = "keeper"
)

// operates tells whether a role may do everything.
func (r Role) operates() bool { return r == Operator || r == Keeper }

// Roles lists the roles.
func Roles() []Role { return []Role{Reader, Producer, Worker, Operator, Keeper} }

// Token is what is known of a token: never the token itself.
type Token struct {
	// Name stands as the principal in everything the token does.
	Name string
	Role Role
	// Hash is the SHA-256 of the token, in hex.
	Hash string
	// Expires is from when on it is not good any more; 0 for never.
	Expires job.Time
}

func (t Token) expired(now time.Time) bool { return t.Expires != 0 && job.At(now) >= t.Expires }

// HashToken is the hash under which a token is known. Tokens are drawn at random
// with 128 bits and more, so that a fast hash is as good as a slow one.
func HashToken(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// access are the tokens that are good, and those that were, by their hashes.
type access struct {
	good, revoked map[string]Token
	// ended is closed, for each token, when it is revoked.
	ended map[string]chan struct{}
	// used is when each token was used last, in ms; 0 for not yet.
	used map[string]*atomic.Int64
}

// list tells of the tokens that are good, and since when their use is known.
func (a *access) list(since job.Time) []api.TokenStatus {
	var all []api.TokenStatus
	for hash, t := range a.good {
		all = append(all, api.TokenStatus{Name: t.Name, Role: string(t.Role), Expires: t.Expires, UsedAt: job.Time(a.used[hash].Load()), Since: since, Hash: hash[:hashShown]})
	}
	slices.SortFunc(all, func(a, b api.TokenStatus) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Hash, b.Hash))
	})
	return all
}

// hashShown is how much of a hash tells one token of a name from another.
const hashShown = 8

// SetTokens makes every request need one of the tokens, from now on. What a token that is
// no longer among them has under way, such as a stream, is ended; a worker's may still
// renew and settle the leases it holds.
func (s *Server) SetTokens(all []Token) {
	a := &access{good: map[string]Token{}, revoked: map[string]Token{}, ended: map[string]chan struct{}{}, used: map[string]*atomic.Int64{}}
	before := s.tokens.Load()
	for _, t := range all {
		a.good[t.Hash], a.ended[t.Hash], a.used[t.Hash] = t, make(chan struct{}), new(atomic.Int64)
		if before != nil && before.used[t.Hash] != nil {
			a.used[t.Hash] = before.used[t.Hash]
		}
		if before != nil && before.ended[t.Hash] != nil && before.good[t.Hash] == t {
			a.ended[t.Hash] = before.ended[t.Hash]
		}
	}
	if before != nil {
		maps.Copy(a.revoked, before.revoked)
		maps.Copy(a.revoked, before.good)
		for hash := range a.good {
			delete(a.revoked, hash)
		}
	}
	s.tokens.Store(a)
	if before == nil {
		return
	}
	for hash, ended := range before.ended {
		if a.ended[hash] != ended {
			close(ended)
		}
	}
}

// local is who calls where no tokens are asked for.
var local = Token{Name: "local", Role: Operator}

// caller is who makes a request: a token and, where it was shown by a cookie, the session. What is
// revoked is closed when the token is no longer good; nil where that is never.
type caller struct {
	Token
	revoked <-chan struct{}
	session *engine.Session
}

// caller tells who makes a request. Where tokens are asked for, a request without
// a good one is refused.
func (s *Server) caller(r *http.Request) (Token, error) {
	c, err := s.callerAmong(s.tokens.Load(), r, false)
	return c.Token, err
}

// callerAmong tells who makes a request by the tokens given. A worker whose token was revoked may
// be let through.
func (s *Server) callerAmong(known *access, r *http.Request, revokedToo bool) (caller, error) {
	if known == nil {
		return caller{Token: local}, nil
	}
	scheme, token, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if !strings.EqualFold(scheme, "Bearer") || token == "" {
		if secret := s.secretOf(r); secret != "" && r.Header.Get("Authorization") == "" {
			return s.callerBySession(known, r, secret)
		}
		return caller{}, job.Fault(job.Unauthenticated, "this service requires a token; send it as Authorization: Bearer TOKEN (hmule reads it from HMULE_TOKEN)")
	}
	// The map is asked for the hash, so that the time it takes tells nothing of
	// any token.
	hash := HashToken(strings.TrimSpace(token))
	t, good := known.good[hash]
	over := good && t.expired(time.Now())
	if good && !over {
		known.used[hash].Store(time.Now().UnixMilli())
		return caller{Token: t, revoked: known.ended[hash]}, nil
	}
	was := t
	if !good {
		was, over = known.revoked[hash]
	}
	if over && revokedToo && (was.Role == Worker || was.Role.operates()) {
		return caller{Token: Token{Name: was.Name, Role: Worker, Hash: was.Hash}}, nil
	}
	if good {
		return caller{}, job.Fault(job.Unauthenticated, "this token has expired at %s; get a new one with: hmule token new", t.Expires)
	}
	return caller{}, job.Fault(job.Unauthenticated, "this token is not valid; get a new one with: hmule token new")
}

// tokenKey is where a request's caller stands in Gin's context, and sessionKey its session.
const (
	tokenKey   = "token"
	sessionKey = "session"
)

func callerOf(c *gin.Context) Token {
	if t, known := c.Get(tokenKey); known {
		return t.(Token)
	}
	return local
}

// only lets callers of some roles through; operators always.
func (s *Server) only(roles ...Role) gin.HandlerFunc { return s.letIn(false, roles...) }

// letIn is only, which also lets workers through whose tokens were revoked, where
// revokedToo is true.
func (s *Server) letIn(revokedToo bool, roles ...Role) gin.HandlerFunc {
	allowed := make([]string, len(roles))
	for i, r := range roles {
		allowed[i] = string(r)
	}
	return func(c *gin.Context) {
		known := s.tokens.Load()
		if known == nil {
			return
		}
		who, err := s.callerAmong(known, c.Request, revokedToo)
		if err != nil {
			s.fail(c, err)
			return
		}
		t := who.Token
		if !t.Role.operates() && !slices.Contains(roles, t.Role) {
			s.fail(c, job.Fault(job.Forbidden, "token %s has the role %s, which may not %s %s; this needs one of: %s", t.Name, t.Role, c.Request.Method, c.FullPath(),
				strings.Join(append(allowed, string(Operator)), ", ")))
			return
		}
		c.Set(tokenKey, t)
		ctx, end := who.until(c.Request.Context())
		defer end()
		if who.session != nil {
			c.Set(sessionKey, who.session)
		}
		c.Request = c.Request.WithContext(ctx)
		c.Next()
	}
}

// until gives a context that ends when the caller may no longer ask: its token is revoked or has
// expired, or its session has ended.
func (c caller) until(ctx context.Context) (context.Context, context.CancelFunc) {
	if c.revoked == nil {
		return ctx, func() {}
	}
	ends := c.Expires
	var over chan struct{}
	if c.session != nil {
		over = c.session.Ended
		if ends == 0 || c.session.EndsAt < ends {
			ends = c.session.EndsAt
		}
	}
	ctx, cancel := context.WithCancel(ctx)
	if ends != 0 {
		timer := time.AfterFunc(time.Until(ends.Go()), cancel)
		context.AfterFunc(ctx, func() { timer.Stop() })
	}
	go func() {
		select {
		case <-c.revoked:
			cancel()
		case <-over:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}
