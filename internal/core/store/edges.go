package store

import (
	"context"
	"database/sql"
	"errors"
	"slices"

	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/job"
)

// Awaited tells who waits for a job, a bit each.
type Awaited uint8

// Who may wait for a job.
const (
	// AwaitedByJobs: others wait for it, or did; AwaitedByLast: the last job of its batch does.
	AwaitedByJobs Awaited = 1 << iota
	AwaitedByLast
)

// tied tells whether a row has to do with other jobs.
func (r *Row) tied() bool {
	return r.Unmet != 0 || r.Awaited != 0 || r.After != 0 || r.Batch != 0 || r.Host != 0
}

// Edge is that one job waits for another.
type Edge struct {
	Job, Needs int64
	// State is one of the three states; over tells that Job is finished.
	State EdgeState
	Wants lifecycle.Wants
	// Gone is when what it leads to was deleted unmet; 0 where it was not.
	Gone job.Time
}

// EdgeState is how an edge stands. In the file [edgeOver] is added once the job that waits is finished.
type EdgeState uint8

// How an edge may stand.
const (
	EdgeUnmet EdgeState = iota
	EdgeMet
	EdgeDropped
	// EdgeGone: what is waited for was deleted, and will never be met.
	EdgeGone
)

const edgeOver = 4

// edgeWords are the states as they are told.
var edgeWords = [...]job.EdgeState{job.EdgeUnmet, job.EdgeMet, job.EdgeDropped, job.EdgeUnmet}

// Word is the state as it is told.
func (s EdgeState) Word() job.EdgeState { return edgeWords[s] }

var sqlInsertEdges = inserts("edges (job, needs, stands, wants)", 4)

// InsertEdge writes that a new job waits for another.
func (s *Store) InsertEdge(e Edge) {
	s.late.edges.add(e.Job, e.Needs, int64(e.State), int64(e.Wants))
}

var sqlAwait = statement(`UPDATE jobs SET awaited = awaited | ? WHERE id = ?`)

// Await writes that a job is waited for.
func (s *Store) Await(id int64, by Awaited) error { return s.exec(sqlAwait, int64(by), id) }

var sqlUnawait = statement(`UPDATE jobs SET awaited = awaited & ~? WHERE id = ?`)

// Unawait writes that a job is no longer waited for.
func (s *Store) Unawait(id int64, by Awaited) error { return s.exec(sqlUnawait, int64(by), id) }

// edgeColumns are those of an edge as its job reads it.
const edgeColumns = "job, needs, stands & 3, wants, gone"

var sqlUnmetOf = statement(`SELECT ` + edgeColumns + ` FROM edges {by edges_needs} WHERE needs = ? AND stands = ? AND wants = ? AND job <= ? ORDER BY job LIMIT ?`)

// UnmetOf reads edges to a job that are unmet and want something, of jobs up to one: of those that are
// over, which are finished or removed, or of the others.
func (s *Store) UnmetOf(needs int64, wants lifecycle.Wants, over bool, upTo int64, limit int) ([]Edge, error) {
	state := int64(EdgeUnmet)
	if over {
		state += edgeOver
	}
	return edges(s.query(sqlUnmetOf, needs, state, int64(wants), upTo, limit))
}

// The order is that of the index: those of jobs that are not over come first.
var sqlAllUnmetOf = statement(`SELECT ` + edgeColumns + ` FROM edges {by edges_needs} WHERE needs = ? AND stands IN (0, 4) AND job <= ? LIMIT ?`)

// AllUnmetOf is [Store.UnmetOf] whatever they want, of jobs that are over and of others.
func (s *Store) AllUnmetOf(needs, upTo int64, limit int) ([]Edge, error) {
	return edges(s.query(sqlAllUnmetOf, needs, upTo, limit))
}

func edges(r *sql.Rows, err error) (all []Edge, _ error) {
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for r.Next() {
		var e Edge
		if err := r.Scan(&e.Job, &e.Needs, &e.State, &e.Wants, &e.Gone); err != nil {
			return nil, err
		}
		all = append(all, e)
	}
	return all, r.Err()
}

var sqlEdgesOf = statement(`SELECT ` + edgeColumns + ` FROM edges WHERE job = ? ORDER BY needs`)

