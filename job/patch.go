package job

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"humblemule.example/internal/check"
)

// Patch is an RFC 7396 merge patch of a job's spec: the fields it names take the
// values of Spec, which for null are the defaults. A payload is replaced whole.
type Patch struct {
	Spec  Spec
	Named []string
}

// ReadPatch reads a patch from JSON.
func ReadPatch(raw json.RawMessage) (p Patch, err error) {
	var named map[string]json.RawMessage
	if err := json.Unmarshal(raw, &named); err != nil {
		return p, fmt.Errorf("is not a valid JSON object: %w", err)
	}
	strict := json.NewDecoder(bytes.NewReader(raw))
	strict.DisallowUnknownFields()
	p.Named = slices.Sorted(maps.Keys(named))
	return p, strict.Decode(&p.Spec)
}

// CheckNames answers which named fields may not be patched in a state.
func (p *Patch) CheckNames(s State) []FieldError {
	var c check.List
	for _, name := range p.Named {
		f, _ := FieldOf(name)
		switch {
		case f.Patch == PatchNone:
			c.Add(name, "cannot be changed after the enqueue; enqueue a new job")
		case s.Finished() && f.Patch != PatchAll:
			c.Add(name, "cannot be changed on a finished job; requeue it first")
		case s == Backoff && name == "run_at":
			c.Add(name, "cannot be changed in backoff, where the next attempt already has its time; start the job now instead")
		}
	}
	return c
}

// Apply gives the spec with the patch laid over it.
func (p *Patch) Apply(s Spec) Spec {
	for _, name := range p.Named {
		if f, found := FieldOf(name); found && f.Patch != PatchNone {
			f.Set(&s, &p.Spec)
		}
	}
	return s
}

// MergeLabels lays labels over others: an empty value removes one.
func MergeLabels(others, over map[string]string) map[string]string {
	merged := map[string]string{}
	for name, value := range others {
		merged[name] = value
	}
	for name, value := range over {
		if value == "" {
			delete(merged, name)
		} else {
			merged[name] = value
		}
	}
	return merged
}
