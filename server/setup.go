package server

import (
	"github.com/gin-gonic/gin"

	"humblemule/core/job"
)

// putSetup makes the settings of queues and tasks those of a file, or tells the
// difference.
func (s *Server) putSetup(c *gin.Context) (any, error) {
	var req job.SetupRequest
	raw, err := read(c, &req, strict, false)
	if err != nil {
		return nil, err
	}
	ctx, err := asCall(c, raw)
	if err != nil {
		return nil, err
	}
	return s.engine.Load(ctx, req)
}
