package client

import (
	"context"

	"humblemule.example/api"
)

// SessionStatus reads who the caller is.
func (m *Client) SessionStatus(ctx context.Context) (api.SessionStatus, error) {
	return get[api.SessionStatus](ctx, m, "/v1/session", nil)
}

// Sessions reads who is signed in to the console, the latest first: the caller alone, or everybody
// where the caller may do everything.
func (m *Client) Sessions(ctx context.Context) ([]api.Session, error) {
	a, err := get[struct{ Sessions []api.Session }](ctx, m, "/v1/sessions", nil)
	return a.Sessions, err
}

// EndSession ends a session; one that is not there has ended.
func (m *Client) EndSession(ctx context.Context, id int64) error {
	return remove(ctx, m, path("sessions", number(id)))
}

// Tokens reads which tokens the service takes, and when each was used last.
func (m *Client) Tokens(ctx context.Context) ([]api.TokenStatus, error) {
	a, err := get[struct{ Tokens []api.TokenStatus }](ctx, m, "/v1/tokens", nil)
	return a.Tokens, err
}
