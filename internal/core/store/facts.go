package store

import "humblemule.example/job"

// Facts are what the engine loads when it starts.
type Facts struct {
	StoreID string
	NextJob int64
	// Owned tells which settings come from a file, as JSON; empty where none do.
	Owned string
	// Served is how long the file had been served, in ms, as far as it tells.
	Served int64
	// RestoredAt is when the file was restored from a backup; 0 where it was not.
	RestoredAt job.Time
}

// Facts reads the file's own facts.
func (s *Store) Facts() (f Facts, err error) {
	err = s.conn.QueryRowContext(background, `SELECT (SELECT value FROM facts WHERE name = 'store'), (SELECT CAST(value AS INTEGER) FROM facts WHERE name = 'next_job'),
		coalesce((SELECT value FROM facts WHERE name = 'owned'), ''), coalesce((SELECT CAST(value AS INTEGER) FROM facts WHERE name = 'restored_at'), 0),
		max(coalesce((SELECT CAST(value AS INTEGER) FROM facts WHERE name = 'served'), 0), coalesce((SELECT served FROM receipts ORDER BY id DESC LIMIT 1), 0),
			coalesce((SELECT removed_at FROM jobs WHERE removed_by <> 0 AND removed_at < 4000000000000000000 ORDER BY removed_at DESC, id DESC LIMIT 1), 0))`).Scan(&f.StoreID, &f.NextJob, &f.Owned, &f.RestoredAt, &f.Served)
	return f, err
}

var sqlPutFact = statement(`UPDATE facts SET value = ? WHERE name = ?`)

// PutNextJob writes the next id of a job.
func (s *Store) PutNextJob(next int64) error {
	if err := s.raiseMark(next); err != nil {
		return err
	}
	return s.exec(sqlPutFact, next, "next_job")
}

var sqlSetFact = statement(`INSERT INTO facts (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`)

// PutServed writes how long the file has been served, in ms.
func (s *Store) PutServed(ms int64) error { return s.exec(sqlSetFact, "served", ms) }

var sqlPutOwned = statement(`INSERT INTO facts (name, value) VALUES ('owned', ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`)

// PutOwned writes which settings come from a file, as JSON.
func (s *Store) PutOwned(owned string) error { return s.exec(sqlPutOwned, owned) }

// Probe commits a little that was never written before, to find out whether the disk
// takes writes.
func (s *Store) Probe(mark int64) error {
	if err := s.exec(sqlSetFact, "probed", mark); err != nil {
		return err
	}
	return s.Commit()
}
