package server

import (
	"context"

	"github.com/gin-gonic/gin"

	"humblemule.example/api"
	"humblemule.example/internal/core/retry"
	"humblemule.example/job"
)

func (s *Server) getTask(c *gin.Context) (any, error) {
	return s.engine.Task(c.Request.Context(), c.Param("name"))
}

// putTask sets the defaults of a task's jobs.
func (s *Server) putTask(c *gin.Context) (any, error) {
	d, err := s.putDefaults(c, s.engine.SetTask)
	if err != nil {
		return nil, err
	}
	told, err := s.getTask(c)
	if t, ok := told.(api.Task); ok {
		t.Warnings = append(d.Warnings(), fromFile(t.FromFile)...)
		return t, nil
	}
	return told, err
}

// putQueue sets the defaults of a queue's jobs.
func (s *Server) putQueue(c *gin.Context) (any, error) {
	removes := c.Query("removes")
	if removes != "" && removes != "true" && removes != "false" {
		return nil, job.Wrong("the queue stays as it was", []job.FieldError{{Field: "removes", Message: "is true or false"}})
	}
	var operation int64
	d, err := s.putDefaults(c, func(ctx context.Context, name string, d api.Defaults) (err error) {
		operation, err = s.engine.SetQueueRemoving(ctx, name, d, removes == "true")
		return err
	})
	if err != nil {
		return nil, err
	}
	told, err := s.getQueue(c)
	if q, ok := told.(api.Queue); ok {
		q.Operation = operation
		q.Warnings = append(d.Warnings(), fromFile(q.FromFile)...)
		return q, nil
	}
	return told, err
}

// fromFile warns of a setting that the next load of a file sets again.
func fromFile(is bool) []job.Warning {
	if !is {
		return nil
	}
	return []job.Warning{{Code: job.WarnFromFile, Message: "The settings come from a set-up file, and the next load of it sets them again: change the file too."}}
}

func (s *Server) putDefaults(c *gin.Context, set func(ctx context.Context, name string, d api.Defaults) error) (d api.Defaults, err error) {
	raw, err := read(c, &d, false, strict)
	if err == nil && d.Retry != nil {
		err = retryZeros(raw, d.Retry, "")
	}
	if err != nil {
		return d, err
	}
	ctx, err := asCall(c, raw)
	if err != nil {
		return d, err
	}
	return d, set(ctx, c.Param("name"), d)
}

// mostPreviewed is how many attempts a preview tells unless it is asked for more.
const mostPreviewed = 100

// previewRetry tells when each attempt would come.
func (s *Server) previewRetry(c *gin.Context) (any, error) {
	var b struct {
		Retry       *job.Retry `json:"retry"`
		MaxAttempts *int       `json:"max_attempts"`
		Limit       int        `json:"limit"`
	}
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

// deleteName removes a queue or a task that has neither jobs nor settings.
func (s *Server) deleteName(remove func(ctx context.Context, name string) error) func(c *gin.Context) (any, error) {
	return func(c *gin.Context) (any, error) {
		ctx, err := asCall(c, nil)
		if err != nil {
			return nil, err
		}
		return struct{}{}, remove(ctx, c.Param("name"))
	}
}
