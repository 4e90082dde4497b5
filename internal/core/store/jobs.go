package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"

	"humblemule.example/job"
)

// Row is a job's row. Fields that are zero in the row are zero here.
type Row struct {
	ID                                                int64
	Queue, Task                                       int64
	State                                             job.State
	Priority, Level                                   int
	Rank                                              int64
	Turn                                              bool // it waits by turns of owners
	Round, Attempt, Tries                             int
	Policy                                            int64
	EnqueuedAt, RunAt, ReadyAt, StartedAt, FinishedAt job.Time
	NextAt, CancelAskedAt, StartBy                    job.Time
	Worker, Token                                     int64
	LeasedAt                                          job.Time
	LeaseMS                                           int64
	RunMS                                             int64 // of the attempt that the row of a done job holds
	Cause, Schedule                                   int64
	Operation                                         int64 // that has requeued it; 0 for none
	PayloadBytes                                      int
	Owner, Lane, Key, Dedupe                          string
	Labels, Traceparent, Reason, ReasonText           string
	// Unmet is how many jobs it still waits for, the batch counting as one; Awaited who waits for it,
	// After how it waits for others, as lifecycle.Wants, Batch of which batch it is, and Ref its
	// name there.
	Unmet   int64
	Awaited Awaited
	After   uint8
	Batch   int64
	Ref     string
	// Host is a hash of the host that the job calls, 0 where a worker does it; the payload then is the call.
	Host    int64
	Payload []byte
}

// Version is a number that differs after any change of what a patch may change, or of the
// state that decides what it may. The payload must be loaded.
func (r *Row) Version() int64 {
	sum := fnv.New64a()
	fmt.Fprintf(sum, "%d %d %d %d %d %d %d %d %d %q %q %q %q %q ",
		r.Queue, r.Task, r.State, r.Round, r.Attempt, r.Policy, r.Priority, r.RunAt, r.StartBy, r.Owner, r.Lane, r.Key, r.Dedupe, r.Labels)
	sum.Write(r.Payload)
	return int64(sum.Sum64()>>12) | 1 // below 2^53, and never 0
}

// CalledBy is the host that the call of a job asks, by the payload that is the call; empty where that was not
// read.
func CalledBy(payload []byte) string {
	c, err := job.ReadCall(payload)
	if err != nil {
		return ""
	}
	return c.Host()
}

// HostHash is what the rows of jobs keep of the host that they call; never 0.
func HostHash(host string) int64 {
	sum := fnv.New64a()
	sum.Write([]byte(host))
	return int64(sum.Sum64()>>1) | 1
}

// Requeued tells whether the job's present round was begun by a requeue.
func (r *Row) Requeued() bool { return r.Round > 1 }

// LabelMap reads the job's labels; nil where it has none.
func (r *Row) LabelMap() (labels map[string]string) {
	if r.Labels != "" {
		json.Unmarshal([]byte(r.Labels), &labels) // as they were written
	}
	return labels
}

// HoldsAttempt tells whether the row holds the last attempt of a done job, which then is no
// row of its own: one that left nothing but its times.
func (r *Row) HoldsAttempt() bool { return r.State == job.Done && r.Token != 0 }

// attempt is the one that the row holds.
func (r *Row) attempt() *Attempt {
	return &Attempt{
		Job: r.ID, N: r.Attempt, Round: r.Round, Worker: r.Worker, Token: r.Token, StartedAt: r.LeasedAt, EndedAt: r.FinishedAt,
		RunMS: r.RunMS, Outcome: job.OutcomeDone, Counted: true, Percent: -1,
	}
}

const rowColumns = `id, queue, task, state, level, rank, enqueued_at, ready_at, attempt, tries, round, started_at, finished_at, worker, token, leased_at, lease_ms, run_ms,
	next_at, start_by, cancel_asked_at, cause, schedule, operation, turn, owner, lane, key, reason, reason_text, unmet, awaited, host,
	policy, priority, run_at, payload_bytes, dedupe, labels, traceparent, payload, batch, after, ref`

// rowsFrom are the tables of rowColumns, and rowsBy the same where a statement must go by an
// index.
const rowsFrom = "jobs JOIN specs ON job = id"

func rowsBy(index string) string { return "jobs {by " + index + "} JOIN specs ON job = id" }

// values reads the columns of a result one after the other. database/sql gives a value as
// the driver does where it is asked for any; to have it converted costs more than to read it.
type values struct {
	of   []any
	into []any
	next int
}

func newValues(columns int) *values {
	v := &values{of: make([]any, columns), into: make([]any, columns)}
	for i := range v.of {
		v.into[i] = &v.of[i]
	}
	return v
}

func (v *values) scan(scanner interface{ Scan(...any) error }) error {
	v.next = 0
	return scanner.Scan(v.into...)
}

func (v *values) int64() int64 {
	n, _ := v.of[v.next].(int64)
	v.next++
	return n
}

