package notice

import (
	"context"
	"encoding/json"
	"errors"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/read"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Herald sets endpoints. Its methods may be called from any goroutine.
type Herald struct {
	c    *commit.Committer
	read *read.Reader
}

// New gives a herald.
func New(c *commit.Committer, reader *read.Reader) *Herald { return &Herald{c, reader} }

// CheckEndpoint answers what is wrong with an endpoint of a name, and whether it may be called and its secret
// used.
func CheckEndpoint(name string, e *api.Endpoint, o *commit.Options) []job.FieldError {
	wrong := append(check.Name("name", name), e.Check()...)
	if host := (&job.Call{URL: e.URL}).Host(); host != "" {
		if err := o.MayCall(host); err != nil {
			wrong = append(wrong, job.FieldError{Field: "url", Message: err.Error()})
		}
	}
	if e.Secret != "" {
		if err := o.Secrets.ForTask(e.Secret, job.TaskCall); err != nil {
			wrong = append(wrong, job.FieldError{Field: "secret", Message: err.Error()})
		}
	}
	return wrong
}

// SetEndpoint makes an endpoint what is given, new or not. The same again changes nothing.
func (h *Herald) SetEndpoint(ctx context.Context, name string, given api.Endpoint) error {
	if err := scope.Whole(ctx); err != nil {
		return err
	}
	given.Name = ""
	if err := job.Wrong("the endpoint stays as it was", CheckEndpoint(name, &given, &h.c.Options)); err != nil {
		return err
	}
	detail := map[string]any{"endpoint": name, "after": given}
	err := h.record(ctx, "set_endpoint", name, detail, func(v *commit.View) (commit.Write, error) {
		if was := v.Endpoints.Find(name); was != nil {
			detail["before"] = was.Is
		} else if v.Endpoints.Len() >= api.MaxEndpoints {
			return nil, job.Fault(job.WrongState, "there are %d endpoints, the most that are kept; delete one first", api.MaxEndpoints)
		}
		write, err := SetEndpoint(v, name, given, commit.CallOf(ctx).Principal)
		if err == nil && write == nil {
			err = errSame
		}
		return write, err
	})
	if errors.Is(err, errSame) {
		return nil
	}
	return err
}

// errSame ends a command that changes nothing, and leaves no action behind.
var errSame = job.Fault(job.Invalid, "nothing differs")

// record records what is done to an endpoint.
func (h *Herald) record(ctx context.Context, action, name string, detail map[string]any, check commit.Check) error {
	if err := scope.Whole(ctx); err != nil {
		return err
	}
	return h.c.Record(ctx, action, 0, detail, func(v *commit.View) (commit.Act, error) {
		e, version := v.Endpoints.Find(name), int64(0)
		if e != nil {
			version = e.Row.Version
		}
		if err := commit.CallOf(ctx).If.Check("endpoint "+name, e != nil, version); err != nil {
			return nil, err
		}
		write, err := check(v)
		return func(tx *commit.Tx, _ int64) error { return write(tx) }, err
	})
}

// SetEndpoint makes an endpoint what is given; what it gives is nil where that is what it is. Whether there is
// room for one more is for the caller to see.
func SetEndpoint(v *commit.View, name string, given api.Endpoint, by string) (commit.Write, error) {
	paused := given.Paused
	given.Name, given.Paused = "", nil
	body, err := json.Marshal(given)
	if err != nil {
		return nil, err
	}
	row := store.Endpoint{Name: name, MadeAt: v.Now}
	if old := v.Endpoints.Find(name); old != nil {
		if row = old.Row; row.Body == string(body) && (paused == nil || *paused == (row.PausedAt != 0)) {
			return nil, nil
		}
	}
	row.Body, row.Version = string(body), row.Version+1
	if paused != nil {
		pause(&row, *paused, by, v.Now)
	}
	return func(tx *commit.Tx) error { return tx.Endpoints.Put(&memory.Endpoint{Row: row, Is: given}) }, nil
}

// pause pauses an endpoint or lets it go on.
func pause(row *store.Endpoint, paused bool, by string, now job.Time) {
	switch {
	case paused == (row.PausedAt != 0):
	case paused:
		row.PausedAt, row.PausedBy, row.PausedWhy = now, by, ""
	default:
		row.PausedAt, row.PausedBy, row.PausedWhy, row.FailingSince, row.Missed = 0, "", "", 0, 0
	}
}

// DeleteEndpoint deletes an endpoint, unless a task or a schedule names it. Messages that are under way to it
// give up.
func (h *Herald) DeleteEndpoint(ctx context.Context, name string) error {
	return h.record(ctx, "delete_endpoint", name, map[string]any{"endpoint": name}, func(v *commit.View) (commit.Write, error) {
		if v.Endpoints.Find(name) == nil {
			return nil, read.NoEndpoint(name)
		}
		if by := command.TellsAt(v, name, func(string, string) bool { return false }); by != "" {
			return nil, job.Fault(job.WrongState, "endpoint %s stays: %s names it; change that first", name, by)
		}
		return func(tx *commit.Tx) error { return tx.Endpoints.Delete(name) }, nil
	})
}

// PauseEndpoint has no messages sent to an endpoint.
func (h *Herald) PauseEndpoint(ctx context.Context, name string) error {
	return h.setPause(ctx, "pause_endpoint", name, true)
}

// ResumeEndpoint has messages sent to an endpoint again, of what ends from now on.
func (h *Herald) ResumeEndpoint(ctx context.Context, name string) error {
	return h.setPause(ctx, "resume_endpoint", name, false)
}

func (h *Herald) setPause(ctx context.Context, action, name string, paused bool) error {
	by := commit.CallOf(ctx).Principal
	return h.record(ctx, action, name, map[string]any{"endpoint": name}, func(v *commit.View) (commit.Write, error) {
		e := v.Endpoints.Find(name)
		if e == nil {
			return nil, read.NoEndpoint(name)
		}
		next := *e
		next.Row.Version++
		pause(&next.Row, paused, by, v.Now)
		return func(tx *commit.Tx) error { return tx.Endpoints.Put(&next) }, nil
	})
}

// TestEndpoint sends a message that says that it is a test, and tells which job that is.
func (h *Herald) TestEndpoint(ctx context.Context, name string) (told api.Received, err error) {
	if err := scope.Whole(ctx); err != nil {
		return told, err
	}
	call := commit.CallOf(ctx)
	return told, h.c.Do(ctx, func(v *commit.View) (commit.Write, error) {
		r, err := v.Receipts.Find(call.ID())
		if r != nil {
			told.Job = r.IDs[0]
		}
		if r != nil || err != nil {
			return nil, err
		}
		e := v.Endpoints.Find(name)
		switch {
		case e == nil:
			return nil, read.NoEndpoint(name)
		case e.Row.PausedAt != 0:
			return nil, job.Fault(job.WrongState, "endpoint %s is paused; resume it first", name)
		}
		return func(tx *commit.Tx) error {
			told.Job = tx.Facts.NextJob.Get()
			tx.Receipts.Note(call.ID(), told.Job)
			return Send(tx, "", api.Notice{Endpoint: name, Event: testEvent(tx, told.Job)})
		}, nil
	})
}
