package server

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net/url"
	"strconv"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json"

	"humblemule.example/api"
	"humblemule.example/job"
)

// exportAll writes an export: everything that another service needs to go on with the jobs that
// match a filter.
func (s *Server) exportAll(c *gin.Context) {
	x, err := s.newExport(c)
	if err == nil {
		err = x.next()
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	headExport(c, "humblemule", "jsonl")
	s.writePages(c, func() (more bool, err error) {
		text := new(bytes.Buffer)
		for _, line := range x.lines {
			if err := json.MarshalWrite(text, line, out); err != nil {
				return false, err
			}
			text.WriteByte('\n')
		}
		_, err = text.WriteTo(c.Writer)
		return !x.over, err
	}, x.next)
}

// exporting is an export under way.
type exporting struct {
	s           *Server
	ctx         context.Context
	filter      api.Filter
	setup       bool
	head        api.ExportHead
	after, from int64
	jobs        int64
	lines       []api.ExportLine
	begun, over bool
}

// newExport reads what is asked for.
func (s *Server) newExport(c *gin.Context) (*exporting, error) {
	q := c.Request.URL.Query()
	x := &exporting{s: s, ctx: c.Request.Context(), setup: q.Get("setup") != "false"}
	through, wrong := int64(math.MaxInt64), []job.FieldError(nil)
	for _, n := range []struct {
		name string
		into *int64
	}{{"after", &x.from}, {"through", &through}} {
		if !q.Has(n.name) {
			continue
		}
		id, err := strconv.ParseInt(q.Get(n.name), 10, 64)
		if *n.into = id; err != nil || id < 0 {
			wrong = append(wrong, job.FieldError{Field: n.name, Message: fmt.Sprintf("%q is not an id; it is where an export goes on, or ends", q.Get(n.name))})
		}
	}
	for _, name := range []string{"cursor", "limit", "order", "from"} {
		if q.Has(name) {
			wrong = append(wrong, job.FieldError{Field: name, Message: "is for pages of lists; an export has all jobs by their ids"})
		}
	}
	if q.Has("setup") && q.Get("setup") != "true" && q.Get("setup") != "false" {
		wrong = append(wrong, job.FieldError{Field: "setup", Message: fmt.Sprintf("%q is neither true nor false", q.Get("setup"))})
	}
	for _, name := range []string{"after", "through", "setup"} {
		q.Del(name)
	}
	err := job.Wrong("nothing was exported", wrong)
	if err == nil {
		x.filter, err = readFilter(q)
	}
	x.after, x.setup = x.from, x.setup && x.from == 0
	x.head = s.engine.ExportHead(s.opts.Version, url.Values(q).Encode())
	x.head.Through = min(x.head.Through, through)
	return x, err
}

// next reads the lines that are written next.
func (x *exporting) next() (err error) {
	x.lines = nil
	if !x.begun {
		x.begun = true
		if x.from == 0 {
			x.lines = append(x.lines, api.ExportLine{Export: &x.head})
		}
		if x.setup {
			line, err := x.s.engine.ExportSetup(x.ctx)
			if err != nil {
				return err
			}
			x.lines = append(x.lines, line)
		}
	}
	jobs, last, n, more, err := x.s.engine.Export(x.ctx, x.filter, x.after, x.head.Through)
	if err != nil {
		return err
	}
	x.lines, x.after, x.jobs = append(x.lines, jobs...), last, x.jobs+int64(n)
	if !more {
		x.over = true
		x.lines = append(x.lines, api.ExportLine{End: &api.ExportEnd{Jobs: x.jobs, After: x.from}})
	}
	return nil
}

func (s *Server) listImports(c *gin.Context) (any, error) {
	return s.engine.Imports(c.Request.Context())
}

func (s *Server) beginImport(c *gin.Context) (any, error) {
	var req api.ImportRequest
	ctx, err := readCall(c, &req, false, strict)
	if err != nil {
		return nil, err
	}
	return s.engine.BeginImport(ctx, req)
}

// importLines takes in lines of an export, a JSON value a line.
func (s *Server) importLines(c *gin.Context) (any, error) {
	if _, err := mediaType(c, mediaNDJSON); err != nil {
		return nil, err
	}
	dry, err := dryRunIn(c.Request.URL.Query())
	if err != nil {
		return nil, err
	}
	ctx, err := asCall(c, nil)
	if err != nil {
		return nil, err
	}
	read, err := readExport(c.Request.Body)
	if err != nil {
		return nil, err
	}
	var set *api.ImportedSetup
	if read.setup.Setup != nil { // first, since jobs may be runs of its schedules
		if set, err = s.importSetup(ctx, &read, dry); err != nil {
			return nil, err
		}
	}
	told, err := s.engine.Import(ctx, c.Param("store"), read.lines, dry)
	for i := range told.Refused {
		told.Refused[i].Line = read.numbers[told.Refused[i].Line-1]
	}
	told.Refused, told.Setup = append(read.refused, told.Refused...), set
	return told, err
}

// importSetup takes in a set-up; nil where it is refused.
func (s *Server) importSetup(ctx context.Context, read *exportRead, dry bool) (*api.ImportedSetup, error) {
	told, err := s.engine.ImportSetup(ctx, *read.setup.Setup, read.setup.Paused, dry)
	var p *job.Problem
	if errors.As(err, &p) && (p.Kind == job.Invalid || p.Kind == job.WouldRemove) {
		read.refused = append(read.refused, api.ImportRefused{Line: read.setupAt, Errors: fieldsOrAll(p, "setup")})
		return nil, nil
	}
	return &told, err
}

// fieldsOrAll are the fields at fault, or the whole of what is wrong under a name.
func fieldsOrAll(p *job.Problem, name string) []job.FieldError {
	if len(p.Fields) > 0 {
		return p.Fields
	}
	return []job.FieldError{{Field: name, Message: p.Detail}}
}

func dryRunIn(q url.Values) (bool, error) {
	dry, err := false, error(nil)
	for name := range q {
		if name != "dry_run" {
			return false, job.Wrong("nothing was imported", []job.FieldError{{Field: name, Message: "is not a known parameter; leave it out"}})
		}
		if dry, err = strconv.ParseBool(q.Get(name)); err != nil {
			return false, job.Wrong("nothing was imported", []job.FieldError{{Field: name, Message: fmt.Sprintf("%q is neither true nor false", q.Get(name))}})
		}
	}
	return dry, nil
}

// exportRead are the lines of a body: those with jobs and logs, with their numbers; the set-up; and
// those that are wrong.
type exportRead struct {
	lines   []api.ExportLine
	numbers []int
	setup   api.ExportLine
	setupAt int
	refused []api.ImportRefused
}

func readExport(body io.Reader) (all exportRead, err error) {
	in := bufio.NewReaderSize(body, 64<<10)
	all.refused = []api.ImportRefused{}
	for number := 1; ; number++ {
		text, end := readLine(in)
		if err := unread(end); err != nil {
			return all, err
		}
		if len(bytes.TrimSpace(text)) > 0 {
			all.add(number, text)
		}
		if end != nil {
			return all, nil
		}
	}
}

func (all *exportRead) add(number int, text []byte) {
	var line api.ExportLine
	var p *job.Problem
	switch err := misread(json.Unmarshal(text, &line, strict), ""); {
	case errors.As(err, &p):
		all.refused = append(all.refused, api.ImportRefused{Line: number, Errors: fieldsOrAll(p, "line")})
	case line.Setup != nil:
		all.setup, all.setupAt = line, number
	case line.Export == nil && line.End == nil:
		all.lines, all.numbers = append(all.lines, line), append(all.numbers, number)
	}
}

func (s *Server) importedAs(c *gin.Context) (any, error) {
	id, err := pathID(c)
	if err != nil {
		return nil, err
	}
	return s.engine.ImportedAs(c.Request.Context(), c.Param("store"), id)
}
