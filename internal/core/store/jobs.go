package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"

	"humblemule/job"
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
	Cause, Schedule                                   int64
	Operation                                         int64 // that has requeued it; 0 for none
	PayloadBytes                                      int
	Owner, Lane, Key, Dedupe                          string
	Labels, Traceparent, Reason, ReasonText           string
	Payload                                           []byte
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

const rowColumns = `id, queue, task, state, priority, level, rank, turn, round, attempt, tries, policy,
	enqueued_at, run_at, start_by, ready_at, started_at, finished_at, next_at, cancel_asked_at,
	worker, token, leased_at, lease_ms, cause, schedule, operation, payload_bytes, owner, lane, key, dedupe, labels, traceparent, reason, reason_text, payload`

// scan reads a row of rowColumns.
func (r *Row) scan(scanner interface{ Scan(...any) error }) error {
	err := scanner.Scan(&r.ID, &r.Queue, &r.Task, &r.State, &r.Priority, &r.Level, &r.Rank, &r.Turn, &r.Round, &r.Attempt, &r.Tries, &r.Policy,
		&r.EnqueuedAt, &r.RunAt, &r.StartBy, &r.ReadyAt, &r.StartedAt, &r.FinishedAt, &r.NextAt, &r.CancelAskedAt,
		&r.Worker, &r.Token, &r.LeasedAt, &r.LeaseMS, &r.Cause, &r.Schedule, &r.Operation, &r.PayloadBytes, &r.Owner, &r.Lane, &r.Key, &r.Dedupe, &r.Labels, &r.Traceparent, &r.Reason, &r.ReasonText, &r.Payload)
	r.Turn = r.Turn && r.State == job.Ready // what it was when it became so
	return err
}

const insertPlain = `INSERT INTO jobs (id, queue, task, state, priority, level, rank, policy, enqueued_at, ready_at, payload_bytes, payload)
	VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`

var sqlInsertJob = statement(`INSERT INTO jobs (id, queue, task, state, priority, level, rank, turn, policy, enqueued_at, run_at, start_by, ready_at, next_at, schedule, payload_bytes, owner, lane, key, dedupe, labels, traceparent, payload)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`)

// Most jobs carry no more than this, and every value costs a call into C.
var sqlInsertPlain = statement(insertPlain)

// InsertJob writes a new job's row and its payload.
func (s *Store) InsertJob(r *Row) error {
	inline, err := s.payload(r)
	if err != nil {
		return err
	}
	if r.Plain() {
		return s.exec(sqlInsertPlain, r.plain(nil, inline)...)
	}
	return s.exec(sqlInsertJob, r.ID, r.Queue, r.Task, int64(r.State), r.Priority, r.Level, r.Rank, r.Turn, r.Policy, int64(r.EnqueuedAt), int64(r.RunAt), int64(r.StartBy), int64(r.ReadyAt), int64(r.NextAt), r.Schedule,
		r.PayloadBytes, r.Owner, r.Lane, r.Key, r.Dedupe, r.Labels, r.Traceparent, inline)
}

// Plain tells whether a new job's row carries no more than most do: then no statement
// about keys, lanes, owners, schedules or times finds it.
func (r *Row) Plain() bool {
	return r.Schedule == 0 && r.NextAt == 0 && r.RunAt == 0 && r.StartBy == 0 && !r.Turn && r.Owner == "" && r.Lane == "" && r.Key == "" && r.Labels == "" && r.Traceparent == ""
}

// plain adds the values of a plain row.
func (r *Row) plain(values []any, inline []byte) []any {
	return append(values, r.ID, r.Queue, r.Task, int64(r.State), r.Priority, r.Level, r.Rank, r.Policy, int64(r.EnqueuedAt), int64(r.ReadyAt), r.PayloadBytes, inline)
}

// atOnce is how many rows one statement writes or deletes, where there are so many: half
// of what a row costs by itself is the statement's.
const atOnce = 16

var among = " IN (?" + strings.Repeat(", ?", atOnce-1) + ")"

