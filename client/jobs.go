package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"go.opentelemetry.io/otel/propagation"

	"humblemule.example/api"
	"humblemule.example/job"
)

// Enqueue hands a job to the service. It is durable when Enqueue returns. A spec without a
// traceparent carries on the trace of ctx, if there is one.
func (m *Client) Enqueue(ctx context.Context, s job.Spec) (api.Enqueued, error) {
	if s.Traceparent == "" {
		carried := propagation.MapCarrier{}
		propagation.TraceContext{}.Inject(ctx, carried)
		s.Traceparent = carried["traceparent"]
	}
	return post[api.Enqueued](ctx, m, "/v1/jobs", s)
}

// EnqueueMany hands over up to [job.MaxSpecs] jobs, all or none, and tells what became of
// each in order.
func (m *Client) EnqueueMany(ctx context.Context, specs []job.Spec) (api.EnqueuedMany, error) {
	var lines bytes.Buffer
	for i := range specs {
		line, err := encode(&specs[i])
		if err != nil {
			return api.EnqueuedMany{}, fmt.Errorf("spec %d: %w", i, err)
		}
		lines.Write(line)
	}
	return m.EnqueueLines(ctx, lines.Bytes())
}

// EnqueueLines is EnqueueMany for jobs that are written as JSON already, a spec a line.
func (m *Client) EnqueueLines(ctx context.Context, ndjson []byte) (told api.EnqueuedMany, err error) {
	return told, m.do(ctx, request{method: http.MethodPost, path: "/v1/jobs/bulk", body: ndjson, media: "application/x-ndjson"}, &told)
}

// Job reads everything about one job.
func (m *Client) Job(ctx context.Context, id int64) (job.Job, error) {
	return get[job.Job](ctx, m, path("jobs", number(id)), nil)
}

// WaitFor reads a job when it is finished, or as it stands after wait. [Result] reads what it
// has brought.
func (m *Client) WaitFor(ctx context.Context, id int64, wait time.Duration) (job.Job, error) {
	return waitFor(wait, func(v url.Values) (job.Job, error) {
		return get[job.Job](ctx, m, path("jobs", number(id)), v)
	}, func(j job.Job) bool { return j.State.Finished() })
}

// waitFor reads something, call after call, until it is over or as it stands after wait.
func waitFor[T any](wait time.Duration, read func(v url.Values) (T, error), over func(T) bool) (T, error) {
	const most = 25 * time.Second // a call
	for until := time.Now().Add(wait); ; {
		left := max(time.Until(until), 0).Truncate(time.Millisecond)
		v, err := read(url.Values{"wait": {job.Duration(min(left, most)).String()}})
		if err != nil || over(v) || left <= most {
			return v, err
		}
	}
}

// ErrNotFinished is the error of a result that is asked for before the job is finished.
var ErrNotFinished = errors.New("the job is not finished yet")

// Result reads the result of a job that is done. The error is [ErrNotFinished] for one that is
// not finished, and else says why there is no result.
func Result[T any](j job.Job) (result T, err error) {
	switch {
	case !j.State.Finished():
		return result, fmt.Errorf("job %d is %s: %w", j.ID, j.State, ErrNotFinished)
	case j.State != job.Done:
		return result, fmt.Errorf("job %d has no result: it is %s (%s)", j.ID, j.State, j.Reason)
	case j.Result == nil && j.ResultUntil != 0:
		return result, fmt.Errorf("the result of job %d was kept until %s", j.ID, j.ResultUntil)
	case j.Result == nil:
		return result, fmt.Errorf("job %d was done without a result", j.ID)
	}
	if err := json.Unmarshal(j.Result, &result); err != nil {
		return result, fmt.Errorf("the result of job %d cannot be read: %w", j.ID, err)
	}
	return result, nil
}

// ListJobs reads a page of the jobs that match a filter.
func (m *Client) ListJobs(ctx context.Context, f api.Filter) (api.Page, error) {
	return get[api.Page](ctx, m, "/v1/jobs", Query(f))
}

// Jobs reads all jobs that match a filter, page after page.
func (m *Client) Jobs(ctx context.Context, f api.Filter) iter.Seq2[job.Job, error] {
	return pages(func(cursor string) ([]job.Job, string, error) {
		if cursor != "" {
			f.Cursor = cursor
		}
		page, err := m.ListJobs(ctx, f)
		return page.Jobs, page.NextCursor, err
	})
}

// CountJobs counts the jobs that match a filter. Where the answer has a NextCursor it is at
// least so many, and a call with that as the filter's Cursor counts on.
func (m *Client) CountJobs(ctx context.Context, f api.Filter) (api.Count, error) {
	f.Order, f.Limit, f.From, f.FromAt = "", 0, 0, 0
	return get[api.Count](ctx, m, "/v1/jobs/count", Query(f))
}

// SlowJobs lists the running jobs that take longer than usual.
func (m *Client) SlowJobs(ctx context.Context) (api.SlowJobs, error) {
	return get[api.SlowJobs](ctx, m, "/v1/jobs/slow", nil)
}

// ExportJobs writes all jobs that match a filter to w: as csv (RFC 4180) or as jsonl, a job a
// line. After an error what was written is not whole.
func (m *Client) ExportJobs(ctx context.Context, f api.Filter, format string, w io.Writer) error {
	f.Limit, f.Cursor = 0, ""
	q := Query(f)
	q.Set("format", format)
	body, err := m.stream(ctx, "/v1/jobs/export?"+q.Encode())
	if err != nil {
		return err
	}
	defer body.Close()
	_, err = io.Copy(w, body)
	return err
}

