package store

import (
	"database/sql"

	"humblemule.example/job"
)

// Count is a kept count.
type Count struct {
	Queue, Task int64
	State       job.State
	N           int64
}

// Counts reads every kept count.
func (s *Store) Counts() (all []Count, err error) {
	err = each(s, "SELECT queue, task, state, n FROM counts", func(r *sql.Rows) error {
		var c Count
		defer func() { all = append(all, c) }()
		return r.Scan(&c.Queue, &c.Task, &c.State, &c.N)
	})
	return all, err
}

var sqlPutCount = statement(`INSERT INTO counts (queue, task, state, n) VALUES (?, ?, ?, ?) ON CONFLICT (queue, task, state) DO UPDATE SET n = excluded.n`)

// PutCount writes a kept count.
func (s *Store) PutCount(queue, task int64, state job.State, n int64) error {
	return s.exec(sqlPutCount, queue, task, int64(state), n)
}

// PastCounts reads how many jobs were removed after they had been kept long enough.
func (s *Store) PastCounts() (all []Count, err error) {
	err = each(s, "SELECT queue, task, state, n FROM past_counts", func(r *sql.Rows) error {
		var c Count
		err := r.Scan(&c.Queue, &c.Task, &c.State, &c.N)
		all = append(all, c)
		return err
	})
	return all, err
}

var sqlCountPast = statement(`INSERT INTO past_counts (queue, task, state, n) VALUES (?, ?, ?, ?) ON CONFLICT (queue, task, state) DO UPDATE SET n = n + excluded.n`)

// CountPast adds to the number of jobs that were removed after they had been kept long
// enough.
func (s *Store) CountPast(queue, task int64, state job.State, n int64) error {
	return s.exec(sqlCountPast, queue, task, int64(state), n)
}

// PastOfTask reads how many jobs of a task are gone, by queue and state.
func (s *Store) PastOfTask(task int64) (all []Count, err error) {
	past, err := s.PastCounts()
	for _, c := range past {
		if c.Task == task {
			all = append(all, c)
		}
	}
	return all, err
}
