package read

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/status"
	"humblemule.example/internal/nearest"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Check lists all that is wrong with what the service does: every group of jobs that nobody
// takes, queues that are paused or misspelt, schedules that fail, what points at nothing,
// timed work that is set aside, backups that fail, and a retention that rests.
func (rd *Reader) Check(ctx context.Context) (all []api.Finding, err error) {
	in := scope.Of(ctx)
	if err := scope.Whole(ctx); err != nil {
		return nil, err
	}
	queues, err := rd.Queues(ctx)
	if err != nil {
		return nil, err
	}
	now := rd.clock.Now()
	wrong := func(what, format string, args ...any) {
		all = append(all, api.Finding{Kind: api.FoundWrong, What: what, Summary: fmt.Sprintf(format, args...)})
	}
	for _, u := range rd.untaken(in, "", now) {
		wrong("queues", "%s", u.Say())
	}
	for _, q := range queues {
		if q.Paused && q.Counts[job.Ready] > 0 {
			wrong("queues", "%s", status.Paused(&q))
		}
	}
	for _, t := range rd.typos(in, now) {
		wrong("queues", "%s", status.Misspelt(&t))
	}
	for _, f := range rd.failing(in, now, status.FewestFailed, status.LateBy) {
		wrong("schedules", "%s", status.Runs(&f))
	}
	stuck, err := rd.stuckBatches(ctx)
	if err != nil {
		return nil, err
	}
	for i := range stuck {
		wrong("batches", "%s %s", status.Stuck(&stuck[i]), stuck[i].Summary)
	}
	for _, text := range rd.pointless(queues) {
		wrong("settings", "%s", text)
	}
	for _, h := range rd.silentHosts() {
		wrong("calls", "%s", status.Answerless(&h))
	}
	hooks, notes := rd.hooksWrong()
	for _, text := range hooks {
		wrong("hooks", "Hook %s refuses every delivery: %s.", text.Name, text.Why)
	}
	for _, text := range notes {
		all = append(all, api.Finding{Kind: api.FoundNote, What: "hooks", Summary: text})
	}
	for _, e := range rd.pausedEndpoints() {
		wrong("endpoints", "%s", status.Resting(&e))
	}
	for _, text := range rd.alertsWrong() {
		wrong("alerts", "%s", text)
	}
	for _, a := range rd.setAside() {
		wrong("timed", "%s", a)
	}
	if text := rd.told.BackupsWrong(); text != "" {
		wrong("backups", "%s", text)
	}
	if note := rd.Resting(); note != "" {
		all = append(all, api.Finding{Kind: api.FoundNote, What: "retention", Summary: note})
	}
	return all, nil
}

// pointless lists schedules, hooks and settings whose jobs would wait for nobody: in a queue that
// is not there and that nobody serves, or for a task that no worker does.
func (rd *Reader) pointless(queues []api.Queue) (all []string) {
	jobs := map[string]job.Spec{}
	rd.m.RLock()
	for name, s := range rd.m.Schedules.AllKept() {
		if !s.Gone() && s.Row.PausedAt == 0 {
			for i, spec := range s.Is.Specs() {
				what := "Schedule " + name
				if s.Is.Batch != nil {
					what = fmt.Sprintf("Job %d of the batch of schedule %s", i+1, name)
				}
				jobs[what] = *spec
			}
		}
	}
	for name, h := range rd.m.Hooks.AllKept() {
		jobs["Hook "+name] = h.Is.Spec()
	}
	for id, t := range rd.m.Tasks.AllKept() {
		if d := rd.m.Settings.KeptTask(id).Defaults; d != nil && d.Queue != "" {
			jobs["The setting of task "+t.Name] = job.Spec{Queue: d.Queue}
		}
	}
	rd.m.RUnlock()
	var names []string
	for _, q := range queues {
		names = append(names, q.Name)
	}
	service := rd.m.Workers.Presence.Service(rd.clock.Now())
	for _, what := range slices.Sorted(maps.Keys(jobs)) {
		spec := jobs[what]
		queue := rd.queueOfSpec(&spec)
		switch served, does := service.Serves(queue, spec.Task); {
		case served == 0 && !slices.Contains(names, queue):
			all = append(all, fmt.Sprintf("%s names queue %s, which does not exist and which no worker serves%s.", what, queue, sentence.Perhaps(nearest.To(queue, names))))
		case spec.Task != "" && served > 0 && does == 0:
			all = append(all, fmt.Sprintf("%s enqueues the task %s in queue %s, and no worker there does it%s.", what, spec.Task, queue, sentence.Perhaps(service.Nearest(queue, spec.Task))))
		}
	}
	return all
}

