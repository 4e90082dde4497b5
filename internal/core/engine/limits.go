package engine

import (
	"fmt"
	"time"

	"humblemule/job"
)

// startsKept is how many of the latest starts of a queue are kept in memory.
const startsKept = 1000

// running counts the running jobs of a queue, and those of a task over all queues, as
// the transaction sees them. A job whose lease has ended counts until it is given back.
func (tx *txn) running(q *queue) int64 { return q.running + tx.runningOf[groupID{queue: q.id}] }

func (tx *txn) taskRunning(task int64) int64 {
	return tx.e.view.taskRunning[task] + tx.runningOf[groupID{task: task}]
}

// countRunning counts a job that begins or ends to run.
func (tx *txn) countRunning(queue, task, by int64) {
	if tx.runningOf == nil {
		tx.runningOf = map[groupID]int64{}
	}
	tx.runningOf[groupID{queue: queue}] += by
	tx.runningOf[groupID{task: task}] += by
}

// mayStart tells whether the limits of a queue let another job start.
func (tx *txn) mayStart(q *queue) bool {
	rules := tx.rules(q)
	if rules.Full(tx.running(q)) {
		return false
	}
	if rules.Rate == nil {
		return true
	}
	now := time.Now()
	if q.bucket.Free(now, rules.Rate.PerSecond, *rules.Rate.Burst) > tx.starts[q] {
		return true
	}
	next := now.Add(q.bucket.Next(now, rules.Rate.PerSecond, *rules.Rate.Burst))
	if tx.starts[q] > 0 { // those of this transaction are not taken out of it yet
		next = now.Add(time.Duration(float64(time.Second) / rules.Rate.PerSecond))
	}
	q.nextStart.Store(next.UnixMilli())
	if tx.nextStart.IsZero() || next.Before(tx.nextStart) {
		tx.nextStart = next
	}
	return false
}

// fill lets the tokens of a queue's rate come in. They do from the first time on: the start
// of the service, or the moment at which the rate was set.
func (q *queue) fill() {
	if rate := q.rules.Rate; rate != nil {
		q.bucket.Free(time.Now(), rate.PerSecond, *rate.Burst)
	}
}

// taskMayStart tells whether the limit of a task lets another of its jobs start.
func (tx *txn) taskMayStart(task int64) bool {
	d := tx.taskDefaults(task)
	return d == nil || !d.Full(tx.taskRunning(task))
}

// limited tells whether a queue has a limit, so that no job of it is held ahead.
func limited(rules *job.Rules) bool { return rules.MaxRunning != nil || rules.Rate != nil }

// started charges a start to the rate of its queue.
func (tx *txn) started(q *queue, s job.Start) {
	if tx.starts == nil {
		tx.starts, tx.startLog = map[*queue]int{}, map[*queue][]job.Start{}
	}
	tx.starts[q]++
	tx.startLog[q] = append(tx.startLog[q], s)
}

// publishStarts takes the tokens of what was started. They never come back.
func (tx *txn) publishStarts() {
	v := &tx.e.view
	for g, by := range tx.runningOf {
		if g.queue != 0 {
			v.queueOf[g.queue].running += by
		} else {
			v.taskRunning[g.task] += by
		}
	}
	for q, n := range tx.starts {
		if q.rules.Rate != nil {
			q.fill()
			q.bucket.Take(n)
		}
		q.starts = append(q.starts, tx.startLog[q]...)
		if over := len(q.starts) - 2*startsKept; over > 0 {
			q.starts = append([]job.Start(nil), q.starts[len(q.starts)-startsKept:]...)
		}
	}
}

// limitOf says in words which limit keeps a job from starting; empty for none.
func (tx *txn) limitOf(q *queue, task int64) string {
	rules := tx.rules(q)
	switch {
	case rules.Full(tx.running(q)):
		return fmt.Sprintf("queue %s has %d running, of which there may be %d", q.name, tx.running(q), *rules.MaxRunning)
	case !tx.mayStart(q):
		return fmt.Sprintf("queue %s starts no more by its rate for now", q.name)
	case !tx.taskMayStart(task):
		return fmt.Sprintf("task %s has %d running, of which there may be %d", tx.taskName(task), tx.taskRunning(task), *tx.taskDefaults(task).MaxRunning)
	}
	return ""
}
