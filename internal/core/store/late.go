package store

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"humblemule.example/job"
)

// Writes of the kinds that most jobs' lives are made of go out together: half of what a row
// costs by itself is the statement's. They wait until a statement is to see what they
// write, at the latest until the commit. Each is whole when it is put in here, so that what
// becomes of the caller's row does not matter.
//
// The order in which they go out is that of a job's life; a job that goes back to an earlier
// part of it does so by a statement that has these go out first.

// late are the writes that wait.
type late struct {
	plain                []plainJob
	members              []memberJob
	jobs, specs, results rowValues
	tiedJobs, tiedSpecs  rowValues
	edges                rowValues
	deliveries           rowValues
	delivered            map[string]bool // the marks of those
	counts               map[countOf]int64
	leases               []lateLease
	done                 []lateDone
	doneAt               job.Time
	removed              []lateID
	removal              removal
}

// removal is by which action jobs are removed, and how long the file was served then.
type removal struct{ action, served int64 }

type lateID int64

// rowValues are the values of rows that are inserted.
type rowValues struct{ values []any }

// plainJob is a new job with a short payload and nothing that few jobs have.
type plainJob struct {
	id, rank int64
	alike
	payload []byte
}

// alike is what the jobs of a bulk mostly have in common.
type alike struct{ queue, task, state, level, enqueuedAt, readyAt, policy, priority int64 }

// follows tells whether a job is the next after another in all that is numbered, and like it
// in all else: then only the payload is a value of its own, and every value costs a call
// into C.
func (p *plainJob) follows(o *plainJob) bool {
	return p.id == o.id+1 && p.rank == o.rank+1 && p.alike == o.alike
}

// memberJob is one that has to do with others, as a plain one in all else but its owner.
type memberJob struct {
	plainJob
	together
	unmet, awaited int64
	ref            string
}

// together is what jobs of a batch mostly have in common beside what all have.
type together struct {
	batch, after int64
	owner        string
}

// follows tells whether a job is the next after another and like it, in an order that goes on by a step:
// 1, or 0 where neither has a place in it.
func (p *memberJob) follows(o *memberJob, step int64) bool {
	return p.id == o.id+1 && p.rank == o.rank+step && (step != 0 || p.rank == 0) && p.alike == o.alike && p.together == o.together
}

// lease is what leases that go out together have in common.
type lease struct {
	ms int64
	at job.Time
}

type lateLease struct {
	lease
	id, token, worker int64
}

type lateDone struct{ id, runMS int64 }

func (l lateLease) job() int64 { return l.id }

func (d lateDone) job() int64 { return d.id }

func (id lateID) job() int64 { return int64(id) }

// LateError says which write failed that was to go out with others.
type LateError struct {
	// Job is the job whose lease could not be written; 0 where another write failed.
	Job int64
	error
}

// Unwrap gives the fault.
func (e *LateError) Unwrap() error { return e.error }

// execRows runs a statement that writes n rows.
func (s *Store) execRows(n int, q *sqlStatement, values ...any) error {
	s.checks.written += n - 1
	return s.execNow(q, values...)
}

// sizes are how many rows a statement writes at once: as many as there are, in these parts.
// For fewer than four a statement each is no slower.
var sizes = []int{AtOnce, 4, 1}

// AtOnce is how many rows one statement reads, writes or deletes at the most.
const AtOnce = 16

var among = marks(" IN (", "?", AtOnce) + ")"

// marks repeats the marks of a row.
func marks(head, row string, n int) string { return head + row + strings.Repeat(", "+row, n-1) }

// sized declares a statement for each size.
func sized(text func(n int) string) (all []*sqlStatement) {
	for _, n := range sizes {
		all = append(all, statement(text(n)))
	}
	return all
}

// inserts declares the statements that insert rows with so many columns.
func inserts(into string, columns int) []*sqlStatement {
	row := marks("(", "?", columns) + ")"
	return sized(func(n int) string { return marks("INSERT INTO "+into+" VALUES ", row, n) })
}

