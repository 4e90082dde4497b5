package client

import (
	"context"
	"iter"

	"humblemule.example/api"
)

// ListQueues reads a page of the queues, by name.
func (m *Client) ListQueues(ctx context.Context, p api.Part) ([]api.Queue, string, error) {
	a, err := get[struct {
		Queues     []api.Queue `json:"queues"`
		NextCursor string      `json:"next_cursor"`
	}](ctx, m, "/v1/queues", partOf(p))
	return a.Queues, a.NextCursor, err
}

// Queues reads all queues, by name.
func (m *Client) Queues(ctx context.Context) iter.Seq2[api.Queue, error] {
	return everyPage(ctx, m.ListQueues)
}

// Queue reads one queue.
func (m *Client) Queue(ctx context.Context, name string) (api.Queue, error) {
	return get[api.Queue](ctx, m, path("queues", name), nil)
}

// PutQueue sets the order, the limits and the defaults of a queue; what is not given is
// removed. The options are [IfVersion], [IfNew] and [MayRemove].
func (m *Client) PutQueue(ctx context.Context, name string, d api.Defaults, options ...CallOption) (api.Queue, error) {
	return put[api.Queue](ctx, m, path("queues", name), d, options...)
}

// PatchQueue changes some of what is set for a queue, by an RFC 7396 merge patch. The options
// are those of [Client.PutQueue].
func (m *Client) PatchQueue(ctx context.Context, name string, change any, options ...CallOption) (api.Queue, error) {
	return patch[api.Queue](ctx, m, path("queues", name), change, options...)
}

// DeleteQueue deletes a queue that has neither jobs nor settings.
func (m *Client) DeleteQueue(ctx context.Context, name string, options ...CallOption) error {
	return remove(ctx, m, path("queues", name), options...)
}

// PauseQueue starts nothing more of a queue. Running jobs go on.
func (m *Client) PauseQueue(ctx context.Context, name string) (api.Queue, error) {
	return post[api.Queue](ctx, m, path("queues", name, "pause"), nothing)
}

// ResumeQueue starts jobs of a queue again.
func (m *Client) ResumeQueue(ctx context.Context, name string) (api.Queue, error) {
	return post[api.Queue](ctx, m, path("queues", name, "resume"), nothing)
}

// PurgeQueue removes what waits in a queue. The operation that it gives can be undone for ten
// minutes.
func (m *Client) PurgeQueue(ctx context.Context, name string, r api.PurgeRequest) (api.Operation, error) {
	return post[api.Operation](ctx, m, path("queues", name, "purge"), r)
}

// PassLane lets the jobs behind a dead letter, or behind a job in backoff, go on.
func (m *Client) PassLane(ctx context.Context, queue, lane string) (api.Queue, error) {
	return post[api.Queue](ctx, m, path("queues", queue, "lanes", lane, "pass"), nothing)
}

// ListLanes reads a page of the lanes of a queue that a job has, by name.
func (m *Client) ListLanes(ctx context.Context, queue string, p api.Part) ([]api.Lane, string, error) {
	a, err := get[struct {
		Lanes      []api.Lane `json:"lanes"`
		NextCursor string     `json:"next_cursor"`
	}](ctx, m, path("queues", queue, "lanes"), partOf(p))
	return a.Lanes, a.NextCursor, err
}

// Lanes reads all lanes of a queue that a job has, by name.
func (m *Client) Lanes(ctx context.Context, queue string) iter.Seq2[api.Lane, error] {
	return everyPage(ctx, func(ctx context.Context, p api.Part) ([]api.Lane, string, error) { return m.ListLanes(ctx, queue, p) })
}

// ListStarts reads a page of the latest starts of a queue, the latest first.
func (m *Client) ListStarts(ctx context.Context, queue string, p api.Part) ([]api.Start, string, error) {
	a, err := get[struct {
		Starts     []api.Start `json:"starts"`
		NextCursor string      `json:"next_cursor"`
	}](ctx, m, path("queues", queue, "starts"), partOf(p))
	return a.Starts, a.NextCursor, err
}

// Starts reads the latest starts of a queue, the latest first.
func (m *Client) Starts(ctx context.Context, queue string) iter.Seq2[api.Start, error] {
	return everyPage(ctx, func(ctx context.Context, p api.Part) ([]api.Start, string, error) { return m.ListStarts(ctx, queue, p) })
}

// ListTasks reads a page of the tasks, by name.
func (m *Client) ListTasks(ctx context.Context, p api.Part) ([]api.Task, string, error) {
	a, err := get[struct {
		Tasks      []api.Task `json:"tasks"`
		NextCursor string     `json:"next_cursor"`
	}](ctx, m, "/v1/tasks", partOf(p))
	return a.Tasks, a.NextCursor, err
}

// Tasks reads all tasks, by name.
func (m *Client) Tasks(ctx context.Context) iter.Seq2[api.Task, error] {
	return everyPage(ctx, m.ListTasks)
}

// Task reads one task.
func (m *Client) Task(ctx context.Context, name string) (api.Task, error) {
	return get[api.Task](ctx, m, path("tasks", name), nil)
}

// PutTask sets the defaults of a task's jobs; what is not given is removed. The options are
// [IfVersion] and [IfNew].
func (m *Client) PutTask(ctx context.Context, name string, d api.Defaults, options ...CallOption) (api.Task, error) {
	return put[api.Task](ctx, m, path("tasks", name), d, options...)
}

// PatchTask changes some of the defaults of a task's jobs, by an RFC 7396 merge patch.
func (m *Client) PatchTask(ctx context.Context, name string, change any, options ...CallOption) (api.Task, error) {
	return patch[api.Task](ctx, m, path("tasks", name), change, options...)
}

// DeleteTask deletes a task that has neither jobs nor settings.
func (m *Client) DeleteTask(ctx context.Context, name string, options ...CallOption) error {
	return remove(ctx, m, path("tasks", name), options...)
}
