package client

import (
	"context"
	"io"

	"humblemule.example/api"
)

// Backups reads the backups of the service.
func (m *Client) Backups(ctx context.Context) (api.Backups, error) {
	return get[api.Backups](ctx, m, "/v1/backups", nil)
}

// Backup reads how a backup stands.
func (m *Client) Backup(ctx context.Context, name string) (api.Backup, error) {
	return get[api.Backup](ctx, m, path("backups", name), nil)
}

// MakeBackup begins a backup, which goes on by itself; see [Client.Backup].
func (m *Client) MakeBackup(ctx context.Context) (api.Backup, error) {
	return post[api.Backup](ctx, m, "/v1/backups", nothing)
}

// DeleteBackup deletes a backup, or stops one under way.
func (m *Client) DeleteBackup(ctx context.Context, name string) error {
	return remove(ctx, m, path("backups", name))
}

// BackupFile writes the file of a backup to w, and answers how many bytes that were. It takes a
// keeper's token. What was written is only whole where there is no error.
func (m *Client) BackupFile(ctx context.Context, name string, w io.Writer) (int64, error) {
	body, err := m.stream(ctx, path("backups", name, "file"))
	if err != nil {
		return 0, err
	}
	defer body.Close()
	return io.Copy(w, body)
}

// DataFile reads how large the service's data file is.
func (m *Client) DataFile(ctx context.Context) (api.DataFile, error) {
	return get[api.DataFile](ctx, m, "/v1/data", nil)
}

// Compact gives free parts of the data file back to the disk; see [Client.DataFile].
func (m *Client) Compact(ctx context.Context) (api.DataFile, error) {
	return post[api.DataFile](ctx, m, "/v1/data/compact", nothing)
}

// StopCompact stops that.
func (m *Client) StopCompact(ctx context.Context) (api.DataFile, error) {
	return post[api.DataFile](ctx, m, "/v1/data/compact/stop", nothing)
}
