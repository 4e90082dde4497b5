package plan

import (
	"errors"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// LetRunsGo lets those runs go on that waited for the end of one that has ended; one that
// waits for its next attempt gives way.
func LetRunsGo(tx *commit.Tx) error {
	for len(tx.Schedules.Ended) > 0 {
		r := tx.Schedules.Ended[0]
		tx.Schedules.Ended = tx.Schedules.Ended[1:]
		if r.State.Finished() {
			if err := tx.Store.EndRun(&r.Row); err != nil {
				return err
			}
		}
		s := tx.Schedules.Get(r.Schedule)
		if s == nil {
			continue
		}
		if err := noteEnd(tx, s, &r.Row); err != nil {
			return err
		}
		if s = tx.Schedules.Get(r.Schedule); s.Row.Waiting == 0 || r.ID != s.Row.Behind && r.ID != s.Row.Waiting {
			if err := letRequeuedGo(tx, s, &r); err != nil {
				return err
			}
			continue
		}
		if err := letWaitingGo(tx, s.Copy(), &r); err != nil {
			return err
		}
	}
	return nil
}

// noteEnd keeps how many runs of a schedule have died in a row, and when one was done.
func noteEnd(tx *commit.Tx, s *memory.Schedule, r *store.Row) error {
	next := s.Copy()
	switch r.State {
	case job.Done:
		next.Row.Failed, next.Row.LastDone = 0, tx.Now
	case job.Dead:
		next.Row.Failed++
	case job.Cancelled:
		if r.Reason != string(job.DependencyDead) {
			return nil
		}
		next.Row.Failed++ // the last job of a batch
	default:
		return nil
	}
	return tx.Schedules.Put(next)
}

// letRequeuedGo lets the first of those runs go on that were requeued and wait for the
// end of the others.
func letRequeuedGo(tx *commit.Tx, s *memory.Schedule, ended *memory.EndedRun) error {
	if !ended.Over() || s.Is.Batch != nil || s.Is.WithDefaults().IfStillRunning == api.RunsAlso {
		return nil
	}
	held, err := tx.Store.HeldOf(s.Row.ID, s.Row.Waiting)
	if err != nil || held == nil {
		return err
	}
	return letGo(tx, held.ID)
}

// letWaitingGo lets the run go on that the schedule has put behind the one that has ended.
func letWaitingGo(tx *commit.Tx, s *memory.Schedule, ended *memory.EndedRun) error {
	waiting := s.Row.Waiting
	if ended.ID != waiting && ended.Over() { // perhaps one that was requeued is not over
		other, err := tx.Store.ActiveOf(s.Row.ID, waiting)
		if err != nil {
			return err
		}
		if other != 0 {
			s.Row.Behind = other
			return tx.Schedules.Put(s)
		}
	}
	if ended.ID == waiting { // the one that it waited for is the last again
		s.Row.Last = s.Row.Behind
	}
	s.Row.Waiting, s.Row.Behind = 0, 0
	if err := keepOrDrop(tx, s); err != nil {
		return err
	}
	if ended.ID == waiting {
		return nil // it was ended itself
	}
	if ended.State == job.Backoff {
		row, err := tx.Store.Row(ended.ID)
		if err != nil {
			return err
		}
		if row != nil && row.State == job.Backoff {
			err = supersede(tx, s, row)
		}
		return errors.Join(err, letGo(tx, waiting))
	}
	return letGo(tx, waiting)
}

// letGo places a job that was held by its schedule; 0 for none.
func letGo(tx *commit.Tx, id int64) error {
	if id == 0 {
		return nil
	}
	r, err := tx.Store.Row(id)
	if err != nil || r == nil || r.State != job.Held {
		return err
	}
	if err := place.Put(tx, r, lifecycle.ByUnheld); err != nil {
		return err
	}
	return tx.Store.Wait(r)
}
