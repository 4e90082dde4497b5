package server

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

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
}

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
}

// SetTokens makes every request need one of the tokens, from now on. What a token that is
// no longer among them has under way, such as a stream, is ended; a worker's may still
// renew and settle the leases it holds.
func (s *Server) SetTokens(all []Token) {
	a := &access{good: map[string]Token{}, revoked: map[string]Token{}, ended: map[string]chan struct{}{}}
	before := s.tokens.Load()
	for _, t := range all {
		a.good[t.Hash], a.ended[t.Hash] = t, make(chan struct{})
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

// caller tells who makes a request. Where tokens are asked for, a request without
// a good one is refused.
func (s *Server) caller(r *http.Request) (Token, error) {
	t, _, err := s.callerAmong(s.tokens.Load(), r, false)
	return t, err
}

// callerAmong tells who makes a request by the tokens given, and what is closed when that
// is over. A worker whose token was revoked may be let through.
func (s *Server) callerAmong(known *access, r *http.Request, revokedToo bool) (t Token, ended <-chan struct{}, err error) {
	if known == nil {
		return local, nil, nil
	}
	scheme, token, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if !strings.EqualFold(scheme, "Bearer") || token == "" {
		return Token{}, nil, job.Fault(job.Unauthenticated, "this service requires a token; send it as Authorization: Bearer TOKEN (hmule reads it from HMULE_TOKEN)")
	}
	// The map is asked for the hash, so that the time it takes tells nothing of
	// any token.
	hash := HashToken(strings.TrimSpace(token))
	if t, good := known.good[hash]; good {
		return t, known.ended[hash], nil
	}
	if t, was := known.revoked[hash]; was && revokedToo && (t.Role == Worker || t.Role.operates()) {
		return Token{Name: t.Name, Role: Worker, Hash: t.Hash}, nil, nil
	}
	return Token{}, nil, job.Fault(job.Unauthenticated, "this token is not valid; get a new one with: hmule token new")
}

// tokenKey is where a request's caller stands in Gin's context.
const tokenKey = "token"

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
		t, ended, err := s.callerAmong(known, c.Request, revokedToo)
		if err != nil {
			s.fail(c, err)
			return
		}
		if !t.Role.operates() && !slices.Contains(roles, t.Role) {
			s.fail(c, job.Fault(job.Forbidden, "token %s has the role %s, which may not %s %s; this needs one of: %s", t.Name, t.Role, c.Request.Method, c.FullPath(),
				strings.Join(append(allowed, string(Operator)), ", ")))
			return
		}
		c.Set(tokenKey, t)
		if ended == nil {
			return
		}
		ctx, cancel := context.WithCancel(c.Request.Context())
		defer cancel()
		go func() {
			select {
			case <-ended:
				cancel()
			case <-ctx.Done():
			}
		}()
		c.Request = c.Request.WithContext(ctx)
		c.Next()
	}
}
