package server

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"mime"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"humblemule.example/internal/core/engine"
	"humblemule.example/job"
)

// out writes answers: maps in order, and the strings of payloads as they were
// sent.
var out = json.JoinOptions(json.Deterministic(true), jsontext.PreserveRawStrings(true))

// strict reads requests in which an unknown field is an error.
var strict = json.RejectUnknownMembers(true)

// created marks an answer whose status is 201.
type created struct{ v any }

// accepted marks an answer whose status is 202: it goes on by itself.
type accepted struct{ v any }

// deleted is an answer without a body, whose status is 204.
type deleted struct{}

// handle makes a route of a function that answers a value or an error.
func (s *Server) handle(h func(c *gin.Context) (any, error)) gin.HandlerFunc {
	return func(c *gin.Context) {
		veil(c)
		v, err := h(c)
		if err != nil {
			s.fail(c, err)
			return
		}
		if made, new := v.(created); new {
			s.answer(c, http.StatusCreated, made.v)
			return
		}
		if begun, on := v.(accepted); on {
			s.answer(c, http.StatusAccepted, begun.v)
			return
		}
		if _, gone := v.(deleted); gone {
			c.Status(http.StatusNoContent)
			return
		}
		s.answer(c, http.StatusOK, v)
	}
}

// veil leaves out of what a request sees what tasks hide of their payloads, but for callers who
// may see it.
func veil(c *gin.Context) {
	if callerOf(c).Role != Keeper {
		c.Request = c.Request.WithContext(engine.Veiled(c.Request.Context()))
	}
}

func (s *Server) answer(c *gin.Context, status int, v any) { s.answerWith(c, status, v, nil) }

// answerWith answers a value, unless a function does that with what is to be written, which it
// must not keep.
func (s *Server) answerWith(c *gin.Context, status int, v any, instead func(text []byte) bool) {
	room := answers.Get().(*[]byte)
	text, err := written((*room)[:0], v)
	*room = text
	defer keepAnswer(room)
	if err != nil {
		s.fail(c, job.Fault(job.Broken, "the answer could not be written: %v", err))
		return
	}
	text = append(text, '\n')
	*room = text
	if instead != nil && instead(text) {
		return
	}
	writeJSON(c, status, text)
}

func writeJSON(c *gin.Context, status int, text []byte) {
	header := c.Writer.Header()
	header["Content-Type"] = contentJSON
	header["Content-Length"] = []string{strconv.Itoa(len(text))} // so that what is flushed goes out in one piece
	c.Writer.WriteHeader(status)
	if _, err := c.Writer.Write(text); err != nil {
		c.Error(err) // the caller has gone
	}
}

var contentJSON = []string{"application/json"}

// answers is room for answers to be written in.
var answers = sync.Pool{New: func() any { return new([]byte) }}

// keepAnswer keeps the room of an answer for the next, unless it is a large one.
func keepAnswer(room *[]byte) {
	const most = 1 << 20
	if cap(*room) <= most {
		answers.Put(room)
	}
}

// problem is RFC 9457's, with the fields at fault.
type problem struct {
	Type   string           `json:"type"`
	Title  string           `json:"title"`
	Status int              `json:"status"`
	Detail string           `json:"detail"`
	Errors []job.FieldError `json:"errors,omitempty"`
}

// statuses are those of HTTP by the kinds of problems.
var statuses = map[job.Kind]int{
	job.Malformed:       http.StatusBadRequest,
	job.Forbidden:       http.StatusForbidden,
	job.Unauthenticated: http.StatusUnauthorized,
	job.NotFound:        http.StatusNotFound,
	job.WrongState:      http.StatusConflict,
	job.WouldRemove:     http.StatusConflict,
	job.Outdated:        http.StatusPreconditionFailed,
	job.TooLarge:        http.StatusRequestEntityTooLarge,
	job.WrongMediaType:  http.StatusUnsupportedMediaType,
	job.Invalid:         http.StatusUnprocessableEntity,
	job.Busy:            http.StatusServiceUnavailable,
	job.QueueFull:       http.StatusTooManyRequests,
	job.NoSpace:         http.StatusInsufficientStorage,
	job.Uncertain:       http.StatusServiceUnavailable,
	job.Broken:          http.StatusInternalServerError,
}

// statusProblem is a problem of HTTP alone.
type statusProblem struct {
	status int
	detail string
}

func (p *statusProblem) Error() string { return p.detail }