var (
	sqlInsertJobs      = inserts("jobs ("+jobColumns+")", 15)
	sqlInsertSpecs     = inserts("specs ("+specColumns+")", 9)
	sqlInsertTiedJobs  = inserts("jobs ("+jobColumns+", unmet, awaited, host)", 18)
	sqlInsertTiedSpecs = inserts("specs ("+specColumns+", batch, after, ref)", 12)
	sqlInsertAlike     = sized(func(n int) string {
		return numbered("INSERT INTO jobs (queue, task, state, level, enqueued_at, ready_at, id, rank) VALUES ", n, ", ", func(i int) string { return fmt.Sprintf("(?1, ?2, ?3, ?4, ?5, ?6, ?7 + %d, ?8 + %d)", i, i) })
	})
	sqlInsertAlikeSpecs = sized(func(n int) string {
		return numbered("INSERT INTO specs (policy, priority, job, payload_bytes, payload) VALUES ", n, ", ", func(i int) string {
			return fmt.Sprintf("(?1, ?2, ?3 + %d, coalesce(length(?%d), 0), ?%d)", i, i+4, i+4)
		})
	})
	sqlInsertMembers = sized(func(n int) string {
		return numbered("INSERT INTO jobs (queue, task, state, level, enqueued_at, ready_at, id, rank, owner, unmet, awaited) VALUES ", n, ", ", func(i int) string {
			return fmt.Sprintf("(?1, ?2, ?3, ?4, ?5, ?6, ?7 + %d, ?8 + %d * ?9, ?10, ?%d, ?%d)", i, i, 2*i+11, 2*i+12)
		})
	})
	sqlInsertMemberSpecs = sized(func(n int) string {
		return numbered("INSERT INTO specs (policy, priority, job, batch, after, payload_bytes, payload, ref) VALUES ", n, ", ", func(i int) string {
			return fmt.Sprintf("(?1, ?2, ?3 + %d, ?4, ?5, coalesce(length(?%d), 0), ?%d, ?%d)", i, 2*i+6, 2*i+6, 2*i+7)
		})
	})
	sqlInsertDeliveries = inserts("deliveries (hook, at, job, sender, mark, body, last_at)", 7)
	sqlInsertResults    = sized(func(n int) string {
		return marks("INSERT INTO bodies (job, kind, n, bytes) VALUES ", "(?, {result}, 0, ?)", n) + " ON CONFLICT (job, kind, n) DO UPDATE SET bytes = excluded.bytes"
	})
	// Of jobs whose ids lie close together, as those do that were enqueued together: a range is
	// walked without a table of the ids that are meant, which IN makes and throws away. They
	// are the bits of a parameter.
	sqlLeases = sized(func(n int) string {
		return leased + " token = " + chosenBy(n, 6, 7, 3) + ", worker = " + chosenBy(n, 6, 8, 3) + " WHERE id >= ?3 AND id <= ?4 AND (?5 >> (id - ?3)) & 1 = 1"
	})
	sqlDone = sized(func(n int) string {
		return ended + " run_ms = " + chosenBy(n, 5, 6, 2) + " WHERE id >= ?2 AND id <= ?3 AND (?4 >> (id - ?2)) & 1 = 1"
	})
)

var sqlRemove = statement(`UPDATE jobs SET removed_by = ?1, removed_at = ?2 WHERE id >= ?3 AND id <= ?4 AND (?5 >> (id - ?3)) & 1 = 1`)

const (
	leased = `UPDATE jobs SET state = {running}, attempt = attempt + 1, tries = tries + 1, started_at = CASE WHEN started_at = 0 THEN ?1 ELSE started_at END, leased_at = ?1, lease_ms = ?2,`
	ended  = `UPDATE jobs SET state = {done}, finished_at = ?1, next_at = 0, reason = '', reason_text = '', cause = 0,`
)

// chosenBy gives values by ids, which are parameters too.
func chosenBy(n, firstID, first, apart int) string {
	return numbered("CASE id ", n, " ", func(i int) string { return fmt.Sprintf("WHEN ?%d THEN ?%d", firstID+i*apart, first+i*apart) }) + " END"
}

