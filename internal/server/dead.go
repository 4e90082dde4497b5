package server

import (
	"context"
	"fmt"
	"strconv"

	"github.com/gin-gonic/gin"

	"humblemule.example/api"
	"humblemule.example/job"
)

// listCauses lists what jobs died of, or fail of while they will be retried.
func (s *Server) listCauses(c *gin.Context) (any, error) {
	f := api.CauseFilter{Queue: c.Query("queue"), Task: c.Query("task"), Error: c.Query("error")}
	var wrong []job.FieldError
	switch state := c.DefaultQuery("state", job.Dead.String()); state {
	case job.Dead.String():
		f.State = job.Dead
	case job.Backoff.String():
		f.State = job.Backoff
	default:
		wrong = append(wrong, job.FieldError{Field: "state", Message: fmt.Sprintf("%q has no causes; it is dead or backoff", state)})
	}
	p := partIn(c, &wrong)
	if err := job.Wrong("the causes were not read", wrong); err != nil {
		return nil, err
	}
	all, err := s.engine.Causes(c.Request.Context(), f)
	if err != nil {
		return nil, err
	}
	page, next, err := cut(all, p, func(c *api.Cause) string { return strconv.FormatInt(c.ID, 10) })
	if err != nil {
		return nil, err
	}
	return struct {
		Causes     []api.Cause `json:"causes"`
		NextCursor string      `json:"next_cursor,omitzero"`
	}{page, next}, nil
}

// getCause tells about one cause, of its dead jobs.
func (s *Server) getCause(c *gin.Context) (any, error) {
	id, err := pathID(c)
	if err != nil {
		return nil, err
	}
	told, err := s.engine.Cause(c.Request.Context(), id)
	if err != nil {
		return nil, err
	}
	return told, s.engine.CauseHistory(c.Request.Context(), &told)
}

// actOnMany applies an action to many jobs.
func (s *Server) actOnMany(c *gin.Context) (any, error) {
	var req api.ActRequest
	raw, err := read(c, &req, false, strict)
	if err == nil && req.Patch != nil {
		_, err = readPatch(req.Patch) // in the words that PATCH has
	}
	if err != nil {
		return nil, err
	}
	return s.operate(c, raw, req)
}

// purgeQueue removes what waits in a queue.
func (s *Server) purgeQueue(c *gin.Context) (any, error) {
	var b api.PurgeRequest
	raw, err := read(c, &b, true, strict)
	if err != nil {
		return nil, err
	}
	if _, err := s.getQueue(c); err != nil {
		return nil, err
	}
	return s.operate(c, raw, api.ActRequest{
		Action: api.ActPurge, Filter: &api.Selection{Queues: []string{c.Param("name")}, States: b.States, Tasks: b.Tasks}, DryRun: b.DryRun, Note: b.Note,
	})
}

// operate starts an action on many jobs.
func (s *Server) operate(c *gin.Context, raw []byte, req api.ActRequest) (any, error) {
	ctx, err := asCall(c, raw)
	if err != nil {
		return nil, err
	}
	told, err := s.engine.Act(ctx, req)
	if err == nil && !told.Over() {
		return accepted{told}, nil
	}
	return told, err
}

func (s *Server) listOperations(c *gin.Context) (any, error) {
	var wrong []job.FieldError
	p := partIn(c, &wrong)
	before := p.number(&wrong)
	if err := job.Wrong("the operations were not read", wrong); err != nil {
		return nil, err
	}
	all, err := s.engine.Operations(c.Request.Context(), before, p.limit+1)
	page, next := cutRest(all, p, func(o *api.Operation) string { return strconv.FormatInt(o.ID, 10) })
	return struct {
		Operations []api.Operation `json:"operations"`
		NextCursor string          `json:"next_cursor,omitzero"`
	}{page, next}, err
}

// operation makes a route of what is done with an operation.
func (s *Server) operation(do func(ctx context.Context, id int64) (api.Operation, error)) func(c *gin.Context) (any, error) {
	return func(c *gin.Context) (any, error) {
		id, err := pathID(c)
		if err != nil {
			return nil, err
		}
		ctx, err := asCall(c, nil)
		if err != nil {
			return nil, err
		}
		return do(ctx, id)
	}
}

// listActions tells what operators did.
func (s *Server) listActions(c *gin.Context) (any, error) {
	var wrong []job.FieldError
	p := partIn(c, &wrong)
	before, id := p.number(&wrong), numberIn(c, &wrong, "job", 0, 1<<53)
	if err := job.Wrong("the actions were not read", wrong); err != nil {
		return nil, err
	}
	all, err := s.engine.Actions(c.Request.Context(), before, id, p.limit+1)
	page, next := cutRest(all, p, func(a *api.Action) string { return strconv.FormatInt(a.ID, 10) })
	return struct {
		Actions    []api.Action `json:"actions"`
		NextCursor string       `json:"next_cursor,omitzero"`
	}{page, next}, err
}

// numberIn reads a number from 1 to most of a query; otherwise where it is not given.
func numberIn(c *gin.Context, wrong *[]job.FieldError, name string, otherwise, most int64) int64 {
	text := c.Query(name)
	if text == "" {
		return otherwise
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 || n > most {
		*wrong = append(*wrong, job.FieldError{Field: name, Message: fmt.Sprintf("%q is outside 1 to %d", text, most)})
	}
	return n
}