// fail answers a problem and ends the request.
func (s *Server) fail(c *gin.Context, err error) {
	var known *job.Problem
	var plain *statusProblem
	p := problem{Type: "about:blank", Status: http.StatusInternalServerError, Detail: "the service made a mistake, which is in its log"}
	switch {
	case errors.As(err, &known):
		p = problem{Type: "urn:humblemule:problem:" + string(known.Kind), Title: known.Kind.Title(), Status: statuses[known.Kind], Detail: known.Detail, Errors: known.Fields}
	case errors.As(err, &plain):
		p.Status, p.Detail = plain.status, plain.detail
	case c.Request.Context().Err() != nil:
		p.Status, p.Detail = http.StatusServiceUnavailable, "the service is stopping, or you have gone"
	default:
		s.log.Error("a request failed", "path", c.Request.URL.Path, "error", err)
	}
	if p.Title == "" {
		p.Title = http.StatusText(p.Status)
	}
	switch p.Status {
	case http.StatusServiceUnavailable, http.StatusInsufficientStorage, http.StatusTooManyRequests:
		c.Header("Retry-After", "1")
	case http.StatusUnauthorized:
		c.Header("WWW-Authenticate", `Bearer realm="Humble Mule"`)
	}
	body, _ := json.Marshal(p, out)
	c.Data(p.Status, "application/problem+json", append(body, '\n'))
	c.Abort()
}

// body reads a request's body whole.
func body(c *gin.Context) ([]byte, error) {
	// Room for what is announced, at most 64 KiB on a mere word.
	b := bytes.NewBuffer(make([]byte, 0, bytes.MinRead+min(max(c.Request.ContentLength, 0), 64<<10)))
	_, err := b.ReadFrom(c.Request.Body)
	return b.Bytes(), unread(err)
}

// unread says why a body could not be read; nil where it was.
func unread(err error) error {
	var large *http.MaxBytesError
	switch {
	case err == nil || errors.Is(err, io.EOF):
		return nil
	case errors.As(err, &large):
		return job.Fault(job.TooLarge, "the body is larger than %d MiB; send it in parts, nothing was done", MaxBody>>20)
	case errors.Is(err, errBodies):
		return job.Fault(job.Busy, "the service has reached its limit on bytes of requests (max_bodies); try again in a second, nothing was done")
	}
	return job.Fault(job.Malformed, "the body ended early: %v; nothing was done", err)
}

// mediaType gives the body's media type; an absent one is taken for JSON.
func mediaType(c *gin.Context, allowed ...string) (string, error) {
	got := c.GetHeader("Content-Type")
	if got == "" {
		return allowed[0], nil
	}
	kind, _, err := mime.ParseMediaType(got)
	if err != nil || !slices.Contains(allowed, kind) {
		return "", job.Fault(job.WrongMediaType, "the Content-Type %q is not read here; send %s", got, strings.Join(allowed, " or "))
	}
	return kind, nil
}

const (
	mediaJSON   = "application/json"
	mediaNDJSON = "application/x-ndjson"
	mediaPatch  = "application/merge-patch+json"
)

// read reads a JSON body into v; an empty one leaves v as it is where that is
// allowed.
func read(c *gin.Context, v any, mayBeEmpty bool, options ...json.Options) ([]byte, error) {
	if _, err := mediaType(c, mediaJSON); err != nil {
		return nil, err
	}
	raw, err := body(c)
	if err != nil {
		return nil, err
	}
	if len(raw) == 0 && mayBeEmpty {
		return raw, nil
	}
	return raw, misread(json.Unmarshal(raw, v, options...), "")
}

// misread turns what the JSON package says into a problem that names the field.
// at is the place of the text within the body, such as "line 501: ".
func misread(err error, at string) error {
	if err == nil {
		return nil
	}
	var semantic *json.SemanticError
	var syntactic *jsontext.SyntacticError
	switch {
	case errors.As(err, &syntactic):
		return malformed(syntactic, at)
	case errors.As(err, &semantic):
		return job.Wrong("nothing was done", []job.FieldError{fieldError(semantic, at)})
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return job.Fault(job.Malformed, "%sthe body is not valid JSON: it ends too early; nothing was done", at)
	}
	return job.Fault(job.Malformed, "%sthe body is not valid JSON: %v; nothing was done", at, err)
}

