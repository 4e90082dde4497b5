package server

import (
	"bytes"
	"context"
	"fmt"
	"strconv"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/job"
)

// wireBatch is a new batch as it is read, its jobs one by one.
type wireBatch struct {
	Name   string            `json:"name"`
	Owner  string            `json:"owner"`
	Labels map[string]string `json:"labels"`
	Dedupe string            `json:"dedupe"`
	Open   bool              `json:"open"`
	Jobs   []jsontext.Value  `json:"jobs"`
	Last   jsontext.Value    `json:"last"`
	Notify []job.Notify      `json:"notify"`
}

// batchBody is a body of jobs of a batch: the whole of it, and how the i-th job is named.
type batchBody struct {
	wireBatch
	at func(i int) string
}

// readBatch reads jobs of a batch: as a JSON object or, of which there may be more, as NDJSON, the
// batch in the first line and a job in each of the others.
func readBatch(c *gin.Context, b *batchBody) (raw []byte, err error) {
	kind, err := mediaType(c, mediaJSON, mediaNDJSON)
	if err != nil {
		return nil, err
	}
	if raw, err = body(c); err != nil {
		return nil, err
	}
	if kind == mediaJSON {
		b.at = func(i int) string { return fmt.Sprintf("jobs[%d].", i) }
		return raw, misread(json.Unmarshal(raw, &b.wireBatch, strict), "")
	}
	var numbers []int
	first := true
	for i, line := range bytes.Split(raw, []byte("\n")) {
		switch {
		case len(bytes.TrimSpace(line)) == 0:
		case first:
			if err := misread(json.Unmarshal(line, &b.wireBatch, strict), fmt.Sprintf("line %d: ", i+1)); err != nil {
				return nil, err
			}
			if first = false; b.Jobs != nil {
				return nil, job.Wrong("no job was enqueued", []job.FieldError{{Field: "jobs", Message: "come one a line, after that of the batch; leave it out there"}})
			}
		default:
			b.Jobs, numbers = append(b.Jobs, line), append(numbers, i+1)
		}
	}
	b.at = func(i int) string { return fmt.Sprintf("line %d: ", numbers[i]) }
	return raw, nil
}

// readMembers reads the jobs of a batch.
func readMembers(items []jsontext.Value, at func(i int) string) ([]api.BatchJob, error) {
	jobs := make([]api.BatchJob, len(items))
	for i, item := range items {
		if err := readInto(item, &jobs[i], &jobs[i].Spec, at(i)); err != nil {
			return nil, err
		}
	}
	return jobs, nil
}

// members reads the jobs of a body. Of large ones only a few are read at a time, as of bulks.
func (s *Server) members(ctx context.Context, b *batchBody) (jobs []api.BatchJob, end func(), err error) {
	end = func() {}
	if len(b.Jobs) > engine.BulkRows {
		select {
		case s.bulks <- struct{}{}:
			end = func() { <-s.bulks }
		case <-ctx.Done():
			return nil, end, job.Fault(job.Busy, "the caller has gone before its turn came; nothing of this was kept")
		}
	}
	jobs, err = readMembers(b.Jobs, b.at)
	return jobs, end, err
}

// makeBatch takes in jobs that belong together, all or nothing.
func (s *Server) makeBatch(c *gin.Context) (any, error) {
	var b batchBody
	raw, err := readBatch(c, &b)
	if err != nil {
		return nil, err
	}
	ctx, err := asCall(c, raw)
	if err != nil {
		return nil, err
	}
	jobs, end, err := s.members(ctx, &b)
	defer end()
	if err != nil {
		return nil, err
	}
	asked := api.NewBatch{Name: b.Name, Owner: b.Owner, Labels: b.Labels, Dedupe: b.Dedupe, Open: b.Open, Jobs: jobs, Notify: b.Notify}
	if b.Last != nil && b.Last.Kind() != 'n' {
		asked.Last = new(job.Spec)
		if err := readSpec(b.Last, asked.Last, "last."); err != nil {
			return nil, err
		}
	}
	told, err := s.engine.MakeBatch(ctx, asked, b.at)
	if err != nil {
		return nil, err
	}
	c.Header("Location", fmt.Sprintf("%s/v1/batches/%d", s.opts.BasePath, told.ID))
	if told.Duplicate {
		return told, nil
	}
	return created{told}, nil
}

// addToBatch adds jobs to an open batch, all or nothing.
func (s *Server) addToBatch(c *gin.Context) (any, error) {
	id, err := pathNumber(c, "a batch")
	if err != nil {
		return nil, err
	}
	var b struct {
		Jobs []jsontext.Value `json:"jobs"`
	}
	ctx, err := readCall(c, &b, false, strict)
	if err != nil {
		return nil, err
	}
	of := batchBody{wireBatch{Jobs: b.Jobs}, func(i int) string { return fmt.Sprintf("jobs[%d].", i) }}
	jobs, end, err := s.members(ctx, &of)
	defer end()
	if err != nil {
		return nil, err
	}
	return s.engine.AddToBatch(ctx, id, jobs, of.at)
}

func (s *Server) closeBatch(c *gin.Context) (any, error) {
	id, err := pathNumber(c, "a batch")
	if err != nil {
		return nil, err
	}
	ctx, err := readCall(c, new(struct{}), true, strict)
	if err != nil {
		return nil, err
	}
	return s.engine.CloseBatch(ctx, id)
}

func (s *Server) getBatch(c *gin.Context) (any, error) {
	id, err := pathNumber(c, "a batch")
	if err != nil {
		return nil, err
	}
	wait, err := readWait(c)
	if err != nil {
		return nil, err
	}
	return s.engine.WaitForBatch(c.Request.Context(), id, wait.Go())
}

func (s *Server) getBatchGraph(c *gin.Context) (any, error) {
	id, err := pathNumber(c, "a batch")
	if err != nil {
		return nil, err
	}
	return s.engine.BatchGraph(c.Request.Context(), id)
}

func (s *Server) listBatches(c *gin.Context) (any, error) {
	q := c.Request.URL.Query()
	f := api.BatchQuery{State: api.BatchState(q.Get("state")), Name: q.Get("name"), Owner: q.Get("owner"), Cursor: q.Get("cursor")}
	var wrong []job.FieldError
	for name := range q {
		switch name {
		case "state", "name", "owner", "cursor":
		case "limit":
			n, err := strconv.Atoi(q.Get(name))
			if f.Limit = n; err != nil || n < 1 {
				wrong = append(wrong, job.FieldError{Field: name, Message: fmt.Sprintf("%q is outside 1 to %d", q.Get(name), api.MaxPage)})
			}
		default:
			wrong = append(wrong, job.FieldError{Field: name, Message: "is not a known filter; check its spelling or leave it out"})
		}
	}
	if err := job.Wrong("the list was not read", wrong); err != nil {
		return nil, err
	}
	return s.engine.Batches(c.Request.Context(), f)
}

func (s *Server) getOwner(c *gin.Context) (any, error) {
	return s.engine.Owner(c.Request.Context(), c.Param("name"))
}
