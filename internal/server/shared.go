package server

import (
	"bytes"
	"errors"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/gzip"

	"humblemule.example/internal/core/engine"
)

// Answers are kept for callers who accept one of a certain age (max-age, RFC 9111, section
// 5.2.1.1): so many open consoles cost little more than one. Who follows the events says by
// Last-Event-ID what it was told last, and gets no answer from before that. At most so many are kept, none of
// them larger than mostShared and none for longer than sharedFor.
const (
	answersShared = 200
	mostShared    = 256 << 10
	sharedFor     = 5 * time.Second
)

// sharedAnswers are the answers that are kept, by what was asked.
type sharedAnswers struct {
	mu    sync.Mutex
	byURL map[string]*sharedAnswer
}

// sharedAnswer is one that is kept, or made now: then ready is not closed yet.
type sharedAnswer struct {
	begun time.Time
	part  int64 // of the events that it knows
	ready chan struct{}
	text  []byte // empty where it was refused, or is too large
	// zipped is it compressed, once for all who take it so.
	zipped func() []byte
}

// leastCompressed is from how many bytes on answers are compressed.
const leastCompressed = 1 << 10

// write answers what is kept.
func (a *sharedAnswer) write(c *gin.Context) {
	c.Header("Age", strconv.Itoa(int(time.Since(a.begun)/time.Second)))
	text := a.text
	if len(text) >= leastCompressed && takesGzip(c.Request.Header) {
		c.Header("Vary", "Accept-Encoding")
		c.Header("Content-Encoding", "gzip")
		text = a.zipped()
	}
	writeJSON(c, http.StatusOK, text)
}

// keep keeps an answer, which the caller goes on to use.
func (a *sharedAnswer) keep(text []byte) {
	a.text = append([]byte(nil), text...)
	a.zipped = sync.OnceValue(func() []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		_, err := w.Write(a.text)
		if err := errors.Join(err, w.Close()); err != nil {
			panic(err) // a buffer takes everything
		}
		return b.Bytes()
	})
}

// takesGzip tells whether a caller takes answers that are compressed by gzip.
func takesGzip(h http.Header) bool {
	for part := range strings.SplitSeq(h.Get("Accept-Encoding"), ",") {
		name, params, _ := strings.Cut(part, ";")
		weight, weighed := strings.CutPrefix(strings.ReplaceAll(params, " ", ""), "q=")
		if strings.EqualFold(strings.TrimSpace(name), "gzip") {
			q, err := strconv.ParseFloat(weight, 64)
			return !weighed || err == nil && q > 0
		}
	}
	return false
}

// shared makes a route of a question whose answer may be shared by callers who accept that.
func (s *Server) shared(h func(c *gin.Context) (any, error)) gin.HandlerFunc {
	alone := s.handle(h)
	return func(c *gin.Context) {
		age, told := acceptedAge(c.Request.Header), int64(0)
		if mark := c.GetHeader("Last-Event-ID"); mark != "" {
			var known bool
			if told, known = s.engine.PartOf(mark); !known {
				age = 0
			}
		}
		if age == 0 || !engine.SeesWhole(c.Request.Context()) {
			alone(c)
			return
		}
		key := string(callerOf(c).Role) + " " + c.Request.URL.RequestURI()
		a, mine := s.answersKept.find(key, age, told, s.engine.Part())
		if !mine {
			select {
			case <-a.ready:
			case <-c.Request.Context().Done():
				return
			}
			if len(a.text) == 0 {
				alone(c)
				return
			}
			a.write(c)
			return
		}
		defer close(a.ready)
		veil(c)
		v, err := h(c)
		if err != nil {
			s.fail(c, err)
			return
		}
		s.answerWith(c, http.StatusOK, v, func(text []byte) bool {
			if len(text) > mostShared {
				return false
			}
			a.keep(text)
			a.write(c)
			return true
		})
	}
}

// find gives the answer to a question that is no older than an age, and not from before a part of
// the events; mine tells that the caller has to make it.
func (all *sharedAnswers) find(key string, age time.Duration, told, now int64) (a *sharedAnswer, mine bool) {
	all.mu.Lock()
	defer all.mu.Unlock()
	if a = all.byURL[key]; a != nil && time.Since(a.begun) <= age && a.part >= told {
		return a, false
	}
	a = &sharedAnswer{begun: time.Now(), part: now, ready: make(chan struct{})}
	if all.byURL == nil {
		all.byURL = map[string]*sharedAnswer{}
	}
	if len(all.byURL) >= answersShared {
		all.drop()
	}
	all.byURL[key] = a
	return a, true
}

// drop forgets the answers that are too old and, where that is not enough, all.
func (all *sharedAnswers) drop() {
	for key, a := range all.byURL {
		if time.Since(a.begun) > sharedFor {
			delete(all.byURL, key)
		}
	}
	if len(all.byURL) >= answersShared {
		clear(all.byURL)
	}
}

// acceptedAge is how old an answer a caller accepts, 0 for none that is not made for it.
func acceptedAge(h http.Header) time.Duration {
	for part := range strings.SplitSeq(h.Get("Cache-Control"), ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		if n, err := strconv.Atoi(value); strings.EqualFold(name, "max-age") && err == nil && n > 0 {
			return min(time.Duration(n)*time.Second, sharedFor)
		}
	}
	return 0
}