// numbered is a part of a statement with something for each of n numbers.
func numbered(head string, n int, between string, one func(i int) string) string {
	all := make([]string, n)
	for i := range all {
		all[i] = one(i)
	}
	return head + strings.Join(all, between)
}

// lately are the tables that late writes change.
var lately = regexp.MustCompile(`\b(jobs|specs|bodies|edges|batch_counts)\b`)

// insert has a new job's row go out, with what was asked for.
func (l *late) insert(r *Row, inline []byte) {
	if r.plain() && r.Host == 0 && len(inline) == r.PayloadBytes {
		one := plainJob{r.ID, r.Rank, alike{r.Queue, r.Task, int64(r.State), int64(r.Level), int64(r.EnqueuedAt), int64(r.ReadyAt), r.Policy, int64(r.Priority)}, inline}
		switch {
		case r.tied():
			l.members = append(l.members, memberJob{one, together{r.Batch, int64(r.After), r.Owner}, r.Unmet, int64(r.Awaited), r.Ref})
			return
		case r.Owner == "":
			l.plain = append(l.plain, one)
			return
		}
	}
	if r.tied() {
		l.tiedJobs.add(append(jobValues(r), r.Unmet, int64(r.Awaited), r.Host)...)
		l.tiedSpecs.add(append(specValues(r, inline), r.Batch, int64(r.After), r.Ref)...)
		return
	}
	l.jobs.add(jobValues(r)...)
	l.specs.add(specValues(r, inline)...)
}

// What of a job's row is written when it is inserted, and of what was asked for; of most no more is.
const (
	jobColumns  = "id, queue, task, state, level, rank, enqueued_at, ready_at, next_at, start_by, schedule, turn, owner, lane, key"
	specColumns = "job, policy, priority, payload_bytes, payload, run_at, dedupe, labels, traceparent"
)

func jobValues(r *Row) []any {
	return []any{r.ID, r.Queue, r.Task, int64(r.State), int64(r.Level), r.Rank, int64(r.EnqueuedAt), int64(r.ReadyAt), int64(r.NextAt), int64(r.StartBy), r.Schedule, r.Turn, r.Owner, r.Lane, r.Key}
}

func specValues(r *Row, inline []byte) []any {
	return []any{r.ID, r.Policy, int64(r.Priority), int64(r.PayloadBytes), inline, int64(r.RunAt), r.Dedupe, r.Labels, r.Traceparent}
}

func (r *rowValues) add(values ...any) { r.values = append(r.values, values...) }

// WriteLate has everything go out that waits, as [Store.Commit] does first. An error is a
// [LateError].

func (s *Store) WriteLate() error {
	l := &s.late
	if l.none() {
		return nil
	}
	taken := *l
	*l = late{}
	if err := s.writePlain(taken.plain); err != nil {
		return &LateError{error: err}
	}
	if err := s.writeMembers(taken.members); err != nil {
		return &LateError{error: err}
	}
	for _, part := range []struct {
		rows    *rowValues
		by      []*sqlStatement
		columns int
	}{{&taken.jobs, sqlInsertJobs, 15}, {&taken.specs, sqlInsertSpecs, 9}, {&taken.tiedJobs, sqlInsertTiedJobs, 18}, {&taken.tiedSpecs, sqlInsertTiedSpecs, 12}, {&taken.edges, sqlInsertEdges, 4}, {&taken.results, sqlInsertResults, 2}, {&taken.deliveries, sqlInsertDeliveries, 7}} {
		if err := s.writeRows(part.rows.values, part.by, part.columns); err != nil {
			return &LateError{error: err}
		}
	}
	if err := s.writeCounts(taken.counts); err != nil {
		return &LateError{error: err}
	}
	if err := s.writeLeases(taken.leases); err != nil {
		return err
	}
	if err := s.writeDone(taken.done, taken.doneAt); err != nil {
		return &LateError{error: err}
	}
	if err := s.writeRemoved(taken.removed, taken.removal); err != nil {
		return &LateError{error: err}
	}
	return nil
}

