package store

import (
	"database/sql"

	"humblemule.example/job"
)

// SilentHost is one that gave no answer to calls: since when, why, at how many tries in a row, and when the
// next is made; 0 where it has answered, and not all jobs that were held for it are free to go.
type SilentHost struct {
	Host    int64
	Name    string
	Since   job.Time
	Failed  int
	ProbeAt job.Time
	Why     string
}

// SilentHosts reads all of them.
func (s *Store) SilentHosts() (all []SilentHost, err error) {
	err = each(s, "SELECT host, name, since, failed, probe_at, why FROM silent_hosts", func(r *sql.Rows) error {
		var h SilentHost
		err := r.Scan(&h.Host, &h.Name, &h.Since, &h.Failed, &h.ProbeAt, &h.Why)
		all = append(all, h)
		return err
	})
	return all, err
}

var sqlPutSilentHost = statement(`INSERT INTO silent_hosts (host, name, since, failed, probe_at, why) VALUES (?, ?, ?, ?, ?, ?)
			ON CONFLICT (host) DO UPDATE SET failed = excluded.failed, probe_at = excluded.probe_at, why = excluded.why`)

// PutSilentHost writes one.
func (s *Store) PutSilentHost(h *SilentHost) error {
	return s.exec(sqlPutSilentHost, h.Host, h.Name, int64(h.Since), h.Failed, int64(h.ProbeAt), h.Why)
}

var sqlDropSilentHost = statement(`DELETE FROM silent_hosts WHERE host = ?`)

// DropSilentHost forgets one.
func (s *Store) DropSilentHost(host int64) error { return s.exec(sqlDropSilentHost, host) }

var (
	sqlHeldCalls  = statement(`SELECT ` + rowColumns + ` FROM ` + rowsBy("jobs_calling") + ` WHERE host = ? AND host <> 0 AND state = {held} AND state IN ({held}, {ready}) AND removed_by = 0 AND id > ? ORDER BY id LIMIT ?`)
	sqlReadyCalls = statement(`SELECT ` + rowColumns + ` FROM ` + rowsBy("jobs_calling") + ` WHERE host = ? AND host <> 0 AND state = {ready} AND state IN ({held}, {ready}) AND removed_by = 0 ORDER BY id LIMIT ?`)
)

// HeldCalls reads jobs that call a host and are held, for whatever, beyond an id.
func (s *Store) HeldCalls(host, after int64, limit int) ([]*Row, error) {
	return rows(s.query(sqlHeldCalls, host, after, limit))
}

// ReadyCalls reads jobs that call a host and are ready.
func (s *Store) ReadyCalls(host int64, limit int) ([]*Row, error) {
	return rows(s.query(sqlReadyCalls, host, limit))
}
