package place

import (
	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// laneTaken tells whether another job has a row's lane.
func laneTaken(tx *commit.Tx, r *store.Row) (bool, error) {
	if r.Lane == "" {
		return false, nil
	}
	holder, err := tx.Store.LaneHolder(r.Queue, r.Lane)
	return holder != 0 && holder != r.ID, err
}

// takeLane gives a job its lane.
func takeLane(tx *commit.Tx, r *store.Row) error {
	if r.Lane == "" {
		return nil
	}
	return tx.Store.TakeLane(r.Queue, r.Lane, r.ID)
}

// LeaveLane gives the lane that a job has to the next one that waits for it.
func LeaveLane(tx *commit.Tx, r *store.Row) error {
	if r.Lane == "" {
		return nil
	}
	holder, err := tx.Store.LaneHolder(r.Queue, r.Lane)
	if err != nil || holder != r.ID {
		return err
	}
	return passLaneOn(tx, r)
}

// passLaneOn gives a lane to the next job that waits for it.
func passLaneOn(tx *commit.Tx, r *store.Row) error {
	next, err := tx.Store.NextInLane(r.Queue, r.Lane)
	if err != nil {
		return err
	}
	if next == nil {
		return tx.Store.FreeLane(r.Queue, r.Lane)
	}
	if err := PutIn(tx, next, lifecycle.ByUnheld, false); err != nil {
		return err
	}
	return tx.Store.Wait(next)
}

// LeaveLaneFrom lets a job that has come from a state give its lane away where the rules
// of its queue say so. A job that ran had its lane.
func LeaveLaneFrom(tx *commit.Tx, was job.State, r *store.Row) error {
	if r.Lane == "" {
		return nil
	}
	rules := tx.Settings.Rules(tx.Queues.Get(r.Queue))
	switch {
	case r.State == job.Backoff && rules.LaneOnBackoff == api.LaneWaits, r.State == job.Dead && rules.LaneOnDead == api.LaneStops:
		return nil
	case was == job.Running:
		return passLaneOn(tx, r)
	}
	return LeaveLane(tx, r)
}
