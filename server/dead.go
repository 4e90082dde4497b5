package server

import (
	"fmt"

	"github.com/gin-gonic/gin"

	"humblemule/core/job"
)

// listCauses lists what jobs died of, or fail of while they are tried again.
func (s *Server) listCauses(c *gin.Context) (any, error) {
	f := job.CauseFilter{Queue: c.Query("queue"), Task: c.Query("task"), Error: c.Query("error")}
	var wrong []job.FieldError
	switch state := c.DefaultQuery("state", job.Dead.String()); state {
	case job.Dead.String():
		f.State = job.Dead
	case job.Backoff.String():
		f.State = job.Backoff
	default:
		wrong = append(wrong, job.FieldError{Field: "state", Message: fmt.Sprintf("%q has no causes; it is dead or backoff", state)})
	}
	if err := job.Wrong("the causes were not read", wrong); err != nil {
		return nil, err
	}
	all, err := s.engine.Causes(c.Request.Context(), f)
	if err != nil {
		return nil, err
	}
	// The trends of the first ones are told; a page has no room for more.
	const most = 100
	for i := range min(len(all), most) {
		if all[i].Hours, err = s.engine.CauseTrend(c.Request.Context(), all[i].ID); err != nil {
			return nil, err
		}
	}
	return struct {
		Causes []job.Cause `json:"causes"`
	}{all}, nil
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
	told.Hours, err = s.engine.CauseTrend(c.Request.Context(), id)
	return told, err
}
