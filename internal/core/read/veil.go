package read

import (
	"context"
	"encoding/json"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/veil"
	"humblemule.example/job"
)

// hides are the parts that a task hides of its jobs' payloads from a caller; none from one who
// sees them.
func (rd *Reader) hides(ctx context.Context, task string) []string {
	if scope.Of(ctx).SeesHidden() {
		return nil
	}
	rd.m.RLock()
	defer rd.m.RUnlock()
	if d := rd.m.Settings.KeptTask(rd.m.Tasks.KeptID(task)).Defaults; d != nil {
		return d.Hide
	}
	return nil
}

// veil hides of a job what its task hides.
func (rd *Reader) veil(ctx context.Context, j *job.Job) {
	if hidden := rd.hides(ctx, j.Task); len(hidden) > 0 {
		if j.Payload != nil {
			j.Payload = veil.Over(j.Payload, hidden...)
		}
		for i := range j.Edits {
			j.Edits[i].Before, j.Edits[i].After = veil.Over(j.Edits[i].Before, hidden...), veil.Over(j.Edits[i].After, hidden...)
		}
	}
	if j.Refused == nil || len(j.Refused.Enqueue) == 0 {
		return
	}
	hidden := below("/payload", rd.hiddenAnywhere(ctx)) // which task each names may be just what is wrong with it
	for i, raw := range j.Refused.Enqueue {
		j.Refused.Enqueue[i] = veil.Over(raw, hidden...)
	}
}

// veiledHead is the head of a payload in a list, of which a task hides some. Of a long payload only
// a part was read, in which nothing can be told apart.
func veiledHead(payload []byte, whole bool, hidden []string) string {
	if !whole {
		return veil.Mark
	}
	return headOf(veil.Over(payload, hidden...))
}

// below are pointers to parts of a value that itself is a part.
func below(at string, pointers []string) []string {
	all := make([]string, len(pointers))
	for i, p := range pointers {
		all[i] = at + p
	}
	return all
}

// hiddenAnywhere are the parts that any task hides from a caller.
func (rd *Reader) hiddenAnywhere(ctx context.Context) (all []string) {
	if scope.Of(ctx).SeesHidden() {
		return nil
	}
	rd.m.RLock()
	defer rd.m.RUnlock()
	for id := range rd.m.Tasks.AllKept() {
		if d := rd.m.Settings.KeptTask(id).Defaults; d != nil {
			all = append(all, d.Hide...)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// veilDetail hides of the detail of an action what any task hides, wherever a payload, or an edit
// of one, stands in it.
func veilDetail(detail json.RawMessage, hidden []string) json.RawMessage {
	if len(hidden) == 0 {
		return detail
	}
	for _, at := range []string{"/payload", "/payload_patch", "/patch/payload", "/before/job/payload", "/after/job/payload"} {
		detail = veil.Over(detail, below(at, hidden)...)
	}
	return detail
}

// VeilOperation hides of an operation what any task hides.
func (rd *Reader) VeilOperation(ctx context.Context, o *api.Operation) {
	hidden := rd.hiddenAnywhere(ctx)
	if len(hidden) == 0 {
		return
	}
	for _, part := range []struct {
		value *json.RawMessage
		at    string
	}{{&o.PayloadPatch, ""}, {&o.Patch, "/payload"}} {
		if *part.value != nil {
			*part.value = veil.Over(*part.value, below(part.at, hidden)...)
		}
	}
	if o.Example != nil {
		o.Example.Before, o.Example.After = veil.Over(o.Example.Before, hidden...), veil.Over(o.Example.After, hidden...)
	}
}
