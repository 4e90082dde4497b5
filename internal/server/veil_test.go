package server

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a task hides of its payloads is seen by keepers and by handlers, and by nobody else,
// wherever it would stand; and an edit by somebody who does not see it leaves it as it was.
func TestHidden(t *testing.T) {
	s, _ := setUp(t)
	s.SetTokens([]Token{{Name: "rita", Role: Reader, Hash: HashToken("r")}, {Name: "ole", Role: Operator, Hash: HashToken("o")}, {Name: "kay", Role: Keeper, Hash: HashToken("k")}, {Name: "quay", Role: Worker, Hash: HashToken("w")}})
	srv := httptest.NewServer(s.Handler())
	defer srv.Close()
	ask := func(token, method, path, body string) string {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), method, srv.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Content-Type", "application/json")
		if method == "PATCH" {
			req.Header.Set("Content-Type", "application/merge-patch+json")
		}
		resp, err := srv.Client().Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		answer, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		require.Less(t, resp.StatusCode, 300, "%s %s: %s", method, path, answer)
		return string(answer)
	}
	const secret = "4111-1111"
	long := strings.Repeat("x", 3000)
	ask("o", "PUT", "/v1/tasks/dues.charge", `{"hide":["/card/number","/email"],"max_attempts":1}`)
	ask("o", "POST", "/v1/jobs", `{"task":"dues.charge","payload":{"ship":"heron","card":{"number":"`+secret+`"},"n":1.10}}`)
	ask("o", "POST", "/v1/jobs", `{"task":"dues.charge","payload":{"email":"`+secret+`","log":"`+long+`"}}`)
	ask("o", "PUT", "/v1/schedules/dues", `{"every":"1h","job":{"task":"dues.charge","payload":{"email":"`+secret+`"}}}`)
	ask("o", "PATCH", "/v1/jobs/1", `{"payload":{"ship":"plover","card":{"number":"(hidden)"},"n":1.10}}`)
	ask("o", "PUT", "/v1/schedules/dues", `{"every":"2h","job":{"task":"dues.charge","payload":{"email":"(hidden)","n":2}}}`)
	ask("o", "POST", "/v1/jobs/act", `{"action":"patch","ids":[2],"patch":{"payload":{"email":"`+secret+`","log":"y"}}}`)
	for _, path := range []string{
		"/v1/jobs", "/v1/jobs/1", "/v1/jobs/2", "/v1/jobs/export", "/v1/jobs/export?format=csv", "/v1/schedules", "/v1/schedules/dues", "/v1/actions", "/v1/operations",
		"/v1/schedules?format=csv", "/v1/schedules?format=jsonl", "/v1/actions?format=jsonl",
	} {
		for _, token := range []string{"r", "o"} {
			assert.NotContains(t, ask(token, "GET", path, ""), secret, "%s %s", token, path)
		}
		if path != "/v1/jobs/export?format=csv" && path != "/v1/jobs" && path != "/v1/jobs/export" {
			assert.Contains(t, ask("k", "GET", path, ""), secret, "a keeper, %s", path)
		}
	}
	assert.Contains(t, ask("o", "GET", "/v1/jobs/1", ""), `"payload":{"ship":"plover","card":{"number":"(hidden)"},"n":1.10}`)
	assert.Contains(t, ask("k", "GET", "/v1/jobs/1", ""), `"payload":{"ship":"plover","card":{"number":"`+secret+`"},"n":1.10}`)
	assert.Contains(t, ask("k", "GET", "/v1/schedules/dues", ""), `"payload":{"email":"`+secret+`","n":2}`)
	assert.Contains(t, ask("w", "POST", "/v1/leases", `{"worker":"quay-7","queues":["common"],"limit":1}`), secret, "a handler gets all of it")

	// A requeue too leaves what it does not see.
	ask("o", "POST", "/v1/jobs/2/cancel", `{}`)
	ask("o", "POST", "/v1/jobs/2/requeue", `{"payload":{"email":"(hidden)","log":"z"}}`)
	assert.Contains(t, ask("k", "GET", "/v1/jobs/2", ""), `"payload":{"email":"`+secret+`","log":"z"}`)
	assert.NotContains(t, ask("o", "GET", "/v1/jobs/2", ""), secret)
}
