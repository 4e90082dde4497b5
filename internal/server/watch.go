package server

import (
	"context"

	"github.com/gin-gonic/gin"

	"humblemule.example/api"
)

func (s *Server) listQueues(c *gin.Context) (any, error) {
	p, err := partOf(c)
	if err != nil {
		return nil, err
	}
	all, err := s.engine.Queues(c.Request.Context())
	if err != nil {
		return nil, err
	}
	page, next, err := cut(all, p, func(q *api.Queue) string { return q.Name })
	return struct {
		Queues     []api.Queue `json:"queues"`
		NextCursor string      `json:"next_cursor,omitzero"`
	}{page, next}, err
}

func (s *Server) listTasks(c *gin.Context) (any, error) {
	p, err := partOf(c)
	if err != nil {
		return nil, err
	}
	page, next, err := cut(s.engine.Tasks(c.Request.Context()), p, func(t *api.Task) string { return t.Name })
	return struct {
		Tasks      []api.Task `json:"tasks"`
		NextCursor string     `json:"next_cursor,omitzero"`
	}{page, next}, err
}

// setQueue pauses or resumes a queue and answers it as it stands then.
func (s *Server) setQueue(set func(ctx context.Context, name string) error) func(c *gin.Context) (any, error) {
	return func(c *gin.Context) (any, error) {
		ctx, err := s.emptyCall(c)
		if err != nil {
			return nil, err
		}
		if err := set(ctx, c.Param("name")); err != nil {
			return nil, err
		}
		return s.getQueue(c)
	}
}

func (s *Server) getQueue(c *gin.Context) (any, error) {
	q, err := s.engine.Queue(c.Request.Context(), c.Param("name"))
	return versioned(c, queueVersion, q, err)
}

func (s *Server) stats(c *gin.Context) (any, error) {
	stats, err := s.engine.Stats(c.Request.Context(), c.Query("queue"))
	stats.Writing = s.engine.Writing()
	return stats, err
}

func (s *Server) check(c *gin.Context) (any, error) {
	found, err := s.engine.Check(c.Request.Context())
	return gin.H{"findings": append([]api.Finding{}, found...)}, err
}
