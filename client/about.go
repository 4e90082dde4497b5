package client

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"
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

// OpenAPI reads the description of the API, as JSON.
func (m *Client) OpenAPI(ctx context.Context) (json.RawMessage, error) {
	answer, err := get[string](ctx, m, "/openapi.json", nil)
	return json.RawMessage(answer), err
}

// Event is one of the service's events: reset, counts, jobs, queues or workers, with its data.
type Event struct {
	Name string
	Data json.RawMessage
}

// Events follows what changes until ctx ends, the service ends the stream, or each gives an
// error.
func (m *Client) Events(ctx context.Context, each func(Event) error) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, m.base+"/v1/events", nil)
	if err != nil {
		return err
	}
	m.authorize(req)
	resp, err := m.http.Do(req)
	if err != nil {
		return &Unreachable{m.base, err}
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		body, _ := io.ReadAll(resp.Body)
		return problem(resp, body)
	}
	var e Event
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		name, value, _ := strings.Cut(lines.Text(), ": ")
		switch {
		case name == "event":
			e.Name = value
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
