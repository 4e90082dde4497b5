package store

import (
	"database/sql"
	"errors"

	"humblemule.example/job"
)

// Task is a task's row.
type Task struct {
	ID             int64
	Name, Settings string
	Version        int64
	IdleSince      job.Time
	MadeBy         string
}

// Tasks reads every task.
func (s *Store) Tasks() (all []Task, err error) {
	err = each(s, "SELECT id, name, settings, version, idle_since, made_by FROM tasks", func(r *sql.Rows) error {
		var t Task
		err := r.Scan(&t.ID, &t.Name, &t.Settings, &t.Version, &t.IdleSince, &t.MadeBy)
		all = append(all, t)
		return err
	})
	return all, err
}

var sqlAddTask = statement(`INSERT INTO tasks (id, name, created_at, made_by) VALUES (?, ?, ?, ?)`)

// AddTask writes a new task's name.
func (s *Store) AddTask(id int64, name, by string, now job.Time) error {
	return s.exec(sqlAddTask, id, name, int64(now), by)
}

var sqlSetTask = statement(`UPDATE tasks SET settings = ?, version = version + 1 WHERE id = ?`)

// SetTask goes with [Store.SetQueue].
func (s *Store) SetTask(id int64, settings string) error { return s.exec(sqlSetTask, settings, id) }

var sqlIdleTask = statement(`UPDATE tasks SET idle_since = ? WHERE id = ?`)

// PutIdleTask goes with [Store.PutIdleQueue].
func (s *Store) PutIdleTask(id int64, since job.Time) error {
	return s.exec(sqlIdleTask, int64(since), id)
}

var sqlDropTask = statement(`DELETE FROM tasks WHERE id = ?`)

var sqlDropTaskCounts = statement(`DELETE FROM counts WHERE queue = ? AND task = ?`)

var sqlDropTaskPast = statement(`DELETE FROM past_counts WHERE queue = ? AND task = ?`)

var sqlDropTaskTurns = statement(`DELETE FROM turns WHERE queue = ? AND task = ?`)

var sqlDropTaskKeys = statement(`DELETE FROM keys WHERE task = ?`)

// DropTask removes a task without jobs, with what is counted of those it had in queues.
func (s *Store) DropTask(id int64, queues []int64) error {
	err := errors.Join(s.exec(sqlDropTask, id), s.exec(sqlDropTaskKeys, id))
	for _, q := range queues {
		err = errors.Join(err, s.exec(sqlDropTaskCounts, q, id), s.exec(sqlDropTaskPast, q, id), s.exec(sqlDropTaskTurns, q, id))
	}
	return err
}
