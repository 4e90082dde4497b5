package engine

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"humblemule/job"
)

// What is kept beside the jobs goes when nothing has needed it for long, some at a time.
const (
	leftoversEvery = 10 * time.Minute
	leftoversSoon  = 50 * time.Millisecond
	mostLeftovers  = 200
	workersKept    = 30 * 24 * time.Hour
	actionsKept    = 365 * 24 * time.Hour
	idleKept       = 30 * 24 * time.Hour
	seenEvery      = 12 * time.Hour // how often it is written that a worker was seen
)

// forget drops what has become old: keys, the trends of causes, causes that nothing has
// failed by for as long, workers, actions and operations, policies and names without a use.
func (tx *txn) forget() error {
	began := time.Now()
	if began.Before(tx.e.nextForget) || tx.passes(thingLeftovers, 0) {
		return nil
	}
	if tx.nextForget = began.Add(leftoversEvery); began.Before(tx.e.retainAfter) {
		return nil
	}
	since := tx.now.Add(-trendDays * 24 * time.Hour)
	gone, err := tx.e.store.DropCauses(since, mostLeftovers)
	tx.dropped = gone
	if err := errors.Join(err, tx.e.store.DropKeys(tx.now.Add(-job.LongestDedupe.Go()), mostLeftovers), tx.e.store.DropHours(int64(since)/hour, mostLeftovers)); err != nil {
		return err
	}
	workers, err := tx.forgetWorkers()
	if err != nil {
		return err
	}
	actions, err := tx.e.store.DropActions(tx.now.Add(-actionsKept), mostLeftovers)
	if err != nil {
		return err
	}
	policies, err := tx.forgetPolicies(began)
	if err != nil {
		return err
	}
	if policies || len(gone) == mostLeftovers || workers == mostLeftovers || actions == mostLeftovers {
		tx.nextForget = began.Add(leftoversSoon)
	}
	return errors.Join(tx.forgetQueues(), tx.forgetTasks())
}

// forgetWorkers writes of those that are there that they were seen, and drops the rows of
// those that were not for long.
func (tx *txn) forgetWorkers() (n int, err error) {
	g := &tx.e.registry
	present := map[int64]bool{}
	for uid, number := range g.numbers {
		seen := g.seenAt(uid)
		present[number] = seen != 0
		if seen == 0 || seen.Sub(tx.e.savedSeen[number]) < seenEvery || n == mostLeftovers {
			continue
		}
		if err := tx.e.store.SawWorker(number, seen); err != nil {
			return n, err
		}
		if tx.e.savedSeen == nil {
			tx.e.savedSeen = map[int64]job.Time{}
		}
		tx.e.savedSeen[number] = seen
		n++
	}
	old, err := tx.e.store.WorkersBefore(tx.now.Add(-workersKept), mostLeftovers)
	if err != nil {
		return n, err
	}
	for _, w := range old {
		if present[w.Number] {
			continue
		}
		if err := tx.e.store.DropWorker(w.Number); err != nil {
			return n, err
		}
		if tx.goneWorkers == nil {
			tx.goneWorkers = map[string]int64{}
		}
		tx.goneWorkers[w.UID] = w.Number
	}
	return max(n, len(old)), nil
}

// forgetQueues notes since when queues have been idle, and drops those that have been so
// for long.
func (tx *txn) forgetQueues() error {
	n := 0
	for _, q := range tx.e.view.queueOf {
		if n == mostLeftovers {
			return nil
		}
		idle := tx.idle(q)
		switch {
		case idle == (q.idleSince != 0) && (!idle || tx.now.Sub(q.idleSince) < idleKept):
			continue
		case idle && q.idleSince != 0:
			removed, err := tx.e.store.HasRemoved(q.id, 0)
			if err != nil {
				return err
			}
			if removed {
				continue
			}
			if err := tx.unmake(q); err != nil {
				return err
			}
		default:
			since := job.Time(0)
			if idle {
				since = tx.now
			}
			if tx.idleQueues == nil {
				tx.idleQueues = map[*queue]job.Time{}
			}
			tx.idleQueues[q] = since
			if err := tx.e.store.PutIdleQueue(q.id, since); err != nil {
				return err
			}
		}
		n++
	}
	return nil
}

// idle tells whether a queue has neither jobs nor settings and nobody has paused it.
func (tx *txn) idle(q *queue) bool {
	if tx.queueDefaults(q) != nil || tx.paused(q) || tx.walkOf(q) != nil || slices.Contains(tx.owned().Queues, q.name) {
		return false
	}
	total := stateCounts{}
	for _, counts := range q.tasks {
		for s, n := range counts {
			total[s] += n
		}
	}
	for g, d := range tx.counts {
		if g.queue == q.id {
			for s, n := range d {
				total[s] += n
			}
		}
	}
	return total == stateCounts{}
}

