package server

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// enqueue takes in one job.
func (s *Server) enqueue(c *gin.Context) (any, error) {
	var spec job.Spec
	raw, err := read(c, &spec, false, strict)
	if err == nil && spec.Retry != nil {
		err = retryZeros(raw, spec.Retry, "")
	}
	if err != nil {
		return nil, err
	}
	ctx, err := asCall(c, raw)
	if err != nil {
		return nil, err
	}
	told, err := s.engine.Enqueue(ctx, spec)
	if err != nil {
		return nil, err
	}
	c.Header("Location", fmt.Sprintf("%s/v1/jobs/%d", s.opts.BasePath, told.ID))
	if told.Duplicate {
		return told, nil
	}
	return created{told}, nil
}

// enqueueMany takes in many jobs, all or nothing.
func (s *Server) enqueueMany(c *gin.Context) (any, error) {
	kind, err := mediaType(c, mediaJSON, mediaNDJSON)
	if err != nil {
		return nil, err
	}
	if kind == mediaNDJSON {
		return s.enqueueLines(c)
	}
	raw, err := body(c)
	if err != nil {
		return nil, err
	}
	ctx, err := asCall(c, raw)
	if err != nil {
		return nil, err
	}
	return s.enqueueList(ctx, raw)
}

// enqueueList takes in the jobs of a list, all or nothing.
func (s *Server) enqueueList(ctx context.Context, raw []byte) (any, error) {
	var items []jsontext.Value
	if err := misread(json.Unmarshal(raw, &items), ""); err != nil {
		return nil, err
	}
	b := bulk{s: s}
	defer b.end()
	for i, item := range items {
		if err := b.add(ctx, item, func() string { return fmt.Sprintf("[%d].", i) }); err != nil {
			return nil, err
		}
	}
	return b.enqueue(ctx, func(i int) string { return fmt.Sprintf("[%d].", i) })
}

// enqueueLines takes in a job a line, all or nothing. Lines are read as they come, so that no
// more than one of them is kept beside the jobs.
func (s *Server) enqueueLines(c *gin.Context) (any, error) {
	sum := sha256.New()
	in := bufio.NewReaderSize(io.TeeReader(c.Request.Body, sum), 64<<10)
	b := bulk{s: s}
	defer b.end()
	var lines []int // the numbers of those that hold a job
	for number := 1; ; number++ {
		line, end := readLine(in)
		if err := unread(end); err != nil {
			return nil, err
		}
		if len(bytes.TrimSpace(line)) > 0 {
			if err := b.add(c.Request.Context(), line, func() string { return fmt.Sprintf("line %d: ", number) }); err != nil {
				io.Copy(io.Discard, in) // the caller reads no answer before it has sent all
				return nil, inLines(err, append(lines, number))
			}
			lines = append(lines, number)
		}
		if end != nil {
			break
		}
	}
	ctx, err := asCallOf(c, sum)
	if err != nil {
		return nil, err
	}
	told, err := b.enqueue(ctx, func(i int) string { return fmt.Sprintf("line %d: ", lines[i]) })
	return told, inLines(err, lines)
}

// inLines names the fields of an error as those of a list are named, by the place of their
// job, and says in which lines they stand: lines are the numbers of those that hold a job.
func inLines(err error, lines []int) error {
	var p *job.Problem
	if !errors.As(err, &p) {
		return err
	}
	named := &job.Problem{Kind: p.Kind, Detail: p.Detail}
	for _, f := range p.Fields {
		if line, field, found := strings.Cut(strings.TrimPrefix(f.Field, "line "), ": "); found {
			number, _ := strconv.Atoi(line)
			f.Field = fmt.Sprintf("[%d].%s", slices.Index(lines, number), field)
			f.Message += fmt.Sprintf(", in line %d", number)
		}
		named.Fields = append(named.Fields, f)
	}
	return named
}

// readLine reads a line of any length, which is good until the next is read; io.EOF comes with
// the last.
func readLine(in *bufio.Reader) (line []byte, err error) {
	line, err = in.ReadSlice('\n')
	if !errors.Is(err, bufio.ErrBufferFull) {
		return line, err
	}
	line = bytes.Clone(line)
	for errors.Is(err, bufio.ErrBufferFull) {
		var more []byte
		more, err = in.ReadSlice('\n')
		line = append(line, more...)
	}
	return line, err
}

