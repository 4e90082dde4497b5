package worker

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"humblemule.example/api"
	"humblemule.example/job"
)

// Step is a part of a job's work that is done once, whatever attempt does it.
type Step struct {
	Name string
	// Key is the same for the job and the step in every attempt and every round; hand
	// it to the other side as its idempotency key, where it takes one.
	Key string
	// InDoubt tells that an earlier attempt has begun the step and never finished it:
	// whether it was done is not known. Ask the other side by Key before doing it.
	InDoubt bool
}

// errNotDone marks an error after which a step was certainly not done.
type errNotDone struct{ error }

func (e *errNotDone) Unwrap() error { return e.error }

// NotDone says of an error of a step that it was certainly not done, so that it is not
// in doubt: such as where the other side has refused it.
func NotDone(err error) error { return &errNotDone{err} }

// Once does a step of a job once. That it begins is stored under the live lease before
// f runs, and its result after; when the job is tried again, or requeued, the result
// comes from there and f is not called. Where an attempt ended in between, f is called
// with InDoubt. The error is f's own, or says why it could not be stored.
func Once[T any](ctx context.Context, name string, f func(ctx context.Context, s Step) (T, error)) (out T, err error) {
	r := Job(ctx)
	if r == nil {
		return out, errors.New("a step needs the context of a handler")
	}
	known := r.knownStep(name)
	if !known.InDoubt && known.Result != nil {
		return out, stepResult(known.Result, &out)
	}
	if err := r.tellStep(ctx, name, api.StepReport{Begun: true}); err != nil {
		return out, fmt.Errorf("step %s was not begun: %w", name, err)
	}
	out, err = f(ctx, Step{Name: name, Key: fmt.Sprintf("hmule-%d-%d-%s", r.ID, int64(r.EnqueuedAt), name), InDoubt: known.InDoubt})
	var certainly *errNotDone
	if errors.As(err, &certainly) {
		return out, errors.Join(certainly.error, r.tellStep(r.lasting, name, api.StepReport{NotDone: true}))
	}
	if err != nil {
		return out, err
	}
	result := resultJSON(out)
	if result == nil {
		result = json.RawMessage("null")
	}
	if err := r.tellStep(r.lasting, name, api.StepReport{Result: result}); err != nil {
		return out, fmt.Errorf("step %s was done, and its result could not be stored: %w", name, err)
	}
	r.did(name, result)
	return out, nil
}

// tellStep tells the service of a step, again and again while it gives no answer and the
// context lasts.
func (r *Running) tellStep(ctx context.Context, name string, s api.StepReport) error {
	const most = 2 * time.Second
	for pause := 50 * time.Millisecond; ; pause = min(2*pause, most) {
		err := r.step(ctx, name, s)
		if err == nil || errors.Is(err, ErrLeaseLost) || !api.Temporary(err) && !api.Denied(err) {
			return err
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return errors.Join(context.Cause(ctx), err)
		}
	}
}

// stepResult reads what a step of an earlier attempt has brought.
func stepResult(known json.RawMessage, out any) error {
	var d api.DroppedResult
	if json.Unmarshal(known, &d) == nil && d.Dropped.Why != "" {
		return fmt.Errorf("the step was done by an earlier attempt, and is not repeated; its result was not kept: it %s", d.Dropped.Why)
	}
	return json.Unmarshal(known, out)
}

// did keeps a step's result for the rest of the attempt.
func (r *Running) did(name string, result json.RawMessage) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.done == nil {
		r.done = map[string]json.RawMessage{}
	}
	r.done[name] = result
}

func (r *Running) knownStep(name string) api.StepKnown {
	r.mu.Lock()
	defer r.mu.Unlock()
	if result, done := r.done[name]; done {
		return api.StepKnown{Result: result}
	}
	return r.Steps[name]
}

// tellStep tells the service of a step of a held job.
func (p *Pool) tellStep(ctx context.Context, token, name string, s api.StepReport) error {
	answer, err := p.source.Extend(ctx, api.ExtendRequest{Leases: []api.Extension{{Token: token, Steps: map[string]api.StepReport{name: s}}}})
	switch {
	case err != nil:
		return err
	case answer.Results[0].Status == api.StatusLost:
		return ErrLeaseLost
	}
	return job.Wrong("the step was not taken", answer.Results[0].Errors)
}