// forgetTasks is forgetQueues for tasks.
func (tx *txn) forgetTasks() error {
	n := 0
	v := &tx.e.view
	for id, name := range v.taskName {
		if n == mostLeftovers {
			return nil
		}
		idle, since := tx.idleTask(id), v.taskIdle[id]
		switch {
		case idle == (since != 0) && (!idle || tx.now.Sub(since) < idleKept):
			continue
		case idle && since != 0:
			removed, err := tx.e.store.HasRemoved(0, id)
			if err != nil {
				return err
			}
			if removed {
				continue
			}
			if err := tx.unmakeTask(id, name); err != nil {
				return err
			}
		default:
			since = 0
			if idle {
				since = tx.now
			}
			if tx.idleTasks == nil {
				tx.idleTasks = map[int64]job.Time{}
			}
			tx.idleTasks[id] = since
			if err := tx.e.store.PutIdleTask(id, since); err != nil {
				return err
			}
		}
		n++
	}
	return nil
}

// idleTask tells whether a task has neither jobs nor settings.
func (tx *txn) idleTask(id int64) bool {
	if tx.taskDefaults(id) != nil || slices.Contains(tx.owned().Tasks, tx.taskName(id)) {
		return false
	}
	for _, q := range tx.e.view.queueOf {
		if c := q.tasks[id]; c != nil && *c != (stateCounts{}) {
			return false
		}
	}
	for g, d := range tx.counts {
		if g.task == id && *d != (stateCounts{}) {
			return false
		}
	}
	return true
}

// unmakeTask removes a task that has no jobs, with what is counted of those it had.
func (tx *txn) unmakeTask(id int64, name string) error {
	past, err := tx.e.store.PastOfTask(id)
	if err != nil {
		return err
	}
	if tx.unmadeTasks == nil {
		tx.unmadeTasks = map[int64]string{}
	}
	tx.unmadeTasks[id] = name
	queues := map[int64]bool{}
	for _, q := range tx.e.view.queueOf {
		if q.tasks[id] != nil {
			queues[q.id] = true
		}
	}
	for _, c := range past {
		queues[c.Queue] = true
	}
	if err := tx.e.store.DropTask(id, slices.Sorted(maps.Keys(queues))); err != nil {
		return err
	}
	for _, c := range past {
		if q := tx.queueOf(c.Queue); q != nil {
			if tx.lessPast == nil {
				tx.lessPast = map[*queue]stateCounts{}
			}
			less := tx.lessPast[q]
			less[c.State] += c.N
			tx.lessPast[q] = less
		}
	}
	return nil
}

// DeleteQueue removes a queue that has neither jobs nor settings, with what is counted of
// the jobs it had. It comes back with its next job.
func (e *Engine) DeleteQueue(ctx context.Context, name string) error {
	return e.record(ctx, "delete_queue", 0, map[string]string{"queue": name}, func(tx *txn) (func(int64) error, error) {
		q := tx.queue(name)
		if q == nil {
			return nil, noQueue(name)
		}
		removed, err := tx.e.store.HasRemoved(q.id, 0)
		switch {
		case err != nil:
			return nil, err
		case removed:
			return nil, job.Fault(job.WrongState, "queue %s has jobs that were removed and can still be brought back; delete it when they are gone, in %s at most", name, job.Roughly(restorableFor))
		case !tx.idle(q):
			return nil, job.Fault(job.WrongState, "queue %s has jobs or settings, or is paused; only a queue without any can be deleted: cancel and discard its jobs, take its settings away, and resume it first", name)
		}
		return nil, tx.unmake(q)
	})
}

// DeleteTask removes a task that has neither jobs nor settings, with what is counted of
// the jobs it had. It comes back with its next job.
func (e *Engine) DeleteTask(ctx context.Context, name string) error {
	return e.record(ctx, "delete_task", 0, map[string]string{"task": name}, func(tx *txn) (func(int64) error, error) {
		id := tx.task(name)
		if id == 0 {
			return nil, job.Fault(job.NotFound, "there is no task %q; a task exists from its first job", name)
		}
		removed, err := tx.e.store.HasRemoved(0, id)
		switch {
		case err != nil:
			return nil, err
		case removed:
			return nil, job.Fault(job.WrongState, "task %s has jobs that were removed and can still be brought back; delete it when they are gone, in %s at most", name, job.Roughly(restorableFor))
		case !tx.idleTask(id):
			return nil, job.Fault(job.WrongState, "task %s has jobs or settings; only a task without any can be deleted: cancel and discard its jobs and take its settings away first", name)
		}
		return nil, tx.unmakeTask(id, name)
	})
}

// publishLeftovers makes what was dropped unknown. The caller holds the view's lock.
func (tx *txn) publishLeftovers() {
	e, v := tx.e, &tx.e.view
	for uid, number := range tx.goneWorkers {
		delete(e.registry.numbers, uid)
		delete(e.versions, number)
		delete(e.savedSeen, number)
	}
	for q, since := range tx.idleQueues {
		q.idleSince = since
	}
	for id, since := range tx.idleTasks {
		v.taskIdle[id] = since
	}
	for q, less := range tx.lessPast {
		for s, n := range less {
			q.past[s] -= n
		}
	}
	for id, name := range tx.unmadeTasks {
		delete(v.tasks, name)
		delete(v.taskName, id)
		delete(v.taskDefaults, id)
		delete(v.taskVersion, id)
		delete(v.taskRunning, id)
		delete(v.taskIdle, id)
		delete(v.taskMadeBy, id)
		delete(v.usual, id)
		for _, q := range v.queueOf {
			delete(q.tasks, id)
		}
	}
}
