package server

import (
	"context"
	"fmt"

	"github.com/gin-gonic/gin"

	"humblemule.example/api"
)

// passLane lets the jobs behind a dead letter, or behind one in backoff, go on.
func (s *Server) passLane(c *gin.Context) (any, error) {
	lane := c.Param("lane")
	return s.setQueue(func(ctx context.Context, queue string) error { return s.engine.PassLane(ctx, queue, lane) })(c)
}

// listStarts tells in what order jobs of a queue were started.
func (s *Server) listStarts(c *gin.Context) (any, error) {
	p, err := partOf(c)
	if err != nil {
		return nil, err
	}
	starts, err := s.engine.Starts(c.Request.Context(), c.Param("name"))
	if err != nil {
		return nil, err
	}
	page, next, err := cut(starts, p, func(s *api.Start) string { return fmt.Sprintf("%d.%d", s.Job, s.StartedAt) })
	return struct {
		Starts     []api.Start `json:"starts"`
		NextCursor string      `json:"next_cursor,omitzero"`
	}{page, next}, err
}

// listLanes tells which job has each lane of a queue.
func (s *Server) listLanes(c *gin.Context) (any, error) {
	p, err := partOf(c)
	if err != nil {
		return nil, err
	}
	all, err := s.engine.Lanes(c.Request.Context(), c.Param("name"), p.cursor, p.limit+1)
	page, next := cutRest(all, p, func(l *api.Lane) string { return l.Name })
	return struct {
		Lanes      []api.Lane `json:"lanes"`
		NextCursor string     `json:"next_cursor,omitzero"`
	}{page, next}, err
}