// readSpec reads a spec strictly; at is its place within the body.
func readSpec(raw []byte, s *job.Spec, at string) error { return readInto(raw, s, s, at) }

// readInto reads what holds a spec strictly.
func readInto(raw []byte, whole any, s *job.Spec, at string) error {
	if err := misread(json.Unmarshal(raw, whole, strict), at); err != nil || s.Retry == nil {
		return err
	}
	return retryZeros(raw, s.Retry, at)
}

// retryZeros refuses parts of a retry that are given as zero: they would silently
// take their defaults.
func retryZeros(raw []byte, r *job.Retry, at string) error {
	var named struct {
		Retry map[string]jsontext.Value `json:"retry"`
	}
	if err := misread(json.Unmarshal(raw, &named), at); err != nil {
		return err
	}
	wrong := r.Zeros(slices.Sorted(maps.Keys(named.Retry)))
	for i := range wrong {
		wrong[i].Field = at + wrong[i].Field
	}
	return job.Wrong("nothing was done", wrong)
}

// bulk gathers jobs that are taken in together, all or nothing. Of large ones only a few are
// read at a time: they are written one after the other anyway, and reading more of them ahead
// would keep the small calls from the processor.
type bulk struct {
	s     *Server
	specs []job.Spec
	large bool
}

// add reads the next spec; at gives its place within the body.
func (b *bulk) add(ctx context.Context, item []byte, at func() string) error {
	if len(b.specs) == engine.BulkRows {
		select {
		case b.s.bulks <- struct{}{}:
			b.large = true
		case <-ctx.Done():
			return job.Fault(job.Busy, "the caller has gone before its turn came; nothing of this was kept")
		}
	}
	var spec job.Spec
	if readSpec(item, &spec, "") != nil { // its place is told of one that is wrong
		spec = job.Spec{}
		return readSpec(item, &spec, at())
	}
	b.specs = append(b.specs, spec)
	return nil
}

func (b *bulk) end() {
	if b.large {
		<-b.s.bulks
	}
}

// enqueue takes in what was gathered; at gives the place of each job within the body.
func (b *bulk) enqueue(ctx context.Context, at func(int) string) (any, error) {
	if len(b.specs) == 0 {
		return nil, job.Fault(job.Invalid, "the body has no job; send one spec per line, or a list of specs")
	}
	jobs, err := b.s.engine.EnqueueMany(ctx, b.specs, at)
	if err != nil {
		return nil, err
	}
	return created{api.EnqueuedMany{Jobs: jobs, Warnings: b.s.engine.Unserved(b.specs)}}, nil
}

func (s *Server) listJobs(c *gin.Context) (any, error) {
	f, err := readFilter(c.Request.URL.Query())
	if err != nil {
		return nil, err
	}
	return s.engine.Jobs(c.Request.Context(), f)
}

// countJobs counts what a filter matches.
func (s *Server) countJobs(c *gin.Context) (any, error) {
	q := c.Request.URL.Query()
	for _, name := range []string{"order", "limit", "from"} {
		if q.Has(name) {
			return nil, job.Wrong("nothing was counted", []job.FieldError{{Field: name, Message: "is for lists; leave it out"}})
		}
	}
	f, err := readFilter(q)
	if err != nil {
		return nil, err
	}
	return s.engine.Count(c.Request.Context(), f)
}

// words splits a list of a query, which may be comma-separated or repeated.
func words(values []string) (all []string) {
	for _, v := range values {
		for word := range strings.SplitSeq(v, ",") {
			if word = strings.TrimSpace(word); word != "" {
				all = append(all, word)
			}
		}
	}
	return all
}

// fromIn reads with which job a list begins: its id, or a time.
func fromIn(text string) (id int64, at job.Time, err error) {
	if id, err := strconv.ParseInt(text, 10, 64); err == nil {
		if id < 1 || id > 1<<53 {
			return 0, 0, fmt.Errorf("%d is outside 1 to 2^53", id)
		}
		return id, 0, nil
	}
	if err := at.UnmarshalText([]byte(text)); err != nil {
		return 0, 0, fmt.Errorf("%q is neither the id of a job nor a time such as 2026-11-23T06:12:00Z", text)
	}
	return 0, at, nil
}

