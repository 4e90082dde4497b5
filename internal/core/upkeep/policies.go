package upkeep

import (
	"time"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
)

// Policies that no job has go after a while. Which ones have jobs is found by walks over
// the jobs' rows, some at a time: to count the jobs of a policy with each write would cost
// every job for what is rarely wanted. A policy goes after two walks that have found no job
// of it, so that nobody who has just read a job's row misses its policy.
const (
	policyWalkEvery = 12 * time.Hour
	policyWalkRows  = 2000
)

// forgetPolicies goes on with a walk, or begins one when it is time, and tells whether
// there is more to do.
func forgetPolicies(tx *commit.Tx, now time.Time) (more bool, err error) {
	w := tx.Policies.Walk.Get()
	switch {
	case len(w.Doomed) > 0:
		err = dropPolicies(tx, &w)
	case w.Under:
		err = walkPolicies(tx, &w)
	case !now.Before(w.Next):
		w.Under, w.After = true, 0
		if w.Top, err = tx.Store.LastPolicy(); err == nil {
			tx.Policies.BeginWalk()
		}
	}
	if w.Under && len(w.Doomed) == 0 && w.After < 0 {
		w.Under, w.Next = false, now.Add(policyWalkEvery)
	}
	tx.Policies.Walk.Set(w)
	return w.Under, err
}

// walkPolicies looks at the next rows. At the end of the walk it finds what is to go.
func walkPolicies(tx *commit.Tx, w *memory.PolicyWalk) error {
	used, last, err := tx.Store.PoliciesOf(w.After, policyWalkRows)
	if err != nil {
		return err
	}
	for _, id := range used {
		tx.Policies.Found(id)
	}
	if w.After = last; last != 0 {
		return nil
	}
	all, err := tx.Store.PolicyIDs(w.Top)
	if err != nil {
		return err
	}
	before := w.Unused
	w.After, w.Unused = -1, map[int64]bool{}
	for _, id := range all {
		switch {
		case tx.Policies.InUse(id):
		case before[id]:
			w.Doomed = append(w.Doomed, id)
		default:
			w.Unused[id] = true
		}
	}
	return nil
}

// dropPolicies drops the next of those that no job has, unless one has got it meanwhile.
func dropPolicies(tx *commit.Tx, w *memory.PolicyWalk) error {
	next := w.Doomed[:min(mostLeftovers, len(w.Doomed))]
	w.Doomed = w.Doomed[len(next):]
	for _, id := range next {
		if tx.Policies.InUse(id) {
			continue
		}
		if err := tx.Policies.Drop(id); err != nil {
			return err
		}
	}
	return nil
}