func malformed(e *jsontext.SyntacticError, at string) error {
	what := e.Err.Error()
	if errors.Is(e.Err, jsontext.ErrDuplicateName) {
		what = "a name appears twice"
	}
	where := fmt.Sprintf("after byte %d", e.ByteOffset)
	if e.JSONPointer != "" {
		where += ", in " + fieldName(e.JSONPointer)
	}
	return job.Fault(job.Malformed, "%sthe body is not valid JSON: %s %s; nothing was done", at, what, where)
}

func fieldError(e *json.SemanticError, at string) job.FieldError {
	field := fieldName(e.JSONPointer)
	f := job.FieldError{Field: at + field}
	switch {
	case e.Err == json.ErrUnknownName:
		f.Message = "is not a known field; check its spelling or leave it out"
	case e.Err != nil && e.GoType != nil && e.JSONKind == '"':
		f.Message = e.Err.Error()
	default:
		f.Message = fmt.Sprintf("is %s; %s is needed", jsonKinds[e.JSONKind], goKind(e.GoType))
	}
	if field == "" {
		f.Field = at + "body"
	}
	return f
}

var jsonKinds = map[jsontext.Kind]string{'n': "null", 'f': "false", 't': "true", '"': "a string", '0': "a number that does not fit", '{': "an object", '[': "a list"}

func goKind(t reflect.Type) string {
	if t == nil {
		return "another value"
	}
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch {
	case t == reflect.TypeFor[job.Duration]():
		return `a duration such as "90s"`
	case t == reflect.TypeFor[job.Time]():
		return `a time such as "2026-11-23T06:00:00Z"`
	case t.Kind() == reflect.String:
		return "a string"
	case t.Kind() >= reflect.Int && t.Kind() <= reflect.Uint64:
		return "a whole number"
	case t.Kind() == reflect.Float64:
		return "a number"
	case t.Kind() == reflect.Slice:
		return "a list"
	}
	return "an object"
}

// fieldName writes a JSON pointer as a[3].b.
func fieldName(p jsontext.Pointer) string {
	var b strings.Builder
	for token := range p.Tokens() {
		if _, err := strconv.Atoi(token); err == nil {
			b.WriteString("[" + token + "]")
			continue
		}
		if b.Len() > 0 {
			b.WriteByte('.')
		}
		b.WriteString(token)
	}
	return b.String()
}

// asCall gives the request's context the call that commands are made for.
func asCall(c *gin.Context, raw []byte) (context.Context, error) {
	return withCall(c, engine.Call{Body: raw})
}

// asCallOf is asCall where the body was not kept, by its sum.
func asCallOf(c *gin.Context, body hash.Hash) (context.Context, error) {
	return withCall(c, engine.Call{Sum: (*[sha256.Size]byte)(body.Sum(nil))})
}

// readCall reads a JSON body into v, as read does, and gives the context for the command that it asks for.
func readCall(c *gin.Context, v any, mayBeEmpty bool, options ...json.Options) (context.Context, error) {
	raw, err := read(c, v, mayBeEmpty, options...)
	if err != nil {
		return nil, err
	}
	return asCall(c, raw)
}

func withCall(c *gin.Context, call engine.Call) (context.Context, error) {
	if c.GetHeader("Idempotency-Key") == "" && callerOf(c) == local && !conditional(c) {
		return c.Request.Context(), nil // as most calls come
	}
	call, err := callOf(c, call)
	return engine.WithCall(c.Request.Context(), call), err
}

// callOf completes a call with who makes it, under which key, and on which condition.
func callOf(c *gin.Context, call engine.Call) (engine.Call, error) {
	key, who := c.GetHeader("Idempotency-Key"), callerOf(c)
	const most = 255
	if len(key) > most {
		return call, job.Wrong("nothing was done", []job.FieldError{{Field: "Idempotency-Key", Message: fmt.Sprintf("is %d bytes; at most %d are kept", len(key), most)}})
	}
	call.Principal, call.Path, call.Key = who.Name, c.Request.URL.Path, key
	var err error
	call.If, err = conditionOf(c)
	return call, err
}

// pathID reads the id of a job from the path.
func pathID(c *gin.Context) (int64, error) { return pathNumber(c, "a job") }

// pathNumber reads the id of something from the path.
func pathNumber(c *gin.Context, of string) (int64, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil || id < 1 {
		return 0, job.Fault(job.NotFound, "%q is not a valid id of %s; an id is a whole number", c.Param("id"), of)
	}
	return id, nil
}

// StatusOf is the HTTP status of a kind of problem.
func StatusOf(kind job.Kind) int { return statuses[kind] }
