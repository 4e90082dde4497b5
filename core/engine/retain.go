package engine

import (
	"errors"
	"sort"
	"time"

	"humblemule/core/job"
	"humblemule/core/store"
)

// Finished jobs that were kept long enough are removed in slices: each keeps the
// committer for no longer than that, and looks at so many jobs of a group.
const (
	retainFor   = 3 * time.Millisecond
	retainJobs  = 50
	retainEvery = time.Minute
	retainSoon  = 30 * time.Millisecond
)

// retain removes finished jobs that were kept long enough, oldest first, as far as a
// slice reaches; the next one goes on from there. A job that was requeued may finish
// long after those beside it: then it is met, and kept, before younger ones are looked
// at again.
func (tx *txn) retain() error {
	e := tx.e
	if tx.now < e.nextRetain {
		return nil
	}
	began := time.Now()
	if e.retained == 0 && len(e.view.queues) > 0 {
		if err := tx.forget(); err != nil {
			return err
		}
	}
	groups := tx.finishedGroups()
	tx.nextRetain, tx.retained = tx.now.Add(retainEvery), 0
	for i := e.retained; i < len(groups); i++ {
		again, err := tx.retainGroup(groups[i])
		if err != nil {
			return err
		}
		if again || time.Since(began) > retainFor {
			if !again {
				i++
			}
			tx.nextRetain, tx.retained = tx.now.Add(retainSoon), i
			return nil
		}
	}
	return nil
}

// forget drops what is kept beside the jobs, when it has become old: keys, the trends of
// causes, and causes that nothing has failed by for as long.
func (tx *txn) forget() error {
	const most = 4 * retainJobs
	since := tx.now.Add(-trendDays * 24 * time.Hour)
	gone, err := tx.e.store.DropCauses(since, most)
	tx.dropped = gone
	return errors.Join(err, tx.e.store.DropKeys(tx.now.Add(-job.LongestDedupe.Go()), most), tx.e.store.DropHours(int64(since)/hour, most))
}

// finishedGroups are the groups of finished jobs, in a steady order.
func (tx *txn) finishedGroups() (all []store.Group) {
	for _, q := range tx.e.view.queueOf {
		for task, counts := range q.tasks {
			for _, s := range job.States() {
				if s.Finished() && counts[s] > 0 {
					all = append(all, store.Group{Queue: q.id, Task: task, State: s})
				}
			}
		}
	}
	sort.Slice(all, func(i, j int) bool {
		a, b := all[i], all[j]
		return a.Queue < b.Queue || a.Queue == b.Queue && (a.Task < b.Task || a.Task == b.Task && a.State < b.State)
	})
	return all
}

// retainGroup removes jobs of one group, and tells whether more may follow.
func (tx *txn) retainGroup(g store.Group) (again bool, err error) {
	q := tx.queueOf(g.Queue)
	before := tx.now.Add(-tx.owned().Retention.For(tx.queueDefaults(q), g.State).Go())
	over := int64(0)
	if g.State == job.Done {
		over = q.byState()[job.Done] - tx.owned().Retention.Most()
	}
	rows, err := tx.e.store.Oldest(g.Queue, g.Task, g.State, retainJobs)
	if err != nil {
		return false, err
	}
	removed := int64(0)
	for _, r := range rows {
		if r.FinishedAt > before && removed >= over {
			continue
		}
		if err := tx.recount(r, -1); err != nil {
			return false, err
		}
		if r.Key != "" && (r.State == job.Done || r.State == job.Skipped) && r.EnqueuedAt.Add(job.LongestDedupe.Go()) > tx.now {
			if err := tx.e.store.KeepKey(r); err != nil {
				return false, err
			}
		}
		if err := errors.Join(tx.e.store.Sweep(r.ID), tx.leaveLane(r)); err != nil {
			return false, err
		}
		removed++
	}
	if removed == 0 {
		return false, nil
	}
	return len(rows) == retainJobs && removed > 0, tx.countPast(g, removed)
}

// countPast counts jobs whose rows are gone.
func (tx *txn) countPast(g store.Group, n int64) error {
	if tx.past == nil {
		tx.past = map[store.Group]int64{}
	}
	tx.past[g] += n
	return tx.e.store.CountPast(g.Queue, g.Task, g.State, n)
}

// publishPast keeps what was removed, and where the next slice goes on.
func (tx *txn) publishPast() {
	if tx.nextRetain != 0 {
		tx.e.nextRetain, tx.e.retained = tx.nextRetain, tx.retained
	}
	for g, n := range tx.past {
		tx.e.view.queueOf[g.Queue].past[g.State] += n
	}
}

// keeps tells how long finished jobs of a queue are kept, by state.
func (q *queue) keeps(r *job.Retention) map[job.State]job.Duration {
	all := map[job.State]job.Duration{}
	for _, s := range job.States() {
		if s.Finished() {
			all[s] = r.For(q.defaults, s)
		}
	}
	return all
}

// pastByState tells how many jobs of a queue were removed; nil where none were.
func (q *queue) pastByState() map[job.State]int64 {
	var all map[job.State]int64
	for _, s := range job.States() {
		if q.past[s] > 0 {
			if all == nil {
				all = map[job.State]int64{}
			}
			all[s] = q.past[s]
		}
	}
	return all
}
