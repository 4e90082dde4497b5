package server

import (
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"humblemule/core/job"
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
	// Operator may do everything.
	Operator Role = "operator"
)

// Roles lists the roles.
func Roles() []Role { return []Role{Reader, Producer, Worker, Operator} }

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

// access are the tokens that are good, by their hashes.
type access map[string]Token

// SetTokens makes every request need one of the tokens, from now on.
func (s *Server) SetTokens(all []Token) {
	a := access{}
	for _, t := range all {
		a[t.Hash] = t
	}
	s.tokens.Store(&a)
}

// local is who calls where no tokens are asked for.
var local = Token{Name: "local", Role: Operator}

// caller tells who makes a request. Where tokens are asked for, a request without
// a good one is refused.
func (s *Server) caller(r *http.Request) (Token, error) {
	known := s.tokens.Load()
	if known == nil {
		return local, nil
	}
	scheme, token, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if !strings.EqualFold(scheme, "Bearer") || token == "" {
		return Token{}, job.Fault(job.Unauthenticated, "this service asks for a token; send it as Authorization: Bearer TOKEN (hmule reads it from HMULE_TOKEN)")
	}
	// The map is asked for the hash, so that the time it takes tells nothing of
	// any token.
	t, good := (*known)[HashToken(strings.TrimSpace(token))]
	if !good {
		return Token{}, job.Fault(job.Unauthenticated, "this token is not known here, or no longer; ask for another: hmule token new")
	}
	return t, nil
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
func (s *Server) only(roles ...Role) gin.HandlerFunc {
	allowed := make([]string, len(roles))
	for i, r := range roles {
		allowed[i] = string(r)
	}
	return func(c *gin.Context) {
		if s.tokens.Load() == nil {
			return
		}
		t, err := s.caller(c.Request)
		if err != nil {
			s.fail(c, err)
			return
		}
		if t.Role != Operator && !slices.Contains(roles, t.Role) {
			s.fail(c, job.Fault(job.Forbidden, "token %s is a %s's, which may not %s %s; it takes one of: %s", t.Name, t.Role, c.Request.Method, c.FullPath(),
				strings.Join(append(allowed, string(Operator)), ", ")))
			return
		}
		c.Set(tokenKey, t)
	}
}
