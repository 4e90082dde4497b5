package e2e

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/harbour"
	"humblemule.example/internal/server"
)

var (
	hostile     = flag.Duration("hostile", 8*time.Second, "how long TestHostileClients sends what it has drawn")
	hostileSeed = flag.Uint64("hostile.seed", 1, "what TestHostileClients draws its requests by")
)

// Clients that send whatever openapi.yaml has a place for, and much that it has not, get
// answers as it describes and never a mistake of the service's; what is in memory in the
// end is what a start reads from the file.
func TestHostileClients(t *testing.T) {
	t.Parallel()
	s := besieged(t)
	doc, err := openapi3.NewLoader().LoadFromData(server.OpenAPI())
	require.NoError(t, err)
	ctx, stop := context.WithTimeout(t.Context(), *hostile)
	defer stop()
	sent := make([]map[int]int, 4)
	var clients sync.WaitGroup
	for i := range sent {
		sent[i] = map[int]int{}
		clients.Go(func() {
			h := &enemy{t: t, url: s.url, doc: doc, rand: rand.New(rand.NewPCG(*hostileSeed, uint64(i)))}
			for ctx.Err() == nil && !t.Failed() {
				sent[i][h.send()]++
			}
		})
	}
	clients.Wait()
	t.Logf("by status: %v", sent)
	taken := 0
	for _, m := range sent {
		taken += m[http.StatusOK] + m[http.StatusCreated]
	}
	assert.Positive(t, taken, "all were refused: nothing was tried beyond the door")
	for line := range strings.Lines(s.log.String()) {
		if strings.Contains(line, "panic") || strings.Contains(line, "level=ERROR") {
			t.Errorf("the service says: %s", line)
		}
	}

	m := s.mule()
	stands := func() string {
		queues, err := client.Collect(m.Queues(t.Context()))
		require.NoError(t, err)
		schedules, err := client.Collect(m.Schedules(t.Context()))
		require.NoError(t, err)
		var text strings.Builder
		for _, q := range queues {
			fmt.Fprintf(&text, "%s %v paused %v\n", q.Name, q.Counts, q.Paused)
		}
		for _, told := range schedules {
			fmt.Fprintf(&text, "schedule %s\n", told.Name)
		}
		return text.String()
	}
	// What happens by itself is halted, so that two looks can be compared.
	for _, q := range must(client.Collect(m.Queues(t.Context())))(t) {
		_, err := m.PauseQueue(t.Context(), q.Name)
		require.NoError(t, err)
	}
	for _, told := range must(client.Collect(m.Schedules(t.Context())))(t) {
		require.NoError(t, m.DeleteSchedule(t.Context(), told.Name))
	}
	s.flags = nil // what the file sets may be otherwise by hand now
	for range 20 {
		before := stands()
		require.NoError(t, s.stop())
		s.start()
		if after := stands(); before == after {
			return
		} else if t.Logf("before:\n%s\nafter:\n%s", before, after); true {
			continue // a timer has turned meanwhile
		}
	}
	t.Error("what the service has in memory is not what it reads at its start")
}

// besieged is a service that takes webhooks without proof, calls itself, and tells by call and by mail.
func besieged(t *testing.T) *service {
	box, err := harbour.NewMailbox("127.0.0.1:0", nil)
	require.NoError(t, err)
	go box.Run(t.Context())
	s := &service{t: t, data: filepath.Join(t.TempDir(), "e2e.db"), listen: freeAddress(t)}
	file := filepath.Join(t.TempDir(), "hmule.yaml")
	s.flags = []string{"--config", file}
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, `
calls: {allow: [127.0.0.1], slots: 4}
commands: {horn: cat}
mail: {server: %q, from: jobs@harbour.example, tls: none}
hooks:
  berths: {task: tide.predict, id_from: {pointer: /id}, owner: {pointer: /agent}, lane: {header: X-Lane}, proof: {kind: none}}
  common: {task: log.pack, keep_headers: [User-Agent, X-Lane], proof: {kind: none}}
endpoints: {customs: {url: "http://%s/hooks/common", events: [{on: [done, dead, skipped, cancelled]}]}}
alerts:
  channels: {watch: {mail: {to: [watch@harbour.example]}}, horn: {command: horn}, customs: {endpoint: customs}}
  rules: {dead: {over: 0, for: 0s, tell: [watch, horn, customs]}}
tasks:
  dues.collect: {calls: {}, retry: {first: 1s}, notify: [{on: [dead, done], mail: {to: [ada@harbour.example]}}]}
`, box.Address(), s.listen), 0o600))
	s.start()
	t.Cleanup(s.kill)
	return s
}

// must is a call's answer where it must not fail.
func must[T any](v T, err error) func(*testing.T) T {
	return func(t *testing.T) T {
		t.Helper()
		require.NoError(t, err)
		return v
	}
}

