package deal

import (
	"fmt"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/job"
)

// mayStart tells whether the limits of a queue let another job start.
func mayStart(v *commit.View, q *memory.Named) bool {
	rules := v.Settings.Rules(q)
	return !rules.Full(v.Counts.Queue(q.ID)[job.Running]) && (rules.Rate == nil || v.Limits.Free(q, rules.Rate))
}

// mayStartOrWaits is mayStart for a take, which waits for the rate of the queue where that is
// what keeps it.
func mayStartOrWaits(tx *commit.Tx, q *memory.Named) bool {
	rules := tx.Settings.Rules(q)
	may := mayStart(tx.View(), q)
	if !may && !rules.Full(tx.Counts.Queue(q.ID)[job.Running]) {
		tx.Limits.Await(q, rules.Rate)
	}
	return may
}

// taskMayStart tells whether the limit of a task lets another of its jobs start.
func taskMayStart(v *commit.View, task int64) bool {
	d := v.Settings.Task(task)
	return d == nil || !d.Full(v.Counts.Task(task)[job.Running])
}

// limited tells whether a queue has a limit, so that no job of it is held ahead.
func limited(rules *api.Rules) bool { return rules.MaxRunning != nil || rules.Rate != nil }

// limitOf says in words which limit keeps a job from starting; empty for none.
func limitOf(v *commit.View, q *memory.Named, task int64) string {
	rules := v.Settings.Rules(q)
	switch {
	case rules.Full(v.Counts.Queue(q.ID)[job.Running]):
		return fmt.Sprintf("queue %s has %d running, at most %d are allowed", q.Name, v.Counts.Queue(q.ID)[job.Running], *rules.MaxRunning)
	case !mayStart(v, q):
		return fmt.Sprintf("queue %s has reached its rate for now", q.Name)
	case !taskMayStart(v, task):
		return fmt.Sprintf("task %s has %d running, at most %d are allowed", v.Tasks.Name(task), v.Counts.Task(task)[job.Running], *v.Settings.Task(task).MaxRunning)
	}
	return ""
}
