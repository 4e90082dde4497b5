package store

import "context"

// Policy is a stored policy.
type Policy struct {
	ID   int64
	Body string
}

var sqlAddPolicy = statement(`INSERT INTO policies (body) VALUES (?) ON CONFLICT (body) DO UPDATE SET body = body RETURNING id`)

// AddPolicy finds or writes a policy and answers its id.
func (s *Store) AddPolicy(body string) (id int64, err error) {
	return s.execID(sqlAddPolicy, body)
}

// PolicyBody reads a policy.
func (s *Store) PolicyBody(ctx context.Context, id int64) (body string, err error) {
	err = s.askOne(ctx, "SELECT body FROM policies WHERE id = ?", id).Scan(&body)
	return body, err
}

var sqlLastPolicy = statement(`SELECT id FROM policies WHERE id > 0 ORDER BY id DESC LIMIT 1`)

// LastPolicy is the highest number of a policy; 0 where there is none.
func (s *Store) LastPolicy() (int64, error) { return s.number(sqlLastPolicy) }

var sqlPoliciesOf = statement(`SELECT policy, job FROM specs WHERE job > ? ORDER BY job LIMIT ?`)

// PoliciesOf reads the policies of the next jobs after one, removed ones too, and the last
// of those jobs; 0 where there are none.
func (s *Store) PoliciesOf(after int64, limit int) (used []int64, last int64, err error) {
	found, err := s.query(sqlPoliciesOf, after, limit)
	if err != nil {
		return nil, 0, err
	}
	defer found.Close()
	for found.Next() {
		var policy int64
		if err := found.Scan(&policy, &last); err != nil {
			return nil, 0, err
		}
		used = append(used, policy)
	}
	return used, last, found.Err()
}

var sqlPolicyIDs = statement(`SELECT id FROM policies WHERE id <= ?`)

// PolicyIDs reads the numbers of all policies up to one.
func (s *Store) PolicyIDs(upTo int64) ([]int64, error) {
	return ids(s.query(sqlPolicyIDs, upTo))
}

var sqlDropPolicy = statement(`DELETE FROM policies WHERE id = ?`)

// DropPolicy removes a policy that no job has.
func (s *Store) DropPolicy(id int64) error { return s.exec(sqlDropPolicy, id) }
