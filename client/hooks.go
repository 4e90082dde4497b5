package client

import (
	"context"
	"iter"
	"net/http"

	"humblemule.example/api"
)

// Hooks reads all hooks by name, each with what was delivered to it.
func (m *Client) Hooks(ctx context.Context) ([]api.HookStatus, error) {
	a, err := get[struct{ Hooks []api.HookStatus }](ctx, m, "/v1/hooks", nil)
	return a.Hooks, err
}

// Hook reads one hook.
func (m *Client) Hook(ctx context.Context, name string) (api.HookStatus, error) {
	return get[api.HookStatus](ctx, m, path("hooks", name), nil)
}

// PutHook keeps a hook under a name; the same again changes nothing. The options are [IfVersion] and
// [IfNew].
func (m *Client) PutHook(ctx context.Context, name string, h api.Hook, options ...CallOption) (api.HookStatus, error) {
	h.Name = ""
	return put[api.HookStatus](ctx, m, path("hooks", name), h, options...)
}

// PatchHook changes parts of a hook, by an RFC 7396 merge patch.
func (m *Client) PatchHook(ctx context.Context, name string, change any, options ...CallOption) (api.HookStatus, error) {
	return patch[api.HookStatus](ctx, m, path("hooks", name), change, options...)
}

// DeleteHook deletes a hook. Its jobs stay.
func (m *Client) DeleteHook(ctx context.Context, name string, options ...CallOption) error {
	return remove(ctx, m, path("hooks", name), options...)
}

// TestHook has the service sign a body as the sender of a hook would, and deliver it. Headers are those that
// the hook keeps; the media type is the body's, application/json where it is empty.
func (m *Client) TestHook(ctx context.Context, name string, body []byte, mediaType string, headers http.Header) (told api.Received, err error) {
	if mediaType == "" {
		mediaType = "application/json"
	}
	return told, m.do(ctx, request{method: http.MethodPost, path: path("hooks", name, "test"), body: body, media: mediaType, headers: headers}, &told)
}

// ListDeliveries reads a page of the deliveries that a hook has taken, the latest first.
func (m *Client) ListDeliveries(ctx context.Context, name string, p api.Part) ([]api.Delivery, string, error) {
	a, err := get[struct {
		Deliveries []api.Delivery `json:"deliveries"`
		NextCursor string         `json:"next_cursor"`
	}](ctx, m, path("hooks", name, "deliveries"), partOf(p))
	return a.Deliveries, a.NextCursor, err
}

// Deliveries reads the deliveries that a hook has taken, the latest first.
func (m *Client) Deliveries(ctx context.Context, name string) iter.Seq2[api.Delivery, error] {
	return everyPage(ctx, func(ctx context.Context, p api.Part) ([]api.Delivery, string, error) {
		return m.ListDeliveries(ctx, name, p)
	})
}

// SendAgain makes another job of a delivery, as the hook is set now.
func (m *Client) SendAgain(ctx context.Context, name string, delivery int64) (api.Received, error) {
	return post[api.Received](ctx, m, path("hooks", name, "deliveries", number(delivery), "again"), nothing)
}
