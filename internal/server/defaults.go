package server

import (
	"context"
	"errors"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json"

	"humblemule.example/api"
	"humblemule.example/internal/core/retry"
	"humblemule.example/job"
)

func (s *Server) getTask(c *gin.Context) (any, error) {
	t, err := s.engine.Task(c.Request.Context(), c.Param("name"))
	return versioned(c, taskVersion, t, err)
}

// putTask sets the defaults of a task's jobs.
func (s *Server) putTask(c *gin.Context) (any, error) {
	var d api.Defaults
	ctx, err := asked(c, &d, readDefaults)
	if err == nil {
		err = s.engine.SetTask(ctx, c.Param("name"), d)
	}
	return s.taskAsSet(c, err)
}

// patchTask changes some of the defaults of a task's jobs.
func (s *Server) patchTask(c *gin.Context) (any, error) {
	name := c.Param("name")
	return s.taskAsSet(c, patching[api.Defaults]{
		get: func(ctx context.Context) (api.Defaults, int64, bool, error) {
			t, err := s.engine.Task(ctx, name)
			return asSet(t.Defaults, t.Version, err)
		},
		read: readDefaults,
		set:  func(ctx context.Context, d api.Defaults) error { return s.engine.SetTask(ctx, name, d) },
	}.do(c))
}

// taskAsSet answers a task after it was set, unless that was refused.
func (s *Server) taskAsSet(c *gin.Context, err error) (any, error) {
	var t api.Task
	if err == nil {
		t, err = s.engine.Task(c.Request.Context(), c.Param("name"))
	}
	if err == nil && t.Defaults != nil {
		t.Warnings = append(t.Defaults.Warnings(), fromFile(t.FromFile)...)
	}
	return versioned(c, taskVersion, t, err)
}

// putQueue sets a queue: the order, the limits and the defaults of its jobs.
func (s *Server) putQueue(c *gin.Context) (any, error) {
	removes, err := mayRemove(c)
	if err != nil {
		return nil, err
	}
	var d api.Defaults
	var operation int64
	ctx, err := asked(c, &d, readDefaults)
	if err == nil {
		operation, err = s.engine.SetQueueRemoving(ctx, c.Param("name"), d, removes)
	}
	return s.queueAsSet(c, operation, err)
}

// patchQueue changes some of what is set for a queue.
func (s *Server) patchQueue(c *gin.Context) (any, error) {
	removes, err := mayRemove(c)
	if err != nil {
		return nil, err
	}
	name := c.Param("name")
	var operation int64
	err = patching[api.Defaults]{
		get: func(ctx context.Context) (api.Defaults, int64, bool, error) {
			q, err := s.engine.Queue(ctx, name)
			return asSet(q.Defaults, q.Version, err)
		},
		read: readDefaults,
		set: func(ctx context.Context, d api.Defaults) (err error) {
			operation, err = s.engine.SetQueueRemoving(ctx, name, d, removes)
			return err
		},
	}.do(c)
	return s.queueAsSet(c, operation, err)
}

// queueAsSet answers a queue after it was set, unless that was refused.
func (s *Server) queueAsSet(c *gin.Context, operation int64, err error) (any, error) {
	var q api.Queue
	if err == nil {
		q, err = s.engine.Queue(c.Request.Context(), c.Param("name"))
	}
	q.Operation = operation
	if err == nil && q.Defaults != nil {
		q.Warnings = append(q.Defaults.Warnings(), fromFile(q.FromFile)...)
	}
	return versioned(c, queueVersion, q, err)
}

// mayRemove tells whether a change of a queue may remove finished jobs.
func mayRemove(c *gin.Context) (bool, error) {
	switch c.Query("may_remove") {
	case "", "false":
		return false, nil
	case "true":
		return true, nil
	}
	return false, job.Wrong("the queue stays as it was", []job.FieldError{{Field: "may_remove", Message: "is true or false"}})
}

// asSet gives what was set for a queue or a task; nothing where it is not there.
func asSet(d *api.Defaults, version int64, err error) (api.Defaults, int64, bool, error) {
	var p *job.Problem
	if errors.As(err, &p) && p.Kind == job.NotFound {
		return api.Defaults{}, 0, false, nil
	}
	if d == nil {
		d = &api.Defaults{}
	}
	return *d, version, true, err
}

// asked reads what a PUT sets, and gives the call's context.
func asked[T any](c *gin.Context, v *T, read func(raw []byte, v *T) error) (context.Context, error) {
	if _, err := mediaType(c, mediaJSON); err != nil {
		return nil, err
	}
	raw, err := body(c)
	if err == nil {
		err = read(raw, v)
	}
	if err != nil {
		return nil, err
	}
	return asCall(c, raw)
}

// readDefaults reads what is set for a queue or a task.
func readDefaults(raw []byte, d *api.Defaults) error {
	err := misread(json.Unmarshal(raw, d, strict), "")
	if err == nil && d.Retry != nil {
		err = retryZeros(raw, d.Retry, "")
	}
	return err
}

// fromFile warns of a setting that the next load of a file sets again.
func fromFile(is bool) []job.Warning {
	if !is {
		return nil
	}
	return []job.Warning{{Code: job.WarnFromFile, Message: "The settings come from a set-up file, and the next load of it sets them again: change the file too."}}
}

// mostPreviewed is how many attempts a preview tells unless it is asked for more.
const mostPreviewed = 100

// previewRetry tells when each attempt would come.
func (s *Server) previewRetry(c *gin.Context) (any, error) {
	var b api.RetryQuery
	raw, err := read(c, &b, true, strict)
	if err == nil && b.Retry != nil {
		err = retryZeros(raw, b.Retry, "")
	}
	if err != nil {
		return nil, err
	}
	spec := job.Spec{Task: "any", Retry: b.Retry, MaxAttempts: b.MaxAttempts}
	wrong := spec.Check(job.MaxPayloadBytes)
	if b.Limit < 0 || b.Limit > retry.MostPlanned {
		wrong = append(wrong, job.FieldError{Field: "limit", Message: "is outside 1 to 1000"})
	}
	if err := job.Wrong("nothing was computed", wrong); err != nil {
		return nil, err
	}
	if b.Limit == 0 {
		b.Limit = mostPreviewed
	}
	return retry.Preview(spec.Policy(), b.Limit), nil
}

// deleteName deletes a queue, a task or a schedule.
func (s *Server) deleteName(remove func(ctx context.Context, name string) error) func(c *gin.Context) (any, error) {
	return func(c *gin.Context) (any, error) {
		ctx, err := asCall(c, nil)
		if err != nil {
			return nil, err
		}
		return deleted{}, remove(ctx, c.Param("name"))
	}
}
