package server

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/job"
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

// How often a stream tells what has changed, and how often it shows that it
// lives while nothing does.
const (
	eventsEvery = 250 * time.Millisecond
	signOfLife  = 4 * time.Second
	takesWithin = 15 * time.Second
)

// events streams what changes, as server-sent events: reset at the start and
// when everything may have changed, jobs with the ids of changed jobs, and
// counts with the queues whose counts have changed.
func (s *Server) events(c *gin.Context) {
	w := s.engine.Watch()
	defer w.Close()
	st := &stream{c: c, control: http.NewResponseController(c.Writer), told: map[string]map[job.State]int64{}}
	c.Header("Content-Type", "text/event-stream")
	c.Status(http.StatusOK)
	err := st.control.SetWriteDeadline(time.Time{})
	if err == nil {
		err = st.send("reset", map[string]string{"store": s.engine.StoreID()})
	}
	if err == nil {
		err = s.tellCounts(st)
	}
	life := time.NewTicker(signOfLife)
	defer life.Stop()
	for err == nil {
		select {
		case <-c.Request.Context().Done():
			return
		case <-life.C:
			err = st.write(": alive\n\n")
		case <-w.C:
			changes := w.Take()
			err = s.tell(st, changes)
			if err == nil {
				err = st.pause(eventsEvery)
			}
		}
	}
}

// tell sends what has changed.
func (s *Server) tell(st *stream, changes engine.Changes) error {
	if changes.Reset {
		return st.send("reset", map[string]string{"store": s.engine.StoreID()})
	}
	var err error
	if len(changes.Jobs) > 0 {
		err = st.send("jobs", jobsEvent{IDs: changes.Jobs, Many: changes.Many})
	}
	if err == nil && changes.Queues {
		err = st.send("queues", struct{}{})
	}
	if err == nil && changes.Workers {
		err = st.send("workers", struct{}{})
	}
	if err == nil {
		err = s.tellCounts(st)
	}
	return err
}

type jobsEvent struct {
	IDs  []int64 `json:"ids"`
	Many bool    `json:"many"`
}

type countsEvent struct {
	AsOf   job.Time      `json:"as_of"`
	Queues []queueCounts `json:"queues"`
}

type queueCounts struct {
	Name   string              `json:"name"`
	Counts map[job.State]int64 `json:"counts"`
}

// stream is one reader of events.
type stream struct {
	c       *gin.Context
	control *http.ResponseController
	// told are the counts the reader knows.
	told map[string]map[job.State]int64
}

func (st *stream) write(text string) error {
	// A reader that takes nothing for so long is gone.
	if err := st.control.SetWriteDeadline(time.Now().Add(takesWithin)); err != nil {
		return err
	}
	if _, err := st.c.Writer.WriteString(text); err != nil {
		return err
	}
	return st.control.Flush()
}

func (st *stream) send(event string, data any) error {
	body, err := json.Marshal(data, out)
	if err != nil {
		return err
	}
	return st.write(fmt.Sprintf("event: %s\ndata: %s\n\n", event, body))
}

// pause lets changes gather.
func (st *stream) pause(d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-st.c.Request.Context().Done():
		return st.c.Request.Context().Err()
	}
}

// tellCounts sends the counts that the reader does not know yet.
func (s *Server) tellCounts(st *stream) error {
	e := countsEvent{AsOf: job.At(time.Now())}
	for name, counts := range s.engine.Counts(st.c.Request.Context()) {
		if !maps.Equal(st.told[name], counts) {
			st.told[name] = counts
			e.Queues = append(e.Queues, queueCounts{name, counts})
		}
	}
	if len(e.Queues) == 0 {
		return nil
	}
	return st.send("counts", e)
}
