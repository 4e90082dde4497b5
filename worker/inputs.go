package worker

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"humblemule.example/job"
)

// Inputs gives a handler the results of the jobs that its job has waited for and that are done, in the
// order of their ids: those of one ref of the batch or, where it is empty, all. The error says which
// result is not there because it did not fit or is no longer kept, or cannot be read; what the
// others have ended as is told by the Inputs of [Job].
func Inputs[T any](ctx context.Context, ref string) (all []T, err error) {
	r := Job(ctx)
	if r == nil {
		return nil, errors.New("inputs need the context of a handler")
	}
	found := ref == ""
	for _, in := range r.Inputs {
		if ref != "" && in.Ref != ref {
			continue
		}
		if found = true; in.Omitted {
			return all, fmt.Errorf("the result of job %d was not handed over: together they were too long, or it is no longer kept; read it by its id", in.Job)
		}
		if in.State != job.Done || in.Result == nil {
			continue
		}
		var v T
		if err := json.Unmarshal(in.Result, &v); err != nil {
			return all, fmt.Errorf("the result of job %d cannot be read: %w", in.Job, err)
		}
		all = append(all, v)
	}
	if !found {
		return nil, fmt.Errorf("job %d has waited for no job with the ref %q", r.ID, ref)
	}
	return all, nil
}