// readFilter reads the query of a list. Every unknown or wrong part is named.
func readFilter(q url.Values) (f api.Filter, err error) {
	var wrong []job.FieldError
	add := func(field, format string, args ...any) {
		wrong = append(wrong, job.FieldError{Field: field, Message: fmt.Sprintf(format, args...)})
	}
	names := make([]string, 0, len(q))
	for name := range q {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		values := q[name]
		last := values[len(values)-1]
		switch name {
		case "state":
			for _, w := range words(values) {
				state, err := job.ParseState(w)
				if err != nil {
					add(name, "%v", err)
				}
				f.States = append(f.States, state)
			}
		case "queue":
			f.Queues = words(values)
		case "task":
			f.Tasks = words(values)
		case "owner":
			f.Owner = last
		case "key":
			f.Key = last
		case "worker":
			f.Worker = last
		case "batch":
			if f.Batch, err = strconv.ParseInt(last, 10, 64); err != nil || f.Batch < 1 {
				add(name, "%q is not a valid id of a batch", text.Shorten(last))
			}
		case "label":
			f.Labels = map[string]string{}
			for _, v := range values {
				k, value, ok := api.ReadLabelPair(v)
				if !ok {
					add(name, "%q is not a valid pair; write label=name:value", v)
				}
				if before, twice := f.Labels[k]; twice && before != value {
					add(name, "asks for %q twice, as %q and %q; a job has one value of it", text.Shorten(k), text.Shorten(before), text.Shorten(value))
				}
				f.Labels[k] = value
			}
		case "ids":
			for _, w := range words(values) {
				id, err := strconv.ParseInt(w, 10, 64)
				if err != nil {
					add(name, "%q is not a valid id; an id is a whole number", w)
				}
				f.IDs = append(f.IDs, id)
			}
			if len(f.IDs) > api.MaxPage {
				add(name, "are %d; at most %d are looked up at once", len(f.IDs), api.MaxPage)
			}
		case "since", "until":
			t := &f.Since
			if name == "until" {
				t = &f.Until
			}
			if err := t.UnmarshalText([]byte(last)); err != nil {
				add(name, "%v", err)
			}
		case "from":
			if f.From, f.FromAt, err = fromIn(last); err != nil {
				add(name, "%v", err)
			}
		case "order":
			f.Order = api.Order(last)
			if f.Order != api.NewestFirst && f.Order != api.OldestFirst && f.Order != api.NextFirst {
				add(name, "%q is not a valid order; it is newest, oldest or next", last)
			}
		case "limit":
			n, err := strconv.Atoi(last)
			if err != nil || n < 1 || n > api.MaxPage {
				add(name, "%q is outside 1 to %d", last, api.MaxPage)
			}
			f.Limit = n
		case "cursor":
			f.Cursor = last
		case "cause":
			n, err := strconv.ParseInt(last, 10, 64)
			if err != nil || n < 1 {
				add(name, "%q is not a cause's id; GET /v1/causes lists them", last)
			}
			f.Cause = n
		case "steps":
			if f.InDoubt = last == job.StepInDoubt; !f.InDoubt {
				add(name, "%q is not a valid state of steps that is listed; it is in_doubt", last)
			}
		case "error":
			f.Error = last
		case "fields":
			add(name, "is not built yet; leave it out")
		default:
			add(name, "is not a known filter; check its spelling or leave it out")
		}
	}
	if f.Order == api.NextFirst && q.Has("from") {
		add("from", "is not for the order next; leave one of them out")
	}
	return f, job.Wrong("the list was not read", wrong)
}

func (s *Server) getJob(c *gin.Context) (any, error) {
	id, err := pathID(c)
	if err != nil {
		return nil, err
	}
	wait, err := readWait(c)
	if err != nil {
		return nil, err
	}
	if wait > 0 {
		j, err := s.engine.WaitFor(c.Request.Context(), id, wait.Go())
		return versioned(c, jobVersion, j, err)
	}
	j, err := s.engine.Job(c.Request.Context(), id)
	return versioned(c, jobVersion, j, err)
}

