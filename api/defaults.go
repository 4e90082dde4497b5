package api

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"humblemule.example/internal/check"
	"humblemule.example/internal/sentence"
	"humblemule.example/internal/text"
	"humblemule.example/internal/veil"
	"humblemule.example/job"
)

// Defaults are what jobs of a task, or of a queue, get where they say nothing
// themselves: job over task over queue over built-in, field by field, retry whole.
// They are resolved when a job is enqueued or requeued; later changes do not touch
// jobs that are there already.
type Defaults struct {
	// Queue is where jobs of the task wait. A queue's own defaults have none.
	Queue       string        `json:"queue,omitzero"`
	Priority    *int          `json:"priority,omitzero"`
	MaxAttempts *int          `json:"max_attempts,omitzero"`
	Retry       *job.Retry    `json:"retry,omitzero"`
	Timeout     job.Duration  `json:"timeout,omitzero"`
	KeepResult  *job.Duration `json:"keep_result,omitzero"`
	// Keep is how long finished jobs of a queue are kept, by state; those that are not
	// named are kept as long as is built in. A task's own defaults have none.
	Keep map[job.State]job.Duration `json:"keep,omitzero"`
	// Hide are the parts of payloads, as JSON Pointers (RFC 6901), in whose place a mark is shown,
	// but to a role that may see them and to handlers. A queue's own defaults have none.
	Hide []string `json:"hide,omitzero"`
	// Calls says that the jobs of a task are calls, which the service makes itself, and how their answers
	// are judged; nil where workers do them. A queue's own defaults have none.
	Calls *Calls `json:"calls,omitzero"`
	// Notify are those who are told when a job of the task ends. A queue's own defaults have none.
	Notify []job.Notify `json:"notify,omitzero"`
	// Rules say in what order, and how many at once, jobs start. A task has of them only
	// MaxRunning.
	Rules
}

// Calls say how the answers to the calls of a task are judged, and how they are signed. Without a word of
// it, 2xx is done; 408, 425, 429, 5xx and no answer fail, and are tried again; all else gives up at once.
type Calls struct {
	// OK are other statuses that are done, Retry those that fail, and GiveUp those that give up.
	OK     []int `json:"ok,omitzero"`
	Retry  []int `json:"retry,omitzero"`
	GiveUp []int `json:"give_up,omitzero"`
	// Sign names a secret by which each call is signed, as Standard Webhooks has it.
	Sign string `json:"sign,omitzero"`
}

// How the answer to a call is judged.
type Verdict int

// The verdicts on an answer.
const (
	VerdictDone Verdict = iota
	VerdictRetry
	VerdictGiveUp
)

// Judge judges a status, where some are as good as done for the call itself.
func (c *Calls) Judge(status int, ok []int) Verdict {
	if c == nil {
		c = new(Calls)
	}
	switch {
	case slices.Contains(ok, status) || slices.Contains(c.OK, status):
		return VerdictDone
	case slices.Contains(c.Retry, status):
		return VerdictRetry
	case slices.Contains(c.GiveUp, status):
		return VerdictGiveUp
	case status >= 200 && status < 300:
		return VerdictDone
	case status == 408 || status == 425 || status == 429 || status >= 500:
		return VerdictRetry
	}
	return VerdictGiveUp
}

func (c *Calls) check(list *check.List) {
	seen := map[int]bool{}
	for _, of := range []struct {
		field string
		all   []int
	}{{"calls.ok", c.OK}, {"calls.retry", c.Retry}, {"calls.give_up", c.GiveUp}} {
		job.CheckStatuses(list, of.field, of.all)
		for _, status := range of.all {
			if seen[status] {
				list.Add(of.field, "names %d, which is named before", status)
			}
			seen[status] = true
		}
	}
	if c.Sign != "" {
		list.Name("calls.sign", c.Sign)
	}
}

// MakesCalls tells whether jobs with these defaults of their task are calls.
func (d *Defaults) MakesCalls() bool { return d != nil && d.Calls != nil }

