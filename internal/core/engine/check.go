package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"humblemule/job"
)

// Check lists all that is wrong with what the service does: every group of jobs that nobody
// takes, queues that are paused or misspelt, schedules that fail, what points at nothing,
// timed work that is set aside, and a retention that rests.
func (e *Engine) Check(ctx context.Context) (all []job.Finding, err error) {
	queues, err := e.Queues(ctx)
	if err != nil {
		return nil, err
	}
	now := e.now()
	wrong := func(what, format string, args ...any) {
		all = append(all, job.Finding{Kind: job.FoundWrong, What: what, Says: fmt.Sprintf(format, args...)})
	}
	for _, u := range e.untaken("", now) {
		wrong("queues", "%s", u.say().Text)
	}
	for _, q := range queues {
		if q.Paused && q.Counts[job.Ready] > 0 {
			wrong("queues", "%s", sayPaused(q))
		}
	}
	for _, t := range e.typos(now) {
		wrong("queues", "%s", t.say())
	}
	for _, f := range e.failing() {
		wrong("schedules", "%s", f.say().Text)
	}
	for _, text := range e.pointless(queues) {
		wrong("settings", "%s", text)
	}
	for _, a := range e.SetAside() {
		wrong("timed", "%s", a)
	}
	if note := e.Resting(); note != "" {
		all = append(all, job.Finding{Kind: job.FoundNote, What: "retention", Says: note})
	}
	return all, nil
}

// pointless lists schedules and settings whose jobs would wait for nobody: in a queue that
// is not there and that nobody serves, or for a task that no worker does.
func (e *Engine) pointless(queues []job.Queue) (all []string) {
	jobs := map[string]job.Spec{}
	e.view.mu.RLock()
	for name, s := range e.view.schedules {
		if !s.gone() && s.row.PausedAt == 0 {
			jobs["Schedule "+name] = s.is.Job
		}
	}
	for task, d := range e.view.taskDefaults {
		if d != nil && d.Queue != "" {
			jobs["The setting of task "+e.view.taskName[task]] = job.Spec{Queue: d.Queue}
		}
	}
	e.view.mu.RUnlock()
	var names []string
	for _, q := range queues {
		names = append(names, q.Name)
	}
	service := e.registry.service(e.now())
	for _, what := range slices.Sorted(maps.Keys(jobs)) {
		spec := jobs[what]
		queue := e.queueOfSpec(&spec)
		switch served, does := service.serves(queue, spec.Task); {
		case served == 0 && !slices.Contains(names, queue):
			all = append(all, fmt.Sprintf("%s names queue %s, which is not there and which nobody serves%s.", what, queue, job.Perhaps(job.Nearest(queue, names))))
		case spec.Task != "" && served > 0 && does == 0:
			all = append(all, fmt.Sprintf("%s enqueues the task %s in queue %s, and no worker there does it%s.", what, spec.Task, queue, job.Perhaps(service.nearest(queue, spec.Task))))
		}
	}
	return all
}

func sayPaused(q job.Queue) string {
	return fmt.Sprintf("Queue %s has been paused by %s since %s; nothing of it starts.", q.Name, q.PausedBy, q.PausedAt)
}

func (t typo) say() string {
	return fmt.Sprintf("Worker %s serves queue %s, which has no jobs%s.", t.worker, t.queue, job.Perhaps(t.nearest))
}

// Notes are what readyz tells of beside that the service is ready.
func (e *Engine) Notes() (all []string) {
	for _, a := range e.SetAside() {
		all = append(all, a.String())
	}
	if note := e.Resting(); note != "" {
		all = append(all, note)
	}
	return all
}
