package upkeep

import (
	"errors"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// A walk gives the waiting jobs of a queue new places, a slice of so many, or so long, at a
// time, and goes on soon.
const (
	walkFor  = time.Millisecond
	walkJobs = 200
	walkSoon = 2 * time.Millisecond
)

// walkOn goes on with the walks, a slice of one.
func walkOn(tx *commit.Tx) error {
	for id, w := range tx.Places.Walks() {
		if !tx.Passes(commit.ThingPlaces, id) {
			return walkSlice(tx, tx.Queues.Get(id), *w)
		}
	}
	return nil
}

// walkSlice goes on with a walk.
func walkSlice(tx *commit.Tx, q *memory.Named, next memory.Walk) error {
	began := time.Now()
	for len(next.Groups) > 0 && time.Since(began) < walkFor {
		g := next.Groups[0]
		rows, err := tx.Store.Waiting(g.Queue, g.Task, g.State, next.After, walkJobs)
		if err != nil {
			return err
		}
		for _, r := range rows {
			if err := replace(tx, r, q); err != nil {
				return err
			}
			next.After = r.ID
		}
		if len(rows) < walkJobs {
			next = memory.Walk{Groups: next.Groups[1:]}
		}
	}
	err := tx.Places.Walked(q, &next)
	if err == nil && len(next.Groups) == 0 {
		err = tx.Store.ForgetTurns(q.ID)
	}
	return err
}

// replace gives a waiting job its place by the rules of now.
func replace(tx *commit.Tx, r *store.Row, q *memory.Named) error {
	if r.State == job.Held && r.Rank == 0 {
		return nil // it has no place before it is let go
	}
	if err := place.LeaveTurn(tx, r); err != nil {
		return err
	}
	if tx.Settings.Rules(q).Order == api.OrderAgeing {
		r.Rank = 0 // the boost may have changed
	}
	due := r.ReadyAt
	if due == 0 {
		due = max(r.EnqueuedAt, r.RunAt)
	}
	place.Rank(tx, r, q, due)
	r.Turn = r.State == job.Ready && tx.Settings.Rules(q).Turns != ""
	return errors.Join(place.EnterTurn(tx, r), tx.Store.PutPlace(r))
}