// Describe tells what the jobs of a task get; empty where nothing is set.
func (d *Defaults) Describe() string {
	if d == nil {
		return ""
	}
	var all []string
	add := func(is bool, format string, args ...any) {
		if is {
			all = append(all, fmt.Sprintf(format, args...))
		}
	}
	add(d.Queue != "", "queue %s", d.Queue)
	if d.Priority != nil {
		add(true, "priority %d", *d.Priority)
	}
	if most := d.MaxAttempts; most != nil {
		add(*most == 0, "attempts without limit")
		add(*most != 0, "%s", sentence.Count(int64(*most), "attempt", "attempts"))
	}
	if d.Retry != nil {
		says := cmp.Or(d.Retry.Curve, job.Exponential) + " backoff"
		if d.Retry.First != 0 {
			says += " from " + d.Retry.First.String()
		}
		add(true, "%s", says)
	}
	if d.MaxRunning != nil {
		add(true, "at most %d at once", *d.MaxRunning)
	}
	add(d.Timeout != 0, "timeout %s", d.Timeout)
	if d.KeepResult != nil {
		add(true, "results kept %s", *d.KeepResult)
	}
	add(len(d.Notify) > 0, "tells of its ends")
	add(d.Calls != nil, "the service makes its calls")
	add(len(d.Hide) > 0, "hides %s", sentence.List(d.Hide))
	return strings.Join(all, ", ")
}

// CheckQueue answers what is wrong with the defaults and the rules of a queue.
func (d *Defaults) CheckQueue() []job.FieldError { return d.check(true) }

// CheckTask answers what is wrong with the defaults of a task.
func (d *Defaults) CheckTask() []job.FieldError { return d.check(false) }

func (d *Defaults) check(ofQueue bool) []job.FieldError {
	s := job.Spec{Task: "any", Queue: d.Queue, Priority: d.Priority, MaxAttempts: d.MaxAttempts, Retry: d.Retry}
	c := check.List(s.Check(job.MaxPayloadBytes))
	if ofQueue && d.Queue != "" {
		c.Add("queue", "cannot be a default of a queue; set it as a default of tasks")
	}
	if !ofQueue && d.Keep != nil {
		c.Add("keep", "cannot be a default of a task; set it for its queue")
	}
	checkHide(&c, d.Hide, ofQueue)
	if job.CheckNotify(&c, "notify", d.Notify); ofQueue && d.Notify != nil {
		c.Add("notify", "cannot be a default of a queue; set it for tasks")
	}
	switch {
	case d.Calls != nil && ofQueue:
		c.Add("calls", "cannot be a default of a queue; set it for tasks")
	case d.Calls != nil:
		d.Calls.check(&c)
	}
	c = append(c, d.Rules.check(ofQueue)...)
	for _, s := range job.States() {
		keep, set := d.Keep[s]
		switch {
		case set && !s.Finished():
			c.Add("keep."+s.String(), "is of no finished job; those are done, skipped, cancelled and dead")
		case set && keep < shortKept:
			c.Add("keep."+s.String(), "%s is shorter than 1m", keep)
		}
	}
	if _, other := d.Keep[job.Other]; other {
		c.Add("keep", "names a state that does not exist; finished jobs are done, skipped, cancelled or dead")
	}
	return c
}

// MaxHidden is how many parts of its jobs' payloads a task hides at most.
const MaxHidden = 50

func checkHide(c *check.List, hide []string, ofQueue bool) {
	const longest = 256
	if ofQueue && hide != nil {
		c.Add("hide", "cannot be a default of a queue; set it for tasks")
	}
	if len(hide) > MaxHidden {
		c.Add("hide", "has %d pointers; at most %d are taken", len(hide), MaxHidden)
	}
	for i, pointer := range hide {
		if !veil.Valid(pointer) || len(pointer) > longest {
			c.Add(fmt.Sprintf("hide[%d]", i), "%q is not a JSON Pointer to a part of the payload, such as /card/number", text.Shorten(pointer))
		}
	}
}

// Warnings says what is allowed in the defaults and likely not meant.
func (d *Defaults) Warnings() []job.Warning {
	return (&job.Spec{MaxAttempts: d.MaxAttempts, Retry: d.Retry}).Warnings()
}
