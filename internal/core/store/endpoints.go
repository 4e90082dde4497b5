package store

import (
	"database/sql"

	"humblemule.example/job"
)

// Endpoint is the row of an endpoint; Body is what was set, as JSON.
type Endpoint struct {
	Name, Body          string
	Version             int64
	MadeAt, PausedAt    job.Time
	PausedBy, PausedWhy string
	// Delivered, Failed and Missed count messages; FailingSince is since when none was taken, and LastAt when one
	// was taken last.
	Delivered, Failed, Missed int64
	FailingSince, LastAt      job.Time
}

const endpointColumns = "name, body, version, made_at, paused_at, paused_by, paused_why, delivered, failed, missed, failing_since, last_at"

// Endpoints reads all endpoints.
func (s *Store) Endpoints() (all []Endpoint, err error) {
	err = each(s, "SELECT "+endpointColumns+" FROM endpoints", func(r *sql.Rows) error {
		var e Endpoint
		err := r.Scan(&e.Name, &e.Body, &e.Version, &e.MadeAt, &e.PausedAt, &e.PausedBy, &e.PausedWhy, &e.Delivered, &e.Failed, &e.Missed, &e.FailingSince, &e.LastAt)
		all = append(all, e)
		return err
	})
	return all, err
}

var sqlPutEndpoint = statement(`INSERT INTO endpoints (` + endpointColumns + `) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)
			ON CONFLICT (name) DO UPDATE SET body = ?2, version = ?3, paused_at = ?5, paused_by = ?6, paused_why = ?7, delivered = ?8, failed = ?9, missed = ?10, failing_since = ?11, last_at = ?12`)

// PutEndpoint writes an endpoint, new or not.
func (s *Store) PutEndpoint(e *Endpoint) error {
	return s.exec(sqlPutEndpoint, e.Name, e.Body, e.Version, int64(e.MadeAt), int64(e.PausedAt), e.PausedBy, e.PausedWhy, e.Delivered, e.Failed, e.Missed, int64(e.FailingSince), int64(e.LastAt))
}

var sqlDropEndpoint = statement(`DELETE FROM endpoints WHERE name = ?`)

// DropEndpoint removes an endpoint.
func (s *Store) DropEndpoint(name string) error { return s.exec(sqlDropEndpoint, name) }

var sqlLastFailure = statement(`SELECT error_type, error_message FROM attempts WHERE job = ? ORDER BY n DESC LIMIT 1`)

// LastFailure reads how the latest attempt of a job has failed, inside the transaction; empty where it has not.
func (s *Store) LastFailure(id int64) (f job.Failure, err error) {
	err = s.queryRow(sqlLastFailure, id).Scan(&f.Type, &f.Message)
	if err == sql.ErrNoRows {
		err = nil
	}
	return f, err
}
