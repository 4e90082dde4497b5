package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// Where finished jobs are to be kept for a shorter time, or fewer of them, those that are
// kept no longer are removed by an operation, which can be undone; what ordinary retention
// removes is gone for good. Retention rests while such an operation is under way, and for a
// while after one was stopped or undone, so that there is time to set it back.

// keeping is how long finished jobs are kept, and how many done ones a queue keeps.
type keeping struct {
	retention *job.Retention
	// of gives the settings of a queue.
	of func(q *queue) *job.Defaults
}

// keepingNow is what holds now.
func (e *Engine) keepingNow() keeping {
	e.view.mu.RLock()
	defer e.view.mu.RUnlock()
	return keeping{e.view.owned.Retention, func(q *queue) *job.Defaults { return q.defaults }}
}

// keepingWith is what will hold when a setup is loaded.
func (e *Engine) keepingWith(req *job.SetupRequest) keeping {
	e.view.mu.RLock()
	defined := e.view.owned.Queues
	e.view.mu.RUnlock()
	return keeping{req.Retention, func(q *queue) *job.Defaults {
		if d, named := req.Queues[q.name]; named {
			return &d
		}
		if slices.Contains(defined, q.name) {
			return nil // it is taken away
		}
		return q.defaults
	}}
}

// leaving are the jobs that are kept no longer.
type leaving struct {
	cuts map[string]map[job.State]job.UpTo
	n    int64
}

// leavingBy finds the jobs that are kept before and not after.
func (e *Engine) leavingBy(ctx context.Context, before, after keeping) (all leaving, err error) {
	type group struct {
		queue string
		id    int64
		state job.State
		cut   job.Time // 0 where it is kept as long as before
		over  int64    // done jobs beyond those that the queue keeps
	}
	var groups []group
	now := e.now()
	e.view.mu.RLock()
	for _, q := range e.view.queueOf {
		for s, have := range q.byState() {
			if !s.Finished() || have == 0 {
				continue
			}
			g := group{queue: q.name, id: q.id, state: s}
			if keep := after.retention.For(after.of(q), s); keep < before.retention.For(before.of(q), s) {
				g.cut = now.Add(-keep.Go())
			}
			if most := after.retention.Most(); s == job.Done && most < before.retention.Most() {
				g.over = max(have-most, 0)
			}
			if g.cut != 0 || g.over != 0 {
				groups = append(groups, g)
			}
		}
	}
	e.view.mu.RUnlock()
	all.cuts = map[string]map[job.State]job.UpTo{}
	for _, g := range groups {
		cut := job.UpTo{At: g.cut}
		if g.over > 0 {
			last, err := e.store.NthFinished(ctx, g.id, g.state, g.over)
			if err != nil {
				return all, err
			}
			if last.At > cut.At {
				cut = last
			}
		}
		n, err := e.store.CountFinished(ctx, g.id, g.state, cut)
		if err != nil {
			return all, err
		}
		if n > 0 {
			if all.cuts[g.queue] == nil {
				all.cuts[g.queue] = map[job.State]job.UpTo{}
			}
			all.cuts[g.queue][g.state] = cut
			all.n += n
		}
	}
	return all, nil
}

// shorten makes a change of settings by which jobs may be kept for a shorter time: apply
// makes it, and what it is given in the same transaction. Where jobs go it is refused,
// unless they are meant to; then the answer is the operation that removes them.
func (e *Engine) shorten(ctx context.Context, why string, removes bool, before, after keeping, apply func(also func(tx *txn) error) error) (operation int64, err error) {
	e.shortenings.Add(1)
	defer e.shortenings.Add(-1)
	gone, err := e.leavingBy(ctx, before, after)
	switch {
	case err != nil:
		return 0, err
	case gone.n == 0:
		return 0, apply(func(*txn) error { return nil })
	case !removes:
		return 0, job.Fault(job.WouldRemove, "%s kept no longer with these settings; say removes (--removes of a command) where that is meant: an operation removes them then, and can be undone. Nothing was changed", count(gone.n, "finished job would be", "finished jobs would be"))
	}
	o := e.newOperation(ctx, job.ActRequest{Action: job.ActDiscard, Filter: &job.Selection{States: job.FinishedStates(), FinishedBy: gone.cuts}, Note: why})
	o.told.Matched, o.told.MatchedIs = gone.n, "exact"
	if err := apply(func(tx *txn) error { return tx.addOperation(o, callOf(ctx).Principal) }); err != nil || o.told.ID == 0 {
		return 0, err
	}
	e.start(o)
	return o.told.ID, nil
}

// shortens tells whether an operation removes what settings keep no longer.
func shortens(o *job.Operation) bool { return o.Filter != nil && o.Filter.FinishedBy != nil }

// leaveKept lets retention rest after such an operation was stopped or undone.
func (tx *txn) leaveKept(o *job.Operation, what string) {
	if shortens(o) {
		tx.e.restRetention(fmt.Sprintf("operation %d, which removes what is kept no longer, was %s: what is left of its jobs goes for good then, unless it is set to be kept for longer", o.ID, what))
	}
}

// addOperation records an operation and its action.
func (tx *txn) addOperation(o *operation, by string) error {
	detail, err := json.Marshal(o.told.ActRequest)
	if err != nil {
		return err
	}
	if o.action, err = tx.e.store.InsertAction(tx.now, by, o.told.Action, 0, string(detail)); err != nil {
		return err
	}
	body, err := json.Marshal(o.told)
	if err != nil {
		return err
	}
	if o.told.ID, err = tx.e.store.AddOperation(o.action, o.told.State, string(body)); err != nil {
		return err
	}
	if job.Removes(o.told.Action) {
		tx.setRemoval(o.action, removal{last: tx.e.served(), underWay: true})
	}
	return nil
}

// finishedBy tells whether a row has finished before the cut of its queue and state.
func finishedBy(cuts map[string]map[job.State]job.UpTo, queue string, r *store.Row) bool {
	cut, is := cuts[queue][r.State]
	return is && (r.FinishedAt < cut.At || r.FinishedAt == cut.At && (cut.Job == 0 || r.ID <= cut.Job))
}
