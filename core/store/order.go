package store

import (
	"database/sql"
	"errors"

	"humblemule/core/job"
)

// LaneHolder answers which job has a lane; 0 where it is free.
func (s *Store) LaneHolder(queue int64, lane string) (id int64, err error) {
	return s.number(s.st.laneHolder, queue, lane)
}

func (s *Store) number(stmt *sql.Stmt, args ...any) (n int64, err error) {
	err = stmt.QueryRowContext(background, args...).Scan(&n)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return n, err
}

// TakeLane gives a lane to a job, and FreeLane to nobody.
func (s *Store) TakeLane(queue int64, lane string, id int64) error {
	return s.exec(s.st.takeLane, queue, lane, id)
}

// FreeLane is told with [Store.TakeLane].
func (s *Store) FreeLane(queue int64, lane string) error { return s.exec(s.st.freeLane, queue, lane) }

// NextInLane reads the first job that waits for a lane; nil where none does.
func (s *Store) NextInLane(queue int64, lane string) (*Row, error) {
	found, err := rows(s.st.nextInLane.QueryContext(background, queue, lane))
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return found[0], nil
}

// TooLate reads jobs that have not been started by a time they had to be.
func (s *Store) TooLate(now job.Time, limit int) ([]*Row, error) {
	return rows(s.st.tooLate.QueryContext(background, int64(now), limit))
}

// NextTooLate reads the earliest time by which a job must be started; 0 where there is
// none.
func (s *Store) NextTooLate() (job.Time, error) { return s.oneTime(s.st.nextTooLate) }

// Turn is an owner's turn among those of its queue, task and level.
type Turn struct {
	Level int
	Owner string
	Tag   int64
	N     int64 // its ready jobs
}

// NextTurn reads whose turn it is in a queue and task; nil where no job waits.
func (s *Store) NextTurn(queue, task int64) (*Turn, error) {
	t := new(Turn)
	err := s.st.nextTurn.QueryRowContext(background, queue, task).Scan(&t.Level, &t.Owner, &t.Tag, &t.N)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return t, err
}

// TurnOf reads an owner's turn; nil where none is kept.
func (s *Store) TurnOf(queue, task int64, level int, owner string) (*Turn, error) {
	t := &Turn{Level: level, Owner: owner}
	err := s.st.turnOf.QueryRowContext(background, queue, task, level, owner).Scan(&t.Tag, &t.N)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return t, err
}

// PutTurn writes an owner's turn.
func (s *Store) PutTurn(queue, task int64, t *Turn) error {
	return s.exec(s.st.putTurn, queue, task, t.Level, t.Owner, t.Tag, t.N)
}

// DropTurns forgets idle owners whose tag was passed, a few at a time.
func (s *Store) DropTurns(queue int64, level int, served int64) error {
	const most = 4
	return s.exec(s.st.dropTurns, queue, level, served, most)
}

// ForgetTurns forgets idle owners of a queue.
func (s *Store) ForgetTurns(queue int64) error { return s.exec(s.st.forgetTurns, queue) }

// ServedTurn answers the tag that was served last at a level of a queue, as far as the
// turns that are kept tell it.
func (s *Store) ServedTurn(queue int64, level int) (tag int64, err error) {
	return s.number(s.st.servedTurn, queue, level)
}

// HeadsOf reads the first ready jobs of an owner in a queue, task and level.
func (s *Store) HeadsOf(queue, task int64, level int, owner string, limit int) ([]*Row, error) {
	return rows(s.st.headsOf.QueryContext(background, queue, task, level, owner, limit))
}

// Waiting reads jobs of a queue, task and state beyond an id, in the order of their ids.
func (s *Store) Waiting(queue, task int64, state job.State, after int64, limit int) ([]*Row, error) {
	return rows(s.st.waiting.QueryContext(background, queue, task, int64(state), after, limit))
}

// PutPlace writes a waiting job's place.
func (s *Store) PutPlace(r *Row) error { return s.exec(s.st.putPlace, r.Level, r.Rank, r.Turn, r.ID) }

// PutWalked writes how far the walk has come that gives a queue's jobs new places; -1
// where there is none.
func (s *Store) PutWalked(queue, id int64) error { return s.exec(s.st.putWalked, id, queue) }
