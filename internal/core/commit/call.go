package commit

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"slices"

	"humblemule.example/internal/core/memory"
	"humblemule.example/job"
)

// Call is who makes a call and, where it carries an Idempotency-Key, what makes
// it the same call again.
type Call struct {
	// Principal is who calls; empty means local.
	Principal string
	// Path, Key and Body are the call's path, Idempotency-Key and body. Where the body was not
	// kept Sum is its SHA-256.
	Path, Key string
	Body      []byte
	Sum       *[sha256.Size]byte
	// If is what has to hold for the command to take effect.
	If Condition
}

// Condition is what the caller knows of a thing that it changes (RFC 9110, section 13). The
// zero Condition always holds.
type Condition struct {
	// Versions are those of which the thing must have one; nil where any will do.
	Versions []int64
	// There is true where the thing must be there, and New where it must not.
	There, New bool
}

// Check refuses a change where the condition does not hold of a thing, which is there or not.
func (c Condition) Check(what string, there bool, version int64) error {
	switch {
	case c.New && there:
		return job.Fault(job.Outdated, "%s exists already; nothing was changed", what)
	case (c.There || c.Versions != nil) && !there:
		return job.Fault(job.Outdated, "%s does not exist; nothing was changed", what)
	case c.Versions != nil && !slices.Contains(c.Versions, version):
		return job.Fault(job.Outdated, "%s has changed since you read it; read it again, nothing was changed", what)
	}
	return nil
}

// LocalPrincipal is who calls where no tokens are asked for.
const LocalPrincipal = "local"

type callKey struct{}

// WithCall gives ctx the call that a command is made for.
func WithCall(ctx context.Context, c Call) context.Context {
	return context.WithValue(ctx, callKey{}, c)
}

// CallOf is the call that a command is made for.
func CallOf(ctx context.Context) Call {
	c, _ := ctx.Value(callKey{}).(Call)
	if c.Principal == "" {
		c.Principal = LocalPrincipal
	}
	return c
}

// ID identifies the call.
func (c Call) ID() (id memory.CallID) {
	if c.Key == "" {
		return id
	}
	sum := c.Sum
	if sum == nil {
		whole := sha256.Sum256(c.Body)
		sum = &whole
	}
	return memory.Identify(c.Principal, c.Path, c.Key, sum)
}

// Record applies an operator's action on a job, 0 for none, and keeps who did it, with a
// detail that is written as JSON when the check is over; unless the call is the repetition of
// one that has taken effect.
func (c *Committer) Record(ctx context.Context, action string, id int64, detail any, check func(v *View) (Act, error)) error {
	call := CallOf(ctx)
	same := call.ID()
	return c.Do(ctx, func(v *View) (Write, error) {
		if r, err := v.Receipts.Find(same); r != nil || err != nil {
			return nil, err
		}
		act, err := check(v)
		if err != nil {
			return nil, err
		}
		words, err := json.Marshal(detail)
		if err != nil {
			return nil, err
		}
		return func(tx *Tx) error {
			tx.Receipts.Note(same, id)
			number, err := tx.Store.InsertAction(tx.Now, call.Principal, action, id, string(words))
			if err != nil || act == nil {
				return err
			}
			return act(tx, number)
		}, nil
	})
}
