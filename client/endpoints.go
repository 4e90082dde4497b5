package client

import (
	"context"

	"humblemule.example/api"
)

// Endpoints reads all endpoints by name, each with what became of the messages to it.
func (m *Client) Endpoints(ctx context.Context) ([]api.EndpointStatus, error) {
	a, err := get[struct{ Endpoints []api.EndpointStatus }](ctx, m, "/v1/endpoints", nil)
	return a.Endpoints, err
}

// Endpoint reads one endpoint.
func (m *Client) Endpoint(ctx context.Context, name string) (api.EndpointStatus, error) {
	return get[api.EndpointStatus](ctx, m, path("endpoints", name), nil)
}

// PutEndpoint keeps an endpoint under a name; the same again changes nothing. The options are [IfVersion] and
// [IfNew].
func (m *Client) PutEndpoint(ctx context.Context, name string, e api.Endpoint, options ...CallOption) (api.EndpointStatus, error) {
	e.Name = ""
	return put[api.EndpointStatus](ctx, m, path("endpoints", name), e, options...)
}

// PatchEndpoint changes parts of an endpoint, by an RFC 7396 merge patch.
func (m *Client) PatchEndpoint(ctx context.Context, name string, change any, options ...CallOption) (api.EndpointStatus, error) {
	return patch[api.EndpointStatus](ctx, m, path("endpoints", name), change, options...)
}

// DeleteEndpoint deletes an endpoint. Messages that are under way to it give up.
func (m *Client) DeleteEndpoint(ctx context.Context, name string, options ...CallOption) error {
	return remove(ctx, m, path("endpoints", name), options...)
}

// PauseEndpoint has no messages sent to an endpoint.
func (m *Client) PauseEndpoint(ctx context.Context, name string) (api.EndpointStatus, error) {
	return post[api.EndpointStatus](ctx, m, path("endpoints", name, "pause"), nothing)
}

// ResumeEndpoint has messages sent to an endpoint again, of what ends from now on.
func (m *Client) ResumeEndpoint(ctx context.Context, name string) (api.EndpointStatus, error) {
	return post[api.EndpointStatus](ctx, m, path("endpoints", name, "resume"), nothing)
}

// TestEndpoint sends an endpoint a message that says that it is a test, and tells which job that is.
func (m *Client) TestEndpoint(ctx context.Context, name string) (api.Received, error) {
	return post[api.Received](ctx, m, path("endpoints", name, "test"), nothing)
}
