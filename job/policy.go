package job

import (
	"cmp"
	"reflect"
)

// Policy is how a job is run and tried again, resolved when it is enqueued or
// requeued and stored once per distinct policy.
type Policy struct {
	Retry       Retry    `json:"retry"`
	MaxAttempts int      `json:"max_attempts"`
	Timeout     Duration `json:"timeout,omitzero"`
	// KeepResult is how long the result is kept; nil means as long as the job.
	KeepResult *Duration `json:"keep_result,omitzero"`
	// Notify are those who are told when the job ends.
	Notify []Notify `json:"notify,omitzero"`
	// From tells which parts are not built in, and where they come from.
	From map[string]Origin `json:"from,omitzero"`
}

// Origin tells where a part of a job's policy comes from.
type Origin string

// The origins, the nearest first. A part that comes from none of them is built in.
const (
	FromJob   Origin = "job"
	FromTask  Origin = "task"
	FromQueue Origin = "queue"
	BuiltIn   Origin = "built_in"
)

// Layer is what a job, or the defaults of its task or queue, say of its policy; parts that
// are nil or 0 say nothing.
type Layer struct {
	From        Origin
	MaxAttempts *int
	Retry       *Retry
	Timeout     Duration
	KeepResult  *Duration
	Notify      []Notify
}

// Layer is what the spec itself says of its policy.
func (s *Spec) Layer() Layer {
	return Layer{FromJob, s.MaxAttempts, s.Retry, s.Timeout, s.KeepResult, s.Notify}
}

// Policy gives the spec's policy where neither its task nor its queue has defaults.
func (s *Spec) Policy() Policy { return PolicyOf(s.Layer()) }

// PolicyOf lays layers over what is built in, the nearest last.
func PolicyOf(layers ...Layer) Policy {
	p := Policy{MaxAttempts: DefaultMaxAttempts}
	retry := Retry{}
	for _, l := range layers {
		if l.MaxAttempts != nil {
			p.MaxAttempts = *l.MaxAttempts
			p.setFrom("max_attempts", l.From)
		}
		if l.Retry != nil {
			retry = *l.Retry
			p.setFrom("retry", l.From)
		}
		if l.Timeout != 0 {
			p.Timeout = l.Timeout
			p.setFrom("timeout", l.From)
		}
		if l.KeepResult != nil {
			p.KeepResult = l.KeepResult
			p.setFrom("keep_result", l.From)
		}
		if l.Notify != nil {
			p.Notify = l.Notify
			p.setFrom("notify", l.From)
		}
	}
	p.Retry = retry.WithDefaults()
	return p
}

// setFrom notes where a part of the policy comes from.
func (p *Policy) setFrom(part string, o Origin) {
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
	if p.From["notify"] == FromJob {
		s.Notify = p.Notify
	}
}

// guess tells the origins of a policy that was stored before they were kept: what is
// not built in was the job's.
func (p *Policy) guess() {
	built := (&Spec{}).Policy()
	if p.MaxAttempts != built.MaxAttempts {
		p.setFrom("max_attempts", FromJob)
	}
	if !reflect.DeepEqual(p.Retry, built.Retry) {
		p.setFrom("retry", FromJob)
	}
	if p.Timeout != 0 {
		p.setFrom("timeout", FromJob)
	}
	if p.KeepResult != nil {
		p.setFrom("keep_result", FromJob)
	}
}

// Warned says of a policy what is allowed and likely not meant.
func (p *Policy) Warned() []Warning {
	return (&Spec{MaxAttempts: &p.MaxAttempts, Retry: &p.Retry}).Warnings()
}