// enemy draws requests.
type enemy struct {
	t    *testing.T
	url  string
	doc  *openapi3.T
	rand *rand.Rand
	keys []string
	seen []string // tokens and names that answers have brought
	calm bool     // this request is meant to be taken
}

// send makes one request, and answers its status; 0 where it was given up.
func (h *enemy) send() int {
	h.calm = h.often(60)
	paths := h.doc.Paths.InMatchingOrder()
	slices.Sort(paths)
	path := one(h, paths)
	item := h.doc.Paths.Value(path)
	methods := []string{}
	for m := range item.Operations() {
		methods = append(methods, m)
	}
	slices.Sort(methods)
	method := one(h, methods)
	if h.often(25) { // without jobs there is little to harm
		path, method = one(h, []string{"/v1/jobs", "/v1/jobs/bulk", "/v1/leases", "/v1/leases/settle", "/hooks/{name}"}), http.MethodPost
		item = h.doc.Paths.Value(path)
	}
	op := item.GetOperation(method)
	at, query, header := path, url.Values{}, http.Header{"Content-Type": {"application/json"}}
	for _, ref := range append(slices.Clone(item.Parameters), op.Parameters...) {
		p := ref.Value
		switch {
		case p.In == "path":
			at = strings.ReplaceAll(at, "{"+p.Name+"}", url.PathEscape(h.word()))
		case p.In == "query" && h.often(h.either(15, 40)):
			query.Set(p.Name, h.text(p.Schema.Value))
		case p.In == "header" && h.often(50):
			header.Set(p.Name, h.key())
		}
	}
	body := ""
	if op.RequestBody != nil {
		for kind, media := range op.RequestBody.Value.Content {
			if kind == "*/*" {
				header.Set("Content-Type", one(h, []string{"application/json", "", "text/plain", "a/b; charset=\xff", "application/x+json"}))
				header.Set("X-Lane", strings.Map(func(r rune) rune { return max(r, ' ') }, h.word()))
				body = one(h, []string{fmt.Sprintf(`{"id":%s,"agent":%s}`, quoted(h.word()), one(h, misfits)), quoted(h.word()), one(h, misfits), "\xff\x00", ""})
			}
			if strings.HasSuffix(kind, "json") && !strings.HasSuffix(kind, "ndjson") {
				header.Set("Content-Type", kind)
				body = h.value(media.Schema.Value, 0)
			}
		}
	}
	if h.often(h.either(0, 5)) {
		body = body[:h.rand.IntN(len(body)+1)]
	}
	ctx, cancel := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, h.url+at+"?"+query.Encode(), strings.NewReader(body))
	if err != nil {
		return 0
	}
	req.Header = header
	resp, err := checked(h.t).RoundTrip(req)
	if err != nil {
		return 0 // a stream, a wait, or a header that cannot be sent
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	for _, found := range tellsName.FindAllSubmatch(text, 3) {
		if len(found[1]) < longestText {
			h.seen = append(h.seen, string(found[1]))
		}
	}
	if resp.StatusCode == http.StatusInternalServerError {
		h.t.Errorf("%s %s?%s answered 500 to %.2000s: %s", method, at, query.Encode(), body, text)
	}
	return resp.StatusCode
}

func (h *enemy) often(percent int) bool { return h.rand.IntN(100) < percent }

// either is the first where the request is calm, and else the second.
func (h *enemy) either(calm, wild int) int {
	if h.calm {
		return calm
	}
	return wild
}

// among draws one of some texts; of the first few, which are good, where the request is calm.
func (h *enemy) among(all []string, good int) string {
	return all[h.rand.IntN(h.either(good, len(all)))]
}

func one[T any](h *enemy, all []T) T { return all[h.rand.IntN(len(all))] }

var (
	names   = []string{"berths", "common", "archive", "tide.predict", "log.pack", "dues.collect", "customs", "1", "2", "3", "7", "40"}
	rough   = []string{"", " ", "a b", "..", "/", "%00", "\x00", "\u202e", "ä", "-1", "0", "NaN", "9223372036854775807", "9223372036854775808", "1e309", "null", "'; DROP TABLE jobs; --", strings.Repeat("x", 300), "~1", "true"}
	spans   = []string{"0s", "1ms", "1s", "2m", "30d", "-1s", "1e9h", "10y", "1000y", "s", "soon"}
	moments = []string{"2026-11-23T08:00:00Z", "2030-01-01T00:00:00.5+01:00", "0001-01-01T00:00:00Z", "9999-12-31T23:59:59Z", "99999-01-01T00:00:00Z", "yesterday", ""}
	numbers = []string{"0", "1", "2", "10", "-1", "1.5", "1e3", "1e400", "9223372036854775807", "9223372036854775808", "-9223372036854775809", "0.0000001"}
	misfits = []string{"null", "true", "[]", "{}", `""`, `"\u0000"`, `"\ud800"`, "0", "-1", "-0.0", "[[[[]]]]", `{"a":1,"a":2}`, strings.Repeat("[", 2000) + strings.Repeat("]", 2000), `"` + strings.Repeat("x", 70_000) + `"`, "NaN"}
)

