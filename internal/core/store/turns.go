package store

import (
	"cmp"
	"database/sql"
	"errors"
	"slices"
	"strings"
)

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

var sqlNextTurns = statement(nextTurns)

// NextTurns reads the first turns of a queue and task, each with the first job of its
// owner: by level, tag and owner.
func (s *Store) NextTurns(queue, task int64, limit int) ([]*Head, error) {
	found, err := s.query(sqlNextTurns, queue, task, limit)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	var all []*Head
	v := newValues(rowWidth + 2)
	for found.Next() {
		if err := v.scan(found); err != nil {
			return nil, err
		}
		r := v.row()
		all = append(all, &Head{Turn: Turn{Level: r.Level, Owner: r.Owner, Tag: v.int64(), Active: true}, More: v.int64() != 0, Rows: []*Row{r}})
	}
	if err := found.Err(); err != nil {
		return nil, err
	}
	slices.SortFunc(all, func(a, b *Head) int {
		return cmp.Or(b.Level-a.Level, cmp.Compare(a.Tag, b.Tag), strings.Compare(a.Owner, b.Owner))
	})
	return all, nil
}

// nextTurns finds, for each of the first turns, its first job, and whether there is a
// second.
var nextTurns = func() string {
	first := `(SELECT x.id FROM jobs x WHERE x.queue = t.queue AND x.task = t.task AND x.level = t.level AND x.owner = t.owner AND x.state = {ready} AND x.turn = 1 AND x.removed_by = 0 ORDER BY x.rank, x.id LIMIT 1`
	names := strings.Split(rowColumns, ",")
	for i, name := range names {
		if name = strings.TrimSpace(name); slices.Contains([]string{"queue", "task", "level", "owner"}, name) {
			name = "j." + name
		}
		names[i] = name
	}
	return `SELECT ` + strings.Join(names, ", ") + `, t.tag, ` + first + ` OFFSET 1) IS NOT NULL
		FROM (SELECT queue, task, level, owner, tag FROM turns WHERE queue = ? AND task = ? AND active = 1 ORDER BY level DESC, tag, owner LIMIT ?) t
		JOIN jobs j ON j.id = ` + first + `) JOIN specs ON job = j.id`
}()

var sqlTurnOf = statement(`SELECT tag, active FROM turns WHERE queue = ? AND task = ? AND level = ? AND owner = ?`)

// TurnOf reads an owner's turn; nil where none is kept.
func (s *Store) TurnOf(queue, task int64, level int, owner string) (*Turn, error) {
	t := &Turn{Level: level, Owner: owner}
	err := s.queryRow(sqlTurnOf, queue, task, level, owner).Scan(&t.Tag, &t.Active)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return t, err
}

var sqlPutTurn = statement(`INSERT INTO turns (queue, task, level, owner, tag, active) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (queue, task, level, owner) DO UPDATE SET tag = excluded.tag, active = excluded.active`)

// PutTurn writes an owner's turn.
func (s *Store) PutTurn(queue, task int64, t *Turn) error {
	return s.exec(sqlPutTurn, queue, task, t.Level, t.Owner, t.Tag, t.Active)
}

var sqlDropTurns = statement(`DELETE FROM turns WHERE (queue, task, level, owner) IN (SELECT queue, task, level, owner FROM turns WHERE active = 0 AND queue = ? AND level = ? AND tag <= ? ORDER BY tag LIMIT ?)`)

// DropTurns forgets idle owners whose tag was passed, some at a time.
func (s *Store) DropTurns(queue int64, level int, served int64, limit int) error {
	return s.exec(sqlDropTurns, queue, level, served, limit)
}

var sqlForgetTurns = statement(`DELETE FROM turns WHERE active = 0 AND queue = ?`)

// ForgetTurns forgets idle owners of a queue.
func (s *Store) ForgetTurns(queue int64) error { return s.exec(sqlForgetTurns, queue) }

var sqlFirstTag = statement(`SELECT tag FROM turns WHERE queue = ? AND task = ? AND level = ? AND active = 1 ORDER BY tag LIMIT 1`)

// FirstTag reads the lowest tag of owners with ready jobs in a queue, task and level.
func (s *Store) FirstTag(queue, task int64, level int) (tag int64, found bool, err error) {
	err = s.queryRow(sqlFirstTag, queue, task, level).Scan(&tag)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return tag, err == nil, err
}

var sqlIdleTag = statement(`SELECT tag FROM turns WHERE active = 0 AND queue = ? AND level = ? ORDER BY tag DESC LIMIT 1`)

// IdleTag reads the highest tag of idle owners at a level of a queue; 0 where there are
// none.
func (s *Store) IdleTag(queue int64, level int) (tag int64, err error) {
	return s.number(sqlIdleTag, queue, level)
}
