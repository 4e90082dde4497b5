package deal

import (
	"context"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/job"
)

// The service has slots of its own, for calls. They take calls alone, from whatever queue has any, and
// nobody else takes one.

type byService struct{}

// ByService gives the context of a request for jobs that the service makes for its own slots.
func ByService(ctx context.Context) context.Context { return context.WithValue(ctx, byService{}, true) }

func isByService(ctx context.Context) bool { return ctx.Value(byService{}) != nil }

// callsWaitIn is under what the takes of the service are parked, whatever the queue; no queue has that name.
const callsWaitIn = ""

// calling are the queues in which calls are, or were, ready. The committer alone reads and writes it.
type calling struct {
	queues map[string]bool
	loaded bool
	// more tells that the takes of the service are to be dealt to again, after the transaction.
	more bool
}

// seen notes that calls are ready in a queue.
func (c *calling) seen(queue string) {
	if c.loaded {
		c.queues[queue] = true
	}
}

// in lists the queues in which calls are ready, by name.
func (c *calling) in(tx *commit.Tx) (all []string) {
	if !c.loaded {
		c.queues, c.loaded = map[string]bool{}, true
		for _, q := range tx.Queues.All() {
			c.queues[q.Name] = true
		}
	}
	for name := range c.queues {
		q := tx.Queues.Find(name)
		if q == nil || !hasCalls(tx, q.ID) {
			delete(c.queues, name)
			continue
		}
		all = append(all, name)
	}
	slices.Sort(all)
	return all
}

// hasCalls tells whether calls are ready in a queue.
func hasCalls(tx *commit.Tx, queue int64) bool {
	for task := range tx.Counts.TasksOf(queue) {
		if tx.Settings.MakesCalls(task) && tx.Counts.Group(groupOf(queue, task))[job.Ready] > 0 {
			return true
		}
	}
	return false
}

// CallRules are the rules by which the answers to a task's calls are judged; nil for those that are built in.
func (de *Dealer) CallRules(task string) *api.Calls {
	de.m.RLock()
	defer de.m.RUnlock()
	if d := de.m.Settings.KeptTask(de.m.Tasks.KeptID(task)).Defaults; d != nil {
		return d.Calls
	}
	return nil
}

// CallsServed tells which tasks make calls, and in which queues their jobs are, or would be: what the
// service's own slots serve.
func (de *Dealer) CallsServed() (queues, tasks []string) {
	m := de.m
	m.RLock()
	defer m.RUnlock()
	for id, t := range m.Tasks.AllKept() {
		if !m.Settings.KeptMakesCalls(id) {
			continue
		}
		tasks = append(tasks, t.Name)
		switch d := m.Settings.KeptTask(id).Defaults; {
		case job.IsOwn(t.Name):
			queues = append(queues, job.NoticeQueue)
		case d.Queue != "":
			queues = append(queues, d.Queue)
		default:
			queues = append(queues, job.DefaultQueue)
		}
		for _, q := range m.Queues.AllKept() {
			if n := m.Counts.KeptGroup(groupOf(q.ID, id)); n.Waiting()+n[job.Running] > 0 {
				queues = append(queues, q.Name)
			}
		}
	}
	slices.Sort(queues)
	slices.Sort(tasks)
	return slices.Compact(queues), tasks
}
