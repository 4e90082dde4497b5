// Package mark notes moments that are drawn on charts: what somebody has noted, and starts of
// the service. Deployments are noted where workers are written, and all else that is drawn is
// read from the actions of operators.
package mark

import (
	"context"
	"encoding/json"
	"fmt"
	"unicode/utf8"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Marker notes moments. Its methods may be called from any goroutine.
type Marker struct{ c *commit.Committer }

// New gives a marker.
func New(c *commit.Committer) *Marker { return &Marker{c} }

// Opened notes that the service has started, and since when it was not running, unless the
// file is new.
func (mk *Marker) Opened(ctx context.Context) error {
	stopped := job.At(mk.c.Store.LastWritten())
	if mk.c.Store.LastWritten().IsZero() {
		return nil
	}
	return mk.c.Do(ctx, commit.Unchecked(func(tx *commit.Tx) error {
		_, err := tx.Store.AddMark(store.Mark{At: tx.Now, Kind: api.MarkRestart, Text: "service started", Since: min(stopped, tx.Now)})
		return err
	}))
}

// Mark notes a moment: now, where at is 0.
func (mk *Marker) Mark(ctx context.Context, text string, at job.Time) (told api.Mark, err error) {
	if err := job.Wrong("nothing was noted", mk.check(text, at)); err != nil {
		return told, err
	}
	call := commit.CallOf(ctx)
	err = mk.record(ctx, "mark", func(tx *commit.Tx) (int64, any, error) {
		if at == 0 {
			at = tx.Now
		}
		told = api.Mark{At: at, Kind: api.MarkNote, Text: text, By: call.Principal}
		told.ID, err = tx.Store.AddMark(store.Mark{At: at, Kind: told.Kind, Text: text, Principal: told.By})
		return told.ID, told, err
	}, func(m store.Mark) { told = api.Mark{ID: m.ID, At: m.At, Kind: m.Kind, Text: m.Text, By: m.Principal} })
	return told, err
}

func (mk *Marker) check(text string, at job.Time) (wrong []job.FieldError) {
	if n := utf8.RuneCountInString(text); n == 0 || n > api.MaxMarkText || !utf8.ValidString(text) {
		wrong = append(wrong, job.FieldError{Field: "text", Message: fmt.Sprintf("is what the chart says at the moment, 1 to %d characters, such as v2.3", api.MaxMarkText)})
	}
	if at < 0 || at > mk.c.Now() {
		wrong = append(wrong, job.FieldError{Field: "at", Message: "is not in the past; leave it out for now"})
	}
	return wrong
}

// Unmark forgets a moment that somebody has noted.
func (mk *Marker) Unmark(ctx context.Context, id int64) error {
	return mk.record(ctx, "unmark", func(tx *commit.Tx) (int64, any, error) {
		m, err := tx.Store.Mark(id)
		if err == nil {
			err = tx.Store.DropMark(id)
		}
		return id, api.Mark{ID: id, At: m.At, Kind: m.Kind, Text: m.Text, By: m.Principal}, err
	}, nil, func(v *commit.View) error {
		if m, err := v.Store.Mark(id); err != nil || m.Kind == api.MarkNote {
			return err
		}
		return job.Fault(job.NotFound, "nobody has noted a mark %d", id)
	})
}

// record applies an action on a mark, unless the call is the repetition of one that has taken
// effect: then it tells of the mark as it stands.
func (mk *Marker) record(ctx context.Context, action string, do func(tx *commit.Tx) (int64, any, error), again func(store.Mark), checks ...func(v *commit.View) error) error {
	if err := scope.Whole(ctx); err != nil {
		return err
	}
	call := commit.CallOf(ctx)
	same := call.ID()
	return mk.c.Do(ctx, func(v *commit.View) (commit.Write, error) {
		r, err := v.Receipts.Find(same)
		if err != nil {
			return nil, err
		}
		if r != nil {
			m, err := v.Store.Mark(r.IDs[0])
			if err == nil && again != nil {
				again(m)
			}
			return nil, err
		}
		for _, check := range checks {
			if err := check(v); err != nil {
				return nil, err
			}
		}
		return func(tx *commit.Tx) error {
			id, detail, err := do(tx)
			if err != nil {
				return err
			}
			words, err := json.Marshal(detail)
			if err != nil {
				return err
			}
			tx.Receipts.Note(same, id)
			_, err = tx.Store.InsertAction(tx.Now, call.Principal, action, 0, string(words))
			return err
		}, nil
	})
}
