package job

import (
	"bytes"
	"reflect"
)

// Field describes a field of a spec. What is the same for all of them goes by this one
// table: patches, what a patch has changed, and whether two specs ask for the same.
type Field struct {
	// Name is its name on the wire.
	Name string
	// Patch says of which jobs it may be changed.
	Patch Patching
	// Column is where it is kept in the job's row: in a column of its own, or in that of the
	// policy, which holds several.
	Column string
	// Get tells its value, and Set gives a spec that of another.
	Get func(s *Spec) any
	Set func(s, from *Spec)
}

// Patching says of which jobs a field may be changed after the enqueue.
type Patching int

// The jobs of which a field may be changed.
const (
	PatchNone Patching = iota
	PatchUnfinished
	PatchAll
)

// field makes a description of what lies at an address in a spec.
func field[T any](name string, patch Patching, column string, at func(s *Spec) *T) Field {
	return Field{name, patch, column, func(s *Spec) any { return *at(s) }, func(s, from *Spec) { *at(s) = *at(from) }}
}

// Fields are those of a spec, in the order in which it is written.
var fields = []Field{
	field("task", PatchNone, "task", func(s *Spec) *string { return &s.Task }),
	field("payload", PatchAll, "payload", func(s *Spec) *rawPayload { return (*rawPayload)(&s.Payload) }),
	field("queue", PatchUnfinished, "queue", func(s *Spec) *string { return &s.Queue }),
	field("priority", PatchUnfinished, "priority", func(s *Spec) **int { return &s.Priority }),
	field("run_at", PatchUnfinished, "run_at", func(s *Spec) *Time { return &s.RunAt }),
	field("start_by", PatchUnfinished, "start_by", func(s *Spec) *Time { return &s.StartBy }),
	field("delay", PatchNone, "run_at", func(s *Spec) *Duration { return &s.Delay }),
	field("max_attempts", PatchUnfinished, PolicyColumn, func(s *Spec) **int { return &s.MaxAttempts }),
	field("retry", PatchUnfinished, PolicyColumn, func(s *Spec) **Retry { return &s.Retry }),
	field("timeout", PatchUnfinished, PolicyColumn, func(s *Spec) *Duration { return &s.Timeout }),
	field("owner", PatchUnfinished, "owner", func(s *Spec) *string { return &s.Owner }),
	field("lane", PatchUnfinished, "lane", func(s *Spec) *string { return &s.Lane }),
	labelsField,
	field("key", PatchNone, "key", func(s *Spec) *string { return &s.Key }),
	field("dedupe", PatchNone, "dedupe", func(s *Spec) *string { return &s.Dedupe }),
	field("keep_result", PatchUnfinished, PolicyColumn, func(s *Spec) **Duration { return &s.KeepResult }),
	field("traceparent", PatchNone, "traceparent", func(s *Spec) *string { return &s.Traceparent }),
	field("after", PatchNone, "after", func(s *Spec) **After { return &s.After }),
	field("call", PatchUnfinished, "host", func(s *Spec) **Call { return &s.Call }),
	field("notify", PatchUnfinished, PolicyColumn, func(s *Spec) *[]Notify { return &s.Notify }),
}

// labelsField is merged rather than replaced: null takes all labels away.
var labelsField = Field{"labels", PatchAll, "labels", func(s *Spec) any { return s.Labels }, func(s, from *Spec) {
	if s.Labels = MergeLabels(s.Labels, from.Labels); from.Labels == nil {
		s.Labels = nil
	}
}}

// rawPayload is a payload whose bytes are what it is compared by.
type rawPayload []byte

// PolicyColumn is the column of what a job is tried again and kept by.
const PolicyColumn = "policy"

// Fields are those of a spec.
func Fields() []Field { return fields }

// FieldOf finds the field of a name.
func FieldOf(name string) (f Field, found bool) {
	for _, f := range fields {
		if f.Name == name {
			return f, true
		}
	}
	return f, false
}

// Same tells whether a field has the same value in two specs: the same bytes of a payload,
// the same number behind two pointers, and no labels as much as empty ones.
func (f *Field) Same(a, b *Spec) bool {
	x, y := f.Get(a), f.Get(b)
	switch x := x.(type) {
	case rawPayload:
		return bytes.Equal(x, y.(rawPayload))
	case *After:
		return x.Same(y.(*After))
	case *Call:
		return x.Same(y.(*Call))
	case map[string]string:
		return len(x)+len(y.(map[string]string)) == 0 || reflect.DeepEqual(x, y)
	}
	return reflect.DeepEqual(x, y)
}
