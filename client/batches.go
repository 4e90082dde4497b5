package client

import (
	"context"
	"iter"
	"net/url"
	"strconv"
	"time"

	"humblemule.example/api"
	"humblemule.example/job"
)

// Batch gathers jobs that belong together, to be enqueued by [Client.Start]. Its methods are not for
// several goroutines at once.
type Batch struct{ of api.NewBatch }

// Ref names a job of a batch that was added, for others to wait for it.
type Ref struct{ name string }

// NewBatch begins a batch of a name, which may be empty.
func NewBatch(name string) *Batch { return &Batch{api.NewBatch{Name: name}} }

// For says whom the batch is for, and its jobs where they name none.
func (b *Batch) For(owner string) *Batch {
	b.of.Owner = owner
	return b
}

// Label sets a label of the batch.
func (b *Batch) Label(name, value string) *Batch {
	b.of.Labels = job.MergeLabels(b.of.Labels, map[string]string{name: value})
	return b
}

// Once says when an earlier batch of the same name answers in place of this one, as
// [api.NewBatch.Dedupe] does.
func (b *Batch) Once(dedupe string) *Batch {
	b.of.Dedupe = dedupe
	return b
}

// Tell says who is told when all of its jobs have ended; see [api.NewBatch].
func (b *Batch) Tell(notify ...job.Notify) *Batch {
	b.of.Notify = append(b.of.Notify, notify...)
	return b
}

// Open lets more jobs be added after the start, until the batch is closed.
func (b *Batch) Open() *Batch {
	b.of.Open = true
	return b
}

// Add adds a job that waits for others of the batch, each of which was added before, beside those
// that its own After names.
func (b *Batch) Add(s job.Spec, after ...Ref) Ref {
	ref := Ref{"j" + strconv.Itoa(len(b.of.Jobs)+1)}
	b.AddAs(ref.name, s, after...)
	return ref
}

// AddAs is Add with a name of the caller's own, by which the inputs of jobs tell of it.
func (b *Batch) AddAs(name string, s job.Spec, after ...Ref) Ref {
	if len(after) > 0 {
		var rule job.After
		if s.After != nil {
			rule = *s.After
		}
		rule.Refs = append([]string(nil), rule.Refs...)
		for _, r := range after {
			rule.Refs = append(rule.Refs, r.name)
		}
		s.After = &rule
	}
	b.of.Jobs = append(b.of.Jobs, api.BatchJob{Ref: name, Spec: s})
	return Ref{name}
}

// Last sets the job that waits for all others, also those that are added later. Its After says when it
// goes on; without one, once all are done.
func (b *Batch) Last(s job.Spec) *Batch {
	b.of.Last = &s
	return b
}

// Start enqueues the jobs of a batch, all of them or none. An earlier batch that answers for it is told
// as Duplicate.
func (m *Client) Start(ctx context.Context, b *Batch) (api.Batch, error) {
	return m.MakeBatch(ctx, b.of)
}

// MakeBatch enqueues the jobs of a batch, all of them or none.
func (m *Client) MakeBatch(ctx context.Context, b api.NewBatch) (api.Batch, error) {
	return post[api.Batch](ctx, m, "/v1/batches", b)
}

// AddToBatch adds jobs to an open batch, all of them or none.
func (m *Client) AddToBatch(ctx context.Context, id int64, jobs []api.BatchJob) (api.Batch, error) {
	return post[api.Batch](ctx, m, path("batches", number(id), "jobs"), struct {
		Jobs []api.BatchJob `json:"jobs"`
	}{jobs})
}

// CloseBatch closes a batch: no more jobs are added to it but by its own.
func (m *Client) CloseBatch(ctx context.Context, id int64) (api.Batch, error) {
	return post[api.Batch](ctx, m, path("batches", number(id), "close"), nothing)
}

// Batch reads how a batch stands.
func (m *Client) Batch(ctx context.Context, id int64) (api.Batch, error) {
	return get[api.Batch](ctx, m, path("batches", number(id)), nil)
}

// BatchGraph lays the jobs of a batch in levels.
func (m *Client) BatchGraph(ctx context.Context, id int64) (api.BatchGraph, error) {
	return get[api.BatchGraph](ctx, m, path("batches", number(id), "graph"), nil)
}

// WaitForBatch reads a batch when all of its jobs have ended, or as it stands after wait.
func (m *Client) WaitForBatch(ctx context.Context, id int64, wait time.Duration) (api.Batch, error) {
	return waitFor(wait, func(v url.Values) (api.Batch, error) {
		return get[api.Batch](ctx, m, path("batches", number(id)), v)
	}, func(b api.Batch) bool { return b.State.Over() })
}

// ListBatches reads a page of batches, newest first.
func (m *Client) ListBatches(ctx context.Context, q api.BatchQuery) (api.BatchPage, error) {
	v := url.Values{}
	for name, value := range map[string]string{"state": string(q.State), "name": q.Name, "owner": q.Owner, "cursor": q.Cursor} {
		if value != "" {
			v.Set(name, value)
		}
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	return get[api.BatchPage](ctx, m, "/v1/batches", v)
}

// Batches reads all batches that a query asks for, page after page.
func (m *Client) Batches(ctx context.Context, q api.BatchQuery) iter.Seq2[api.Batch, error] {
	return pages(func(cursor string) ([]api.Batch, string, error) {
		if cursor != "" {
			q.Cursor = cursor
		}
		p, err := m.ListBatches(ctx, q)
		return p.Batches, p.NextCursor, err
	})
}

// Owner tells how the jobs of an owner stand; of one who has none, that.
func (m *Client) Owner(ctx context.Context, name string) (api.Owner, error) {
	return get[api.Owner](ctx, m, path("owners", name), nil)
}
