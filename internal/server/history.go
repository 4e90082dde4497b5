package server

import (
	"time"

	"github.com/gin-gonic/gin"

	"humblemule.example/api"
	"humblemule.example/job"
)

// history tells what moved over time.
func (s *Server) history(c *gin.Context) (any, error) {
	var wrong []job.FieldError
	q := api.HistoryQuery{From: timeIn(c, &wrong, "from"), To: timeIn(c, &wrong, "to"), Step: durationIn(c, &wrong, "step"), By: c.Query("by"), Queue: c.Query("queue"), Task: c.Query("task"), Follow: c.Query("follow")}
	switch text := c.Query("times"); text {
	case "true":
		q.Times = true
	case "", "false":
	default:
		wrong = append(wrong, job.FieldError{Field: "times", Message: "is true or false"})
	}
	if err := job.Wrong("nothing was looked up", wrong); err != nil {
		return nil, err
	}
	return s.engine.History(c.Request.Context(), q)
}

// durationIn reads a span of the query; 0 where it is not given.
func durationIn(c *gin.Context, wrong *[]job.FieldError, name string) job.Duration {
	text := c.Query(name)
	if text == "" {
		return 0
	}
	d, err := job.ParseDuration(text)
	if err == nil && d <= 0 {
		err = job.Fault(job.Invalid, "%s is not longer than nothing", d)
	}
	if err != nil {
		*wrong = append(*wrong, job.FieldError{Field: name, Message: err.Error()})
	}
	return d
}

// forecast tells how a queue will fare.
func (s *Server) forecast(c *gin.Context) (any, error) {
	var wrong []job.FieldError
	q := api.ForecastQuery{Queue: c.Param("name"), Slots: int(numberIn(c, &wrong, "slots", 0, api.MaxForecastSlots)), By: timeIn(c, &wrong, "by"), More: numberIn(c, &wrong, "more", 0, api.MaxForecastMore)}
	if err := job.Wrong("nothing was reckoned", wrong); err != nil {
		return nil, err
	}
	return s.engine.Forecast(c.Request.Context(), q)
}

// addMark notes a moment.
func (s *Server) addMark(c *gin.Context) (any, error) {
	var b api.NewMark
	ctx, err := readCall(c, &b, true, strict)
	if err != nil {
		return nil, err
	}
	m, err := s.engine.Mark(ctx, b.Text, b.At)
	return created{m}, err
}

// marks lists the moments of a span.
func (s *Server) marks(c *gin.Context) (any, error) {
	var wrong []job.FieldError
	from, to := timeIn(c, &wrong, "from"), timeIn(c, &wrong, "to")
	if err := job.Wrong("nothing was looked up", wrong); err != nil {
		return nil, err
	}
	now := time.Now()
	if to == 0 {
		to = job.At(now) + 1
	}
	if from == 0 {
		from = to.Add(-24 * time.Hour)
	}
	all, err := s.engine.Marks(c.Request.Context(), from, to)
	return struct {
		Marks []api.Mark `json:"marks"`
	}{all}, err
}

// deleteMark forgets a moment that somebody has noted.
func (s *Server) deleteMark(c *gin.Context) (any, error) {
	id, err := pathNumber(c, "a mark")
	if err != nil {
		return nil, err
	}
	ctx, err := asCall(c, nil)
	if err != nil {
		return nil, err
	}
	return deleted{}, s.engine.Unmark(ctx, id)
}
