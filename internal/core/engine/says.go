package engine

import (
	"fmt"

	"humblemule/job"
)

// standing is what the sentence on how things stand is made of.
type standing struct {
	counts map[job.State]int64
	// failed is how many attempts failed within the last minute.
	failed int64
	// untaken are ready jobs that no living worker takes, by queue and task.
	untaken []untaken
	// paused are queues that somebody has paused.
	paused []job.Queue
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

func (f failing) say() job.Saying {
	since := "it has never been done"
	if f.lastDone != 0 {
		since = "it was last done at " + f.lastDone.String()
	}
	return job.Saying{Text: fmt.Sprintf("The last %d runs of schedule %s failed; %s.", f.runs, f.schedule, since), Wrong: true, State: job.Dead}
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
func says(s standing) []job.Saying {
	var all []job.Saying
	for i, u := range s.untaken {
		if i == mostUntaken {
			all = append(all, job.Saying{Text: fmt.Sprintf("So it is with %d more kinds of jobs.", len(s.untaken)-i), Wrong: true, State: job.Ready})
			break
		}
		all = append(all, u.say())
	}
	for _, q := range s.paused {
		all = append(all, job.Saying{Text: sayPaused(q), Wrong: q.Counts[job.Ready] > 0, State: job.Ready, Queue: q.Name})
	}
	for i, f := range s.failing {
		if i == mostUntaken {
			all = append(all, job.Saying{Text: fmt.Sprintf("So do %d more schedules.", len(s.failing)-i), Wrong: true, State: job.Dead})
			break
		}
		all = append(all, f.say())
	}
	for _, t := range s.typos {
		all = append(all, job.Saying{Text: t.say(), Wrong: true})
	}
	if n := s.counts[job.Dead]; n > 0 {
		all = append(all, job.Saying{Text: count(n, "dead letter waits", "dead letters wait") + " for a fix.", Wrong: true, State: job.Dead})
	}
	if n := s.counts[job.Backoff]; n > 0 {
		all = append(all, job.Saying{Text: count(n, "job has failed and is", "jobs have failed and are") + " tried again.", State: job.Backoff})
	}
	if s.failed > 0 {
		all = append(all, job.Saying{Text: count(s.failed, "attempt", "attempts") + " failed within the last minute."})
	}
	if n := s.counts[job.Running]; n > 0 {
		all = append(all, job.Saying{Text: count(n, "job runs.", "jobs run."), State: job.Running})
	}
	return append(all, s.sayRest()...)
}

func (u untaken) say() job.Saying {
	said := job.Saying{Wrong: true, State: job.Ready, Queue: u.queue, Task: u.task}
	what := count(u.ready, "job is", "jobs are") + " ready"
	if u.queueServed {
		said.Text = fmt.Sprintf("%s for %s in queue %s, and no worker there does that task%s.", what, u.task, u.queue, job.Perhaps(u.nearest))
	} else {
		said.Text = fmt.Sprintf("%s in queue %s, and nobody takes %s.", what, u.queue, plural(u.ready, "it", "them"))
		said.Task = ""
	}
	return said
}

// sayRest says what waits as it should.
func (s standing) sayRest() []job.Saying {
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
		return []job.Saying{{Text: "No job has been enqueued yet."}}
	case waiting == 0:
		return []job.Saying{{Text: "Nothing waits to be started."}}
	}
	var all []job.Saying
	if n := s.counts[job.Ready]; taken > 0 {
		all = append(all, job.Saying{Text: count(n, "job is ready.", "jobs are ready."), State: job.Ready})
	}
	if n := s.counts[job.Scheduled]; n > 0 {
		all = append(all, job.Saying{Text: count(n, "job is", "jobs are") + " scheduled for later.", State: job.Scheduled})
	}
	if n := s.counts[job.Held]; n > 0 {
		all = append(all, job.Saying{Text: count(n, "job waits", "jobs wait") + " behind others in their lanes.", State: job.Held})
	}
	return all
}

// count writes a number with its noun, in groups of three digits.
func count(n int64, one, many string) string { return job.Grouped(n) + " " + plural(n, one, many) }

func plural(n int64, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}
