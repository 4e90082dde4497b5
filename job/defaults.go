package job

import (
	"cmp"
	"reflect"
)

// Origin tells where a part of a job's policy comes from.
type Origin string

// The origins, the nearest first. A part that comes from none of them is built in.
const (
	FromJob   Origin = "job"
	FromTask  Origin = "task"
	FromQueue Origin = "queue"
	BuiltIn   Origin = "built_in"
)

// Defaults are what jobs of a task, or of a queue, get where they say nothing
// themselves: job over task over queue over built-in, field by field, retry whole.
// They are resolved when a job is enqueued or requeued; later changes do not touch
// jobs that are there already.
type Defaults struct {
	// Queue is where jobs of the task wait. A queue's own defaults have none.
	Queue       string    `json:"queue,omitzero"`
	Priority    *int      `json:"priority,omitzero"`
	MaxAttempts *int      `json:"max_attempts,omitzero"`
	Retry       *Retry    `json:"retry,omitzero"`
	Timeout     Duration  `json:"timeout,omitzero"`
	KeepResult  *Duration `json:"keep_result,omitzero"`
	// Keep is how long finished jobs of a queue are kept, by state; those that are not
	// named are kept as long as is built in. A task's own defaults have none.
	Keep map[State]Duration `json:"keep,omitzero"`
	// Rules say in what order, and how many at once, jobs start. A task has of them only
	// MaxRunning.
	Rules
}

// BuiltInQueue is what holds for queues that say nothing themselves, and BuiltInTask for
// the jobs of tasks.
func BuiltInQueue() *Defaults { return &Defaults{Rules: Rules{}.Whole()} }

// BuiltInTask is told with [BuiltInQueue].
func BuiltInTask() *Defaults {
	priority, policy := DefaultPriority, (&Spec{}).Policy()
	return &Defaults{Queue: DefaultQueue, Priority: &priority, MaxAttempts: &policy.MaxAttempts, Retry: &policy.Retry}
}

// Check answers what is wrong with defaults of a task, or of a queue.
func (d *Defaults) Check(ofQueue bool) []FieldError {
	s := Spec{Task: "any", Queue: d.Queue, Priority: d.Priority, MaxAttempts: d.MaxAttempts, Retry: d.Retry}
	c := checks(s.Check(MaxPayloadBytes))
	if ofQueue && d.Queue != "" {
		c.add("queue", "cannot be a default of a queue; set it as a default of tasks")
	}
	if !ofQueue && d.Keep != nil {
		c.add("keep", "cannot be a default of a task; set it for its queue")
	}
	c = append(c, d.Rules.check(ofQueue)...)
	for _, s := range States() {
		keep, set := d.Keep[s]
		switch {
		case set && !s.Finished():
			c.add("keep."+s.String(), "is of no finished job; those are done, skipped, cancelled and dead")
		case set && keep < shortKept:
			c.add("keep."+s.String(), "%s is shorter than 1m", keep)
		}
	}
	if _, other := d.Keep[Other]; other {
		c.add("keep", "names no state; finished jobs are done, skipped, cancelled and dead")
	}
	return c
}

// Warnings says what is allowed in the defaults and likely not meant.
func (d *Defaults) Warnings() []Warning {
	return (&Spec{MaxAttempts: d.MaxAttempts, Retry: d.Retry}).Warnings()
}

// Resolve gives the policy of a spec, with the defaults of its task and of its queue,
// which may be nil, and where each part comes from.
func (s *Spec) Resolve(task, queue *Defaults) Policy {
	p := Policy{MaxAttempts: DefaultMaxAttempts}
	retry := Retry{}
	layers := []struct {
		from Origin
		d    *Defaults
	}{{FromQueue, queue}, {FromTask, task}, {FromJob, &Defaults{MaxAttempts: s.MaxAttempts, Retry: s.Retry, Timeout: s.Timeout, KeepResult: s.KeepResult}}}
	for _, l := range layers { // the nearest last
		if l.d == nil {
			continue
		}
		if l.d.MaxAttempts != nil {
			p.MaxAttempts = *l.d.MaxAttempts
			p.from("max_attempts", l.from)
		}
		if l.d.Retry != nil {
			retry = *l.d.Retry
			p.from("retry", l.from)
		}
		if l.d.Timeout != 0 {
			p.Timeout = l.d.Timeout
			p.from("timeout", l.from)
		}
		if l.d.KeepResult != nil {
			p.KeepResult = l.d.KeepResult
			p.from("keep_result", l.from)
		}
	}
	p.Retry = retry.WithDefaults()
	return p
}

func (p *Policy) from(part string, o Origin) {
	if p.From == nil {
		p.From = map[string]Origin{}
	}
	p.From[part] = o
}

// Origins tells of every part of a policy where it comes from.
type Origins struct {
	MaxAttempts Origin `json:"max_attempts"`
	Retry       Origin `json:"retry"`
	Timeout     Origin `json:"timeout"`
	KeepResult  Origin `json:"keep_result"`
}

// Origins tells of every part of the policy where it comes from.
func (p *Policy) Origins() Origins {
	from := func(part string) Origin { return cmp.Or(p.From[part], BuiltIn) }
	return Origins{from("max_attempts"), from("retry"), from("timeout"), from("keep_result")}
}

// Own puts the parts of the policy that the job has set itself into a spec.
func (p *Policy) Own(s *Spec) {
	if p.From == nil {
		p.guess()
	}
	if p.From["max_attempts"] == FromJob {
		s.MaxAttempts = &p.MaxAttempts
	}
	if p.From["retry"] == FromJob {
		s.Retry = &p.Retry
	}
	if p.From["timeout"] == FromJob {
		s.Timeout = p.Timeout
	}
	if p.From["keep_result"] == FromJob {
		s.KeepResult = p.KeepResult
	}
}

// guess tells the origins of a policy that was stored before they were kept: what is
// not built in was the job's.
func (p *Policy) guess() {
	built := (&Spec{}).Policy()
	if p.MaxAttempts != built.MaxAttempts {
		p.from("max_attempts", FromJob)
	}
	if !reflect.DeepEqual(p.Retry, built.Retry) {
		p.from("retry", FromJob)
	}
	if p.Timeout != 0 {
		p.from("timeout", FromJob)
	}
	if p.KeepResult != nil {
		p.from("keep_result", FromJob)
	}
}

// Warned says of a policy what is allowed and likely not meant.
func (p *Policy) Warned() []Warning {
	return (&Spec{MaxAttempts: &p.MaxAttempts, Retry: &p.Retry}).Warnings()
}
