package store

import "database/sql"

// Alert is the row of an alert; Body is what is told of it, as JSON.
type Alert struct {
	ID   int64
	Body string
}

// Alerts reads all alerts.
func (s *Store) Alerts() (all []Alert, err error) {
	err = each(s, "SELECT id, body FROM alerts ORDER BY id", func(r *sql.Rows) error {
		var a Alert
		err := r.Scan(&a.ID, &a.Body)
		all = append(all, a)
		return err
	})
	return all, err
}

var sqlPutAlert = statement(`INSERT INTO alerts (id, over_at, body) VALUES (?1, ?2, ?3) ON CONFLICT (id) DO UPDATE SET over_at = ?2, body = ?3`)

// PutAlert writes an alert, new or not.
func (s *Store) PutAlert(a *Alert, overAt int64) error {
	return s.exec(sqlPutAlert, a.ID, overAt, a.Body)
}

var sqlDropAlert = statement(`DELETE FROM alerts WHERE id = ?`)

// DropAlert removes an alert.
func (s *Store) DropAlert(id int64) error { return s.exec(sqlDropAlert, id) }