func (l *late) none() bool {
	return len(l.plain)+len(l.members)+len(l.jobs.values)+len(l.tiedJobs.values)+len(l.edges.values)+len(l.deliveries.values)+len(l.counts)+len(l.results.values)+len(l.leases)+len(l.done)+len(l.removed) == 0
}

// countOf is the jobs of a batch in a state.
type countOf struct {
	batch int64
	state job.State
}

// count has a change of a count go out, with others of the same one.
func (l *late) count(of countOf, n int64) {
	if l.counts == nil {
		l.counts = map[countOf]int64{}
	}
	l.counts[of] += n
}

// writeCounts writes what has changed of counts; some nothing is added to make up one statement.
func (s *Store) writeCounts(all map[countOf]int64) error {
	const together = 4
	values := s.values[:0]
	for of, n := range all {
		values = append(values, of.batch, int64(of.state), n)
	}
	if n := len(all); n > 1 {
		for range (together - n%together) % together {
			values = append(values, values[0], values[1], int64(0))
		}
	}
	s.values = values
	return s.writeRows(values, sqlCountBatch, 3)
}

// parts cuts n rows into parts of the sizes, and tells for each its place and its size.
func parts(n int, do func(from, size, statement int) error) error {
	from := 0
	for i, size := range sizes {
		for ; n-from >= size; from += size {
			if err := do(from, size, i); err != nil {
				return err
			}
		}
	}
	return nil
}

// writePlain writes plain jobs, as many together as follow one another.
func (s *Store) writePlain(all []plainJob) error {
	for len(all) > 0 {
		n := 1
		for n < len(all) && all[n].follows(&all[n-1]) {
			n++
		}
		if err := parts(n, func(from, size, i int) error { return s.writeAlike(all[from:from+size], i) }); err != nil {
			return err
		}
		all = all[n:]
	}
	return nil
}

func (s *Store) writeAlike(some []plainJob, i int) error {
	first := &some[0]
	values := append(s.values[:0], first.queue, first.task, first.state, first.level, first.enqueuedAt, first.readyAt, first.id, first.rank)
	if err := s.execRows(len(some), sqlInsertAlike[i], values...); err != nil {
		return err
	}
	values = append(values[:0], first.policy, first.priority, first.id)
	for _, p := range some {
		values = append(values, p.payload)
	}
	s.values = values
	return s.execRows(len(some), sqlInsertAlikeSpecs[i], values...)
}

// writeMembers writes jobs that have to do with others, as many together as follow one another.
func (s *Store) writeMembers(all []memberJob) error {
	for len(all) > 0 {
		n, step := 1, int64(0)
		if len(all) > 1 && all[0].rank != 0 {
			step = 1
		}
		for n < len(all) && all[n].follows(&all[n-1], step) {
			n++
		}
		if err := parts(n, func(from, size, i int) error { return s.writeTogether(all[from:from+size], step, i) }); err != nil {
			return err
		}
		all = all[n:]
	}
	return nil
}

func (s *Store) writeTogether(some []memberJob, step int64, i int) error {
	first := &some[0]
	values := append(s.values[:0], first.queue, first.task, first.state, first.level, first.enqueuedAt, first.readyAt, first.id, first.rank, step, first.owner)
	for _, m := range some {
		values = append(values, m.unmet, m.awaited)
	}
	s.values = values
	if err := s.execRows(len(some), sqlInsertMembers[i], values...); err != nil {
		return err
	}
	values = append(values[:0], first.policy, first.priority, first.id, first.batch, first.after)
	for _, m := range some {
		values = append(values, m.payload, m.ref)
	}
	s.values = values
	return s.execRows(len(some), sqlInsertMemberSpecs[i], values...)
}

