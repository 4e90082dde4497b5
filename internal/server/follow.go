package server

import (
	"github.com/gin-gonic/gin"

	"humblemule.example/api"
)

// listFollows lists the labels that are followed.
func (s *Server) listFollows(c *gin.Context) (any, error) {
	all, err := s.engine.Follows(c.Request.Context())
	return struct {
		Follows []api.Follow `json:"follows"`
	}{all}, err
}

func (s *Server) getFollow(c *gin.Context) (any, error) {
	return s.engine.FollowNamed(c.Request.Context(), c.Param("name"))
}

// putFollow follows a label.
func (s *Server) putFollow(c *gin.Context) (any, error) {
	var b struct {
		Label api.NewFollow `json:"label"`
	}
	raw, err := read(c, &b, true, strict)
	if err != nil {
		return nil, err
	}
	ctx, err := asCall(c, raw)
	if err == nil {
		err = s.engine.Follow(ctx, c.Param("name"), b.Label)
	}
	if err != nil {
		return nil, err
	}
	return s.engine.FollowNamed(c.Request.Context(), c.Param("name"))
}
