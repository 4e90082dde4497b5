package store

import (
	"cmp"
	"database/sql"
	"errors"
	"slices"
	"strings"

	"humblemule/job"
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

// Turn is an owner's turn among those of its queue, task and level. It is active while
// the owner has ready jobs there.
type Turn struct {
	Level  int
	Owner  string
	Tag    int64
	Active bool
}

// Head is an owner's turn with its first ready jobs; More tells that others follow.
type Head struct {
	Turn
	Rows []*Row
	More bool
}

// NextTurns reads the first turns of a queue and task, each with the first job of its
// owner: by level, tag and owner.
func (s *Store) NextTurns(queue, task int64, limit int) ([]*Head, error) {
	found, err := s.st.nextTurns.QueryContext(background, queue, task, limit)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	var all []*Head
	for found.Next() {
		r := new(Row)
		h := &Head{Turn: Turn{Active: true}, Rows: []*Row{r}}
		if err := r.scan(headScanner{found, h}); err != nil {
			return nil, err
		}
		h.Level, h.Owner = r.Level, r.Owner
		all = append(all, h)
	}
	if err := found.Err(); err != nil {
		return nil, err
	}
	slices.SortFunc(all, func(a, b *Head) int {
		return cmp.Or(b.Level-a.Level, cmp.Compare(a.Tag, b.Tag), strings.Compare(a.Owner, b.Owner))
	})
	return all, nil
}

// headScanner reads a turn's tag and whether more follow, and then a row.
type headScanner struct {
	*sql.Rows
	h *Head
}

// Scan is told with [headScanner].
func (s headScanner) Scan(row ...any) error {
	return s.Rows.Scan(append([]any{&s.h.Tag, &s.h.More}, row...)...)
}

// nextTurns finds, for each of the first turns, its first job, and whether there is a
// second.
var nextTurns = func() string {
	first := `(SELECT x.id FROM jobs x WHERE x.queue = t.queue AND x.task = t.task AND x.level = t.level AND x.owner = t.owner AND x.state = 3 AND x.turn = 1 AND x.removed_by = 0 ORDER BY x.rank, x.id LIMIT 1`
	names := strings.Split(rowColumns, ",")
	for i, name := range names {
		names[i] = "j." + strings.TrimSpace(name)
	}
	return `SELECT t.tag, ` + first + ` OFFSET 1) IS NOT NULL, ` + strings.Join(names, ", ") + `
		FROM (SELECT queue, task, level, owner, tag FROM turns WHERE queue = ? AND task = ? AND active = 1 ORDER BY level DESC, tag, owner LIMIT ?) t
		JOIN jobs j ON j.id = ` + first + `)`
}()

// TurnOf reads an owner's turn; nil where none is kept.
func (s *Store) TurnOf(queue, task int64, level int, owner string) (*Turn, error) {
	t := &Turn{Level: level, Owner: owner}
	err := s.st.turnOf.QueryRowContext(background, queue, task, level, owner).Scan(&t.Tag, &t.Active)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return t, err
}

// PutTurn writes an owner's turn.
func (s *Store) PutTurn(queue, task int64, t *Turn) error {
	return s.exec(s.st.putTurn, queue, task, t.Level, t.Owner, t.Tag, t.Active)
}

// DropTurns forgets idle owners whose tag was passed, some at a time.
func (s *Store) DropTurns(queue int64, level int, served int64, limit int) error {
	return s.exec(s.st.dropTurns, queue, level, served, limit)
}

// ForgetTurns forgets idle owners of a queue.
func (s *Store) ForgetTurns(queue int64) error { return s.exec(s.st.forgetTurns, queue) }

// FirstTag reads the lowest tag of owners with ready jobs in a queue, task and level.
func (s *Store) FirstTag(queue, task int64, level int) (tag int64, found bool, err error) {
	err = s.st.firstTag.QueryRowContext(background, queue, task, level).Scan(&tag)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return tag, err == nil, err
}

// IdleTag reads the highest tag of idle owners at a level of a queue; 0 where there are
// none.
func (s *Store) IdleTag(queue int64, level int) (tag int64, err error) {
	return s.number(s.st.idleTag, queue, level)
}

// HeadsOf reads the first ready jobs of the owner of a row in its queue, task and level,
// but the row itself.
func (s *Store) HeadsOf(r *Row, limit int) ([]*Row, error) {
	return rows(s.st.headsOf.QueryContext(background, r.Queue, r.Task, r.Level, r.Owner, r.ID, limit))
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

// PutOwned writes which settings come from a file, as JSON.
func (s *Store) PutOwned(owned string) error { return s.exec(s.st.putOwned, owned) }
