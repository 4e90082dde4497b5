package api

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"humblemule.example/job"
)

type callKey struct{}

// WithCallKey gives the calls that are made under ctx an Idempotency-Key: a caller that
// had no answer makes the same call again under the same key, and nothing happens twice.
func WithCallKey(ctx context.Context, key string) context.Context {
	return context.WithValue(ctx, callKey{}, key)
}

// CallKey is the key that ctx gives to calls; empty where it gives none.
func CallKey(ctx context.Context) string {
	key, _ := ctx.Value(callKey{}).(string)
	return key
}

// NewCallKey draws an Idempotency-Key: a UUID of version 7 (RFC 9562), which tells when it
// was drawn, so that one that is older than what the service remembers is never taken for
// a new one.
func NewCallKey(now time.Time) string {
	var b [16]byte
	rand.Read(b[:]) // never fails
	binary.BigEndian.PutUint64(b[:8], uint64(now.UnixMilli())<<16|uint64(b[6])<<8|uint64(b[7]))
	b[6], b[8] = b[6]&0x0f|0x70, b[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// Temporary tells whether a call that has brought err may succeed a little later as it is:
// the service gave no answer, or was busy, or its disk was full or failed.
func Temporary(err error) bool {
	var p *job.Problem
	if !errors.As(err, &p) {
		return err != nil
	}
	return errors.Is(p, job.ErrBusy) || errors.Is(p, job.ErrNoSpace) || errors.Is(p, job.ErrUncertain)
}

// Denied tells whether err says that the caller's token is not good, or no longer.
func Denied(err error) bool {
	return errors.Is(err, job.ErrUnauthenticated) || errors.Is(err, job.ErrForbidden)
}
