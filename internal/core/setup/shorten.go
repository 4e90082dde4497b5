package setup

import (
	"context"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Where finished jobs are to be kept for a shorter time, or fewer of them, those that are
// kept no longer are removed by an operation, which can be undone; what ordinary retention
// removes is gone for good. Retention rests while such an operation is under way, and for a
// while after one was stopped or undone, so that there is time to set it back.

// keeping is how long finished jobs are kept, and how many done ones a queue keeps.
type keeping struct {
	retention *api.Retention
	// of gives the settings of a queue. The caller holds the memory's read lock.
	of func(q *memory.Named) *api.Defaults
}

// keepingNow is what holds now.
func (se *Setter) keepingNow() keeping {
	se.m.RLock()
	defer se.m.RUnlock()
	return keeping{se.m.Settings.KeptOwned().Retention, func(q *memory.Named) *api.Defaults { return se.m.Settings.KeptQueue(q.ID).Defaults }}
}

// keepingWith is what will hold when a setup is loaded.
func (se *Setter) keepingWith(req *api.SetupRequest) keeping {
	se.m.RLock()
	defined := se.m.Settings.KeptOwned().Queues
	se.m.RUnlock()
	return keeping{req.Retention, func(q *memory.Named) *api.Defaults {
		if d, named := req.Queues[q.Name]; named {
			return &d
		}
		if slices.Contains(defined, q.Name) {
			return nil // it is taken away
		}
		return se.m.Settings.KeptQueue(q.ID).Defaults
	}}
}

// leaving are the jobs that are kept no longer.
type leaving struct {
	cuts map[string]map[job.State]api.UpTo
	n    int64
}

// leavingBy finds the jobs that are kept before and not after.
func (se *Setter) leavingBy(ctx context.Context, before, after keeping) (all leaving, err error) {
	type group struct {
		queue string
		id    int64
		state job.State
		cut   job.Time // 0 where it is kept as long as before
		over  int64    // done jobs beyond those that the queue keeps
	}
	var groups []group
	now := se.c.Now()
	se.m.RLock()
	for _, q := range se.m.Queues.AllKept() {
		counts := se.m.Counts.KeptQueue(q.ID)
		for _, s := range job.FinishedStates() {
			have := counts[s]
			if have == 0 {
				continue
			}
			g := group{queue: q.Name, id: q.ID, state: s}
			if keep := after.retention.For(after.of(q), s); keep < before.retention.For(before.of(q), s) {
				g.cut = now.Add(-keep.Go())
			}
			if most := after.retention.MaxDoneJobs(); s == job.Done && most < before.retention.MaxDoneJobs() {
				g.over = max(have-most, 0)
			}
			if g.cut != 0 || g.over != 0 {
				groups = append(groups, g)
			}
		}
	}
	se.m.RUnlock()
	all.cuts = map[string]map[job.State]api.UpTo{}
	for _, g := range groups {
		cut := api.UpTo{At: g.cut}
		if g.over > 0 {
			last, err := se.c.Store.NthFinished(ctx, g.id, g.state, g.over)
			if err != nil {
				return all, err
			}
			if last.At > cut.At {
				cut = last
			}
		}
		n, err := se.c.Store.CountFinished(ctx, g.id, g.state, cut)
		if err != nil {
			return all, err
		}
		if n > 0 {
			if all.cuts[g.queue] == nil {
				all.cuts[g.queue] = map[job.State]api.UpTo{}
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
func (se *Setter) shorten(ctx context.Context, why string, removes bool, before, after keeping, apply func(also commit.Write) error) (operation int64, err error) {
	defer se.m.Retention.Hold()()
	gone, err := se.leavingBy(ctx, before, after)
	switch {
	case err != nil:
		return 0, err
	case gone.n == 0:
		return 0, apply(func(*commit.Tx) error { return nil })
	case !removes:
		return 0, job.Fault(job.WouldRemove, "%s no longer be kept with these settings; if you mean that, say may_remove (--may-remove in a command): an operation then removes them, and can be undone. Nothing was changed", sentence.Count(gone.n, "finished job would", "finished jobs would"))
	}
	o := se.bulk.NewOperation(ctx, api.ActRequest{Action: api.ActDiscard, Filter: &api.Selection{States: job.FinishedStates(), FinishedBy: gone.cuts}, Note: why})
	o.Matches(gone.n)
	if err := apply(func(tx *commit.Tx) error { return o.Add(tx, commit.CallOf(ctx).Principal) }); err != nil || o.ID() == 0 {
		return 0, err
	}
	se.bulk.Start(o)
	return o.ID(), nil
}
