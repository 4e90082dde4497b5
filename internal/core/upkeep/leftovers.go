package upkeep

import (
	"errors"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/job"
)

// What is kept beside the jobs goes when nothing has needed it for long, some at a time.
const (
	leftoversEvery = 10 * time.Minute
	leftoversSoon  = 50 * time.Millisecond
	mostLeftovers  = 200
	mostBlocks     = 1000 // of words, looked at in turn
	workersKept    = 30 * 24 * time.Hour
	actionsKept    = 365 * 24 * time.Hour
	idleKept       = 30 * 24 * time.Hour
	issuedKept     = 2 * 365 * 24 * time.Hour
	causesKept     = 31 * 24 * time.Hour // after their last failure
	seenEvery      = 12 * time.Hour      // how often it is written that a worker was seen
)

// forget drops what has become old: keys, causes that nothing has
// failed by for as long, workers, actions and operations, deliveries, history, words, policies and names without a
// use.
func forget(tx *commit.Tx) error {
	began := time.Now()
	if began.Before(tx.Retention.Forget.Get()) || tx.Passes(commit.ThingLeftovers, 0) {
		return nil
	}
	tx.Retention.Forget.Set(began.Add(leftoversEvery))
	if began.Before(tx.Retention.RestsUntil()) {
		return nil
	}
	causes, err := tx.Causes.DropBefore(tx.Now.Add(-causesKept), mostLeftovers)
	if err := errors.Join(err, tx.Store.DropKeys(tx.Now.Add(-job.MaxDedupe.Go()), mostLeftovers), tx.Store.DropIssued(int64(tx.Now.Add(-issuedKept))/time.Minute.Milliseconds())); err != nil {
		return err
	}
	workers, err := forgetWorkers(tx)
	if err != nil {
		return err
	}
	actions, err := tx.Store.DropActions(tx.Now.Add(-actionsKept), mostLeftovers)
	if err != nil {
		return err
	}
	deliveries, err := tx.Store.DropDeliveries(tx.Now.Add(-api.HookRemembers.Go()), mostLeftovers)
	if err != nil {
		return err
	}
	if err := tx.History.Forget(mostLeftovers); err != nil {
		return err
	}
	block, err := tx.Store.DropWords(tx.Retention.WordsFrom.Get(), mostBlocks)
	if err != nil {
		return err
	}
	tx.Retention.WordsFrom.Set(block)
	policies, err := forgetPolicies(tx, began)
	if err != nil {
		return err
	}
	if policies || causes == mostLeftovers || workers == mostLeftovers || actions == mostLeftovers || deliveries == mostLeftovers {
		tx.Retention.Forget.Set(began.Add(leftoversSoon))
	}
	return errors.Join(forgetNames(tx, &tx.Queues, Idle, removeQueue), forgetNames(tx, &tx.Tasks, IdleTask, removeTask))
}

// forgetWorkers writes of those that are there that they were seen, and drops the rows of
// those that were not for long.
func forgetWorkers(tx *commit.Tx) (n int, err error) {
	present := map[int64]bool{}
	for uid, number := range tx.Workers.Numbers() {
		seen := tx.Workers.Presence.SeenAt(uid)
		present[number] = seen != 0
		if seen == 0 || seen.Sub(tx.Workers.SeenAt(number)) < seenEvery || n == mostLeftovers {
			continue
		}
		if err := tx.Workers.NoteSeen(number, seen); err != nil {
			return n, err
		}
		n++
	}
	old, err := tx.Store.WorkersBefore(tx.Now.Add(-workersKept), mostLeftovers)
	if err != nil {
		return n, err
	}
	for _, w := range old {
		if present[w.Number] {
			continue
		}
		if err := tx.Workers.Forget(w.UID, w.Number); err != nil {
			return n, err
		}
	}
	return max(n, len(old)), nil
}

// forgetNames notes since when names have been idle, and removes those that have been so for
// long.
func forgetNames(tx *commit.Tx, names *memory.Names, idle func(*commit.View, *memory.Named) bool, remove func(*commit.Tx, *memory.Named) (bool, error)) error {
	n := 0
	for id, name := range names.AllKept() {
		if n == mostLeftovers {
			return nil
		}
		is, since := idle(tx.View(), name), names.IdleSince(id)
		switch {
		case is && since != 0 && tx.Now.Sub(since) >= idleKept:
			removed, err := remove(tx, name)
			if err != nil {
				return err
			}
			if !removed {
				continue
			}
		case is == (since != 0):
			continue
		default:
			if since = 0; is {
				since = tx.Now
			}
			if err := names.NoteIdle(id, since); err != nil {
				return err
			}
		}
		n++
	}
	return nil
}

// removeQueue removes a queue, unless it has jobs that can still be brought back.
func removeQueue(tx *commit.Tx, q *memory.Named) (removed bool, err error) {
	has, err := tx.Store.HasRemoved(q.ID, 0)
	if err != nil || has {
		return false, err
	}
	return true, tx.RemoveQueue(q)
}

// removeTask is removeQueue for a task.
func removeTask(tx *commit.Tx, t *memory.Named) (removed bool, err error) {
	has, err := tx.Store.HasRemoved(0, t.ID)
	if err != nil || has {
		return false, err
	}
	return true, tx.RemoveTask(t)
}

// Idle tells whether a queue has neither jobs nor settings and nobody has paused it.
func Idle(v *commit.View, q *memory.Named) bool {
	if v.Settings.Queue(q) != nil || v.Settings.Paused(q) || v.Places.Walk(q) != nil || slices.Contains(v.Settings.Owned().Queues, q.Name) {
		return false
	}
	return v.Counts.Queue(q.ID).None()
}

// IdleTask tells whether a task has neither jobs nor settings.
func IdleTask(v *commit.View, t *memory.Named) bool {
	return v.Settings.Task(t.ID) == nil && !slices.Contains(v.Settings.Owned().Tasks, t.Name) && v.Counts.Task(t.ID).None()
}
