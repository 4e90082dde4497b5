package client

import (
	"context"
	"iter"
	"net/url"

	"humblemule.example/api"
	"humblemule.example/job"
)

// ActOnJobs applies an action to many jobs. For more than a thousand the answer is an
// operation that goes on by itself; see [Client.Operation].
func (m *Client) ActOnJobs(ctx context.Context, r api.ActRequest) (api.Operation, error) {
	return post[api.Operation](ctx, m, "/v1/jobs/act", r)
}

// ListOperations reads a page of the actions on many jobs, the latest first.
func (m *Client) ListOperations(ctx context.Context, p api.Part) ([]api.Operation, string, error) {
	a, err := get[struct {
		Operations []api.Operation `json:"operations"`
		NextCursor string          `json:"next_cursor"`
	}](ctx, m, "/v1/operations", partOf(p))
	return a.Operations, a.NextCursor, err
}

// Operations reads all actions on many jobs that are kept, the latest first.
func (m *Client) Operations(ctx context.Context) iter.Seq2[api.Operation, error] {
	return everyPage(ctx, m.ListOperations)
}

// Operation reads how an operation stands.
func (m *Client) Operation(ctx context.Context, id int64) (api.Operation, error) {
	return get[api.Operation](ctx, m, path("operations", number(id)), nil)
}

// StopOperation stops an operation. What it has changed stays so.
func (m *Client) StopOperation(ctx context.Context, id int64) (api.Operation, error) {
	return post[api.Operation](ctx, m, path("operations", number(id), "stop"), nothing)
}

// UndoOperation brings back what an operation has removed.
func (m *Client) UndoOperation(ctx context.Context, id int64) (api.Operation, error) {
	return post[api.Operation](ctx, m, path("operations", number(id), "undo"), nothing)
}

// ListActions reads a page of what operators did, the latest first; to one job where id is
// not 0.
func (m *Client) ListActions(ctx context.Context, id int64, p api.Part) ([]api.Action, string, error) {
	q := partOf(p)
	if id != 0 {
		q.Set("job", number(id))
	}
	a, err := get[struct {
		Actions    []api.Action `json:"actions"`
		NextCursor string       `json:"next_cursor"`
	}](ctx, m, "/v1/actions", q)
	return a.Actions, a.NextCursor, err
}

// Actions reads what operators did, the latest first; to one job where id is not 0.
func (m *Client) Actions(ctx context.Context, id int64) iter.Seq2[api.Action, error] {
	return everyPage(ctx, func(ctx context.Context, p api.Part) ([]api.Action, string, error) { return m.ListActions(ctx, id, p) })
}

// ListCauses reads a page of what jobs died of, or fail of while they are retried.
func (m *Client) ListCauses(ctx context.Context, f api.CauseFilter, p api.Part) ([]api.Cause, string, error) {
	q := partOf(p)
	for name, value := range map[string]string{"queue": f.Queue, "task": f.Task, "error": f.Error} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if f.State != job.Unplaced {
		q.Set("state", f.State.String())
	}
	a, err := get[struct {
		Causes     []api.Cause `json:"causes"`
		NextCursor string      `json:"next_cursor"`
	}](ctx, m, "/v1/causes", q)
	return a.Causes, a.NextCursor, err
}

// Causes reads what jobs died of, or fail of while they are retried, most jobs first.
func (m *Client) Causes(ctx context.Context, f api.CauseFilter) iter.Seq2[api.Cause, error] {
	return everyPage(ctx, func(ctx context.Context, p api.Part) ([]api.Cause, string, error) { return m.ListCauses(ctx, f, p) })
}

// Cause reads one cause of its dead jobs, with its history.
func (m *Client) Cause(ctx context.Context, id int64) (api.Cause, error) {
	return get[api.Cause](ctx, m, path("causes", number(id)), nil)
}

// Setup reads all settings that are in force, and where each comes from.
func (m *Client) Setup(ctx context.Context) (api.Settings, error) {
	return get[api.Settings](ctx, m, "/v1/setup", nil)
}

// PutSetup makes the settings those of a file, or tells the difference.
func (m *Client) PutSetup(ctx context.Context, r api.SetupRequest) (api.SetupDiff, error) {
	return put[api.SetupDiff](ctx, m, "/v1/setup", r)
}

// ListWorkers reads a page of the worker processes.
func (m *Client) ListWorkers(ctx context.Context, p api.Part) ([]api.Worker, string, error) {
	a, err := get[struct {
		Workers    []api.Worker `json:"workers"`
		NextCursor string       `json:"next_cursor"`
	}](ctx, m, "/v1/workers", partOf(p))
	return a.Workers, a.NextCursor, err
}

// Workers reads all worker processes that were seen within the last ten minutes.
func (m *Client) Workers(ctx context.Context) iter.Seq2[api.Worker, error] {
	return everyPage(ctx, m.ListWorkers)
}

// Worker reads one worker process.
func (m *Client) Worker(ctx context.Context, id string) (api.Worker, error) {
	return get[api.Worker](ctx, m, path("workers", id), nil)
}

// DrainWorker asks a worker to take no more jobs and finish those it has.
func (m *Client) DrainWorker(ctx context.Context, id string) (api.Worker, error) {
	return post[api.Worker](ctx, m, path("workers", id, "drain"), nothing)
}

// LeaveWorker asks a worker to take no more jobs, finish those it has, and end.
func (m *Client) LeaveWorker(ctx context.Context, id string) (api.Worker, error) {
	return post[api.Worker](ctx, m, path("workers", id, "leave"), nothing)
}

// ResumeWorker takes back a drain or a leave.
func (m *Client) ResumeWorker(ctx context.Context, id string) (api.Worker, error) {
	return post[api.Worker](ctx, m, path("workers", id, "resume"), nothing)
}

// Stats reads how things stand in a queue, or in all where it is empty.
func (m *Client) Stats(ctx context.Context, queue string) (api.Stats, error) {
	q := url.Values{}
	if queue != "" {
		q.Set("queue", queue)
	}
	return get[api.Stats](ctx, m, "/v1/stats", q)
}

// Check reads all that is wrong with what the service does.
func (m *Client) Check(ctx context.Context) ([]api.Finding, error) {
	a, err := get[struct{ Findings []api.Finding }](ctx, m, "/v1/check", nil)
	return a.Findings, err
}
