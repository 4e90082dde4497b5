// Package place gives jobs their places: every change of a job's state goes through it, and
// with it the job's rank, its lane and its owner's turn, the counts, and what is next to be
// done by the clock. Its functions write the lanes and turns of a queue, and give the row
// what it is to have; the caller writes the row, but where a name says that it is written.
//
// It keeps nothing: what it needs beside the file are parts of the memory. Everything runs
// in a transaction of the committer.
package place

import (
	"errors"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/order"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Change moves a row to a state by a cause, counting it.
func Change(tx *commit.Tx, r *store.Row, to job.State, by lifecycle.By) error {
	if err := lifecycle.Move(r.State, to, by); err != nil {
		return err
	}
	at := memory.Group{Queue: r.Queue, Task: r.Task}
	if r.State != job.Unplaced {
		tx.Counts.Add(at, r.State, -1)
		tx.Finding.Count(r, r.State, -1)
		tx.Follows.Count(r, r.State, -1)
		unplanned(tx, r)
	}
	tx.Counts.Add(at, to, +1)
	tx.Finding.Count(r, to, +1)
	tx.Follows.Count(r, to, +1)
	if r.Cause != 0 {
		if err := errors.Join(tx.Causes.Count(r, r.State, -1), tx.Causes.Count(r, to, +1)); err != nil {
			return err
		}
	}
	if r.Operation != 0 {
		tx.Removals.Became(r.Operation, r.State, to, by == lifecycle.ByRequeue)
	}
	if err := tied(tx, r, to); err != nil {
		return err
	}
	tx.News.Moved = append(tx.News.Moved, memory.Move{Job: r.ID, At: at, From: r.State, To: to, Batch: r.Batch, Owner: r.Owner, Key: r.Key, Imported: by == lifecycle.ByImport})
	if by == lifecycle.ByImport { // what it has gone through was counted elsewhere
		r.State = to
		return nil
	}
	tx.History.Moved(r, to)
	if to.Finished() {
		if err := tx.Endpoints.End(r, to); err != nil {
			return err
		}
	}
	if to == job.Running {
		tx.Tallies.Waited(r, tx.Now)
		tx.Spans.Waited(r)
	}
	if r.State == job.Unplaced {
		tx.Spans.Enqueued(r)
	}
	r.State = to
	if to == job.Backoff || to.Finished() {
		tx.Schedules.Freed(r, false)
	}
	return nil
}

// unplanned notes that a row leaves a state in which a time was planned for it.
func unplanned(tx *commit.Tx, r *store.Row) {
	if r.State == job.Scheduled || r.State == job.Backoff {
		tx.Times.Due.Reread()
	}
	if r.StartBy != 0 && !r.State.Finished() {
		tx.Times.Late.Reread()
	}
}

// Recount takes a job out of the counts, or back into them.
func Recount(tx *commit.Tx, r *store.Row, by int64) error {
	tx.Counts.Add(memory.Group{Queue: r.Queue, Task: r.Task}, r.State, by)
	tx.Finding.Count(r, r.State, by)
	tx.Follows.Count(r, r.State, by)
	tx.News.Touched = append(tx.News.Touched, r.ID)
	turn := EnterTurn
	if by < 0 {
		turn = LeaveTurn
		unplanned(tx, r)
		if !r.State.Finished() {
			tx.Schedules.Freed(r, true)
		}
	}
	if r.State == job.Ready {
		if err := turn(tx, r); err != nil {
			return err
		}
	}
	return tx.Causes.Count(r, r.State, by)
}

// Put moves a row to where it belongs, and gives it its place there: its rank when it
// becomes ready without one, its lane, its owner's turn.
func Put(tx *commit.Tx, r *store.Row, by lifecycle.By) error {
	if err := LeaveTurn(tx, r); err != nil {
		return err
	}
	taken, err := laneTaken(tx, r)
	if err != nil {
		return err
	}
	return PutIn(tx, r, by, taken)
}

// PutIn is Put where it is known whether another job has the row's lane.
func PutIn(tx *commit.Tx, r *store.Row, by lifecycle.By, taken bool) error {
	heldBack, err := heldByRun(tx, r)
	if err != nil {
		return err
	}
	return putAs(tx, r, by, taken, heldBack || r.Unmet > 0)
}

// putAs is PutIn where it is known, too, whether the job waits for others.
func putAs(tx *commit.Tx, r *store.Row, by lifecycle.By, taken, heldBack bool) error {
	q, due := tx.Queues.Get(r.Queue), dueOf(tx, r)
	silent := tx.Hosts.Holds(r)
	to := lifecycle.Place(lifecycle.Waits{HeldBack: heldBack, NextAt: r.NextAt, Now: tx.Now, LaneTaken: taken, HostSilent: silent})
	switch {
	case heldBack: // it joins its lane, and the order, when nothing holds it back
		r.Rank, r.Turn = 0, false
	case to != job.Scheduled:
		r.NextAt = 0
		Rank(tx, r, q, due)
		r.Turn = to == job.Ready && tx.Settings.Rules(q).Turns != ""
	}
	if r.ReadyAt = 0; to == job.Ready {
		r.ReadyAt = tx.Now
	}
	awaitsStart(tx, r)
	if err := Change(tx, r, to, by); err != nil {
		return err
	}
	switch to {
	case job.Held:
		if heldBack {
			return LeaveLane(tx, r)
		}
		if silent && !taken { // the others of its lane wait behind it
			return takeLane(tx, r)
		}
	case job.Scheduled:
		tx.Times.Due.By(r.NextAt)
		return LeaveLane(tx, r)
	case job.Ready:
		return errors.Join(takeLane(tx, r), EnterTurn(tx, r))
	}
	return nil
}

// dueOf is since when a job may run, as ageing reckons it.
func dueOf(tx *commit.Tx, r *store.Row) job.Time {
	switch {
	case r.NextAt != 0:
		return r.NextAt
	case r.ReadyAt != 0 && !r.State.Finished():
		return r.ReadyAt
	}
	return tx.Now
}

// LeastTime parts the ranks of the two orders: counters stay below it, times above.
const LeastTime = 100_000_000_000

// Rank gives a row its level, and a rank where it has none by its queue's order.
func Rank(tx *commit.Tx, r *store.Row, q *memory.Named, due job.Time) {
	rules := tx.Settings.Rules(q)
	if rules.Order == api.OrderAgeing {
		if r.Level = 0; r.Rank < LeastTime {
			r.Rank = order.Ageing(due, r.Priority, rules.Boost.Go())
		}
		return
	}
	if r.Level = r.Priority; r.Rank == 0 || r.Rank >= LeastTime {
		r.Rank = tx.Places.DrawRank(q.ID)
	}
}

// Finish ends a job in a state, for a reason, and writes its row.
func Finish(tx *commit.Tx, r *store.Row, to job.State, reason job.Reason, text string, by lifecycle.By) error {
	if err := LeaveTurn(tx, r); err != nil {
		return err
	}
	was := r.State
	r.FinishedAt, r.Reason, r.ReasonText = tx.Now, string(reason), text
	if err := Change(tx, r, to, by); err != nil {
		return err
	}
	return errors.Join(tx.Store.Finish(r), LeaveLaneFrom(tx, was, r))
}

// Wait lets a job wait in a state, for a span, and writes its row.
func Wait(tx *commit.Tx, r *store.Row, to job.State, d time.Duration, by lifecycle.By) error {
	r.NextAt, r.ReadyAt = tx.Now.Add(d), 0
	tx.Times.Due.By(r.NextAt)
	if err := Change(tx, r, to, by); err != nil {
		return err
	}
	return tx.Store.Wait(r)
}

// awaitsStart notes until when a job must have been started.
func awaitsStart(tx *commit.Tx, r *store.Row) {
	if r.StartBy != 0 && r.StartedAt == 0 {
		tx.Times.Late.By(r.StartBy)
	}
}

// SkipLate ends a job that may no longer be started.
func SkipLate(tx *commit.Tx, r *store.Row) error {
	return Finish(tx, r, job.Skipped, job.TooLate, "", lifecycle.ByStartBy)
}

// IsSilent tells whether a ready job calls a host that gives no answer.
func IsSilent(tx *commit.Tx, r *store.Row) bool { return tx.Hosts.Holds(r) }

// HoldSilent holds ready jobs that call a host which gives no answer, as many as go in a piece, and tells
// how many.
func HoldSilent(tx *commit.Tx, host int64, most int) (n int, err error) {
	rows, err := tx.Store.ReadyCalls(host, most)
	if err != nil {
		return 0, err
	}
	for _, r := range rows {
		if !tx.Hosts.Holds(r) {
			continue
		}
		if err := Put(tx, r, lifecycle.BySilence); err != nil {
			return n, err
		}
		if err := tx.Store.Wait(r); err != nil {
			return n, err
		}
		n++
	}
	return n, nil
}

// IsLate tells whether a ready job may no longer be started.
func IsLate(tx *commit.Tx, r *store.Row) bool {
	return r.StartBy != 0 && r.StartedAt == 0 && r.StartBy <= tx.Now
}

// heldByRun tells whether a job waits for the end of another run of its schedule: the one
// that the schedule has put behind its last one, and one that was requeued while another
// is unfinished.
func heldByRun(tx *commit.Tx, r *store.Row) (bool, error) {
	if r.Schedule == 0 {
		return false, nil
	}
	s := tx.Schedules.Get(r.Schedule)
	switch {
	case s == nil || s.Is.Batch != nil || s.Is.WithDefaults().IfStillRunning == api.RunsAlso:
		return false, nil // the jobs of a batch wait for one another
	case s.Row.Waiting == r.ID:
		return true, nil
	case s.Row.Last == r.ID && !r.Requeued():
		return false, nil // it came by the rule
	}
	active, err := tx.Store.ActiveOf(r.Schedule, r.ID)
	if err != nil || active != 0 {
		return active != 0, err
	}
	first, err := tx.Store.HeldOf(r.Schedule, r.ID)
	return first != nil && first.ID < r.ID && r.State != job.Held, err
}
