package job

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"humblemule/internal/check"
)

// Patch is an RFC 7396 merge patch of a job's spec: the fields it names take the
// values of Spec, which for null are the defaults. A payload is replaced whole.
type Patch struct {
	Spec  Spec
	Named []string
}

// The fields that a patch may name: of a job that is unfinished and does not
// run, and of a finished one.
var (
	patchable         = []string{"queue", "priority", "run_at", "start_by", "max_attempts", "retry", "timeout", "keep_result", "labels", "owner", "lane", "payload"}
	patchableFinished = []string{"labels", "payload"}
)

// ReadPatch reads a patch from JSON.
func ReadPatch(raw json.RawMessage) (p Patch, err error) {
	var named map[string]json.RawMessage
	if err := json.Unmarshal(raw, &named); err != nil {
		return p, fmt.Errorf("is no JSON object: %w", err)
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
		switch {
		case !slices.Contains(patchable, name):
			c.Add(name, "cannot be changed after the enqueue; enqueue a new job")
		case s.Finished() && !slices.Contains(patchableFinished, name):
			c.Add(name, "cannot be changed on a finished job; requeue it first")
		case s == Backoff && name == "run_at":
			c.Add(name, "cannot be changed in backoff, where the next attempt has its time; start it now instead")
		}
	}
	return c
}

// Apply gives the spec with the patch laid over it.
func (p *Patch) Apply(s Spec) Spec {
	for _, name := range p.Named {
		switch name {
		case "queue":
			s.Queue = p.Spec.Queue
		case "priority":
			s.Priority = p.Spec.Priority
		case "run_at":
			s.RunAt = p.Spec.RunAt
		case "start_by":
			s.StartBy = p.Spec.StartBy
		case "max_attempts":
			s.MaxAttempts = p.Spec.MaxAttempts
		case "retry":
			s.Retry = p.Spec.Retry
		case "timeout":
			s.Timeout = p.Spec.Timeout
		case "keep_result":
			s.KeepResult = p.Spec.KeepResult
		case "labels":
			s.Labels = p.labels(s.Labels)
		case "owner":
			s.Owner = p.Spec.Owner
		case "lane":
			s.Lane = p.Spec.Lane
		case "payload":
			s.Payload = p.Spec.Payload
		}
	}
	return s
}

// labels merges the patch's labels into others; null removes all.
func (p *Patch) labels(others map[string]string) map[string]string {
	if p.Spec.Labels == nil {
		return nil
	}
	return MergeLabels(others, p.Spec.Labels)
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
