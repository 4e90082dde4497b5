package server

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"humblemule.example/api"
	"humblemule.example/internal/core/cron"
	"humblemule.example/job"
)

func (s *Server) listSchedules(c *gin.Context) (any, error) {
	p, err := partOf(c)
	if err != nil {
		return nil, err
	}
	all, more, err := s.engine.Schedules(c.Request.Context(), p.cursor, p.limit)
	page := struct {
		Schedules  []api.ScheduleStatus `json:"schedules"`
		NextCursor string               `json:"next_cursor,omitzero"`
	}{Schedules: all}
	if more {
		page.NextCursor = all[len(all)-1].Name
	}
	return page, err
}

func (s *Server) getSchedule(c *gin.Context) (any, error) {
	t, err := s.engine.Schedule(c.Request.Context(), c.Param("name"))
	return versioned(c, scheduleVersion, t, err)
}

func (s *Server) putSchedule(c *gin.Context) (any, error) {
	var given api.Schedule
	var told api.ScheduleStatus
	ctx, err := asked(c, &given, readSchedule)
	if err == nil {
		told, err = s.engine.SetSchedule(ctx, c.Param("name"), given)
	}
	return scheduleAsSet(c, told, err)
}

// patchSchedule changes parts of a schedule.
func (s *Server) patchSchedule(c *gin.Context) (any, error) {
	name := c.Param("name")
	var told api.ScheduleStatus
	err := patching[api.Schedule]{
		get: func(ctx context.Context) (api.Schedule, int64, bool, error) {
			is, version, there := s.engine.ScheduleAsSet(ctx, name)
			return is, version, there, nil
		},
		read: readSchedule,
		set: func(ctx context.Context, given api.Schedule) (err error) {
			told, err = s.engine.SetSchedule(ctx, name, given)
			return err
		},
	}.do(c)
	return scheduleAsSet(c, told, err)
}

// readSchedule reads a schedule as it is set.
func readSchedule(raw []byte, v *api.Schedule) error {
	if err := misread(json.Unmarshal(raw, v, strict), ""); err != nil {
		return err
	}
	var within struct {
		Job   jsontext.Value `json:"job"`
		Batch struct {
			Jobs []jsontext.Value `json:"jobs"`
			Last jsontext.Value   `json:"last"`
		} `json:"batch"`
	}
	if err := json.Unmarshal(raw, &within); err != nil {
		return err
	}
	if v.Job.Retry != nil {
		return retryZeros(within.Job, v.Job.Retry, "job.")
	}
	if v.Batch == nil {
		return nil
	}
	for i := range v.Batch.Jobs {
		if r := v.Batch.Jobs[i].Retry; r != nil {
			if err := retryZeros(within.Batch.Jobs[i], r, fmt.Sprintf("batch.jobs[%d].", i)); err != nil {
				return err
			}
		}
	}
	if v.Batch.Last != nil && v.Batch.Last.Retry != nil {
		return retryZeros(within.Batch.Last, v.Batch.Last.Retry, "batch.last.")
	}
	return nil
}

// scheduleAsSet answers a schedule after it was set, unless that was refused.
func scheduleAsSet(c *gin.Context, told api.ScheduleStatus, err error) (any, error) {
	told.Warnings = append(told.Warnings, fromFile(told.DefinedBy == api.SettingByFile)...)
	return versioned(c, scheduleVersion, told, err)
}

// setSchedule pauses a schedule, lets it go on, or enqueues a run of it.
func (s *Server) setSchedule(set func(ctx context.Context, name string) (api.ScheduleStatus, error)) func(c *gin.Context) (any, error) {
	return func(c *gin.Context) (any, error) {
		ctx, err := readCall(c, &struct{}{}, true, strict)
		if err != nil {
			return nil, err
		}
		t, err := set(ctx, c.Param("name"))
		return versioned(c, scheduleVersion, t, err)
	}
}

func (s *Server) listRuns(c *gin.Context) (any, error) {
	p, err := partOf(c)
	var before job.Time
	if err == nil && p.cursor != "" && before.UnmarshalText([]byte(p.cursor)) != nil {
		err = job.Wrong("the runs were not read", []job.FieldError{badCursor(p.cursor)})
	}
	if err != nil {
		return nil, err
	}
	all, err := s.engine.Runs(c.Request.Context(), c.Param("name"), before, p.limit+1)
	page, next := cutRest(all, p, func(r *api.Run) string { return r.PlannedAt.String() })
	return struct {
		Runs       []api.Run `json:"runs"`
		NextCursor string    `json:"next_cursor,omitzero"`
	}{page, next}, err
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
		wrong = append(wrong, job.FieldError{Field: "every", Message: "cannot be combined with expr; give one of the two"})
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
		*wrong = append(*wrong, job.FieldError{Field: name, Message: fmt.Sprintf("%q is not a valid time; write it as 2027-03-01T08:00:00Z", text)})
	}
	return t
}
