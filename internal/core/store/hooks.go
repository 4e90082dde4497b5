package store

import (
	"context"
	"database/sql"
	"errors"

	"humblemule.example/job"
)

// Hook is the row of a hook; Body is what was set, and Counts what was delivered, both as JSON.
type Hook struct {
	Name, Body string
	Version    int64
	MadeAt     job.Time
	Counts     string
}

// Hooks reads all hooks.
func (s *Store) Hooks() (all []Hook, err error) {
	err = each(s, "SELECT name, body, version, made_at, counts FROM hooks", func(r *sql.Rows) error {
		var h Hook
		err := r.Scan(&h.Name, &h.Body, &h.Version, &h.MadeAt, &h.Counts)
		all = append(all, h)
		return err
	})
	return all, err
}

var sqlPutHook = statement(`INSERT INTO hooks (name, body, version, made_at, counts) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET body = excluded.body, version = excluded.version`)

// PutHook writes a hook; of one that is there, what was set.
func (s *Store) PutHook(h *Hook) error {
	return s.exec(sqlPutHook, h.Name, h.Body, h.Version, int64(h.MadeAt), h.Counts)
}

var sqlPutHookCounts = statement(`UPDATE hooks SET counts = ? WHERE name = ?`)

// PutHookCounts writes what was delivered to a hook.
func (s *Store) PutHookCounts(name, counts string) error {
	return s.exec(sqlPutHookCounts, counts, name)
}

var sqlDropHook = statement(`DELETE FROM hooks WHERE name = ?`)

// DropHook removes a hook. Its deliveries stay known.
func (s *Store) DropHook(name string) error { return s.exec(sqlDropHook, name) }

// Delivery is one that a hook has taken. Mark is a hash of the hook's name and the delivery's id, nil
// where it has none, and Body one of the body.
type Delivery struct {
	ID               int64
	Hook             string
	At               job.Time
	Job              int64
	Sender           string
	Mark, Body       []byte
	Times, Differing int64
	LastAt           job.Time
	// State is that of the job, where it was asked for and is kept.
	State job.State
}

const deliveryColumns = "id, hook, at, job, sender, mark, body, times, differing, last_at"

func scanDelivery(r interface{ Scan(...any) error }) (d Delivery, err error) {
	err = r.Scan(&d.ID, &d.Hook, &d.At, &d.Job, &d.Sender, &d.Mark, &d.Body, &d.Times, &d.Differing, &d.LastAt)
	return d, err
}

// AddDelivery writes a delivery that was taken, with others of the transaction.
func (s *Store) AddDelivery(d *Delivery) {
	var mark any // NULL for none
	if d.Mark != nil {
		if mark = d.Mark; s.late.delivered == nil {
			s.late.delivered = map[string]bool{}
		}
		s.late.delivered[string(d.Mark)] = true
	}
	s.late.deliveries.add(d.Hook, int64(d.At), d.Job, d.Sender, mark, d.Body, int64(d.At))
}

var sqlDeliveryBy = statement(`SELECT ` + deliveryColumns + ` FROM deliveries WHERE mark = ? AND mark IS NOT NULL`)

// DeliveryBy finds a delivery by its mark; nil where there is none.
func (s *Store) DeliveryBy(mark []byte) (*Delivery, error) {
	if s.late.delivered[string(mark)] {
		if err := s.WriteLate(); err != nil {
			return nil, err
		}
	}
	d, err := scanDelivery(s.queryRow(sqlDeliveryBy, mark))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &d, err
}

var sqlRepeatDelivery = statement(`UPDATE deliveries SET times = times + 1, differing = differing + ?, last_at = ? WHERE id = ?`)

// RepeatDelivery notes that a delivery came again, with its body or another one.
func (s *Store) RepeatDelivery(id int64, differs bool, at job.Time) error {
	differing := 0
	if differs {
		differing = 1
	}
	return s.exec(sqlRepeatDelivery, differing, int64(at), id)
}

var sqlForgetDelivery = statement(`UPDATE deliveries SET mark = NULL WHERE id = ?`)

// ForgetDelivery has a delivery no longer known by its id.
func (s *Store) ForgetDelivery(id int64) error { return s.exec(sqlForgetDelivery, id) }

var (
	sqlOldDeliveries  = statement(`SELECT id, at FROM deliveries WHERE id > 0 ORDER BY id LIMIT ?`)
	sqlDropDeliveries = statement(`DELETE FROM deliveries WHERE id <= ?`)
)

// DropDeliveries removes deliveries that were taken before a time, and tells how many.
func (s *Store) DropDeliveries(before job.Time, limit int) (n int, err error) {
	n, last, err := oldest(s, sqlOldDeliveries, before, limit)
	if err != nil || n == 0 {
		return 0, err
	}
	return n, s.exec(sqlDropDeliveries, last)
}

// Deliveries reads those of a hook before one, 0 for all, the latest first, with the states of their jobs.
func (s *Store) Deliveries(ctx context.Context, hook string, before int64, limit int) (all []Delivery, err error) {
	if before == 0 {
		before = 1 << 62
	}
	r, err := s.ask(ctx, `SELECT d.id, d.at, d.job, d.sender, d.times, d.differing, d.last_at, coalesce(j.state, 0)
		FROM deliveries d LEFT JOIN jobs j ON j.id = d.job AND j.removed_by = 0 WHERE d.hook = ? AND d.id < ? ORDER BY d.id DESC LIMIT ?`, hook, before, limit)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for r.Next() {
		d := Delivery{Hook: hook}
		if err := r.Scan(&d.ID, &d.At, &d.Job, &d.Sender, &d.Times, &d.Differing, &d.LastAt, &d.State); err != nil {
			return nil, err
		}
		all = append(all, d)
	}
	return all, r.Err()
}

// DeliveryOf reads one of a hook; nil where there is none.
func (s *Store) DeliveryOf(ctx context.Context, hook string, id int64) (*Delivery, error) {
	d, err := scanDelivery(s.askOne(ctx, "SELECT "+deliveryColumns+" FROM deliveries WHERE id = ? AND hook = ?", id, hook))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &d, err
}
