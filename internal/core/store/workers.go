package store

import (
	"context"
	"database/sql"
	"errors"

	"humblemule.example/api"
	"humblemule.example/job"
)

var sqlPutWorker = statement(`INSERT INTO workers (uid, name, host, pid, version, first_seen, last_seen) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?6)
			ON CONFLICT (uid) DO UPDATE SET last_seen = excluded.last_seen, name = excluded.name, host = excluded.host, pid = excluded.pid, version = excluded.version RETURNING id, wanted`)

// PutWorker writes who a worker is, and answers its number and what it was asked
// to do.
func (s *Store) PutWorker(w *api.Worker, now job.Time) (id int64, wanted api.Want, err error) {
	if err := s.begin(); err != nil {
		return 0, "", err
	}
	err = s.queryRow(sqlPutWorker, w.ID, w.Name, w.Host, w.PID, w.Version, int64(now)).Scan(&id, &wanted)
	return id, wanted, err
}

var (
	sqlLatestVersion = statement(`SELECT version FROM workers WHERE name = ? AND version <> '' ORDER BY first_seen DESC, id DESC LIMIT 1`)
	sqlKnownVersion  = statement(`SELECT id FROM workers WHERE version = ? ORDER BY first_seen LIMIT 1`)
)

// Deploys tells whether a worker that is not known yet brings another version of its program
// than the last worker of its name or, where it has a new name, one that no worker has had.
func (s *Store) Deploys(w *api.Worker) (bool, error) {
	var last string
	err := s.queryRow(sqlLatestVersion, w.Name).Scan(&last)
	if err == nil {
		return last != w.Version, nil
	}
	if !errors.Is(err, sql.ErrNoRows) {
		return false, err
	}
	known, err := s.number(sqlKnownVersion, w.Version)
	return known == 0, err
}

var sqlKnownWorker = statement(`SELECT id, host, version, wanted FROM workers WHERE uid = ?`)

// KnownWorker reads the row of a worker by its own id: its number, 0 where there is none, what
// it runs, and what it was asked to do.
func (s *Store) KnownWorker(uid string) (number int64, host, version string, wanted api.Want, err error) {
	err = s.queryRow(sqlKnownWorker, uid).Scan(&number, &host, &version, &wanted)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return number, host, version, wanted, err
}

var sqlPutWanted = statement(`UPDATE workers SET wanted = ? WHERE id = ?`)

// PutWanted writes what a worker is asked to do.
func (s *Store) PutWanted(worker int64, wanted api.Want) error {
	return s.exec(sqlPutWanted, string(wanted), worker)
}

// WantedOf reads what a worker was asked to do; empty for nothing.
func (s *Store) WantedOf(uid string) (want api.Want, err error) {
	err = s.conn.QueryRowContext(background, "SELECT wanted FROM workers WHERE uid = ?", uid).Scan(&want)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return want, err
}

// Workers reads who the workers of some numbers are.
func (s *Store) Workers(ctx context.Context, numbers []int64) (map[int64]api.Worker, error) {
	all := make(map[int64]api.Worker, len(numbers))
	err := s.eachOf(ctx, "SELECT id, uid, name, host, pid, version FROM workers WHERE id IN (?)", numbers, func(r *sql.Rows) error {
		var n int64
		var w api.Worker
		err := r.Scan(&n, &w.ID, &w.Name, &w.Host, &w.PID, &w.Version)
		all[n] = w
		return err
	})
	return all, err
}

// WorkerByNumber reads who a worker is; the zero value where there is none.
func (s *Store) WorkerByNumber(n int64) (w api.Worker, err error) {
	err = s.conn.QueryRowContext(background, "SELECT uid, name, host, pid, version FROM workers WHERE id = ?", n).Scan(&w.ID, &w.Name, &w.Host, &w.PID, &w.Version)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return w, err
}

// OldWorker is the row of a worker that was not seen for long.
type OldWorker struct {
	Number int64
	UID    string
}

var sqlWorkersBefore = statement(`SELECT id, uid FROM workers WHERE last_seen < ? ORDER BY last_seen LIMIT ?`)

// WorkersBefore reads workers that were last seen before a time, the longest away first.
func (s *Store) WorkersBefore(at job.Time, limit int) (all []OldWorker, err error) {
	found, err := s.query(sqlWorkersBefore, int64(at), limit)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	for found.Next() {
		var w OldWorker
		if err := found.Scan(&w.Number, &w.UID); err != nil {
			return nil, err
		}
		all = append(all, w)
	}
	return all, found.Err()
}

var sqlSawWorker = statement(`UPDATE workers SET last_seen = ? WHERE id = ?`)

// SawWorker writes when a worker was last seen.
func (s *Store) SawWorker(number int64, at job.Time) error {
	return s.exec(sqlSawWorker, int64(at), number)
}

var sqlDropWorker = statement(`DELETE FROM workers WHERE id = ?`)

// DropWorker removes who a worker was. Attempts that it made no longer tell its name.
func (s *Store) DropWorker(number int64) error { return s.exec(sqlDropWorker, number) }
