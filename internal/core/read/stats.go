package read

import (
	"context"
	"fmt"
	"sort"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/trend"
	"humblemule.example/internal/nearest"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Stats tells how things stand now, of one queue or, where it is empty, of all.
func (rd *Reader) Stats(ctx context.Context, queueName string) (api.Stats, error) {
	now := rd.clock.Now()
	in := scope.Of(ctx)
	queues, err := rd.Queues(ctx)
	if err != nil {
		return api.Stats{}, err
	}
	s := api.Stats{AsOf: now, WindowMS: rd.window(now).Milliseconds(), Counts: everyState(), Moves: []api.MoveCount{}, Queues: queues}
	said := standing{counts: s.Counts, untaken: rd.untaken(in, queueName, now), typos: rd.typos(in, now), failing: rd.failing(in)}
	known := queueName == ""
	for _, q := range queues {
		if queueName != "" && q.Name != queueName {
			continue
		}
		known = true
		for state, n := range q.Counts {
			s.Counts[state] += n
		}
		if q.Paused {
			said.paused = append(said.paused, q)
		}
	}
	if !known {
		return s, NoQueue(queueName)
	}
	for m, n := range rd.movesOf(in, queueName, now) {
		s.Moves = append(s.Moves, api.MoveCount{From: m.From, To: m.To, Count: n})
		if m.From == job.Running && (m.To == job.Backoff || m.To == job.Dead) {
			said.failed += n
		}
	}
	sort.Slice(s.Moves, func(i, j int) bool {
		a, b := s.Moves[i], s.Moves[j]
		return a.From < b.From || a.From == b.From && a.To < b.To
	})
	s.Summary = says(said)
	return s, nil
}

// failing finds the schedules whose latest runs have died, the most first.
func (rd *Reader) failing(in scope.Scope) (all []failing) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	for name, s := range rd.m.Schedules.AllKept() {
		if s.Row.Failed >= fewestFailed && !s.Gone() && s.Row.PausedAt == 0 && in.Sees(rd.keptGoesTo(s)) {
			all = append(all, failing{name, s.Row.Failed, s.Row.LastDone})
		}
	}
	sort.Slice(all, func(i, j int) bool {
		return all[i].runs > all[j].runs || all[i].runs == all[j].runs && all[i].schedule < all[j].schedule
	})
	return all
}

// movesOf counts the moves of one queue's jobs or, without a name, of all in the scope.
func (rd *Reader) movesOf(in scope.Scope, queueName string, now job.Time) map[trend.Move]int64 {
	rd.m.RLock()
	defer rd.m.RUnlock()
	if queueName == "" && !in.Whole() {
		all := map[trend.Move]int64{}
		for id, q := range rd.m.Queues.AllKept() {
			if in.Sees(q.Name, "") {
				for m, n := range rd.m.Trends.KeptMoves(now, id) {
					all[m] += n
				}
			}
		}
		return all
	}
	return rd.m.Trends.KeptMoves(now, rd.m.Queues.KeptID(queueName))
}

// untaken finds ready jobs that no living worker takes, most jobs first. A queue
// that nobody serves is one entry; in one that is served, each task is.
func (rd *Reader) untaken(in scope.Scope, queueName string, now job.Time) (all []untaken) {
	service := rd.m.Workers.Presence.Service(now)
	unserved := map[string]int64{}
	rd.m.RLock()
	for id, q := range rd.m.Queues.AllKept() {
		if queueName != "" && q.Name != queueName || rd.m.Settings.KeptPause(id).At != 0 {
			continue
		}
		for _, task := range rd.m.Counts.KeptTasksOf(id) {
			ready, name := rd.m.Counts.KeptGroup(memory.Group{Queue: id, Task: task})[job.Ready], rd.m.Tasks.KeptName(task)
			if ready == 0 || !in.Sees(q.Name, name) {
				continue
			}
			served, does := service.Serves(q.Name, name)
			if served == 0 {
				unserved[q.Name] += ready
			} else if does == 0 {
				all = append(all, untaken{queue: q.Name, task: name, ready: ready, queueServed: true, nearest: service.Nearest(q.Name, name)})
			}
		}
	}
	rd.m.RUnlock()
	for name, n := range unserved {
		all = append(all, untaken{queue: name, ready: n})
	}
	sort.Slice(all, func(i, j int) bool {
		a, b := all[i], all[j]
		if a.ready != b.ready {
			return a.ready > b.ready
		}
		return a.queue+a.task < b.queue+b.task
	})
	return all
}

// typos finds queues that a living worker serves and that are not there, where
// one that is there is perhaps meant.
func (rd *Reader) typos(in scope.Scope, now job.Time) (all []typo) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	names := make([]string, 0, rd.m.Queues.NumKept())
	for _, q := range rd.m.Queues.AllKept() {
		if in.Sees(q.Name, "") {
			names = append(names, q.Name)
		}
	}
	for _, w := range rd.m.Workers.Presence.Service(now) {
		for _, name := range memory.Unique(w.Queues()) {
			if rd.m.Queues.KeptNamed(name) != nil || !in.Sees(name, "") {
				continue
			}
			if nearest := nearest.To(name, names); nearest != "" {
				all = append(all, typo{w.Name, name, nearest})
			}
		}
	}
	return all
}

