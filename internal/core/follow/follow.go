// Package follow follows labels: how many jobs have one, and what moves among them. What is
// counted is kept by the memory; this room sets what is followed, and counts the jobs that were
// there before.
package follow

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"humblemule.example/api"
	checks "humblemule.example/internal/check"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// Follower follows labels. Its methods may be called from any goroutine.
type Follower struct{ c *commit.Committer }

// New gives a follower.
func New(c *commit.Committer) *Follower { return &Follower{c} }

// Follow follows a label under a name. The same again changes nothing; another label under a name
// that is taken begins anew.
func (fw *Follower) Follow(ctx context.Context, name string, label api.NewFollow) error {
	if err := job.Wrong("nothing is followed", check(name, label)); err != nil {
		return err
	}
	return fw.do(ctx, func(v *commit.View) (commit.Write, error) {
		was := v.Follows.Named(name)
		if was != nil && was.Label == label.Name && was.Value == label.Value {
			return nil, nil
		}
		if was == nil && v.Follows.Num() >= api.MaxFollows {
			return nil, job.Fault(job.WrongState, "%d labels are followed, which is the most; delete one of them first", api.MaxFollows)
		}
		return func(tx *commit.Tx) error {
			f := store.Follow{Name: name, Label: label.Name, Value: label.Value, MadeAt: tx.Now, MadeBy: tx.By, First: tx.Facts.NextJob.Get()}
			if err := tx.Follows.Put(f); err != nil {
				return err
			}
			return record(tx, "follow", map[string]any{"name": name, "text": label.Name + ":" + label.Value})
		}, nil
	})
}

// Unfollow follows a label no longer. What it has moved is kept as long as other history.
func (fw *Follower) Unfollow(ctx context.Context, name string) error {
	return fw.do(ctx, func(v *commit.View) (commit.Write, error) {
		was := v.Follows.Named(name)
		if was == nil {
			return nil, memory.NotFollowed(name)
		}
		return func(tx *commit.Tx) error {
			if err := tx.Follows.Delete(name); err != nil {
				return err
			}
			return record(tx, "unfollow", map[string]any{"name": name, "text": was.Label + ":" + was.Value})
		}, nil
	})
}

func (fw *Follower) do(ctx context.Context, check commit.Check) error {
	if err := scope.Whole(ctx); err != nil {
		return err
	}
	return fw.c.Do(ctx, check)
}

func record(tx *commit.Tx, action string, detail any) error {
	words, err := json.Marshal(detail)
	if err != nil {
		return err
	}
	_, err = tx.Store.InsertAction(tx.Now, tx.By, action, 0, string(words))
	return err
}

func check(name string, label api.NewFollow) (wrong []job.FieldError) {
	wrong = append(wrong, checks.Name("name", name)...)
	var labels checks.List
	job.CheckLabels(&labels, map[string]string{label.Name: label.Value})
	if label.Name == "" || label.Value == "" || len(labels) > 0 {
		wrong = append(wrong, job.FieldError{Field: "label", Message: fmt.Sprintf("%q is not a valid label; write name:value, such as customer:acme", text.Shorten(label.Name+":"+label.Value))})
	}
	return wrong
}

// The walk counts so many jobs at a time, and goes on soon.
const (
	walkJobs = 500
	walkSoon = 2 * time.Millisecond
)

// Walk is the timed work that counts the jobs that had a label before it was followed.
func Walk() commit.Timed {
	return commit.Timed{Next: func(tx *commit.Tx) time.Duration {
		if tx.Follows.Unwalked() != nil {
			return walkSoon
		}
		return commit.Never
	}, Do: walkOn}
}

func walkOn(tx *commit.Tx) error {
	f := tx.Follows.Unwalked()
	if f == nil || tx.Passes(commit.ThingFollows, 0) {
		return nil
	}
	ids, err := tx.Store.LabelledBetween(f.Label, f.Value, f.Walked, f.First, walkJobs)
	if err != nil {
		return err
	}
	var rows []*store.Row
	for len(ids) > 0 && err == nil {
		part := ids[:min(len(ids), store.AtOnce)]
		var found map[int64]*store.Row
		found, err = tx.Store.Rows(part)
		for _, r := range found {
			rows = append(rows, r)
		}
		if ids = ids[len(part):]; len(ids) == 0 && err == nil {
			return tx.Follows.Walked(f, rows, part[len(part)-1], false)
		}
	}
	if err != nil {
		return err
	}
	return tx.Follows.Walked(f, nil, f.First, true)
}