func (v *values) int() int { return int(v.int64()) }

func (v *values) time() job.Time { return job.Time(v.int64()) }

func (v *values) text() string {
	s, _ := v.of[v.next].(string)
	v.next++
	return s
}

func (v *values) bytes() []byte {
	b, _ := v.of[v.next].([]byte)
	v.next++
	return b
}

const rowWidth = 44

// row reads rowColumns.
func (v *values) row() *Row {
	r := &Row{
		ID: v.int64(), Queue: v.int64(), Task: v.int64(), State: job.State(v.int64()), Level: v.int(), Rank: v.int64(), EnqueuedAt: v.time(), ReadyAt: v.time(),
		Attempt: v.int(), Tries: v.int(), Round: v.int(), StartedAt: v.time(), FinishedAt: v.time(), Worker: v.int64(), Token: v.int64(), LeasedAt: v.time(), LeaseMS: v.int64(), RunMS: v.int64(),
		NextAt: v.time(), StartBy: v.time(), CancelAskedAt: v.time(), Cause: v.int64(), Schedule: v.int64(), Operation: v.int64(), Turn: v.int64() != 0,
		Owner: v.text(), Lane: v.text(), Key: v.text(), Reason: v.text(), ReasonText: v.text(), Unmet: v.int64(), Awaited: Awaited(v.int64()), Host: v.int64(),
		Policy: v.int64(), Priority: v.int(), RunAt: v.time(), PayloadBytes: v.int(), Dedupe: v.text(), Labels: v.text(), Traceparent: v.text(), Payload: v.bytes(), Batch: v.int64(), After: uint8(v.int64()), Ref: v.text(),
	}
	r.Turn = r.Turn && r.State == job.Ready // what it was when it became so
	return r
}

// InsertJob writes a new job's row and its payload.
func (s *Store) InsertJob(r *Row) error {
	inline, err := s.payload(r)
	if err != nil {
		return err
	}
	s.late.insert(r, inline)
	if r.Labels == "" {
		return nil
	}
	return s.label(r.ID, "", r.Labels)
}

// plain tells whether a new job's row carries no more than most do, but for its owner and what it has to
// do with others.
func (r *Row) plain() bool {
	return r.Schedule == 0 && r.NextAt == 0 && r.RunAt == 0 && r.StartBy == 0 && !r.Turn && r.Lane == "" && r.Key == "" && r.Labels == "" && r.Traceparent == ""
}

var sqlRow = statement(`SELECT ` + rowColumns + ` FROM ` + rowsFrom + ` WHERE id = ? AND removed_by = 0`)

// Row reads a job's row inside the transaction; nil where there is none.
func (s *Store) Row(id int64) (*Row, error) { return s.oneRow(sqlRow, id) }

var sqlRows = statement(`SELECT ` + rowColumns + ` FROM ` + rowsFrom + ` WHERE removed_by = 0 AND id` + among)

// Rows reads the rows of at most [AtOnce] jobs inside the transaction.
func (s *Store) Rows(ids []int64) (map[int64]*Row, error) {
	found, err := rows(s.query(sqlRows, padded(ids)...))
	byID := make(map[int64]*Row, len(found))
	for _, r := range found {
		byID[r.ID] = r
	}
	return byID, err
}

// padded are the values of a list of [AtOnce] ids, the last of which is there more than once
// where there are fewer.
func padded(ids []int64) []any {
	values := make([]any, AtOnce)
	for i := range values {
		values[i] = ids[min(i, len(ids)-1)]
	}
	return values
}

var sqlFinish = statement(`UPDATE jobs SET state = ?, tries = ?, finished_at = ?, next_at = 0, reason = ?, reason_text = ?, token = 0, cause = ? WHERE id = ?`)

// Finish writes a job's end: state, tries, time, reason; nothing is planned for
// it any more. A row that comes with a token holds the attempt by which it was done.
func (s *Store) Finish(r *Row) error {
	if r.HoldsAttempt() {
		return s.finishDone(r)
	}
	return s.exec(sqlFinish, int64(r.State), r.Tries, int64(r.FinishedAt), r.Reason, r.ReasonText, r.Cause, r.ID)
}

var sqlWait = statement(`UPDATE jobs SET state = ?, tries = ?, level = ?, rank = ?, turn = ?, ready_at = ?, next_at = ?, token = 0, cause = ?, unmet = ? WHERE id = ?`)

// Wait writes that a job waits: state, tries, place, ready_at and next_at, and what for.
func (s *Store) Wait(r *Row) error {
	return s.exec(sqlWait, int64(r.State), r.Tries, r.Level, r.Rank, r.Turn, int64(r.ReadyAt), int64(r.NextAt), r.Cause, r.Unmet, r.ID)
}

