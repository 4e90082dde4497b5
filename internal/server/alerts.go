package server

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"humblemule.example/api"
	"humblemule.example/job"
)

// listAlerts lists alerts, in some states where they are asked for.
func (s *Server) listAlerts(c *gin.Context) (any, error) {
	var states []string
	if asked := c.Query("state"); asked != "" {
		states = strings.Split(asked, ",")
	}
	for _, state := range states {
		if !slices.Contains(api.AlertStates(), state) {
			return nil, job.Wrong("the alerts were not read", []job.FieldError{{Field: "state", Message: fmt.Sprintf("%q is not one of %s", state, strings.Join(api.AlertStates(), ", "))}})
		}
	}
	all, err := s.engine.Alerts(c.Request.Context(), states)
	return struct {
		Alerts []api.Alert `json:"alerts"`
	}{all}, err
}

func (s *Server) getAlert(c *gin.Context) (any, error) {
	id, err := pathID(c)
	if err != nil {
		return nil, err
	}
	return s.engine.Alert(c.Request.Context(), id)
}

// listAlertRules tells the rules that hold, and the channels by which somebody is told.
func (s *Server) listAlertRules(c *gin.Context) (any, error) {
	return s.engine.AlertSetup(c.Request.Context())
}

// seeAlert notes who has seen an alert.
func (s *Server) seeAlert(c *gin.Context) (any, error) {
	var asked api.SeenRequest
	return s.actOnAlert(c, &asked, func(ctx context.Context, id int64) error { return s.engine.SeeAlert(ctx, id, asked.Note) })
}

// muteAlert has nobody told of an alert for a while.
func (s *Server) muteAlert(c *gin.Context) (any, error) {
	var asked api.MuteRequest
	return s.actOnAlert(c, &asked, func(ctx context.Context, id int64) error { return s.engine.MuteAlert(ctx, id, asked.For) })
}

// actOnAlert does something to an alert, and answers how it stands then.
func (s *Server) actOnAlert(c *gin.Context, asked any, act func(ctx context.Context, id int64) error) (any, error) {
	id, err := pathID(c)
	if err != nil {
		return nil, err
	}
	ctx, err := readCall(c, asked, true, strict)
	if err == nil {
		err = act(ctx, id)
	}
	if err != nil {
		return nil, err
	}
	return s.engine.Alert(c.Request.Context(), id)
}

// testAlerts sends a test by channels.
func (s *Server) testAlerts(c *gin.Context) (any, error) {
	var asked api.AlertTestRequest
	ctx, err := readCall(c, &asked, true, strict)
	if err != nil {
		return nil, err
	}
	told, err := s.engine.TestAlerts(ctx, asked.Channels)
	return created{told}, err
}
