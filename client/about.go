package client

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"humblemule.example/api"
	"humblemule.example/internal/text"
)

// About reads what answers at the address.
func (m *Client) About(ctx context.Context) (api.About, error) {
	return get[api.About](ctx, m, "/v1", nil)
}

// Live tells whether the service's process answers.
func (m *Client) Live(ctx context.Context) error {
	_, err := get[string](ctx, m, "/livez", nil)
	return err
}

// Ready tells whether the service can take jobs and read its file. Notes tell of timed work
// that is set aside, and of a retention that rests.
func (m *Client) Ready(ctx context.Context) (notes []string, err error) {
	answer, err := get[string](ctx, m, "/readyz", nil)
	lines := strings.Split(strings.TrimSpace(answer), "\n")
	return lines[1:], err
}

// Metrics reads the figures that the service tells to whoever gathers those of many programs, in
// the text form of Prometheus.
func (m *Client) Metrics(ctx context.Context) (string, error) {
	return get[string](ctx, m, "/metrics", nil)
}

// OpenAPI reads the description of the API, as JSON.
func (m *Client) OpenAPI(ctx context.Context) (json.RawMessage, error) {
	answer, err := get[string](ctx, m, "/openapi.json", nil)
	return json.RawMessage(answer), err
}

// Event is one of the service's events: reset, counts, jobs, batches, queues or workers, with its data.
type Event struct {
	// ID is where the stream stands after it.
	ID   string
	Name string
	Data json.RawMessage
}

// Events follows what changes until ctx ends, the service ends the stream, or each gives an
// error: after the event with an id, as far as the service still knows what followed it, or from
// now on where that is empty.
func (m *Client) Events(ctx context.Context, after string, each func(Event) error) error {
	return m.events(ctx, "/v1/events", each, func(h http.Header) {
		if after != "" {
			h.Set("Last-Event-ID", after)
		}
	})
}

// EventsOf is Events of the jobs of a batch, of an owner, or with a key: jobs and batches, and reset at the
// start, when what is followed is best read as it stands.
func (m *Client) EventsOf(ctx context.Context, f api.EventFilter, each func(Event) error) error {
	q := url.Values{}
	set := func(name, value string) {
		if value != "" && value != "0" {
			q.Set(name, value)
		}
	}
	set("batch", strconv.FormatInt(f.Batch, 10))
	set("owner", f.Owner)
	set("key", f.Key)
	return m.events(ctx, "/v1/events?"+q.Encode(), each)
}

func (m *Client) events(ctx context.Context, path string, each func(Event) error, headers ...func(http.Header)) error {
	body, err := m.stream(ctx, path, headers...)
	if err != nil {
		return err
	}
	defer body.Close()
	var e Event
	lines := bufio.NewScanner(body)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		name, value, _ := strings.Cut(lines.Text(), ": ")
		switch {
		case name == "event":
			e.Name = value
		case name == "id":
			e.ID = value
		case name == "data":
			e.Data = json.RawMessage(value)
			if m.escaped {
				e.Data = text.VisibleJSON(e.Data)
			}
		case lines.Text() == "" && e.Name != "":
			if err := each(e); err != nil {
				return err
			}
			e = Event{}
		}
	}
	return lines.Err()
}

// stream opens an answer that is read as it comes.
func (m *Client) stream(ctx context.Context, path string, headers ...func(http.Header)) (io.ReadCloser, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, m.base+path, nil)
	if err != nil {
		return nil, err
	}
	m.authorize(req)
	for _, set := range headers {
		set(req.Header)
	}
	resp, err := m.http.Do(req)
	if err != nil {
		return nil, &Unreachable{m.base, err}
	}
	if resp.StatusCode != http.StatusOK {
		defer resp.Body.Close()
		body, _ := io.ReadAll(resp.Body)
		return nil, problem(resp, body)
	}
	return resp.Body, nil
}
