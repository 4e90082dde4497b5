package client

import (
	"context"
	"iter"
	"net/url"
	"strconv"

	"humblemule.example/api"
)

// ListSchedules reads a page of the schedules by name, each with its next times and its last
// run.
func (m *Client) ListSchedules(ctx context.Context, p api.Part) ([]api.ScheduleStatus, string, error) {
	a, err := get[struct {
		Schedules  []api.ScheduleStatus `json:"schedules"`
		NextCursor string               `json:"next_cursor"`
	}](ctx, m, "/v1/schedules", partOf(p))
	return a.Schedules, a.NextCursor, err
}

// Schedules reads all schedules by name.
func (m *Client) Schedules(ctx context.Context) iter.Seq2[api.ScheduleStatus, error] {
	return everyPage(ctx, m.ListSchedules)
}

// Schedule reads one schedule.
func (m *Client) Schedule(ctx context.Context, name string) (api.ScheduleStatus, error) {
	return get[api.ScheduleStatus](ctx, m, path("schedules", name), nil)
}

// PutSchedule keeps a schedule under a name; the same again changes nothing. The options are
// [IfVersion] and [IfNew].
func (m *Client) PutSchedule(ctx context.Context, name string, s api.Schedule, options ...CallOption) (api.ScheduleStatus, error) {
	s.Name = ""
	return put[api.ScheduleStatus](ctx, m, path("schedules", name), s, options...)
}

// PatchSchedule changes parts of a schedule, by an RFC 7396 merge patch.
func (m *Client) PatchSchedule(ctx context.Context, name string, change any, options ...CallOption) (api.ScheduleStatus, error) {
	return patch[api.ScheduleStatus](ctx, m, path("schedules", name), change, options...)
}

// DeleteSchedule deletes a schedule and its history. Its jobs stay.
func (m *Client) DeleteSchedule(ctx context.Context, name string, options ...CallOption) error {
	return remove(ctx, m, path("schedules", name), options...)
}

// RunSchedule enqueues a run of a schedule now.
func (m *Client) RunSchedule(ctx context.Context, name string) (api.ScheduleStatus, error) {
	return post[api.ScheduleStatus](ctx, m, path("schedules", name, "run"), nothing)
}

// PauseSchedule stops a schedule. Times inside a pause are not missed.
func (m *Client) PauseSchedule(ctx context.Context, name string) (api.ScheduleStatus, error) {
	return post[api.ScheduleStatus](ctx, m, path("schedules", name, "pause"), nothing)
}

// ResumeSchedule lets a schedule go on.
func (m *Client) ResumeSchedule(ctx context.Context, name string) (api.ScheduleStatus, error) {
	return post[api.ScheduleStatus](ctx, m, path("schedules", name, "resume"), nothing)
}

// ListRuns reads a page of the history of a schedule, the latest planned time first.
func (m *Client) ListRuns(ctx context.Context, name string, p api.Part) ([]api.Run, string, error) {
	a, err := get[struct {
		Runs       []api.Run `json:"runs"`
		NextCursor string    `json:"next_cursor"`
	}](ctx, m, path("schedules", name, "runs"), partOf(p))
	return a.Runs, a.NextCursor, err
}

// Runs reads the history of a schedule, the latest planned time first.
func (m *Client) Runs(ctx context.Context, name string) iter.Seq2[api.Run, error] {
	return everyPage(ctx, func(ctx context.Context, p api.Part) ([]api.Run, string, error) { return m.ListRuns(ctx, name, p) })
}

// ListComing reads what becomes due within a span, in time order.
func (m *Client) ListComing(ctx context.Context, q api.ComingQuery) (api.Coming, error) {
	query := url.Values{}
	for name, value := range map[string]string{"queue": q.Queue, "task": q.Task} {
		if value != "" {
			query.Set(name, value)
		}
	}
	if q.Span != 0 {
		query.Set("span", q.Span.String())
	}
	if q.Limit != 0 {
		query.Set("limit", strconv.Itoa(q.Limit))
	}
	return get[api.Coming](ctx, m, "/v1/coming", query)
}

// ExplainCron tells what an expression means in a zone, with its next times.
func (m *Client) ExplainCron(ctx context.Context, q api.CronQuery) (api.CronExplanation, error) {
	query := url.Values{}
	for name, value := range map[string]string{"expr": q.Expr, "zone": q.Zone} {
		if value != "" {
			query.Set(name, value)
		}
	}
	if q.Every != 0 {
		query.Set("every", q.Every.String())
	}
	if q.From != 0 {
		query.Set("from", q.From.String())
	}
	if q.Count != 0 {
		query.Set("count", strconv.Itoa(q.Count))
	}
	return get[api.CronExplanation](ctx, m, "/v1/explain/cron", query)
}

// ExplainRetry tells when each attempt of a retry would come.
func (m *Client) ExplainRetry(ctx context.Context, q api.RetryQuery) (api.RetryExplanation, error) {
	return post[api.RetryExplanation](ctx, m, "/v1/explain/retry", q)
}
