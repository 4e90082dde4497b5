package client

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/job"
)

// Source is the part of the API that worker pools speak. A pool of package worker takes its
// jobs through it:
//
//	pool := worker.New(mule.Source(), worker.Options{Queues: []string{"berths"}})
type Source struct{ m *Client }

// Source gives the part of the API that worker pools speak.
func (m *Client) Source() *Source { return &Source{m} }

// PutWorker registers a worker process, or what it tells anew about itself, and tells what is
// wanted of it.
func (s *Source) PutWorker(ctx context.Context, w api.Worker) (api.Wanted, error) {
	return put[api.Wanted](ctx, s.m, path("workers", w.ID), w)
}

// DeleteWorker says that a worker's process has ended.
func (s *Source) DeleteWorker(ctx context.Context, id string) error {
	return remove(ctx, s.m, path("workers", id))
}

// Wanted is a worker's heartbeat: it answers when something else is wanted of the worker than
// what it is doing, at the latest after wait.
func (s *Source) Wanted(ctx context.Context, id string, doing api.Want, wait time.Duration) (w api.Wanted, err error) {
	q := url.Values{"doing": {string(doing)}, "wait": {job.Duration(wait).String()}}
	err = s.m.do(ctx, request{method: http.MethodGet, path: path("workers", id, "wanted"), query: q, once: true}, &w)
	return w, err
}

// Lease settles and takes jobs.
func (s *Source) Lease(ctx context.Context, r api.LeaseRequest) (api.LeaseAnswer, error) {
	return post[api.LeaseAnswer](ctx, s.m, "/v1/leases", struct {
		api.LeaseRequest
		Settle any `json:"settle,omitempty"`
	}{r, asRead(r.Settle)})
}

// Extend renews leases.
func (s *Source) Extend(ctx context.Context, r api.ExtendRequest) (api.ExtendAnswer, error) {
	return post[api.ExtendAnswer](ctx, s.m, "/v1/leases/extend", r)
}

// Settle ends leases with their outcomes.
func (s *Source) Settle(ctx context.Context, items []api.Settlement) ([]api.SettleResult, error) {
	answer, err := post[struct{ Results []api.SettleResult }](ctx, s.m, "/v1/leases/settle", struct {
		Leases any `json:"leases"`
	}{asRead(items)})
	return answer.Results, err
}

// asRead are settlements whose follow-ups are told as they came, where a handler has
// brought any that cannot be read; nil for none.
func asRead(items []api.Settlement) any {
	if len(items) == 0 {
		return nil
	}
	if !slices.ContainsFunc(items, func(s api.Settlement) bool { return s.RawEnqueue != nil }) {
		return items
	}
	type asItCame struct {
		api.Settlement
		Enqueue []json.RawMessage `json:"enqueue,omitempty"`
	}
	all := make([]any, len(items))
	for i, s := range items {
		if all[i] = s; s.RawEnqueue != nil {
			all[i] = asItCame{s, s.RawEnqueue}
		}
	}
	return all
}
