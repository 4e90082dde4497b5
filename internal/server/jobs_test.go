package server

import (
	"fmt"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/job"
)

// Lines are read as they come, whatever their lengths are and wherever the body is cut.
func TestLines(t *testing.T) {
	s, e := setUp(t)
	post := func(key, body string) *httptest.ResponseRecorder {
		r := httptest.NewRequest("POST", "/v1/jobs/bulk", iotest.HalfReader(strings.NewReader(body)))
		r.Host = "127.0.0.1:6853"
		r.Header.Set("Content-Type", mediaNDJSON)
		r.Header.Set("Idempotency-Key", key)
		w := httptest.NewRecorder()
		s.Handler().ServeHTTP(w, r)
		return w
	}
	ready := func() int64 { return e.Counts(t.Context())["common"][job.Ready] }
	line := func(bytes int) string {
		return fmt.Sprintf(`{"task":"log.pack","payload":%q}`, strings.Repeat("x", bytes))
	}
	// The reader's own room is 64 KiB: a line is shorter, as long, a little longer, twice as long.
	const room = 64 << 10
	short := len(line(0))
	body := "\n" + line(10) + "\r\n\n" + line(room-short-1) + "\n" + line(room-short) + "\n" + line(room) + "\n  \n" + line(2*room-2) // no newline at the end
	first := post("a", body)
	require.Equal(t, 201, first.Code, first.Body)
	assert.Equal(t, int64(5), ready())
	for id, bytes := range map[int64]int{1: 12, 2: room - short + 1, 3: room - short + 2, 4: room + 2, 5: 2 * room} {
		j, err := e.Job(t.Context(), id)
		require.NoError(t, err)
		assert.Equal(t, bytes, j.PayloadBytes, id)
		assert.Len(t, j.Payload, bytes)
	}

	again := post("a", body)
	assert.Equal(t, first.Body.String(), again.Body.String(), "the same call again")
	other := post("a", body+"\n")
	assert.Equal(t, 422, other.Code, "another body under the same key: %s", other.Body)
	assert.Equal(t, int64(5), ready())

	for want, body := range map[string]string{
		"in line 4":                          line(1) + "\n\n\n" + `{"tsk":"log.pack"}` + "\n" + strings.Repeat(line(1000)+"\n", 3000),
		"line 2: the body is not valid JSON": line(1) + "\n{\"task\":\n",
		"in line 3":                          line(1) + "\n" + line(1) + "\n" + `{"task":"log.pack","retry":{"curve":"exponential","factor":0}}`,
		"the body has no job":                "\n \n",
		"the body is larger than 16 MiB":     strings.Repeat(line(100_000)+"\n", 200),
	} {
		refused := post("b", body)
		assert.Contains(t, refused.Body.String(), want)
		assert.GreaterOrEqual(t, refused.Code, 400)
	}
	s.opts.MaxBodies = 1000
	assert.Contains(t, post("c", line(5000)).Body.String(), "has reached its limit on bytes")
	assert.Equal(t, int64(5), ready(), "what is refused has changed nothing")
}
