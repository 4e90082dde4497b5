package store

import (
	"context"
	"database/sql"
	"errors"

	"humblemule.example/job"
)

var sqlLaneHolder = statement(`SELECT job FROM lanes WHERE queue = ? AND lane = ?`)

// ReadLaneHolder is [Store.LaneHolder] outside of the transaction.
func (s *Store) ReadLaneHolder(ctx context.Context, queue int64, lane string) (id int64, err error) {
	err = s.askOne(ctx, "SELECT job FROM lanes WHERE queue = ? AND lane = ?", queue, lane).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return id, err
}

// LaneHolder answers which job has a lane; 0 where it is free.
func (s *Store) LaneHolder(queue int64, lane string) (id int64, err error) {
	return s.number(sqlLaneHolder, queue, lane)
}

var sqlTakeLane = statement(`INSERT INTO lanes (queue, lane, job) VALUES (?, ?, ?) ON CONFLICT (queue, lane) DO UPDATE SET job = excluded.job`)

// TakeLane gives a lane to a job, and FreeLane to nobody.
func (s *Store) TakeLane(queue int64, lane string, id int64) error {
	return s.exec(sqlTakeLane, queue, lane, id)
}

var sqlFreeLane = statement(`DELETE FROM lanes WHERE queue = ? AND lane = ?`)

// FreeLane goes with [Store.TakeLane].
func (s *Store) FreeLane(queue int64, lane string) error { return s.exec(sqlFreeLane, queue, lane) }

var sqlNextInLane = statement(`SELECT ` + rowColumns + ` FROM ` + rowsFrom + ` WHERE queue = ? AND lane = ? AND lane <> '' AND state = {held} AND removed_by = 0 AND rank > 0 ORDER BY rank, id LIMIT 1`)

// NextInLane reads the first job that waits for a lane; nil where none does.
func (s *Store) NextInLane(queue int64, lane string) (*Row, error) {
	found, err := rows(s.query(sqlNextInLane, queue, lane))
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return found[0], nil
}

// LaneOf reads which job has a row's lane, 0 for none, and how many wait for it that go
// before the row, to at most most.
func (s *Store) LaneOf(ctx context.Context, r *Row, most int) (holder int64, ahead int, err error) {
	err = s.askOne(ctx, `SELECT coalesce((SELECT job FROM lanes WHERE queue = ?1 AND lane = ?2), 0),
		(SELECT count(*) FROM (SELECT 1 FROM jobs WHERE queue = ?1 AND lane = ?2 AND lane <> '' AND state = {held} AND removed_by = 0 AND rank > 0 AND (rank, id) < (?3, ?4) LIMIT ?5))`,
		r.Queue, r.Lane, r.Rank, r.ID, most).Scan(&holder, &ahead)
	return holder, ahead, err
}

// LanesHold tells whether jobs of a queue wait for their lanes, as far as its first thousand jobs in lanes
// show that do not run: others wait for other jobs.
func (s *Store) LanesHold(ctx context.Context, queue int64) (hold bool, err error) {
	err = s.askOne(ctx, "SELECT EXISTS (SELECT 1 FROM (SELECT rank FROM jobs {by jobs_lane} WHERE queue = ? AND lane <> '' AND state = {held} AND removed_by = 0 LIMIT 1000) WHERE rank > 0)", queue).Scan(&hold)
	return hold, err
}

// Lane is a lane that a job has, of a task and in a state.
type Lane struct {
	Name      string
	Job, Task int64
	State     job.State
	Waiting   int64
}

// Lanes reads the lanes of a queue that a job has, by name from after on, with how many jobs
// wait for each, counted to a number.
func (s *Store) Lanes(ctx context.Context, queue int64, after string, limit, counted int) (all []Lane, err error) {
	r, err := s.ask(ctx, `SELECT lanes.lane, job, task, state, (SELECT count(*) FROM (SELECT 1 FROM jobs WHERE queue = lanes.queue AND lane = lanes.lane AND lane <> '' AND state = {held} AND removed_by = 0 AND rank > 0 LIMIT ?))
		FROM lanes JOIN jobs ON jobs.id = lanes.job WHERE lanes.queue = ? AND lanes.lane > ? ORDER BY lanes.lane LIMIT ?`, counted, queue, after, limit)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for r.Next() {
		var l Lane
		if err := r.Scan(&l.Name, &l.Job, &l.Task, &l.State, &l.Waiting); err != nil {
			return nil, err
		}
		all = append(all, l)
	}
	return all, r.Err()
}