// tellsName finds what can be used in later requests.
var tellsName = regexp.MustCompile(`"(?:token|name)":"([^"\\]+)"`)

// word is a name or an id.
func (h *enemy) word() string {
	if len(h.seen) > 0 && h.often(30) {
		return h.seen[len(h.seen)-1-h.rand.IntN(min(len(h.seen), 20))]
	}
	if h.often(h.either(100, 70)) {
		return one(h, names)
	}
	return one(h, rough)
}

// key is an Idempotency-Key: new, used before, too old, or none at all.
func (h *enemy) key() string {
	switch h.rand.IntN(5) {
	case 0:
		return api.NewCallKey(time.Now().Add(-1000 * time.Hour))
	case 1:
		return strings.Map(func(r rune) rune { return max(r, ' ') }, one(h, rough))
	case 2:
		if len(h.keys) > 0 {
			return one(h, h.keys)
		}
	}
	h.keys = append(h.keys, api.NewCallKey(time.Now()))
	return h.keys[len(h.keys)-1]
}

// longestText keeps a request's head below what Go's server answers by itself.
const longestText = 4000

// text is a value of a schema as a query has it.
func (h *enemy) text(s *openapi3.Schema) string {
	var text string
	raw := h.value(s, 3)
	if json.Unmarshal([]byte(raw), &text) != nil {
		text = raw
	}
	return text[:min(len(text), longestText)]
}

// value is a value of a schema as JSON, or another.
func (h *enemy) value(s *openapi3.Schema, depth int) string {
	if h.often(h.either(1, 8)) || depth > 8 {
		return one(h, misfits)
	}
	for _, several := range []openapi3.SchemaRefs{s.OneOf, s.AnyOf} {
		if len(several) > 0 {
			return h.value(one(h, several).Value, depth)
		}
	}
	if len(s.AllOf) > 0 {
		all := &openapi3.Schema{Type: &openapi3.Types{"object"}, Properties: openapi3.Schemas{}}
		for _, part := range append(slices.Clone(s.AllOf), &openapi3.SchemaRef{Value: &openapi3.Schema{Properties: s.Properties}}) {
			for name, p := range part.Value.Properties {
				all.Properties[name] = p
			}
		}
		return h.value(all, depth)
	}
	if len(s.Enum) > 0 {
		return quoted(fmt.Sprint(one(h, s.Enum)))
	}
	switch {
	case s.Type == nil && len(s.Properties) == 0:
		return one(h, append(slices.Clone(misfits), `{"berth":3}`, `"heron-0291"`))
	case s.Type == nil || s.Type.Includes("object"):
		return h.object(s, depth)
	case s.Type.Includes("array"):
		var items []string
		for range h.rand.IntN(4) {
			items = append(items, h.value(s.Items.Value, depth+1))
		}
		return "[" + strings.Join(items, ",") + "]"
	case s.Type.Includes("integer"), s.Type.Includes("number"):
		return h.among(numbers, 4)
	case s.Type.Includes("boolean"):
		return one(h, []string{"true", "false"})
	case s.Format == "uri":
		return quoted(h.among([]string{h.url + "/hooks/berths", h.url + "/hooks/common", h.url + "/livez", h.url + "/v1/nothing", "http://127.0.0.1:1", "file:///etc/passwd", "http://a:b@127.0.0.1/", "//", "http://[::1"}, 4))
	case s.Format == "date-time":
		return quoted(h.among(moments, 2))
	}
	if strings.HasPrefix(s.Description, "Such as 90s") || h.often(h.either(5, 30)) {
		return quoted(h.among(spans, 5))
	}
	return quoted(h.word())
}

func (h *enemy) object(s *openapi3.Schema, depth int) string {
	var fields []string
	for name := range s.Properties {
		fields = append(fields, name)
	}
	slices.Sort(fields)
	var parts []string
	for _, name := range fields {
		if p := s.Properties[name].Value; slices.Contains(s.Required, name) && h.often(97) || h.often(h.either(12, 25)) {
			parts = append(parts, quoted(name)+":"+h.value(p, depth+1))
		}
	}
	if more := s.AdditionalProperties.Schema; more != nil {
		for range h.rand.IntN(3) {
			parts = append(parts, quoted(h.word())+":"+h.value(more.Value, depth+1))
		}
	}
	if h.often(h.either(0, 5)) {
		parts = append(parts, quoted(one(h, rough))+":1")
	}
	return "{" + strings.Join(parts, ",") + "}"
}

func quoted(text string) string {
	raw, err := json.Marshal(text)
	if err != nil {
		panic(err)
	}
	return string(raw)
}