// Notes are what readyz tells of beside that the service is ready.
func (rd *Reader) Notes() (all []string) {
	for _, a := range rd.setAside() {
		all = append(all, a.String())
	}
	if note := rd.Resting(); note != "" {
		all = append(all, note)
	}
	return all
}

// Resting says why finished jobs are not removed for now; empty where they are.
func (rd *Reader) Resting() string {
	rd.m.RLock()
	defer rd.m.RUnlock()
	return rd.m.Retention.KeptRest()
}

// unserved remembers for a moment which queues no living worker serves, and which tasks
// none does there, so that an enqueue need not look through the workers.
type unserved struct {
	mu    *sync.Mutex
	until time.Time
	known map[[2]string]*job.Warning // nil for a task that is done
}

// unservedFor is how long what was found is good.
const unservedFor = time.Second

// Unserved warns of those specs for which no living worker is there: once for each queue
// and task.
func (rd *Reader) Unserved(specs []job.Spec) (all []job.Warning) {
	told := map[[2]string]bool{}
	for i := range specs {
		at := [2]string{rd.queueOfSpec(&specs[i]), specs[i].Task}
		if told[at] {
			continue
		}
		told[at] = true
		if w := rd.UnservedAt(at); w != nil {
			all = append(all, *w)
		}
	}
	return all
}

// queueOfSpec is the queue in which a job of a spec waits.
func (rd *Reader) queueOfSpec(s *job.Spec) string {
	if s.Queue != "" {
		return s.Queue
	}
	rd.m.RLock()
	defer rd.m.RUnlock()
	if d := rd.m.Settings.KeptTask(rd.m.Tasks.KeptID(s.Task)).Defaults; d != nil {
		return cmp.Or(d.Queue, job.DefaultQueue)
	}
	return job.DefaultQueue
}

// UnservedAt warns where no living worker is there for a queue and a task; nil where one is.
func (rd *Reader) UnservedAt(at [2]string) *job.Warning {
	const most = 10_000
	u := &rd.unserved
	u.mu.Lock()
	defer u.mu.Unlock()
	if now := time.Now(); now.After(u.until) || len(u.known) > most {
		u.known, u.until = map[[2]string]*job.Warning{}, now.Add(unservedFor)
	}
	w, known := u.known[at]
	if !known {
		w = rd.lookUnserved(at[0], at[1])
		u.known[at] = w
	}
	return w
}

// lookUnserved looks whether anybody takes jobs of a task from a queue; nil where somebody
// does.
func (rd *Reader) lookUnserved(queue, task string) *job.Warning {
	rd.m.RLock()
	calls := rd.m.Settings.KeptMakesCalls(rd.m.Tasks.KeptID(task))
	rd.m.RUnlock()
	if calls {
		return nil // the service does it itself, whatever the queue
	}
	service := rd.m.Workers.Presence.Service(rd.clock.Now())
	served, done := service.Serves(queue, task)
	switch {
	case done > 0:
		return nil
	case served > 0:
		return &job.Warning{Code: job.WarnTaskUndone, Message: fmt.Sprintf("No worker of queue %s does the task %s%s: the job waits until one does.", queue, task, sentence.Perhaps(service.Nearest(queue, task)))}
	}
	return &job.Warning{Code: job.WarnQueueUnserved, Message: fmt.Sprintf("No worker serves queue %s%s: the job waits until one does.", queue, sentence.Perhaps(nearest.To(queue, service.Queues())))}
}
