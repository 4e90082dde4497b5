package client

import (
	"context"
	"io"
	"net/http"
	"net/url"

	"humblemule.example/api"
)

// ExportPart says which part of an export is asked for.
type ExportPart struct {
	// Filter says which jobs are meant, as [Query] writes it; nil for all.
	Filter url.Values
	// After is the id beyond which an export goes on that was cut off, and Through the highest id that
	// it has, as its head tells. 0 means from the beginning, and up to now.
	After, Through int64
	// JobsOnly leaves the set-up out.
	JobsOnly bool
}

// ExportAll opens an export, a JSON value a line; see [api.ExportLine]. It takes a keeper's token.
// Without its last line, which has the member end, it is not whole.
func (m *Client) ExportAll(ctx context.Context, p ExportPart) (io.ReadCloser, error) {
	q := url.Values{}
	for name, values := range p.Filter {
		q[name] = values
	}
	if p.After != 0 {
		q.Set("after", number(p.After))
	}
	if p.Through != 0 {
		q.Set("through", number(p.Through))
	}
	if p.JobsOnly {
		q.Set("setup", "false")
	}
	return m.stream(ctx, "/v1/export?"+q.Encode())
}

// Imports lists the stores of which jobs were imported.
func (m *Client) Imports(ctx context.Context) (api.Imports, error) {
	return get[api.Imports](ctx, m, "/v1/imports", nil)
}

// BeginImport begins the import of an export, or goes on with it. It takes a keeper's token, as
// [Client.ImportLines] does.
func (m *Client) BeginImport(ctx context.Context, req api.ImportRequest) (api.Import, error) {
	return post[api.Import](ctx, m, "/v1/imports", req)
}

// ImportLines takes in lines of an export of a store. What is there already is not taken in again, so
// that a call may be made any number of times. A dry run only checks.
func (m *Client) ImportLines(ctx context.Context, store string, ndjson []byte, dry bool) (told api.Imported, err error) {
	r := request{method: http.MethodPost, path: path("imports", store, "lines"), body: ndjson, media: "application/x-ndjson"}
	if dry {
		r.query = url.Values{"dry_run": {"true"}}
	}
	return told, m.do(ctx, r, &told)
}

// ImportedAs tells which job one of another store has become here.
func (m *Client) ImportedAs(ctx context.Context, store string, id int64) (api.ImportedAs, error) {
	return get[api.ImportedAs](ctx, m, path("imports", store, "jobs", number(id)), nil)
}
