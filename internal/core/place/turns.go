package place

import (
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/order"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// served is the tag that was served last at a level. After a start of the service it is
// the lowest of those that wait, or else the highest of those that have waited.
func served(tx *commit.Tx, r *store.Row) (tag int64, err error) {
	at := memory.Level{Queue: r.Queue, Level: r.Level}
	if tag, known := tx.Places.Served(at); known {
		return tag, nil
	}
	tag, waits, err := lowestTag(tx, r)
	if err == nil && !waits {
		tag, err = tx.Store.IdleTag(r.Queue, r.Level)
	}
	if err == nil {
		tx.Places.SetServed(at, tag)
	}
	return tag, err
}

// lowestTag is the lowest tag of those who wait at a level, whatever their tasks.
func lowestTag(tx *commit.Tx, r *store.Row) (tag int64, waits bool, err error) {
	for task := range tx.Counts.TasksOf(r.Queue) {
		first, found, err := tx.Store.FirstTag(r.Queue, task, r.Level)
		if err != nil {
			return 0, false, err
		}
		if found && (!waits || first < tag) {
			tag, waits = first, true
		}
	}
	return tag, waits, nil
}

// EnterTurn makes the owner of a job that has become ready active, beside the first of those
// who wait for the same task: whoever serves the one serves the other. (The tag that was
// served last may be that of a task which other pools serve, faster or more slowly.) Where
// nobody waits for the task it is beside the one who was served last.
func EnterTurn(tx *commit.Tx, r *store.Row) error {
	if !r.Turn {
		return nil
	}
	t, err := tx.Store.TurnOf(r.Queue, r.Task, r.Level, r.Owner)
	if err != nil || t != nil && t.Active {
		return err
	}
	first, waits, err := tx.Store.FirstTag(r.Queue, r.Task, r.Level)
	if err == nil && !waits {
		first, err = served(tx, r)
	}
	if err != nil {
		return err
	}
	if t == nil {
		t = &store.Turn{Level: r.Level, Owner: r.Owner}
	}
	t.Tag, t.Active = order.Enter(t.Tag, first), true
	return tx.Store.PutTurn(r.Queue, r.Task, t)
}

// LeaveTurn makes the owner of a ready job that goes elsewhere idle, where it was the
// last one.
func LeaveTurn(tx *commit.Tx, r *store.Row) error {
	if r.State != job.Ready || !r.Turn {
		return nil
	}
	r.Turn = false
	others, err := tx.Store.HeadsOf(r, 1)
	if err != nil || len(others) > 0 {
		return err
	}
	t, err := tx.Store.TurnOf(r.Queue, r.Task, r.Level, r.Owner)
	if err != nil || t == nil {
		return err
	}
	t.Active = false
	return tx.Store.PutTurn(r.Queue, r.Task, t)
}

// ServeTurn lets a ready job start by its owner's turn, of which it is not known whether
// it is the first one.
func ServeTurn(tx *commit.Tx, r *store.Row) error {
	if !r.Turn {
		return nil
	}
	others, err := tx.Store.HeadsOf(r, 1)
	if err != nil {
		return err
	}
	t, err := tx.Store.TurnOf(r.Queue, r.Task, r.Level, r.Owner)
	if err != nil || t == nil {
		return err
	}
	t.Active = len(others) > 0
	return Serve(tx, r, t)
}

// Serve moves an owner's turn on by the start of a job.
func Serve(tx *commit.Tx, r *store.Row, t *store.Turn) error {
	r.Turn = false
	served := t.Tag
	tx.Places.SetServed(memory.Level{Queue: r.Queue, Level: r.Level}, served)
	t.Tag = order.Served(t.Tag, tx.Settings.Rules(tx.Queues.Get(r.Queue)).Weight(r.Owner))
	err := tx.Store.PutTurn(r.Queue, r.Task, t)
	if err != nil || tx.Places.Serves()%dropEvery != 0 {
		return err
	}
	lowest, waits, err := lowestTag(tx, r)
	if err != nil {
		return err
	}
	if waits { // nobody will enter with a lower one
		served = min(served, lowest)
	}
	return tx.Store.DropTurns(r.Queue, r.Level, served, 2*dropEvery)
}

// dropEvery is after how many starts owners are forgotten that have been away for long.
const dropEvery = 32
