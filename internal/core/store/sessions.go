package store

import (
	"database/sql"

	"humblemule.example/job"
)

// Session is somebody who has shown a token once, and shows a secret from then on. Only the
// secret's hash is kept.
type Session struct {
	ID int64
	// Hash is that of the secret, and Token that of the token by which it was begun.
	Hash, Token string
	// Principal is the token's name.
	Principal              string
	MadeAt, SeenAt, EndsAt job.Time
	// Address is where it was begun from, and Agent what the browser called itself.
	Address, Agent string
}

// Sessions reads all of them.
func (s *Store) Sessions() (all []Session, err error) {
	err = each(s, "SELECT id, hash, token, principal, made_at, seen_at, ends_at, address, agent FROM sessions", func(r *sql.Rows) error {
		var o Session
		err := r.Scan(&o.ID, &o.Hash, &o.Token, &o.Principal, &o.MadeAt, &o.SeenAt, &o.EndsAt, &o.Address, &o.Agent)
		all = append(all, o)
		return err
	})
	return all, err
}

var sqlPutSession = statement(`INSERT INTO sessions (id, hash, token, principal, made_at, seen_at, ends_at, address, agent) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (id) DO UPDATE SET seen_at = excluded.seen_at`)

// PutSession writes one; of one that is there, when it was seen last.
func (s *Store) PutSession(o *Session) error {
	return s.exec(sqlPutSession, o.ID, o.Hash, o.Token, o.Principal, int64(o.MadeAt), int64(o.SeenAt), int64(o.EndsAt), o.Address, o.Agent)
}

var sqlDropSession = statement(`DELETE FROM sessions WHERE id = ?`)

// DropSession ends one.
func (s *Store) DropSession(id int64) error { return s.exec(sqlDropSession, id) }