// Query writes a filter as the query of a list.
func Query(f api.Filter) url.Values {
	q := url.Values{}
	set := func(name, value string) {
		if value != "" {
			q.Set(name, value)
		}
	}
	var states, ids []string
	for _, s := range f.States {
		states = append(states, s.String())
	}
	for _, id := range f.IDs {
		ids = append(ids, number(id))
	}
	set("state", strings.Join(states, ","))
	set("queue", strings.Join(f.Queues, ","))
	set("task", strings.Join(f.Tasks, ","))
	set("ids", strings.Join(ids, ","))
	set("owner", f.Owner)
	set("worker", f.Worker)
	set("error", f.Error)
	if f.InDoubt {
		set("steps", job.StepInDoubt)
	}
	if f.Cause != 0 {
		set("cause", number(f.Cause))
	}
	set("key", f.Key)
	if f.Batch != 0 {
		set("batch", number(f.Batch))
	}
	set("order", string(f.Order))
	if f.From != 0 {
		set("from", number(f.From))
	} else if f.FromAt != 0 {
		set("from", f.FromAt.String())
	}
	set("cursor", f.Cursor)
	for name, value := range f.Labels {
		q.Add("label", api.LabelPair(name, value))
	}
	if f.Since != 0 {
		q.Set("since", f.Since.String())
	}
	if f.Until != 0 {
		q.Set("until", f.Until.String())
	}
	if f.Limit != 0 {
		q.Set("limit", strconv.Itoa(f.Limit))
	}
	return q
}

// CancelJob ends an unfinished job; a running one is asked to end.
func (m *Client) CancelJob(ctx context.Context, id int64) (job.Job, error) {
	return post[job.Job](ctx, m, path("jobs", number(id), "cancel"), nothing)
}

// RequeueJob gives a finished job a new round.
func (m *Client) RequeueJob(ctx context.Context, id int64, how api.Requeue) (job.Job, error) {
	return post[job.Job](ctx, m, path("jobs", number(id), "requeue"), how)
}

// AcceptJob makes a job done whose follow-ups were refused, without running it again. Its
// follow-ups are those given, or none.
func (m *Client) AcceptJob(ctx context.Context, id int64, followUps ...job.Spec) (job.Job, error) {
	return post[job.Job](ctx, m, path("jobs", number(id), "accept"), struct {
		Enqueue []job.Spec `json:"enqueue,omitempty"`
	}{followUps})
}

// EndLease ends the lease of a running job, which is placed again. The attempt is not counted.
func (m *Client) EndLease(ctx context.Context, id int64, how api.EndLease) (job.Job, error) {
	return post[job.Job](ctx, m, path("jobs", number(id), "end_lease"), how)
}

// StartJob makes a job that waits for its time, or for its next attempt, ready at once.
func (m *Client) StartJob(ctx context.Context, id int64) (job.Job, error) {
	return post[job.Job](ctx, m, path("jobs", number(id), "start_now"), nothing)
}

// PatchJob changes a job that is not running, by an RFC 7396 merge patch such as
// map[string]any{"priority": 9}. Of a finished job only labels and payload can be changed.
func (m *Client) PatchJob(ctx context.Context, id int64, change any, options ...CallOption) (job.Job, error) {
	return patch[job.Job](ctx, m, path("jobs", number(id)), change, options...)
}

// DiscardJob removes a finished job. [Client.UndiscardJob] brings it back for ten minutes.
func (m *Client) DiscardJob(ctx context.Context, id int64) error {
	_, err := post[struct{}](ctx, m, path("jobs", number(id), "discard"), nothing)
	return err
}

// UndiscardJob brings back a job that was discarded within the last ten minutes.
func (m *Client) UndiscardJob(ctx context.Context, id int64) (job.Job, error) {
	return post[job.Job](ctx, m, path("jobs", number(id), "undiscard"), nothing)
}

// Log reads a page of what the handlers of a job wrote.
func (m *Client) Log(ctx context.Context, id int64, q api.LogQuery) (api.Log, error) {
	query := url.Values{}
	if q.Attempt != 0 {
		query.Set("attempt", strconv.Itoa(q.Attempt))
	}
	if q.Cursor != "" {
		query.Set("cursor", q.Cursor)
	}
	return get[api.Log](ctx, m, path("jobs", number(id), "log"), query)
}

// LogLines reads all that the handlers of a job have written so far.
func (m *Client) LogLines(ctx context.Context, id int64) iter.Seq2[api.LogLine, error] {
	return pages(func(cursor string) ([]api.LogLine, string, error) {
		page, err := m.Log(ctx, id, api.LogQuery{Cursor: cursor})
		if len(page.Lines) == 0 {
			page.NextCursor = "" // what is written later is not waited for
		}
		return page.Lines, page.NextCursor, err
	})
}

// FollowLog reads what the handlers of a job write, until the job is finished.
func (m *Client) FollowLog(ctx context.Context, id int64) iter.Seq2[api.LogLine, error] {
	return pages(func(cursor string) ([]api.LogLine, string, error) {
		page, err := m.Log(ctx, id, api.LogQuery{Cursor: cursor})
		if err == nil && len(page.Lines) == 0 && page.NextCursor != "" {
			_, err = m.WaitFor(ctx, id, time.Second)
		}
		return page.Lines, page.NextCursor, err
	})
}