var sqlInsertPlains = statement(insertPlain + strings.Repeat(`, (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, atOnce-1))

// InsertPlain writes new jobs' rows, all of them plain, and their payloads.
func (s *Store) InsertPlain(all []*Row) error {
	var values []any
	for len(all) >= atOnce {
		values = values[:0]
		for _, r := range all[:atOnce] {
			inline, err := s.payload(r)
			if err != nil {
				return err
			}
			values = r.plain(values, inline)
		}
		if err := s.exec(sqlInsertPlains, values...); err != nil {
			return err
		}
		all = all[atOnce:]
	}
	for _, r := range all {
		if err := s.InsertJob(r); err != nil {
			return err
		}
	}
	return nil
}

var sqlRow = statement(`SELECT ` + rowColumns + ` FROM jobs WHERE id = ? AND removed_by = 0`)

// Row reads a job's row inside the transaction; nil where there is none.
func (s *Store) Row(id int64) (*Row, error) { return s.oneRow(sqlRow, id) }

var sqlLease = statement(`UPDATE jobs SET state = {running}, attempt = ?, tries = ?, started_at = ?, worker = ?, token = ?, leased_at = ?, lease_ms = ? WHERE id = ?`)

// Lease writes that a job runs: attempt, tries, started, worker and lease.
func (s *Store) Lease(r *Row) error {
	return s.exec(sqlLease, r.Attempt, r.Tries, int64(r.StartedAt), r.Worker, r.Token, int64(r.LeasedAt), r.LeaseMS, r.ID)
}

var sqlFinish = statement(`UPDATE jobs SET state = ?, tries = ?, finished_at = ?, next_at = 0, reason = ?, reason_text = ?, token = 0, cause = ? WHERE id = ?`)

// Finish writes a job's end: state, tries, time, reason; nothing is planned for
// it any more.
func (s *Store) Finish(r *Row) error {
	return s.exec(sqlFinish, int64(r.State), r.Tries, int64(r.FinishedAt), r.Reason, r.ReasonText, r.Cause, r.ID)
}

var sqlWait = statement(`UPDATE jobs SET state = ?, tries = ?, level = ?, rank = ?, turn = ?, ready_at = ?, next_at = ?, token = 0, cause = ? WHERE id = ?`)

// Wait writes that a job waits: state, tries, place, ready_at and next_at.
func (s *Store) Wait(r *Row) error {
	return s.exec(sqlWait, int64(r.State), r.Tries, r.Level, r.Rank, r.Turn, int64(r.ReadyAt), int64(r.NextAt), r.Cause, r.ID)
}

var sqlRequeue = statement(`UPDATE jobs SET state = ?, round = ?, policy = ?, tries = 0, level = ?, rank = ?, turn = ?, run_at = 0, start_by = 0, ready_at = ?, next_at = 0, started_at = 0, finished_at = 0,
			cancel_asked_at = 0, reason = '', reason_text = '', operation = ?, payload_bytes = ?, payload = ? WHERE id = ?`)

// Requeue writes a job's new round, with its payload.
func (s *Store) Requeue(r *Row) error {
	if err := s.DropResult(r.ID); err != nil {
		return err
	}
	inline, err := s.payload(r)
	if err != nil {
		return err
	}
	return s.exec(sqlRequeue, int64(r.State), r.Round, r.Policy, r.Level, r.Rank, r.Turn, int64(r.ReadyAt), r.Operation, r.PayloadBytes, inline, r.ID)
}

var sqlPatch = statement(`UPDATE jobs SET queue = ?, state = ?, priority = ?, level = ?, rank = ?, turn = ?, policy = ?, run_at = ?, start_by = ?, ready_at = ?, next_at = ?, owner = ?, lane = ?, labels = ?, payload_bytes = ?, payload = ? WHERE id = ?`)

// Patch writes what an edit of an unfinished job may change.
func (s *Store) Patch(r *Row) error {
	inline, err := s.editedPayload(r)
	if err != nil {
		return err
	}
	return s.exec(sqlPatch, r.Queue, int64(r.State), r.Priority, r.Level, r.Rank, r.Turn, r.Policy, int64(r.RunAt), int64(r.StartBy), int64(r.ReadyAt), int64(r.NextAt), r.Owner, r.Lane, r.Labels, r.PayloadBytes, inline, r.ID)
}

var sqlPatchFinished = statement(`UPDATE jobs SET labels = ?, payload_bytes = ?, payload = ? WHERE id = ?`)

// PatchFinished writes what an edit of a finished job may change: labels and
// payload.
func (s *Store) PatchFinished(r *Row) error {
	inline, err := s.editedPayload(r)
	if err != nil {
		return err
	}
	return s.exec(sqlPatchFinished, r.Labels, r.PayloadBytes, inline, r.ID)
}

var sqlAskCancel = statement(`UPDATE jobs SET cancel_asked_at = ?, reason_text = ? WHERE id = ?`)

// AskCancel writes the wish to cancel a running job.
func (s *Store) AskCancel(r *Row) error {
	return s.exec(sqlAskCancel, int64(r.CancelAskedAt), r.ReasonText, r.ID)
}

var sqlSetLabels = statement(`UPDATE jobs SET labels = ? WHERE id = ?`)

// Labels writes a job's labels, as JSON.
func (s *Store) Labels(id int64, labels string) error { return s.exec(sqlSetLabels, labels, id) }

var sqlRunning = statement(`SELECT ` + rowColumns + ` FROM jobs WHERE queue = ? AND task = ? AND state = {running} AND removed_by = 0`)

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
	err := s.eachOf(ctx, "SELECT "+rowColumns+" FROM jobs WHERE removed_by = 0 AND id IN (?)", ids, func(found *sql.Rows) error {
		r := new(Row)
		err := r.scan(found)
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
