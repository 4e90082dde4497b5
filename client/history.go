package client

import (
	"context"
	"net/url"
	"strconv"

	"humblemule.example/api"
	"humblemule.example/job"
)

// History reads what moved over time: how many jobs came, started and finished, step by step.
func (m *Client) History(ctx context.Context, q api.HistoryQuery) (api.History, error) {
	query := url.Values{}
	for name, value := range map[string]string{"by": q.By, "queue": q.Queue, "task": q.Task, "follow": q.Follow} {
		if value != "" {
			query.Set(name, value)
		}
	}
	for name, at := range map[string]job.Time{"from": q.From, "to": q.To} {
		if at != 0 {
			query.Set(name, at.String())
		}
	}
	if q.Step != 0 {
		query.Set("step", q.Step.String())
	}
	if q.Times {
		query.Set("times", "true")
	}
	return get[api.History](ctx, m, "/v1/stats/history", query)
}

// Forecast reads how a queue will fare: when it is clear, and what keeps it from going faster.
func (m *Client) Forecast(ctx context.Context, q api.ForecastQuery) (api.Forecast, error) {
	query := url.Values{}
	if q.Slots != 0 {
		query.Set("slots", strconv.Itoa(q.Slots))
	}
	if q.By != 0 {
		query.Set("by", q.By.String())
	}
	if q.More != 0 {
		query.Set("more", number(q.More))
	}
	return get[api.Forecast](ctx, m, path("queues", q.Queue, "forecast"), query)
}

// Mark notes a moment, which is drawn on every chart.
func (m *Client) Mark(ctx context.Context, mark api.NewMark) (api.Mark, error) {
	return post[api.Mark](ctx, m, "/v1/marks", mark)
}

// DeleteMark forgets a moment that somebody has noted.
func (m *Client) DeleteMark(ctx context.Context, id int64) error {
	return remove(ctx, m, path("marks", strconv.FormatInt(id, 10)))
}

// Marks reads the moments of a span, the first one first: of the last day where both are 0.
func (m *Client) Marks(ctx context.Context, from, to job.Time) ([]api.Mark, error) {
	query := url.Values{}
	for name, at := range map[string]job.Time{"from": from, "to": to} {
		if at != 0 {
			query.Set(name, at.String())
		}
	}
	a, err := get[struct{ Marks []api.Mark }](ctx, m, "/v1/marks", query)
	return a.Marks, err
}

// Follows reads the labels that are followed, by name.
func (m *Client) Follows(ctx context.Context) ([]api.Follow, error) {
	told, err := get[struct {
		Follows []api.Follow `json:"follows"`
	}](ctx, m, "/v1/follow", nil)
	return told.Follows, err
}

// Followed reads one label that is followed.
func (m *Client) Followed(ctx context.Context, name string) (api.Follow, error) {
	return get[api.Follow](ctx, m, path("follow", name), nil)
}

// Follow follows a label under a name: its jobs are counted by their states, those that are there
// too, and history tells what moves among them from now on.
func (m *Client) Follow(ctx context.Context, name string, label api.NewFollow) (api.Follow, error) {
	return put[api.Follow](ctx, m, path("follow", name), map[string]any{"label": label})
}

// Unfollow follows a label no longer.
func (m *Client) Unfollow(ctx context.Context, name string) error {
	return remove(ctx, m, path("follow", name))
}