var sqlRequeue = statement(`UPDATE jobs SET state = ?, round = ?, tries = 0, level = ?, rank = ?, turn = ?, start_by = 0, ready_at = ?, next_at = 0, started_at = 0, finished_at = 0,
			cancel_asked_at = 0, reason = '', reason_text = '', operation = ?, unmet = ?, host = ? WHERE id = ?`)

var sqlRequeueSpec = statement(`UPDATE specs SET policy = ?, run_at = 0, payload_bytes = ?, payload = ? WHERE job = ?`)

// Requeue writes a job's new round, with its payload.
func (s *Store) Requeue(r *Row) error {
	if err := s.DropResult(r.ID); err != nil {
		return err
	}
	inline, err := s.payload(r)
	if err != nil {
		return err
	}
	return errors.Join(s.exec(sqlRequeue, int64(r.State), r.Round, r.Level, r.Rank, r.Turn, int64(r.ReadyAt), r.Operation, r.Unmet, r.Host, r.ID), s.exec(sqlRequeueSpec, r.Policy, r.PayloadBytes, inline, r.ID))
}

var sqlPatch = statement(`UPDATE jobs SET queue = ?, state = ?, level = ?, rank = ?, turn = ?, start_by = ?, ready_at = ?, next_at = ?, owner = ?, lane = ?, host = ? WHERE id = ?`)

var sqlPatchSpec = statement(`UPDATE specs SET priority = ?, policy = ?, run_at = ?, labels = ?, payload_bytes = ?, payload = ? WHERE job = ?`)

// Patch writes what an edit of an unfinished job may change.
func (s *Store) Patch(r *Row) error {
	inline, err := s.editedPayload(r)
	if err != nil {
		return err
	}
	return errors.Join(
		s.relabel(r.ID, r.Labels),
		s.exec(sqlPatch, r.Queue, int64(r.State), r.Level, r.Rank, r.Turn, int64(r.StartBy), int64(r.ReadyAt), int64(r.NextAt), r.Owner, r.Lane, r.Host, r.ID),
		s.exec(sqlPatchSpec, r.Priority, r.Policy, int64(r.RunAt), r.Labels, r.PayloadBytes, inline, r.ID),
	)
}

var sqlPatchFinished = statement(`UPDATE specs SET labels = ?, payload_bytes = ?, payload = ? WHERE job = ?`)

// PatchFinished writes what an edit of a finished job may change: labels and
// payload.
func (s *Store) PatchFinished(r *Row) error {
	inline, err := s.editedPayload(r)
	if err != nil {
		return err
	}
	return errors.Join(s.relabel(r.ID, r.Labels), s.exec(sqlPatchFinished, r.Labels, r.PayloadBytes, inline, r.ID))
}

var sqlAskCancel = statement(`UPDATE jobs SET cancel_asked_at = ?, reason_text = ? WHERE id = ?`)

// AskCancel writes the wish to cancel a running job.
func (s *Store) AskCancel(r *Row) error {
	return s.exec(sqlAskCancel, int64(r.CancelAskedAt), r.ReasonText, r.ID)
}

var sqlSetLabels = statement(`UPDATE specs SET labels = ? WHERE job = ?`)

// Labels writes a job's labels, as JSON.
func (s *Store) Labels(id int64, labels string) error {
	return errors.Join(s.relabel(id, labels), s.exec(sqlSetLabels, labels, id))
}

var sqlRunning = statement(`SELECT ` + rowColumns + ` FROM ` + rowsFrom + ` WHERE queue = ? AND task = ? AND state = {running} AND removed_by = 0`)

// Running reads the running jobs of a queue and task.
func (s *Store) Running(queue, task int64) ([]*Row, error) {
	return rows(s.query(sqlRunning, queue, task))
}

// RunningNow reads every running job; groups are the queues and tasks that
// have any.
func (s *Store) RunningNow(groups []Count) (all []*Row, err error) {
	for _, g := range groups {
		if g.State != job.Running || g.N == 0 {
			continue
		}
		found, err := s.Running(g.Queue, g.Task)
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
	}
	return all, nil
}

// Read reads the rows of ids in their order; ids that are gone are left out.
func (s *Store) Read(ctx context.Context, ids []int64) ([]*Row, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	byID := make(map[int64]*Row, len(ids))
	v := newValues(rowWidth)
	err := s.eachOf(ctx, "SELECT "+rowColumns+" FROM "+rowsFrom+" WHERE removed_by = 0 AND id IN (?)", ids, func(found *sql.Rows) error {
		err := v.scan(found)
		r := v.row()
		byID[r.ID] = r
		return err
	})
	if err != nil {
		return nil, err
	}
	ordered := make([]*Row, 0, len(byID))
	for _, id := range ids {
		if r := byID[id]; r != nil {
			ordered = append(ordered, r)
			delete(byID, id)
		}
	}
	return ordered, nil
}

// Group is a queue, task and state.
type Group struct {
	Queue, Task int64
	State       job.State
}
