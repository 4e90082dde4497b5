package server

import (
	"encoding/csv"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json"

	"humblemule.example/api"
	"humblemule.example/job"
)

// exported are the formats of an export, with what each is on the wire.
var exported = map[string]struct {
	media string
	pen   func(io.Writer) exportPen
}{
	"csv":   {"text/csv; charset=utf-8; header=present", newCSVPen},
	"jsonl": {"application/x-ndjson", newLinesPen},
}

// exportPen writes jobs in a format.
type exportPen interface {
	write(*job.Job) error
	flush() error
}

// exportJobs writes all jobs that match a filter.
func (s *Server) exportJobs(c *gin.Context) {
	veil(c)
	format, next, err := s.exportOf(c)
	var page api.Page
	if err == nil {
		page, err = next()
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	headExport(c, "jobs", format)
	pen := exported[format].pen(c.Writer)
	s.writePages(c, func() (more bool, err error) {
		for i := range page.Jobs {
			if err := pen.write(&page.Jobs[i]); err != nil {
				return false, err
			}
		}
		return page.NextCursor != "", pen.flush()
	}, func() error {
		page, err = next()
		return err
	})
}

// writePages writes the pages of an export, the first one of which is read: write tells whether
// more follow, and next reads one. What is not whole breaks off, so that it is not taken for
// whole.
func (s *Server) writePages(c *gin.Context, write func() (more bool, err error), next func() error) {
	control := http.NewResponseController(c.Writer)
	for {
		more, err := write()
		if err == nil && !more {
			return
		}
		if err == nil { // a reader that takes nothing for so long is gone
			err = control.SetWriteDeadline(time.Now().Add(takesWithin))
		}
		if err == nil {
			err = next()
		}
		if err != nil {
			s.log.Debug("an export broke off", "error", err)
			panic(http.ErrAbortHandler)
		}
	}
}

// headExport says what an export is, and what the file is called.
func headExport(c *gin.Context, name, format string) {
	c.Header("Content-Type", exported[format].media)
	c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s-%s.%s"`, name, time.Now().UTC().Format("2006-01-02T150405Z"), format))
}

// formatOf reads the format of an export, for which nothing may be asked that is of pages alone.
func formatOf(q url.Values) (string, error) {
	format := "jsonl"
	if q.Has("format") {
		format = q.Get("format")
	}
	var wrong []job.FieldError
	if _, known := exported[format]; !known {
		wrong = append(wrong, job.FieldError{Field: "format", Message: fmt.Sprintf("%q is not a valid format; it is csv or jsonl", format)})
	}
	for _, name := range []string{"cursor", "limit"} {
		if q.Has(name) {
			wrong = append(wrong, job.FieldError{Field: name, Message: "is for pages of lists; an export has all entries"})
		}
	}
	return format, job.Wrong("nothing was exported", wrong)
}

// exportOf reads what is asked for: the format, and the pages of jobs one after the other.
func (s *Server) exportOf(c *gin.Context) (format string, next func() (api.Page, error), err error) {
	q := c.Request.URL.Query()
	if format, err = formatOf(q); err != nil {
		return "", nil, err
	}
	q.Del("format")
	f, err := readFilter(q)
	if err != nil {
		return "", nil, err
	}
	f.Limit = api.MaxPage
	return format, func() (api.Page, error) {
		page, err := s.engine.Jobs(c.Request.Context(), f)
		f.Cursor = page.NextCursor
		return page, err
	}, nil
}

// linesPen writes JSON Lines.
type linesPen struct{ w io.Writer }

func newLinesPen(w io.Writer) exportPen { return linesPen{w} }

func (p linesPen) write(j *job.Job) error {
	line, err := json.Marshal(j, out)
	if err == nil {
		_, err = p.w.Write(append(line, '\n'))
	}
	return err
}

func (p linesPen) flush() error { return nil }

// columns are those of an export in CSV.
var columns = []struct {
	name string
	of   func(*job.Job) string
}{
	{"id", func(j *job.Job) string { return strconv.FormatInt(j.ID, 10) }},
	{"state", func(j *job.Job) string { return j.State.String() }},
	{"reason", func(j *job.Job) string { return string(j.Reason) }},
	{"task", func(j *job.Job) string { return j.Task }},
	{"queue", func(j *job.Job) string { return j.Queue }},
	{"priority", func(j *job.Job) string { return strconv.Itoa(j.Priority) }},
	{"owner", func(j *job.Job) string { return j.Owner }},
	{"lane", func(j *job.Job) string { return j.Lane }},
	{"key", func(j *job.Job) string { return j.Key }},
	{"labels", labelsOf},
	{"round", func(j *job.Job) string { return strconv.Itoa(j.Round) }},
	{"tries", func(j *job.Job) string { return strconv.Itoa(j.Tries) }},
	{"max_attempts", func(j *job.Job) string { return strconv.Itoa(j.MaxAttempts) }},
	{"enqueued_at", func(j *job.Job) string { return whenOf(j.EnqueuedAt) }},
	{"started_at", func(j *job.Job) string { return whenOf(j.StartedAt) }},
	{"finished_at", func(j *job.Job) string { return whenOf(j.FinishedAt) }},
	{"next_at", func(j *job.Job) string { return whenOf(j.NextAt) }},
	{"error_type", func(j *job.Job) string { return errorOf(j).Type }},
	{"error_message", func(j *job.Job) string { return errorOf(j).Message }},
	{"payload_head", func(j *job.Job) string { return j.PayloadHead }},
}

// labelsOf writes labels as JSON, in which nothing is lost; nothing where there are none.
func labelsOf(j *job.Job) string {
	if len(j.Labels) == 0 {
		return ""
	}
	body, err := json.Marshal(j.Labels, json.Deterministic(true))
	if err != nil {
		panic(fmt.Sprintf("labels are not JSON: %v", err))
	}
	return string(body)
}

func whenOf(t job.Time) string {
	if t == 0 {
		return ""
	}
	return t.String()
}

func errorOf(j *job.Job) job.Failure {
	if j.LastError == nil {
		return job.Failure{}
	}
	return *j.LastError
}

// csvPen writes CSV.
type csvPen struct {
	w     *csv.Writer
	begun bool
}

func newCSVPen(w io.Writer) exportPen {
	to := csv.NewWriter(w)
	to.UseCRLF = true
	return &csvPen{w: to}
}

func (p *csvPen) write(j *job.Job) error {
	values := make([]string, len(columns))
	for i, c := range columns {
		values[i] = c.of(j)
	}
	p.head()
	return p.w.Write(values)
}

// head writes the names of the columns first.
func (p *csvPen) head() {
	if p.begun {
		return
	}
	p.begun = true
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.name
	}
	_ = p.w.Write(names) // an error is told again by flush
}

func (p *csvPen) flush() error {
	p.head()
	p.w.Flush()
	return p.w.Error()
}