// getLog reads what the handlers of a job wrote.
func (s *Server) getLog(c *gin.Context) (any, error) {
	id, err := pathID(c)
	if err != nil {
		return nil, err
	}
	var q engine.LogQuery
	var wrong []job.FieldError
	if text := c.Query("attempt"); text != "" {
		if q.Attempt, err = strconv.Atoi(text); err != nil || q.Attempt < 1 {
			wrong = append(wrong, job.FieldError{Field: "attempt", Message: fmt.Sprintf("%q is not an attempt; attempts are numbered from 1 on", text)})
		}
	}
	if cursor := c.Query("cursor"); cursor != "" {
		var ok bool
		if q.AfterAttempt, q.AfterLine, ok = lineOf(cursor); !ok {
			wrong = append(wrong, badCursor(cursor))
		}
	}
	if err := job.Wrong("the log was not read", wrong); err != nil {
		return nil, err
	}
	return s.engine.Log(c.Request.Context(), id, q)
}

// readWait reads the length of a long poll.
func readWait(c *gin.Context) (job.Duration, error) {
	text := c.Query("wait")
	if text == "" {
		return 0, nil
	}
	wait, err := job.ParseDuration(text)
	if err != nil {
		return 0, job.Wrong("nothing was waited for", []job.FieldError{{Field: "wait", Message: err.Error()}})
	}
	return wait, nil
}

func (s *Server) cancelJob(c *gin.Context) (any, error) {
	return s.act(c, &struct{}{}, s.engine.Cancel)
}

func (s *Server) requeueJob(c *gin.Context) (any, error) {
	var how api.Requeue
	return s.act(c, &how, func(ctx context.Context, id int64) (job.Job, error) { return s.engine.Requeue(ctx, id, how) })
}

func (s *Server) startJob(c *gin.Context) (any, error) {
	return s.act(c, &struct{}{}, s.engine.StartNow)
}

func (s *Server) undiscardJob(c *gin.Context) (any, error) {
	return s.act(c, &struct{}{}, s.engine.Undiscard)
}

// patchJob reads an RFC 7396 patch: a spec, and the names that stand in it.
func (s *Server) patchJob(c *gin.Context) (any, error) {
	if _, err := mediaType(c, mediaPatch, mediaJSON); err != nil {
		return nil, err
	}
	id, err := pathID(c)
	if err != nil {
		return nil, err
	}
	raw, err := body(c)
	if err != nil {
		return nil, err
	}
	patch, err := readPatch(raw)
	if err != nil {
		return nil, err
	}
	ctx, err := asCall(c, raw)
	if err != nil {
		return nil, err
	}
	j, err := s.engine.Patch(ctx, id, patch)
	return versioned(c, jobVersion, j, err)
}

func readPatch(raw []byte) (p job.Patch, err error) {
	if err := readSpec(raw, &p.Spec, ""); err != nil {
		return p, err
	}
	var named map[string]jsontext.Value
	if err := misread(json.Unmarshal(raw, &named), ""); err != nil {
		return p, err
	}
	p.Named = slices.Sorted(maps.Keys(named))
	return p, nil
}

// discardJob removes a finished job, which can be taken back for some minutes.
func (s *Server) discardJob(c *gin.Context) (any, error) {
	id, err := pathID(c)
	if err != nil {
		return nil, err
	}
	ctx, err := s.emptyCall(c)
	if err != nil {
		return nil, err
	}
	until, err := s.engine.Discard(ctx, id)
	return struct {
		ID        int64    `json:"id"`
		UndoUntil job.Time `json:"undo_until"`
	}{id, until}, err
}

// act reads an action on one job and answers the job as it stands then.
func (s *Server) act(c *gin.Context, how any, do func(ctx context.Context, id int64) (job.Job, error)) (any, error) {
	id, err := pathID(c)
	if err != nil {
		return nil, err
	}
	raw, err := read(c, how, true, strict)
	if err != nil {
		return nil, err
	}
	ctx, err := asCall(c, raw)
	if err != nil {
		return nil, err
	}
	return do(ctx, id)
}
