package engine

import (
	"cmp"
	"fmt"
	"sync"
	"time"

	"humblemule/job"
)

// unserved remembers for a moment which queues no living worker serves, and which tasks
// none does there, so that an enqueue need not look through the workers.
type unserved struct {
	mu    sync.Mutex
	until time.Time
	known map[[2]string]*job.Warning // nil for a task that is done
}

// unservedFor is how long what was found is good.
const unservedFor = time.Second

// Unserved warns of those specs for which no living worker is there: once for each queue
// and task.
func (e *Engine) Unserved(specs []job.Spec) (all []job.Warning) {
	told := map[[2]string]bool{}
	for i := range specs {
		at := [2]string{e.queueOfSpec(&specs[i]), specs[i].Task}
		if told[at] {
			continue
		}
		told[at] = true
		if w := e.unservedAt(at); w != nil {
			all = append(all, *w)
		}
	}
	return all
}

// queueOfSpec is the queue in which a job of a spec waits.
func (e *Engine) queueOfSpec(s *job.Spec) string {
	if s.Queue != "" {
		return s.Queue
	}
	e.view.mu.RLock()
	defer e.view.mu.RUnlock()
	if d := e.view.taskDefaults[e.view.tasks[s.Task]]; d != nil {
		return cmp.Or(d.Queue, job.DefaultQueue)
	}
	return job.DefaultQueue
}

func (e *Engine) unservedAt(at [2]string) *job.Warning {
	const most = 10_000
	u := &e.unserved
	u.mu.Lock()
	defer u.mu.Unlock()
	if now := time.Now(); now.After(u.until) || len(u.known) > most {
		u.known, u.until = map[[2]string]*job.Warning{}, now.Add(unservedFor)
	}
	w, known := u.known[at]
	if !known {
		w = e.lookUnserved(at[0], at[1])
		u.known[at] = w
	}
	return w
}

// lookUnserved looks whether anybody takes jobs of a task from a queue; nil where somebody
// does.
func (e *Engine) lookUnserved(queue, task string) *job.Warning {
	service := e.registry.service(e.now())
	served, done := service.serves(queue, task)
	switch {
	case done > 0:
		return nil
	case served > 0:
		return &job.Warning{Code: job.WarnTaskUndone, Message: fmt.Sprintf("No worker of queue %s does the task %s%s: the job waits until one does.", queue, task, job.Perhaps(service.nearest(queue, task)))}
	}
	return &job.Warning{Code: job.WarnQueueUnserved, Message: fmt.Sprintf("No worker serves queue %s%s: the job waits until one does.", queue, job.Perhaps(job.Nearest(queue, service.queues())))}
}