// standing is what the sentence on how things stand is made of.
type standing struct {
	counts map[job.State]int64
	// failed is how many attempts failed within the last minute.
	failed int64
	// untaken are ready jobs that no living worker takes, by queue and task.
	untaken []untaken
	// paused are queues that somebody has paused.
	paused []api.Queue
	// typos are queues that are served and not there, with one that is.
	typos []typo
	// failing are schedules whose latest runs have died, the most first.
	failing []failing
}

type failing struct {
	schedule string
	runs     int64
	lastDone job.Time
}

// fewestFailed is how many runs must have died in a row before the sentence tells of them.
const fewestFailed = 2

func (f failing) say() api.Sentence {
	since := "no run was ever done"
	if f.lastDone != 0 {
		since = "it was last done at " + f.lastDone.String()
	}
	return api.Sentence{Text: fmt.Sprintf("The last %d runs of schedule %s failed; %s.", f.runs, f.schedule, since), Wrong: true, State: job.Dead}
}

type typo struct{ worker, queue, nearest string }

type untaken struct {
	queue, task string
	ready       int64
	queueServed bool
	nearest     string // a task done there that is perhaps meant
}

// mostUntaken is how many groups of untaken jobs the sentence names.
const mostUntaken = 3

// says puts in words how things stand, what asks for attention first.
func says(s standing) []api.Sentence {
	var all []api.Sentence
	for i, u := range s.untaken {
		if i == mostUntaken {
			all = append(all, api.Sentence{Text: fmt.Sprintf("And %s no worker takes.", sentence.Count(int64(len(s.untaken)-i), "more group of jobs that", "more groups of jobs that")), Wrong: true, State: job.Ready})
			break
		}
		all = append(all, u.say())
	}
	for _, q := range s.paused {
		all = append(all, api.Sentence{Text: sayPaused(q), Wrong: q.Counts[job.Ready] > 0, State: job.Ready, Queue: q.Name})
	}
	for i, f := range s.failing {
		if i == mostUntaken {
			all = append(all, api.Sentence{Text: fmt.Sprintf("The last runs of %s failed too.", sentence.Count(int64(len(s.failing)-i), "more schedule", "more schedules")), Wrong: true, State: job.Dead})
			break
		}
		all = append(all, f.say())
	}
	for _, t := range s.typos {
		all = append(all, api.Sentence{Text: t.say(), Wrong: true})
	}
	if n := s.counts[job.Dead]; n > 0 {
		all = append(all, api.Sentence{Text: sentence.Count(n, "dead letter.", "dead letters."), Wrong: true, State: job.Dead})
	}
	if n := s.counts[job.Backoff]; n > 0 {
		all = append(all, api.Sentence{Text: sentence.Count(n, "job", "jobs") + " failed and will be retried.", State: job.Backoff})
	}
	if s.failed > 0 {
		all = append(all, api.Sentence{Text: sentence.Count(s.failed, "attempt", "attempts") + " failed within the last minute."})
	}
	if n := s.counts[job.Running]; n > 0 {
		all = append(all, api.Sentence{Text: sentence.Count(n, "job is running.", "jobs are running."), State: job.Running})
	}
	return append(all, s.sayRest()...)
}

func (u untaken) say() api.Sentence {
	said := api.Sentence{Wrong: true, State: job.Ready, Queue: u.queue, Task: u.task}
	what := sentence.Count(u.ready, "job is", "jobs are") + " ready and waiting"
	if u.queueServed {
		said.Text = fmt.Sprintf("No worker of queue %s does task %s%s: %s.", u.queue, u.task, sentence.Perhaps(u.nearest), what)
	} else {
		said.Text = fmt.Sprintf("No worker serves queue %s: %s.", u.queue, what)
		said.Task = ""
	}
	return said
}

// sayRest says what waits as it should.
func (s standing) sayRest() []api.Sentence {
	total, taken := int64(0), s.counts[job.Ready]
	for _, n := range s.counts {
		total += n
	}
	for _, u := range s.untaken {
		taken -= u.ready
	}
	waiting := s.counts[job.Ready] + s.counts[job.Scheduled] + s.counts[job.Held]
	switch {
	case total == 0:
		return []api.Sentence{{Text: "No job has been enqueued yet."}}
	case waiting == 0:
		return []api.Sentence{{Text: "No job is waiting."}}
	}
	var all []api.Sentence
	if n := s.counts[job.Ready]; taken > 0 {
		all = append(all, api.Sentence{Text: sentence.Count(n, "job is ready.", "jobs are ready."), State: job.Ready})
	}
	if n := s.counts[job.Scheduled]; n > 0 {
		all = append(all, api.Sentence{Text: sentence.Count(n, "job is", "jobs are") + " scheduled for later.", State: job.Scheduled})
	}
	if n := s.counts[job.Held]; n > 0 {
		all = append(all, api.Sentence{Text: sentence.Count(n, "job is waiting for its lane.", "jobs are waiting for their lanes."), State: job.Held})
	}
	return all
}