func (s *Store) writeRows(values []any, by []*sqlStatement, columns int) error {
	return parts(len(values)/columns, func(from, size, i int) error {
		return s.execRows(size, by[i], values[from*columns:(from+size)*columns]...)
	})
}

// widest is how far apart the ids may be that one statement changes: the bits of a number
// that is not negative.
const widest = 62

// closeTogether cuts writes of jobs into parts of the sizes whose ids lie close together, and
// gives each part with the range and the bits of its ids.
func closeTogether[T any](all []T, id func(T) int64, do func(some []T, statement int, from, to, bits int64) error) error {
	slices.SortFunc(all, func(a, b T) int { return cmp.Compare(id(a), id(b)) })
	for len(all) > 0 {
		i, n := 0, sizes[0]
		for n > len(all) || id(all[n-1])-id(all[0]) > widest {
			i++
			n = sizes[i]
		}
		from, bits := id(all[0]), int64(0)
		for _, one := range all[:n] {
			bits |= 1 << (id(one) - from)
		}
		if err := do(all[:n], i, from, id(all[n-1]), bits); err != nil {
			return err
		}
		all = all[n:]
	}
	return nil
}

// writeLeases writes leases. Where some cannot be written together it finds the one.
func (s *Store) writeLeases(all []lateLease) error {
	for len(all) > 0 {
		n := 1
		for n < len(all) && all[n].lease == all[0].lease {
			n++
		}
		if err := closeTogether(all[:n], lateLease.job, s.leaseTogether); err != nil {
			for i := range all[:n] {
				if err := closeTogether(all[i:i+1], lateLease.job, s.leaseTogether); err != nil {
					return &LateError{all[i].id, fmt.Errorf("the lease of job %d: %w", all[i].id, err)}
				}
			}
			return &LateError{error: err}
		}
		all = all[n:]
	}
	return nil
}

func (s *Store) leaseTogether(some []lateLease, i int, from, to, bits int64) error {
	values := append(s.values[:0], int64(some[0].at), some[0].ms, from, to, bits)
	for _, l := range some {
		values = append(values, l.id, l.token, l.worker)
	}
	s.values = values
	return s.execRows(len(some), sqlLeases[i], values...)
}

func (s *Store) writeDone(all []lateDone, at job.Time) error {
	return closeTogether(all, lateDone.job, func(some []lateDone, i int, from, to, bits int64) error {
		values := append(s.values[:0], int64(at), from, to, bits)
		for _, d := range some {
			values = append(values, d.id, d.runMS)
		}
		s.values = values
		return s.execRows(len(some), sqlDone[i], values...)
	})
}

func (s *Store) writeRemoved(all []lateID, by removal) error {
	return closeTogether(all, lateID.job, func(some []lateID, _ int, from, to, bits int64) error {
		return s.execRows(len(some), sqlRemove, by.action, by.served, from, to, bits)
	})
}

// Remove takes a job out of every list by an action, when the file was served so long.
// It can be restored until it is swept.
func (s *Store) Remove(id, action, served int64) error {
	if by := (removal{action, served}); s.late.removal != by {
		if err := s.WriteLate(); err != nil {
			return err
		}
		s.late.removal = by
	}
	s.late.removed = append(s.late.removed, lateID(id))
	return nil
}

// Lease writes that a job runs: that its attempts and tries are one more, since when, by
// whom, and its lease.
func (s *Store) Lease(r *Row) error {
	if len(s.late.done) > 0 { // it may be done and leased anew
		if err := s.WriteLate(); err != nil {
			return err
		}
	}
	s.late.leases = append(s.late.leases, lateLease{lease{r.LeaseMS, r.LeasedAt}, r.ID, r.Token, r.Worker})
	return nil
}

// finishDone writes that a job is done whose last attempt stays in its row.
func (s *Store) finishDone(r *Row) error {
	if s.late.doneAt != r.FinishedAt {
		if err := s.WriteLate(); err != nil {
			return err
		}
	}
	s.late.doneAt = r.FinishedAt
	s.late.done = append(s.late.done, lateDone{r.ID, r.RunMS})
	return nil
}
