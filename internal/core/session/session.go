// Package session keeps those who have shown a token once: from then on they show a secret that
// ends by itself, that they can end, and that others see in a list. Who may do what is for others
// to say; a session is only as good as the token by which it was begun.
package session

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"
	"time"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// Session is somebody who has shown a token once.
type Session = memory.Session

// Register keeps the sessions. Its methods may be called from any goroutine.
type Register struct{ c *commit.Committer }

// New gives the sessions of a file.
func New(c *commit.Committer) *Register { return &Register{c} }

const (
	// Longest is how long a session lasts, whatever is done in it, and Idle how long without a
	// request.
	Longest = 7 * 24 * time.Hour
	Idle    = 24 * time.Hour
	// seenEvery is how often it is written that a session was seen.
	seenEvery = 5 * time.Minute
	// what is kept of how a browser calls itself.
	longestAgent = 200
)

// HashSecret is the hash under which a session is kept. Secrets are drawn at random with 130 bits,
// so that a fast hash is as good as a slow one.
func HashSecret(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// BeginSession begins a session of whoever has shown a token, and answers its secret.
func (rg *Register) BeginSession(ctx context.Context, token, principal, address, agent string) (secret string, err error) {
	secret = rand.Text()
	err = rg.c.Do(ctx, commit.Unchecked(func(tx *commit.Tx) error {
		return tx.Sessions.Add(store.Session{
			Hash: HashSecret(secret), Token: token, Principal: principal, MadeAt: tx.Now, SeenAt: tx.Now, EndsAt: tx.Now.Add(Longest),
			Address: address, Agent: text.Cut(text.Visible(agent), longestAgent),
		})
	}))
	return secret, err
}

// SessionOf finds the session of a secret; nil where there is none, or none any more. It notes now
// and then that the session was seen.
func (rg *Register) SessionOf(ctx context.Context, secret string) *Session {
	now := rg.c.Now()
	rg.c.Memory.RLock()
	s := rg.c.Memory.Sessions.Kept(HashSecret(secret))
	rg.c.Memory.RUnlock()
	if s == nil || over(s, now) {
		return nil
	}
	if now.Sub(s.SeenAt) > seenEvery {
		_ = rg.c.Do(ctx, commit.Unchecked(func(tx *commit.Tx) error {
			if s := tx.Sessions.Get(s.Hash); s != nil && tx.Now.Sub(s.SeenAt) > seenEvery {
				return tx.Sessions.Seen(s, tx.Now)
			}
			return nil
		}))
	}
	return s
}

func over(s *Session, now job.Time) bool { return now >= s.EndsAt || now.Sub(s.SeenAt) > Idle }

// Sessions lists the sessions of a principal, or of all where it is empty, the latest first.
func (rg *Register) Sessions(ctx context.Context, principal string) (all []store.Session, err error) {
	if err := scope.Whole(ctx); err != nil {
		return nil, err
	}
	now := rg.c.Now()
	rg.c.Memory.RLock()
	defer rg.c.Memory.RUnlock()
	for _, s := range rg.c.Memory.Sessions.AllKept() {
		if !over(s, now) && (principal == "" || s.Principal == principal) {
			all = append(all, s.Session)
		}
	}
	slices.SortFunc(all, func(a, b store.Session) int { return cmp.Compare(b.ID, a.ID) })
	return all, nil
}

// EndSession ends a session; of one principal alone, where that is not empty.
func (rg *Register) EndSession(ctx context.Context, id int64, principal string) error {
	if err := scope.Whole(ctx); err != nil {
		return err
	}
	return rg.c.Do(ctx, func(v *commit.View) (commit.Write, error) {
		return func(tx *commit.Tx) error {
			for _, s := range tx.Sessions.All() {
				if s.ID == id && (principal == "" || s.Principal == principal) {
					return end(tx, s)
				}
			}
			return nil
		}, nil
	})
}

// end ends a session, and keeps who did it, where that was another.
func end(tx *commit.Tx, s *Session) error {
	if err := tx.Sessions.End(s); err != nil || tx.By == s.Principal {
		return err
	}
	words, err := json.Marshal(map[string]string{"name": s.Principal})
	if err != nil {
		return err
	}
	_, err = tx.Store.InsertAction(tx.Now, tx.By, "end_session", 0, string(words))
	return err
}

// Over is the timed work that forgets sessions which have ended by themselves.
func (rg *Register) Over() commit.Timed {
	const every = 10 * time.Minute
	next := time.Now().Add(every)
	return commit.Timed{Next: func(*commit.Tx) time.Duration { return time.Until(next) }, Do: func(tx *commit.Tx) error {
		if time.Now().Before(next) || tx.Passes(commit.ThingSessions, 0) {
			return nil
		}
		next = time.Now().Add(every)
		for _, s := range tx.Sessions.All() {
			if over(s, tx.Now) {
				if err := tx.Sessions.End(s); err != nil {
					return err
				}
			}
		}
		return nil
	}}
}
