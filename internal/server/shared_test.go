package server

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"net/http"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// An answer is shared by those who accept one of its age, never with one who was told of what it
// does not know; and it is the same, compressed or not.
func TestSharedAnswers(t *testing.T) {
	s, e := setUp(t)
	ctx := context.Background()
	change := func(n int) {
		for i := range n {
			require.NoError(t, e.SetTask(ctx, fmt.Sprintf("task-%d-%d", n, i), api.Defaults{MaxAttempts: &n}))
		}
	}
	count := func(headers ...string) int {
		r := ask(s, http.MethodGet, "/v1/tasks?limit=500", headers...)
		require.Equal(t, http.StatusOK, r.Code)
		body := r.Body.Bytes()
		if r.Header().Get("Content-Encoding") == "gzip" {
			z, err := gzip.NewReader(bytes.NewReader(body))
			require.NoError(t, err)
			body, err = io.ReadAll(z)
			require.NoError(t, err)
		}
		return bytes.Count(body, []byte(`"name":"task-`))
	}
	change(20)
	accept := "Cache-Control: max-age=5"
	assert.Equal(t, 20, count(accept))
	change(30)
	assert.Equal(t, 20, count(accept), "kept")
	assert.Equal(t, 20, count(accept, "Accept-Encoding: br, gzip"), "kept, and compressed")
	assert.Equal(t, 50, count(), "not for one who does not accept it")
	assert.Equal(t, 20, count(accept), "that one's answer is not kept")

	// Compressed or not, it is the same; who refuses gzip gets none.
	for header, zipped := range map[string]bool{"gzip": true, "deflate, gzip;q=0.5": true, "GZIP": true, "gzip;q=0": false, "": false, "x-gzip": false} {
		r := ask(s, http.MethodGet, "/v1/tasks?limit=500", accept, "Accept-Encoding: "+header)
		assert.Equal(t, zipped, r.Header().Get("Content-Encoding") == "gzip", header)
		assert.Equal(t, 20, count(accept, "Accept-Encoding: "+header), header)
		assert.Equal(t, fmt.Sprint(r.Body.Len()), r.Header().Get("Content-Length"), header)
	}

	// What is refused is refused to each.
	for range 2 {
		assert.Equal(t, http.StatusUnprocessableEntity, ask(s, http.MethodGet, "/v1/tasks?limit=0", accept).Code)
	}

	// Many at once are given one answer.
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() { assert.Equal(t, 20, count(accept, "Accept-Encoding: gzip")) })
	}
	all.Wait()
}

// Who was told of a change gets no answer from before it.
func TestSharedAnswersKnowWhatWasTold(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, e := setUp(t)
		w := e.Watch("", api.EventFilter{})
		defer w.Close()
		list := func(headers ...string) string {
			return ask(s, http.MethodGet, "/v1/jobs", append(headers, "Cache-Control: max-age=5")...).Body.String()
		}
		empty := list()
		j, err := e.Enqueue(context.Background(), job.Spec{Task: "tide.predict"})
		require.NoError(t, err)
		time.Sleep(time.Second)
		<-w.C
		told := w.Take()
		require.NotEmpty(t, told.Mark)
		assert.Equal(t, empty, list())
		assert.Contains(t, list("Last-Event-ID: "+told.Mark), fmt.Sprintf(`"id":%d`, j.ID))
		assert.Contains(t, list("Last-Event-ID: other-7"), fmt.Sprintf(`"id":%d`, j.ID), "a mark of another time")
		time.Sleep(6 * time.Second)
		assert.Contains(t, list(), fmt.Sprintf(`"id":%d`, j.ID), "too old")
	})
}
