package client

import (
	"context"
	"net/url"
	"strings"

	"humblemule.example/api"
	"humblemule.example/job"
)

// Alerts reads the alerts in some states (see [api.AlertStates]), all where none is named: those that are not
// over first, the critical ones before others.
func (m *Client) Alerts(ctx context.Context, states ...string) ([]api.Alert, error) {
	q := url.Values{}
	if len(states) > 0 {
		q.Set("state", strings.Join(states, ","))
	}
	a, err := get[struct{ Alerts []api.Alert }](ctx, m, "/v1/alerts", q)
	return a.Alerts, err
}

// Alert reads one alert.
func (m *Client) Alert(ctx context.Context, id int64) (api.Alert, error) {
	return get[api.Alert](ctx, m, path("alerts", number(id)), nil)
}

// AlertSetup reads the rules that hold, and the channels by which somebody is told.
func (m *Client) AlertSetup(ctx context.Context) (api.AlertSetup, error) {
	return get[api.AlertSetup](ctx, m, "/v1/alerts/rules", nil)
}

// SeeAlert notes that the caller has seen an alert, and what they say of it. A new cause is over then.
func (m *Client) SeeAlert(ctx context.Context, id int64, note string) (api.Alert, error) {
	return post[api.Alert](ctx, m, path("alerts", number(id), "see"), api.SeenRequest{Note: note})
}

// MuteAlert has nobody told of an alert for a while; zero ends that.
func (m *Client) MuteAlert(ctx context.Context, id int64, span job.Duration) (api.Alert, error) {
	return post[api.Alert](ctx, m, path("alerts", number(id), "mute"), api.MuteRequest{For: span})
}

// TestAlerts sends a test by channels, all where none is named, and tells which jobs send it.
func (m *Client) TestAlerts(ctx context.Context, channels ...string) (api.AlertTest, error) {
	return post[api.AlertTest](ctx, m, "/v1/alerts/test", api.AlertTestRequest{Channels: channels})
}
