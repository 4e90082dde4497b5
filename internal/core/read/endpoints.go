package read

import (
	"cmp"
	"context"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/status"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// NoEndpoint says that an endpoint is not there.
func NoEndpoint(name string) error {
	return job.Fault(job.NotFound, "there is no endpoint %q", text.Shorten(name))
}

// KeptEndpoint finds an endpoint by its name; nil where there is none.
func (rd *Reader) KeptEndpoint(name string) *memory.Endpoint {
	rd.m.RLock()
	defer rd.m.RUnlock()
	return rd.m.Endpoints.Kept(name)
}

// Endpoints tells all endpoints, by name.
func (rd *Reader) Endpoints(ctx context.Context) ([]api.EndpointStatus, error) {
	if err := scope.Whole(ctx); err != nil {
		return nil, err
	}
	rd.m.RLock()
	defer rd.m.RUnlock()
	all := []api.EndpointStatus{}
	for _, e := range rd.m.Endpoints.AllKept() {
		all = append(all, rd.tellEndpoint(e))
	}
	slices.SortFunc(all, func(a, b api.EndpointStatus) int { return cmp.Compare(a.Name, b.Name) })
	return all, nil
}

// Endpoint tells an endpoint as it stands.
func (rd *Reader) Endpoint(ctx context.Context, name string) (api.EndpointStatus, error) {
	if err := scope.Whole(ctx); err != nil {
		return api.EndpointStatus{}, err
	}
	rd.m.RLock()
	defer rd.m.RUnlock()
	e := rd.m.Endpoints.Kept(name)
	if e == nil {
		return api.EndpointStatus{}, NoEndpoint(name)
	}
	return rd.tellEndpoint(e), nil
}

// EndpointAsSet gives an endpoint as it was set, with its version; there is false where it is not there.
func (rd *Reader) EndpointAsSet(name string) (is api.Endpoint, version int64, there bool) {
	e := rd.KeptEndpoint(name)
	if e == nil {
		return is, 0, false
	}
	return e.Is, e.Row.Version, true
}

// tellEndpoint tells an endpoint; the caller holds the read lock.
func (rd *Reader) tellEndpoint(e *memory.Endpoint) api.EndpointStatus {
	r := &e.Row
	told := api.EndpointStatus{
		Endpoint: e.Is, Version: r.Version, MadeAt: r.MadeAt, DefinedBy: api.SettingByHand, PausedAt: r.PausedAt, PausedBy: r.PausedBy, PausedWhy: r.PausedWhy,
		Delivered: r.Delivered, Failed: r.Failed, Missed: r.Missed, FailingSince: r.FailingSince, LastAt: r.LastAt,
	}
	paused := r.PausedAt != 0
	told.Name, told.Paused = r.Name, &paused
	if slices.Contains(rd.m.Settings.KeptOwned().Endpoints, r.Name) {
		told.DefinedBy = api.SettingByFile
	}
	return told
}

// pausedEndpoints lists the endpoints that have paused themselves.
func (rd *Reader) pausedEndpoints() (all []api.EndpointStatus) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	for _, e := range rd.m.Endpoints.AllKept() {
		if e.Row.PausedWhy != "" {
			all = append(all, rd.tellEndpoint(e))
		}
	}
	slices.SortFunc(all, func(a, b api.EndpointStatus) int { return cmp.Compare(a.Name, b.Name) })
	return all
}

// silentHosts lists the hosts that give no answer to calls, the longest first.
func (rd *Reader) silentHosts() (all []status.Silent) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	for _, h := range rd.m.Hosts.AllKept() {
		if h.ProbeAt != 0 {
			all = append(all, status.Silent{Host: h.Name, Since: h.Since, ProbeAt: h.ProbeAt, Why: h.Why})
		}
	}
	slices.SortFunc(all, func(a, b status.Silent) int {
		return cmp.Or(cmp.Compare(a.Since, b.Since), cmp.Compare(a.Host, b.Host))
	})
	return all
}
