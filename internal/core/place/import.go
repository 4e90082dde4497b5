package place

import (
	"errors"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Elsewhere is how a job stood in another store.
type Elsewhere struct {
	State job.State
	// HadLane tells whether it had its lane, and Waited whether it waited for another run of its
	// schedule.
	HadLane, Waited bool
}

// Import gives a job of another store its place: the same one if it is finished or in backoff, and
// otherwise the one where it belongs now.
func Import(tx *commit.Tx, r *store.Row, was Elsewhere) error {
	if err := makeWay(tx, r, was); err != nil {
		return err
	}
	taken, err := laneTaken(tx, r)
	switch {
	case err != nil:
		return err
	case was.State.Finished():
		err = Change(tx, r, was.State, lifecycle.ByImport)
	case was.State == job.Backoff:
		tx.Times.Due.By(r.NextAt)
		err = Change(tx, r, was.State, lifecycle.ByImport)
	default:
		waits, waitsErr := was.Waited, error(nil)
		if waits {
			waits, waitsErr = hasOtherRun(tx, r)
		}
		err = errors.Join(waitsErr, putAs(tx, r, lifecycle.ByImport, taken, waits || r.Unmet > 0))
	}
	if err != nil || taken || !was.HadLane {
		return err
	}
	return takeLane(tx, r)
}

// hasOtherRun tells whether another run of a job's schedule is unfinished.
func hasOtherRun(tx *commit.Tx, r *store.Row) (bool, error) {
	if r.Schedule == 0 {
		return false, nil
	}
	active, err := tx.Store.ActiveOf(r.Schedule, r.ID)
	if err != nil || active != 0 {
		return active != 0, err
	}
	held, err := tx.Store.HeldOf(r.Schedule, r.ID)
	return held != nil, err
}

// makeWay has ready jobs wait that came before this one, and waited for it: for its lane, or for the
// end of this run of their schedule.
func makeWay(tx *commit.Tx, r *store.Row, was Elsewhere) error {
	if was.HadLane {
		id, err := tx.Store.LaneHolder(r.Queue, r.Lane)
		if err == nil {
			_, err = letWait(tx, id, false)
		}
		if err != nil {
			return err
		}
	}
	s := tx.Schedules.Get(r.Schedule)
	if s == nil || was.Waited || was.State.Finished() || s.Is.WithDefaults().IfStillRunning == api.RunsAlso {
		return nil
	}
	for {
		id, err := tx.Store.ActiveOf(r.Schedule, r.ID)
		if err != nil {
			return err
		}
		if waits, err := letWait(tx, id, true); err != nil || !waits {
			return err
		}
	}
}

// letWait holds a job, where it is ready; one that waits for a run is not in the order.
func letWait(tx *commit.Tx, id int64, forRun bool) (bool, error) {
	if id == 0 {
		return false, nil
	}
	r, err := tx.Store.Row(id)
	if err != nil || r == nil || r.State != job.Ready {
		return false, err
	}
	if err := LeaveTurn(tx, r); err != nil {
		return false, err
	}
	if r.ReadyAt, r.Turn = 0, false; forRun {
		r.Rank = 0
	}
	if err := Change(tx, r, job.Held, lifecycle.ByImport); err != nil {
		return false, err
	}
	if err := tx.Store.Wait(r); err != nil || r.Lane == "" {
		return true, err
	}
	if forRun {
		return true, LeaveLane(tx, r)
	}
	return true, tx.Store.FreeLane(r.Queue, r.Lane)
}
