package server

import (
	"context"

	"github.com/gin-gonic/gin"

	"humblemule/job"
)

// passLane lets the jobs behind a dead letter, or behind one in backoff, go on.
func (s *Server) passLane(c *gin.Context) (any, error) {
	lane := c.Param("lane")
	return s.setQueue(func(ctx context.Context, queue string) error { return s.engine.PassLane(ctx, queue, lane) })(c)
}

// listStarts tells in what order jobs of a queue were started.
func (s *Server) listStarts(c *gin.Context) (any, error) {
	var wrong []job.FieldError
	limit := numberIn(c, &wrong, "limit", job.DefaultPage, job.MaxPage)
	if err := job.Wrong("the starts were not read", wrong); err != nil {
		return nil, err
	}
	starts, err := s.engine.Starts(c.Request.Context(), c.Param("name"), int(limit))
	return struct {
		Starts []job.Start `json:"starts"`
	}{append([]job.Start{}, starts...)}, err
}