// EdgesOf reads what a job waits for.
func (s *Store) EdgesOf(id int64) ([]Edge, error) { return edges(s.query(sqlEdgesOf, id)) }

var sqlMeet = statement(`UPDATE edges SET stands = stands + ? WHERE job = ? AND needs = ? AND stands & 3 = 0`)

// Turn writes that an unmet edge is met, or dropped.
func (s *Store) Turn(e Edge, to EdgeState) error { return s.exec(sqlMeet, int64(to), e.Job, e.Needs) }

var sqlDropEdge = statement(`UPDATE edges SET stands = (stands & 4) + 2, gone = 0 WHERE job = ? AND needs = ?`)

// DropEdge writes that a job goes on without one that it waited for.
func (s *Store) DropEdge(e Edge) error { return s.exec(sqlDropEdge, e.Job, e.Needs) }

var sqlEdgesOver = statement(`UPDATE edges SET stands = stands + 4 WHERE job = ? AND stands < 4`)

// EdgesOver writes that a job is finished which waits for others, or has, and EdgesOpen that it is not
// any more.
func (s *Store) EdgesOver(id int64) error { return s.exec(sqlEdgesOver, id) }

var sqlEdgesOpen = statement(`UPDATE edges SET stands = stands - 4 WHERE job = ? AND stands >= 4`)

// EdgesOpen goes with [Store.EdgesOver].
func (s *Store) EdgesOpen(id int64) error { return s.exec(sqlEdgesOpen, id) }

var sqlSetUnmet = statement(`UPDATE jobs SET unmet = unmet + ? WHERE id = ?`)

// AddUnmet writes of a job, removed or not, that it waits for more others, or fewer.
func (s *Store) AddUnmet(id, n int64) error { return s.exec(sqlSetUnmet, n, id) }

var sqlEdgeGone = statement(`UPDATE edges SET stands = stands + 3, gone = ? WHERE job = ? AND needs = ? AND stands & 3 = 0`)

// LoseEdge writes that what a job waits for was deleted unmet, and when.
func (s *Store) LoseEdge(e Edge, at job.Time) error {
	return s.exec(sqlEdgeGone, int64(at), e.Job, e.Needs)
}

var sqlIsAwaited = statement(`SELECT 1 FROM edges {by edges_needs} WHERE needs = ? AND stands < 4 LIMIT 1`)

// IsAwaited tells whether a job that is not finished waits for one, or has waited.
func (s *Store) IsAwaited(id int64) (bool, error) {
	n, err := s.number(sqlIsAwaited, id)
	return n != 0, err
}

var sqlNextNeeded = statement(`SELECT needs FROM edges {by edges_needs} WHERE needs > ? ORDER BY needs LIMIT 1`)

// NextNeeded gives the next id after one of a job that others wait for, or did; 0 for none.
func (s *Store) NextNeeded(after int64) (int64, error) { return s.number(sqlNextNeeded, after) }

var sqlGoneBefore = statement(`SELECT ` + edgeColumns + ` FROM edges {by edges_gone} WHERE gone > 0 AND gone <= ? AND gone <> 0 AND stands < 4 ORDER BY gone, job LIMIT ?`)

// GoneBefore reads edges to jobs that were deleted unmet before a time.
func (s *Store) GoneBefore(at job.Time, limit int) ([]Edge, error) {
	return edges(s.query(sqlGoneBefore, int64(at), limit))
}

var sqlSweepEdges = statement(`DELETE FROM edges WHERE job` + among)

// Ending is a job that has ended, of which not all that wait for it have been told; or a batch that
// has, whose jobs are not all free to go. UpTo is the last job that can have waited or, of a batch,
// the last one that was looked at.
type Ending struct {
	ID, Of int64
	How    lifecycle.How
	UpTo   int64
}

var sqlPutEnding = statement(`INSERT INTO endings (id, of, how, upto) VALUES (?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET upto = excluded.upto`)

// PutEnding writes one.
func (s *Store) PutEnding(e Ending) error {
	return s.exec(sqlPutEnding, e.ID, e.Of, int64(e.How), e.UpTo)
}

var sqlDropEnding = statement(`DELETE FROM endings WHERE id = ?`)

