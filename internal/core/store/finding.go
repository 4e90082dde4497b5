package store

import (
	"context"
	"encoding/json"
	"hash/fnv"
	"maps"
	"slices"

	"humblemule.example/job"
)

// Owners, labels and times are found by what stands here: each costs the same however many jobs
// there are.

var (
	sqlCountOwner = statement(`INSERT INTO owner_counts (owner, state, n) VALUES (?, ?, ?) ON CONFLICT (owner, state) DO UPDATE SET n = n + excluded.n`)
	sqlDropOwner  = statement(`DELETE FROM owner_counts WHERE owner = ? AND state = ? AND n = 0`)
)

// CountOwner adds n, which may be negative, to the count of an owner's jobs in a state.
func (s *Store) CountOwner(owner string, state job.State, n int64) error {
	err := s.exec(sqlCountOwner, owner, int64(state), n)
	if err == nil && n < 0 {
		err = s.exec(sqlDropOwner, owner, int64(state))
	}
	return err
}

// OwnerCounts reads how many jobs an owner has in each state.
func (s *Store) OwnerCounts(ctx context.Context, owner string) (map[job.State]int64, error) {
	r, err := s.ask(ctx, "SELECT state, n FROM owner_counts WHERE owner = ?", owner)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	all := map[job.State]int64{}
	for r.Next() {
		var state, n int64
		if err := r.Scan(&state, &n); err != nil {
			return nil, err
		}
		all[job.State(state)] = n
	}
	return all, r.Err()
}

// IDsOfOwner reads ids of an owner's jobs beyond after.
func (s *Store) IDsOfOwner(ctx context.Context, owner string, after int64, newest bool, limit int) ([]int64, error) {
	cmp, dir := beyond(newest)
	return ids(s.ask(ctx, "SELECT id FROM jobs {by jobs_owner} WHERE owner = ? AND owner <> '' AND removed_by = 0 AND id "+cmp+" ? ORDER BY id "+dir+" LIMIT ?", owner, after, limit))
}

// WorkersCalled reads the numbers of workers whose id, or whose name, is a text.
func (s *Store) WorkersCalled(ctx context.Context, text string, limit int) ([]int64, error) {
	return ids(s.ask(ctx, "SELECT id FROM workers WHERE uid = ?1 UNION SELECT id FROM workers {by workers_called} WHERE name = ?1 AND name <> '' ORDER BY 1 DESC LIMIT ?2", text, limit))
}

// IDsOfWorker reads ids of jobs beyond after whose latest attempt a worker runs or has run.
func (s *Store) IDsOfWorker(ctx context.Context, number, after int64, newest bool, limit int) ([]int64, error) {
	cmp, dir := beyond(newest)
	return ids(s.ask(ctx, "SELECT id FROM jobs {by jobs_worker} WHERE worker = ? AND worker <> 0 AND removed_by = 0 AND id "+cmp+" ? ORDER BY id "+dir+" LIMIT ?", number, after, limit))
}

// LabelHash is what stands for a label (FNV-1a, 63 bits of it).
func LabelHash(name, value string) int64 {
	sum := fnv.New64a()
	sum.Write([]byte(name))
	sum.Write([]byte{0})
	sum.Write([]byte(value))
	return int64(sum.Sum64() >> 1)
}

// IDsWithLabel reads ids of jobs beyond after that have, or had, a label; of each the caller has
// to look whether it has.
func (s *Store) IDsWithLabel(ctx context.Context, name, value string, after int64, newest bool, limit int) ([]int64, error) {
	cmp, dir := beyond(newest)
	return ids(s.ask(ctx, "SELECT job FROM labelled WHERE label = ? AND job "+cmp+" ? ORDER BY job "+dir+" LIMIT ?", LabelHash(name, value), after, limit))
}

var (
	sqlPutLabelled  = statement(`INSERT INTO labelled (label, job) VALUES (?, ?) ON CONFLICT (label, job) DO NOTHING`)
	sqlDropLabelled = statement(`DELETE FROM labelled WHERE label = ? AND job = ?`)
	sqlLabelsOf     = statement(`SELECT job, labels FROM specs WHERE labels <> '' AND job` + among)
)

