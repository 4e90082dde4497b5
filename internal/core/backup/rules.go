package backup

import (
	"context"
	"fmt"
	"time"

	"humblemule.example/internal/core/commit"
)

// How often the rules are looked at, since the wall clock may jump; and when a backup that has
// failed is made again.
const (
	lookEvery  = time.Minute
	retryAfter = 10 * time.Minute
)

// keepRules makes backups by the rules until the service ends.
func (k *Keeper) keepRules() {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-k.c.Quit:
			return
		case <-k.changed:
		case <-timer.C:
		}
		k.mu.Lock()
		next := k.next()
		k.mu.Unlock()
		wait := lookEvery
		if !next.IsZero() {
			if wait = next.Sub(k.c.Now().Go()); wait <= 0 {
				k.makeScheduled()
				wait = time.Second
			}
		}
		timer.Reset(min(wait, lookEvery))
	}
}

// next is when the next backup is made by itself: at once where there is none yet, so that it is
// seen whether it can be done; the zero time for never. The caller holds mu.
func (k *Keeper) next() time.Time {
	if !k.rules.Made() {
		return time.Time{}
	}
	last := time.Time{}
	for _, b := range k.look() {
		if at := b.BeganAt.Go(); b.Scheduled && at.After(last) {
			last = at
		}
	}
	at := k.c.Now().Go()
	if !last.IsZero() {
		next, found := k.rule.Next(last)
		if !found {
			return time.Time{}
		}
		at = next
	}
	if at.Before(k.retryAt) {
		return k.retryAt
	}
	return at
}

// makeScheduled begins a backup that is due.
func (k *Keeper) makeScheduled() {
	var m *making
	err := k.c.Do(context.Background(), func(*commit.View) (commit.Write, error) {
		if m != nil {
			return nil, nil
		}
		var err error
		m, err = k.reserve(scheduled)
		return nil, err
	})
	k.mu.Lock()
	k.retryAt = k.c.Now().Go().Add(retryAfter)
	if err != nil {
		k.wrong = err.Error()
	}
	k.mu.Unlock()
	if err != nil {
		k.c.Log.Error("a backup could not be begun; it will be retried", "after", retryAfter, "error", err)
		return
	}
	k.begin(m)
}

// BackupsWrong says what is wrong with the backups that are made by themselves; empty where nothing
// is.
func (k *Keeper) BackupsWrong() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.wrong == "" || !k.rules.Made() {
		return ""
	}
	return fmt.Sprintf("The latest scheduled backup failed (%s); it is retried every %d minutes.", k.wrong, int(retryAfter.Minutes()))
}
