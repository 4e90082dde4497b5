package server

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// A list that is written as a file has all entries, of all its pages, with all their digits and
// whatever their texts hold.
func TestExportsOfLists(t *testing.T) {
	s, e := setUp(t)
	ctx := context.Background()
	const many = api.MaxPage + 70
	for i := range many {
		attempts := 1 + i%9
		require.NoError(t, e.SetTask(ctx, fmt.Sprintf("task-%03d", i), api.Defaults{MaxAttempts: &attempts}))
	}
	payload := `{"cents":12345678901234567890,"ship":"Marsh \"Hen\",\r\n=2+3","none":null,"list":[1,{"a":2}],"deep":{"er":1.10}}`
	_, err := e.SetSchedule(ctx, "dues", api.Schedule{Every: job.Duration(time.Hour), Job: job.Spec{Task: "task-000", Payload: []byte(payload)}})
	require.NoError(t, err)

	srv := httptest.NewServer(s.Handler())
	defer srv.Close()
	get := func(path string) string {
		resp, err := srv.Client().Get(srv.URL + path)
		require.NoError(t, err)
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		require.Equal(t, http.StatusOK, resp.StatusCode, string(body))
		return string(body)
	}
	table := func(path string) (all []map[string]string) {
		rows, err := csv.NewReader(strings.NewReader(get(path))).ReadAll()
		require.NoError(t, err)
		for _, row := range rows[1:] {
			entry := map[string]string{}
			for i, name := range rows[0] {
				entry[name] = row[i]
			}
			all = append(all, entry)
		}
		return all
	}
	tasks := table("/v1/tasks?format=csv")
	require.Len(t, tasks, many)
	for i, task := range tasks {
		require.Equal(t, fmt.Sprintf("task-%03d", i), task["name"])
		require.Equal(t, fmt.Sprint(1+i%9), task["defaults.max_attempts"])
		require.Equal(t, "0", task["counts.ready"])
	}
	lines := strings.Split(strings.TrimSuffix(get("/v1/tasks?format=jsonl"), "\n"), "\n")
	require.Len(t, lines, many)
	for i, line := range lines {
		var told api.Task
		require.NoError(t, json.Unmarshal([]byte(line), &told))
		require.Equal(t, fmt.Sprintf("task-%03d", i), told.Name)
	}
	dues := table("/v1/schedules?format=csv")
	require.Len(t, dues, 1)
	for name, want := range map[string]string{
		"name": "dues", "every": "1h", "job.payload.cents": "12345678901234567890", "job.payload.ship": "Marsh \"Hen\",\n=2+3",
		"job.payload.none": "", "job.payload.list": `[1,{"a":2}]`, "job.payload.deep.er": "1.10",
	} {
		assert.Equal(t, want, dues[0][name], name)
	}
	assert.Contains(t, get("/v1/schedules?format=jsonl"), `"payload":`+payload)
	assert.Empty(t, get("/v1/causes?format=jsonl"), "of nothing nothing")
	assert.Empty(t, get("/v1/causes?format=csv"))

	w := ask(s, http.MethodGet, "/v1/schedules?format=csv")
	assert.Regexp(t, `^attachment; filename="schedules-\d{4}-\d\d-\d\dT\d{6}Z.csv"$`, w.Header().Get("Content-Disposition"))
	assert.Equal(t, "text/csv; charset=utf-8; header=present", w.Header().Get("Content-Type"))
	for query, field := range map[string]string{"format=xml": "format", "format=": "format", "format=csv&limit=2": "limit", "format=jsonl&cursor=x": "cursor", "format=csv&state=lost": "state"} {
		w := ask(s, http.MethodGet, "/v1/causes?"+query)
		assert.Equal(t, http.StatusUnprocessableEntity, w.Code, query)
		assert.Contains(t, w.Body.String(), `"field":"`+field+`"`, query)
	}
}
