package server

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"math"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/job"
)

// How often a stream shows that it lives while nothing changes, and how long a reader may take
// nothing.
const (
	signOfLife  = 4 * time.Second
	takesWithin = 15 * time.Second
	narrowEvery = 100 * time.Millisecond
)

// events streams what changes, as server-sent events: reset at the start and when everything
// may have changed, jobs with the changed jobs, and counts with the queues whose counts have
// changed. A reader that was away goes on after the last event it has seen.
//
// A reader of some changes only gets reset, jobs and batches; how fast it is told is bounded here.
func (s *Server) events(c *gin.Context) {
	only, err := s.onlyOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	w := s.engine.Watch(c.GetHeader("Last-Event-ID"), only)
	defer w.Close()
	ctx, control := c.Request.Context(), http.NewResponseController(c.Writer)
	c.Header("Content-Type", "text/event-stream")
	c.Header("X-Accel-Buffering", "no") // by which proxies such as nginx hold nothing back
	c.Status(http.StatusOK)
	write := func(text []byte) error {
		if err := control.SetWriteDeadline(time.Now().Add(takesWithin)); err != nil {
			return err
		}
		if _, err := c.Writer.Write(text); err != nil {
			return err
		}
		return control.Flush()
	}
	alive := []byte(": alive\n\n")
	err = write(nil) // the head, so that the reader knows that it is connected
	life := time.NewTicker(signOfLife)
	defer life.Stop()
	for err == nil {
		select {
		case <-ctx.Done():
			return
		case <-life.C:
			err = write(alive)
		case <-w.C:
			var text []byte
			if text, err = s.teller.tell(ctx, s.engine, w); err == nil {
				err = write(text)
			}
			if w.Narrow() && err == nil {
				pause(ctx, narrowEvery)
			}
		}
	}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}

// onlyOf reads which changes a reader of events asks for.
func (s *Server) onlyOf(c *gin.Context) (only api.EventFilter, err error) {
	var wrong []job.FieldError
	given := 0
	for name, values := range c.Request.URL.Query() {
		given++
		value := values[0]
		switch name {
		case "batch":
			only.Batch = numberIn(c, &wrong, name, 0, math.MaxInt64)
		case "owner":
			only.Owner = value
		case "key":
			only.Key = value
		default:
			wrong = append(wrong, job.FieldError{Field: name, Message: "is not a known filter; it is one of batch, owner and key"})
		}
		if value == "" && wrong == nil {
			wrong = append(wrong, job.FieldError{Field: name, Message: "is empty; leave it out to follow all changes"})
		}
	}
	if given > 1 && wrong == nil {
		wrong = append(wrong, job.FieldError{Field: "owner", Message: "one of batch, owner and key can be followed at a time"})
	}
	if err := job.Wrong("nothing is followed", wrong); err != nil || only.Batch == 0 {
		return only, err
	}
	_, err = s.engine.Batch(c.Request.Context(), only.Batch)
	return only, err
}

type resetEvent struct {
	Store string `json:"store"`
}

type jobsEvent struct {
	Jobs []jobChanged `json:"jobs"`
	Many bool         `json:"many"`
}

type batchesEvent struct {
	Batches []batchChanged `json:"batches"`
}

// batchChanged is a batch whose jobs have changed; without a state it has not come to its end.
type batchChanged struct {
	ID    int64          `json:"id"`
	State api.BatchState `json:"state,omitzero"`
}

// jobChanged is a job that has changed; without a state it has to be read to know how.
type jobChanged struct {
	ID    int64     `json:"id"`
	State job.State `json:"state,omitzero"`
	Queue string    `json:"queue,omitzero"`
	Task  string    `json:"task,omitzero"`
}

type countsEvent struct {
	AsOf   job.Time      `json:"as_of"`
	Queues []queueCounts `json:"queues"`
}

type queueCounts struct {
	Name   string              `json:"name"`
	Counts map[job.State]int64 `json:"counts"`
}

type allCounts map[string]map[job.State]int64

// teller puts changes into words for streams. Most streams are told the same at the same time:
// that is put into words once.
type teller struct {
	mu       sync.Mutex
	from, to int64
	reset    bool
	text     []byte
	counts   allCounts // as told up to the part to
}

// tell gives the events of what a watcher was not told yet.
func (t *teller) tell(ctx context.Context, e *engine.Engine, w *engine.Watcher) ([]byte, error) {
	if w.Narrow() {
		return eventsOf(ctx, e, w.Take(), nil, nil)
	}
	if !engine.SeesWhole(ctx) {
		return eventsOf(ctx, e, w.Take(), nil, e.Counts(ctx))
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	from, to, reset := w.Pending()
	if t.text != nil && !reset && !t.reset && t.from == from && t.to == to {
		w.Skip(to)
		return t.text, nil
	}
	changes, counts := w.Take(), allCounts(e.Counts(ctx))
	var told allCounts
	if !changes.Reset && changes.From == t.to {
		told = t.counts
	}
	text, err := eventsOf(ctx, e, changes, told, counts)
	if err == nil && changes.To > t.to {
		t.from, t.to, t.reset, t.text, t.counts = changes.From, changes.To, changes.Reset, text, counts
	}
	return text, err
}

// eventsOf writes changes as events, with the counts that differ from those told before.
func eventsOf(ctx context.Context, e *engine.Engine, c engine.Changes, told, counts allCounts) ([]byte, error) {
	whole := engine.SeesWhole(ctx)
	var b bytes.Buffer
	var err error
	send := func(event string, data any) {
		var body []byte
		if body, err = json.Marshal(data, out); err == nil {
			fmt.Fprintf(&b, "event: %s\nid: %s\ndata: %s\n\n", event, c.Mark, body)
		}
	}
	if c.Reset {
		send("reset", resetEvent{e.StoreID()})
	}
	changed := jobsEvent{Jobs: []jobChanged{}, Many: c.Many}
	for _, j := range c.Jobs {
		if whole || j.State != job.Unplaced && engine.Sees(ctx, j.Queue, j.Task) {
			changed.Jobs = append(changed.Jobs, jobChanged{j.Job, j.State, j.Queue, j.Task})
		}
	}
	if err == nil && (c.Many || len(changed.Jobs) > 0) {
		send("jobs", changed)
	}
	batches := batchesEvent{}
	for _, b := range c.Batches {
		if whole {
			batches.Batches = append(batches.Batches, batchChanged{b.Batch, b.State})
		}
	}
	if err == nil && len(batches.Batches) > 0 {
		send("batches", batches)
	}
	if err == nil && c.Queues {
		send("queues", struct{}{})
	}
	if err == nil && c.Workers {
		send("workers", struct{}{})
	}
	now := countsEvent{AsOf: job.At(time.Now())}
	for name, n := range counts {
		if !maps.Equal(told[name], n) {
			now.Queues = append(now.Queues, queueCounts{name, n})
		}
	}
	if err == nil && len(now.Queues) > 0 {
		send("counts", now)
	}
	return b.Bytes(), err
}
