package server

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"humblemule.example/api"
	"humblemule.example/internal/core/cron"
	"humblemule.example/job"
)

// mostSchedules is how many schedules a page holds.
const mostSchedules = 500

func (s *Server) listSchedules(c *gin.Context) (any, error) {
	var wrong []job.FieldError
	limit := numberIn(c, &wrong, "limit", mostSchedules, mostSchedules)
	if err := job.Wrong("the schedules were not read", wrong); err != nil {
		return nil, err
	}
	all, more, err := s.engine.Schedules(c.Request.Context(), c.Query("cursor"), int(limit))
	page := struct {
		Schedules  []api.ScheduleTold `json:"schedules"`
		NextCursor string             `json:"next_cursor,omitzero"`
	}{Schedules: all}
	if more {
		page.NextCursor = all[len(all)-1].Name
	}
	return page, err
}

func (s *Server) getSchedule(c *gin.Context) (any, error) {
	return withVersion(c)(s.engine.Schedule(c.Request.Context(), c.Param("name")))
}

// withVersion tells a schedule's version as its entity tag.
func withVersion(c *gin.Context) func(t api.ScheduleTold, err error) (any, error) {
	return func(t api.ScheduleTold, err error) (any, error) {
		if err == nil {
			c.Header("ETag", strconv.Quote(strconv.FormatInt(t.Version, 10)))
		}
		return t, err
	}
}

// versionAsked is the version of If-Match; 0 where any will do.
func versionAsked(c *gin.Context) (int64, error) {
	tag := c.GetHeader("If-Match")
	if tag == "" || tag == "*" {
		return 0, nil
	}
	version, err := strconv.ParseInt(strings.Trim(tag, `"`), 10, 64)
	if err != nil || version < 1 {
		return 0, job.Fault(job.Outdated, "If-Match %s is the tag of no schedule; give back the ETag that was read", tag)
	}
	return version, nil
}

func (s *Server) putSchedule(c *gin.Context) (any, error) {
	var given api.Schedule
	raw, err := read(c, &given, false, strict)
	if err == nil && given.Job.Retry != nil {
		err = retryZeros(raw, given.Job.Retry, "job.")
	}
	if err != nil {
		return nil, err
	}
	version, err := versionAsked(c)
	if err != nil {
		return nil, err
	}
	ctx, err := asCall(c, raw)
	if err != nil {
		return nil, err
	}
	told, err := s.engine.SetSchedule(ctx, c.Param("name"), given, version)
	told.Warnings = append(told.Warnings, fromFile(told.DefinedBy == api.SettingByFile)...)
	return withVersion(c)(told, err)
}

func (s *Server) deleteSchedule(c *gin.Context) {
	version, err := versionAsked(c)
	if err == nil {
		ctx, wrong := asCall(c, nil)
		if err = wrong; err == nil {
			err = s.engine.DeleteSchedule(ctx, c.Param("name"), version)
		}
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func (s *Server) runSchedule(c *gin.Context) (any, error) {
	raw, err := read(c, &struct{}{}, true, strict)
	if err != nil {
		return nil, err
	}
	ctx, err := asCall(c, raw)
	if err != nil {
		return nil, err
	}
	return withVersion(c)(s.engine.RunSchedule(ctx, c.Param("name")))
}

func (s *Server) pauseSchedule(pause bool) func(c *gin.Context) (any, error) {
	return func(c *gin.Context) (any, error) {
		raw, err := read(c, &struct{}{}, true, strict)
		if err != nil {
			return nil, err
		}
		ctx, err := asCall(c, raw)
		if err != nil {
			return nil, err
		}
		return withVersion(c)(s.engine.PauseSchedule(ctx, c.Param("name"), pause))
	}
}

func (s *Server) listRuns(c *gin.Context) (any, error) {
	var wrong []job.FieldError
	limit := numberIn(c, &wrong, "limit", api.DefaultPage, api.MaxPage)
	before := timeIn(c, &wrong, "before")
	if err := job.Wrong("the runs were not read", wrong); err != nil {
		return nil, err
	}
	runs, err := s.engine.Runs(c.Request.Context(), c.Param("name"), before, int(limit))
	return struct {
		Runs []api.Run `json:"runs"`
	}{append([]api.Run{}, runs...)}, err
}

// mostTimes is how many times of an expression are told at most.
const mostTimes = 100

// tellCron says what an expression means before it is kept.
func (s *Server) tellCron(c *gin.Context) (any, error) {
	var wrong []job.FieldError
	count := numberIn(c, &wrong, "count", 10, mostTimes)
	from := timeIn(c, &wrong, "from")
	if from == 0 {
		from = job.At(time.Now())
	}
	asked := api.Schedule{Cron: c.Query("expr"), Zone: c.Query("zone")}
	if text := c.Query("every"); text != "" {
		every, err := job.ParseDuration(text)
		if err != nil {
			wrong = append(wrong, job.FieldError{Field: "every", Message: err.Error()})
		}
		asked.Every = every
	}
	if asked.Every != 0 && asked.Cron != "" {
		wrong = append(wrong, job.FieldError{Field: "every", Message: "stands beside expr; give one of the two"})
	}
	rule, field, err := cron.NewRule(&asked, from)
	if err != nil {
		wrong = append(wrong, job.FieldError{Field: strings.Replace(field, "cron", "expr", 1), Message: err.Error()})
	}
	if err := job.Wrong("nothing was computed", wrong); err != nil {
		return nil, err
	}
	return rule.Tell(from.Go(), int(count), 0), nil
}

// coming tells what becomes due.
func (s *Server) coming(c *gin.Context) (any, error) {
	var wrong []job.FieldError
	limit := numberIn(c, &wrong, "limit", api.DefaultPage, api.MaxPage)
	span := job.Duration(24 * time.Hour)
	if text := c.Query("span"); text != "" {
		var err error
		if span, err = job.ParseDuration(text); err != nil {
			wrong = append(wrong, job.FieldError{Field: "span", Message: err.Error()})
		}
	}
	if err := job.Wrong("nothing was looked up", wrong); err != nil {
		return nil, err
	}
	return s.engine.Coming(c.Request.Context(), span.Go(), c.Query("queue"), c.Query("task"), int(limit))
}

// timeIn reads a time of the query; 0 where it is not given.
func timeIn(c *gin.Context, wrong *[]job.FieldError, name string) (t job.Time) {
	text := c.Query(name)
	if text == "" {
		return 0
	}
	if err := t.UnmarshalText([]byte(text)); err != nil {
		*wrong = append(*wrong, job.FieldError{Field: name, Message: fmt.Sprintf("%q is no time; write it as 2027-03-01T08:00:00Z", text)})
	}
	return t
}