// label notes the labels of a job, in place of those that it had.
func (s *Store) label(id int64, before, after string) error {
	if before == after {
		return nil
	}
	had, has := labelsIn(before), labelsIn(after)
	for _, name := range slices.Sorted(maps.Keys(had)) {
		if value, still := has[name]; still && value == had[name] {
			continue
		}
		if err := s.exec(sqlDropLabelled, LabelHash(name, had[name]), id); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(has)) {
		if value, already := had[name]; already && value == has[name] {
			continue
		}
		if err := s.exec(sqlPutLabelled, LabelHash(name, has[name]), id); err != nil {
			return err
		}
	}
	return nil
}

func labelsIn(text string) (labels map[string]string) {
	if text != "" {
		json.Unmarshal([]byte(text), &labels) // as they were written
	}
	return labels
}

// relabel notes that the labels of a job become others.
func (s *Store) relabel(id int64, labels string) error {
	before, err := s.labelsOf(id)
	if err != nil {
		return err
	}
	return s.label(id, before[id], labels)
}

// labelsOf reads the labels of at most [AtOnce] jobs that have any.
func (s *Store) labelsOf(ids ...int64) (map[int64]string, error) {
	found, err := s.query(sqlLabelsOf, padded(ids)...)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	all := map[int64]string{}
	for found.Next() {
		var id int64
		var labels string
		if err := found.Scan(&id, &labels); err != nil {
			return nil, err
		}
		all[id] = labels
	}
	return all, found.Err()
}

// Issued are the ids that were given within a minute.
type Issued struct{ Minute, First, Last int64 }

var sqlPutIssued = statement(`INSERT INTO issued (minute, first, last) VALUES (?, ?, ?) ON CONFLICT (minute) DO UPDATE SET first = min(first, excluded.first), last = max(last, excluded.last)`)

// PutIssued adds ids to those of a minute.
func (s *Store) PutIssued(i Issued) error { return s.exec(sqlPutIssued, i.Minute, i.First, i.Last) }

var sqlDropIssued = statement(`DELETE FROM issued WHERE minute < ?`)

// DropIssued forgets the minutes before one.
func (s *Store) DropIssued(before int64) error { return s.exec(sqlDropIssued, before) }

var (
	sqlLastIssued = statement(`SELECT last FROM issued WHERE minute < 1000000000000 ORDER BY minute DESC LIMIT 1`)
	sqlNextAfter  = statement(`SELECT id, enqueued_at FROM jobs WHERE id > ? ORDER BY id LIMIT 1`)
	sqlLastJob    = statement(`SELECT id, enqueued_at FROM jobs WHERE id > ? ORDER BY id DESC LIMIT 1`)
)

// Unissued gives the ids after the last that are noted, under the minutes of their first and their
// last job: they were given in the minute in which the service ended.
func (s *Store) Unissued() (all []Issued, err error) {
	noted, err := s.number(sqlLastIssued)
	if err != nil {
		return nil, err
	}
	var first, last Issued
	for _, end := range []struct {
		of *sqlStatement
		at *Issued
	}{{sqlNextAfter, &first}, {sqlLastJob, &last}} {
		found, err := s.query(end.of, noted)
		if err != nil {
			return nil, err
		}
		for found.Next() {
			var at int64
			err = found.Scan(&end.at.First, &at)
			end.at.Minute = at / 60_000
		}
		if err := found.Close(); err != nil {
			return nil, err
		}
		if err != nil {
			return nil, err
		}
	}
	if first.First == 0 {
		return nil, nil
	}
	first.Last, last.Last, last.First = last.First, last.First, first.First
	return []Issued{first, last}, nil
}

// IssuedWithin gives the first and the last of the ids that were given from a minute on and before
// another, 0 where none were, and what is noted first.
func (s *Store) IssuedWithin(ctx context.Context, from, to int64) (within, earliest Issued, err error) {
	r, err := s.ask(ctx, `SELECT 0, coalesce(min(first), 0), coalesce(max(last), 0) FROM issued WHERE minute >= ? AND minute < ?
		UNION ALL SELECT * FROM (SELECT minute, first, last FROM issued ORDER BY minute LIMIT 1)`, from, to)
	if err != nil {
		return within, earliest, err
	}
	defer r.Close()
	for into := range slices.Values([]*Issued{&within, &earliest}) {
		if r.Next() {
			if err := r.Scan(&into.Minute, &into.First, &into.Last); err != nil {
				return within, earliest, err
			}
		}
	}
	return within, earliest, r.Err()
}