// DropEnding deletes one that is over.
func (s *Store) DropEnding(id int64) error { return s.exec(sqlDropEnding, id) }

// Endings reads all of them, in their order.
func (s *Store) Endings() (all []Ending, err error) {
	err = each(s, "SELECT id, of, how, upto FROM endings ORDER BY id", func(r *sql.Rows) error {
		var e Ending
		err := r.Scan(&e.ID, &e.Of, &e.How, &e.UpTo)
		all = append(all, e)
		return err
	})
	return all, err
}

// ReadEdges reads what a job waits for, unmet edges first, and how many there are of each state.
func (s *Store) ReadEdges(ctx context.Context, id int64, limit int) (all []Edge, counts [4]int64, err error) {
	return s.readEdges(ctx, "job = ? ", "stands & 3, needs", id, limit)
}

// ReadAwaiting reads what waits for a job, unmet edges first, and how many there are of each state.
func (s *Store) ReadAwaiting(ctx context.Context, id int64, limit int) (all []Edge, counts [4]int64, err error) {
	return s.readEdges(ctx, "needs = ?", "stands, wants, job", id, limit)
}

func (s *Store) readEdges(ctx context.Context, of, order string, id int64, limit int) (all []Edge, counts [4]int64, err error) {
	r, err := s.ask(ctx, "SELECT stands & 3, count(*) FROM edges WHERE "+of+" GROUP BY 1", id)
	if err != nil {
		return nil, counts, err
	}
	for r.Next() && err == nil {
		var state EdgeState
		var n int64
		if err = r.Scan(&state, &n); err == nil {
			counts[state] = n
		}
	}
	if err := errors.Join(err, r.Err(), r.Close()); err != nil {
		return nil, counts, err
	}
	all, err = edges(s.ask(ctx, "SELECT "+edgeColumns+" FROM edges WHERE "+of+" ORDER BY "+order+" LIMIT ?", id, limit))
	return all, counts, err
}

// AwaitingOf reads ids of unfinished jobs that wait for some others, so many at most; some may be there more
// than once.
func (s *Store) AwaitingOf(ctx context.Context, needs []int64, limit int) (all []int64, err error) {
	for some := range slices.Chunk(needs, AtOnce) {
		found, err := ids(s.ask(ctx, "SELECT job FROM edges {by edges_needs} WHERE needs"+among+" AND stands = 0 LIMIT ?", append(padded(some), limit-len(all))...))
		if all = append(all, found...); err != nil || len(all) >= limit {
			return all, err
		}
	}
	return all, nil
}

var sqlInputsOf = statement(`SELECT e.needs, coalesce(m.ref, ''), coalesce(n.state, 0), coalesce(n.reason, '') FROM edges e LEFT JOIN jobs n ON n.id = e.needs AND n.removed_by = 0 LEFT JOIN specs m ON m.job = n.id WHERE e.job = ? ORDER BY e.needs`)

// InputsOf reads what has become of the jobs that one waits for, or has waited for, in the order of their
// ids; of those that are not kept the id alone.
func (s *Store) InputsOf(id int64) (all []job.Input, err error) {
	r, err := s.query(sqlInputsOf, id)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for r.Next() {
		var in job.Input
		if err := r.Scan(&in.Job, &in.Ref, &in.State, &in.Reason); err != nil {
			return nil, err
		}
		all = append(all, in)
	}
	return all, r.Err()
}

var sqlResultsFor = statement(`SELECT e.needs, b.bytes FROM edges e CROSS JOIN jobs n ON n.id = e.needs LEFT JOIN bodies b ON b.job = e.needs AND b.kind = {result} AND b.n = 0 WHERE e.job = ? AND n.state = {done} AND n.removed_by = 0 ORDER BY e.needs`)

// ResultsFor reads the results of the done jobs that one has waited for, nil for those that have none, in
// the order of their ids until they are more bytes than there is room for.
func (s *Store) ResultsFor(id int64, room int) (map[int64][]byte, error) {
	r, err := s.query(sqlResultsFor, id)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	all := map[int64][]byte{}
	for room >= 0 && r.Next() {
		var of int64
		var result []byte
		if err := r.Scan(&of, &result); err != nil {
			return nil, err
		}
		all[of] = result
		room -= len(result)
	}
	return all, r.Err()
}
