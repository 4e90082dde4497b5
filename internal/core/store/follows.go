package store

import (
	"database/sql"

	"humblemule.example/job"
)

// Follow is a label that is followed. Jobs from First on are counted, and those before it up to
// Walked; First is 0 once all are.
type Follow struct {
	Name, Label, Value string
	MadeAt             job.Time
	MadeBy             string
	First, Walked      int64
}

// Follows reads the labels that are followed.
func (s *Store) Follows() (all []Follow, err error) {
	err = each(s, "SELECT name, label, value, made_at, made_by, first, walked FROM follows", func(r *sql.Rows) error {
		var f Follow
		err := r.Scan(&f.Name, &f.Label, &f.Value, &f.MadeAt, &f.MadeBy, &f.First, &f.Walked)
		all = append(all, f)
		return err
	})
	return all, err
}

// FollowCount is how many jobs in a state have a label that is followed.
type FollowCount struct {
	Name  string
	State job.State
	N     int64
}

// FollowCounts reads all of them.
func (s *Store) FollowCounts() (all []FollowCount, err error) {
	err = each(s, "SELECT name, state, n FROM follow_counts", func(r *sql.Rows) error {
		var c FollowCount
		var state int64
		err := r.Scan(&c.Name, &state, &c.N)
		c.State = job.State(state)
		all = append(all, c)
		return err
	})
	return all, err
}

var sqlPutFollow = statement(`INSERT INTO follows (name, label, value, made_at, made_by, first, walked) VALUES (?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET label = excluded.label, value = excluded.value, made_at = excluded.made_at, made_by = excluded.made_by, first = excluded.first, walked = excluded.walked`)

// PutFollow writes a label that is followed.
func (s *Store) PutFollow(f Follow) error {
	return s.exec(sqlPutFollow, f.Name, f.Label, f.Value, int64(f.MadeAt), f.MadeBy, f.First, f.Walked)
}

var (
	sqlDropFollow       = statement(`DELETE FROM follows WHERE name = ?`)
	sqlDropFollowCounts = statement(`DELETE FROM follow_counts WHERE name = ?`)
)

// DropFollow forgets a label that was followed, with its counts.
func (s *Store) DropFollow(name string) error {
	if err := s.exec(sqlDropFollow, name); err != nil {
		return err
	}
	return s.exec(sqlDropFollowCounts, name)
}

var sqlPutFollowCount = statement(`INSERT INTO follow_counts (name, state, n) VALUES (?, ?, ?) ON CONFLICT (name, state) DO UPDATE SET n = excluded.n`)

// PutFollowCount writes a count.
func (s *Store) PutFollowCount(c FollowCount) error {
	return s.exec(sqlPutFollowCount, c.Name, int64(c.State), c.N)
}

var sqlWalkLabel = statement(`SELECT job FROM labelled WHERE label = ? AND job > ? AND job < ? ORDER BY job LIMIT ?`)

// LabelledBetween reads ids of jobs after one and before another that have, or had, a label, in
// their order.
func (s *Store) LabelledBetween(name, value string, after, before int64, limit int) ([]int64, error) {
	return ids(s.query(sqlWalkLabel, LabelHash(name, value), after, before, limit))
}
