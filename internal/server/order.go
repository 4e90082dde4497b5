package server

import (
	"context"

	"github.com/gin-gonic/gin"

	"humblemule.example/api"
	"humblemule.example/job"
)

// passLane lets the jobs behind a dead letter, or behind one in backoff, go on.
func (s *Server) passLane(c *gin.Context) (any, error) {
	lane := c.Param("lane")
	return s.setQueue(func(ctx context.Context, queue string) error { return s.engine.PassLane(ctx, queue, lane) })(c)
}

// listStarts tells in what order jobs of a queue were started.
func (s *Server) listStarts(c *gin.Context) (any, error) {
	var wrong []job.FieldError
	limit := numberIn(c, &wrong, "limit", api.DefaultPage, api.MaxPage)
	if err := job.Wrong("the starts were not read", wrong); err != nil {
		return nil, err
	}
	starts, err := s.engine.Starts(c.Request.Context(), c.Param("name"), int(limit))
	return struct {
		Starts []api.Start `json:"starts"`
	}{append([]api.Start{}, starts...)}, err
}
