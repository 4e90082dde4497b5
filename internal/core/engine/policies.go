package engine

import (
	"maps"
	"time"

	"humblemule/job"
)

// Policies that no job has go after a while. Which ones have jobs is found by walks over
// the jobs' rows, some at a time: to count the jobs of a policy with each write would cost
// every job for what is rarely wanted. A policy goes after two walks that have found no job
// of it, so that nobody who has just read a job's row misses its policy.
const (
	policyWalkEvery = 12 * time.Hour
	policyWalkRows  = 2000
)

// policyWalk is a walk over the jobs' rows, and what the one before has found.
type policyWalk struct {
	// next is when the next walk begins, while none is under way.
	next time.Time
	// under is true while a walk is under way: after is the last job that it has seen, top
	// the last policy that was there when it began, and doomed what it is about to drop.
	under      bool
	after, top int64
	doomed     []int64
	// used are policies that have jobs, as far as the walk has come; it is shared by the
	// copies, since to keep one too many harms nothing.
	used map[int64]bool
	// unused are those that the last walk has found no job of.
	unused map[int64]bool
}

// usesPolicy notes that a job gets a policy.
func (tx *txn) usesPolicy(id int64) {
	if w := &tx.e.policyWalk; w.under {
		w.used[id] = true
	}
}

// forgetPolicies goes on with a walk, or begins one when it is time, and tells whether
// there is more to do.
func (tx *txn) forgetPolicies(now time.Time) (more bool, err error) {
	w := tx.e.policyWalk
	switch {
	case len(w.doomed) > 0:
		err = tx.dropPolicies(&w)
	case w.under:
		err = tx.walkPolicies(&w)
	case !now.Before(w.next):
		w.under, w.after, w.used = true, 0, map[int64]bool{}
		w.top, err = tx.e.store.LastPolicy()
	}
	if w.under && len(w.doomed) == 0 && w.after < 0 {
		w.under, w.used, w.next = false, nil, now.Add(policyWalkEvery)
	}
	tx.policyWalk = &w
	return w.under, err
}

// walkPolicies looks at the next rows. At the end of the walk it finds what is to go.
func (tx *txn) walkPolicies(w *policyWalk) error {
	used, last, err := tx.e.store.PoliciesOf(w.after, policyWalkRows)
	if err != nil {
		return err
	}
	for _, id := range used {
		w.used[id] = true
	}
	if w.after = last; last != 0 {
		return nil
	}
	all, err := tx.e.store.PolicyIDs(w.top)
	if err != nil {
		return err
	}
	before := w.unused
	w.after, w.unused = -1, map[int64]bool{}
	for _, id := range all {
		switch {
		case w.used[id]:
		case before[id]:
			w.doomed = append(w.doomed, id)
		default:
			w.unused[id] = true
		}
	}
	return nil
}

// dropPolicies drops the next of those that no job has, unless one has got it meanwhile.
func (tx *txn) dropPolicies(w *policyWalk) error {
	next := w.doomed[:min(mostLeftovers, len(w.doomed))]
	w.doomed = w.doomed[len(next):]
	for _, id := range next {
		if w.used[id] {
			continue
		}
		if err := tx.e.store.DropPolicy(id); err != nil {
			return err
		}
		if tx.gonePolicies == nil {
			tx.gonePolicies = map[int64]bool{}
		}
		tx.gonePolicies[id] = true
	}
	return nil
}

// publishPolicies makes new policies known, and those that are gone unknown. The caller
// holds the view's lock.
func (tx *txn) publishPolicies() {
	e := tx.e
	if len(tx.gonePolicies) > 0 {
		maps.DeleteFunc(e.policies, func(_ string, id int64) bool { return tx.gonePolicies[id] })
		maps.DeleteFunc(e.view.policies, func(id int64, _ job.Policy) bool { return tx.gonePolicies[id] })
	}
	if len(e.policies)+len(tx.policies) > mostPolicies {
		clear(e.policies)
	}
	maps.Copy(e.policies, tx.policies)
}
