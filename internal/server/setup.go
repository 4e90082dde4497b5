package server

import (
	"github.com/gin-gonic/gin"

	"humblemule.example/api"
)

// setup tells all that is in force, and where each comes from.
func (s *Server) setup(c *gin.Context) (any, error) {
	all, err := s.engine.Settings(c.Request.Context())
	if err != nil {
		return nil, err
	}
	if s.opts.Settings != nil {
		all.Settings = append(s.opts.Settings(), all.Settings...)
	}
	return all, nil
}

// putSetup makes the settings those of a file, or tells the difference.
func (s *Server) putSetup(c *gin.Context) (any, error) {
	var req api.SetupRequest
	ctx, err := readCall(c, &req, false, strict)
	if err != nil {
		return nil, err
	}
	return s.engine.Load(ctx, req)
}
