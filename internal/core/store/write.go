package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"regexp"
	"slices"
	"strings"

	"humblemule/api"
	"humblemule/job"
)

// InlineBytes is the longest payload kept in its job's row. A long row makes
// every update of it slow, so longer ones live in bodies.
const InlineBytes = 512

// The kinds of bodies.
const (
	PayloadBody = 1
	ResultBody  = 2
	StackBody   = 3
	RefusedBody = 6 // what a handler brought that was refused
	EditedBody  = 5 // a payload as it was before an action
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

// Attempt is a row of an ended attempt.
type Attempt struct {
	Job                int64
	N, Round           int
	Worker, Token      int64
	StartedAt, EndedAt job.Time
	RunMS              int64
	Outcome            job.Outcome
	Counted            bool
	ErrorType          string
	ErrorMessage       string
	Stack              string
	// Percent is -1 where no progress was told.
	Percent  float64
	Note     string
	LogLines int
}

// statements are what the writer executes, prepared once per connection.
type statements struct {
	begin, commit                                                                                      *sql.Stmt
	insertJob, insertPlain, insertPlains, insertBody, deleteBody                                       *sql.Stmt
	lease, finish, wait, requeue, askCancel, patch, patchFinished, remove, restore, removed            *sql.Stmt
	sweepable, nextSweep, sweepJobs, sweepAttempts, sweepBodies, sweepResults, foldEdits               *sql.Stmt
	heads, due, nextDue, row, running                                                                  *sql.Stmt
	insertAttempt, foldAttempt, attempt, bodyOf                                                        *sql.Stmt
	putCount, putRank, putFact                                                                         *sql.Stmt
	addQueue, addTask, addPolicy, putWorker, putWanted, pauseQueue, setQueue, setTask, dropQueue       *sql.Stmt
	insertAction, insertReceipts, deleteReceipts                                                       *sql.Stmt
	setLabels, insertLine, foldLines, deleteLines, sweepLines                                          *sql.Stmt
	keepKey, keptKey, dropKeys                                                                         *sql.Stmt
	beginStep, endStep, dropStep, stepsOf                                                              *sql.Stmt
	workersBefore, sawWorker, dropWorker, oldActions, dropActions, dropOperations                      *sql.Stmt
	idleQueue, idleTask, removedOfQueue, removedOfTask, dropQueueCounts, dropQueuePast, dropQueueTurns *sql.Stmt
	dropTask, dropTaskCounts, dropTaskPast, dropTaskTurns, dropTaskKeys                                *sql.Stmt
	firstFinished, countPast, sweepSteps, forgetSteps                                                  *sql.Stmt
	openByKey, recentByKey, addOperation, putOperation, removedBy                                      *sql.Stmt
	sawCause, textsOf, countCause, dropCount, causeHour, dropHours, oldCauses, dropCause               *sql.Stmt
	keepResult, dropResult, resultsOver, nextResult                                                    *sql.Stmt
	laneHolder, takeLane, freeLane, nextInLane, tooLate, nextTooLate                                   *sql.Stmt
	nextTurns, turnOf, putTurn, dropTurns, forgetTurns, firstTag, idleTag, headsOf                     *sql.Stmt
	activeOf, heldOf, supersededOf, countBecame                                                        *sql.Stmt
	putSchedule, dropSchedule, dropRuns, hasRun, addRun, foldRuns, endRun, runOf                       *sql.Stmt
	lastPolicy, policiesOf, policyIDs, dropPolicy                                                      *sql.Stmt
	waiting, putPlace, putWalked, putOwned, setFact                                                    *sql.Stmt
}

const insertPlain = `INSERT INTO jobs (id, queue, task, state, priority, level, rank, policy, enqueued_at, ready_at, payload_bytes, payload)
	VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`

// prepared is a statement and where it goes.
type prepared struct {
	stmt **sql.Stmt
	text string
}

func (s *Store) prepare() error {
	for _, p := range s.st.list() {
		stmt, err := s.conn.PrepareContext(background, steady(p.text))
		if err != nil {
			return err
		}
		*p.stmt = stmt
	}
	return nil
}

var bound = regexp.MustCompile(`(= |LIMIT |OFFSET )\?`)

// steady keeps a statement's plan. SQLite looks at the value of a bare parameter that is
// compared with a column of a partial index, or that is a limit, to choose its plan, and
// compiles the statement anew, in some 40 µs, whenever another value is bound.
func steady(text string) string { return bound.ReplaceAllString(text, "$1+?") }

// Statements are the texts of those that write, and of those that are read beside them.
func Statements() (all []string) {
	for _, p := range new(statements).list() {
		all = append(all, steady(p.text))
	}
	return all
}

func (st *statements) list() []prepared {
	return []prepared{
		{&st.begin, "BEGIN IMMEDIATE"},
		{&st.commit, "COMMIT"},
		{&st.insertJob, `INSERT INTO jobs (id, queue, task, state, priority, level, rank, turn, policy, enqueued_at, run_at, start_by, ready_at, next_at, schedule, payload_bytes, owner, lane, key, dedupe, labels, traceparent, payload)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`},
		// Most jobs carry no more than this, and every value costs a call into C.
		{&st.insertPlain, insertPlain},
		{&st.insertPlains, insertPlain + strings.Repeat(`, (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, atOnce-1)},
		{&st.insertBody, `INSERT INTO bodies (job, kind, n, bytes) VALUES (?, ?, ?, ?) ON CONFLICT (job, kind, n) DO UPDATE SET bytes = excluded.bytes`},
		{&st.deleteBody, `DELETE FROM bodies WHERE job = ? AND kind = ? AND n = ?`},
		{&st.lease, `UPDATE jobs SET state = 4, attempt = ?, tries = ?, started_at = ?, worker = ?, token = ?, leased_at = ?, lease_ms = ? WHERE id = ?`},
		{&st.finish, `UPDATE jobs SET state = ?, tries = ?, finished_at = ?, next_at = 0, reason = ?, reason_text = ?, token = 0, cause = ? WHERE id = ?`},
		{&st.wait, `UPDATE jobs SET state = ?, tries = ?, level = ?, rank = ?, turn = ?, ready_at = ?, next_at = ?, token = 0, cause = ? WHERE id = ?`},
		{&st.requeue, `UPDATE jobs SET state = ?, round = ?, policy = ?, tries = 0, level = ?, rank = ?, turn = ?, run_at = 0, start_by = 0, ready_at = ?, next_at = 0, started_at = 0, finished_at = 0,
			cancel_asked_at = 0, reason = '', reason_text = '', operation = ?, payload_bytes = ?, payload = ? WHERE id = ?`},
		{&st.countBecame, `INSERT INTO operation_counts (operation, state, n) VALUES (?, ?, ?) ON CONFLICT (operation, state) DO UPDATE SET n = n + excluded.n`},
		{&st.askCancel, `UPDATE jobs SET cancel_asked_at = ?, reason_text = ? WHERE id = ?`},
		{&st.patch, `UPDATE jobs SET queue = ?, state = ?, priority = ?, level = ?, rank = ?, turn = ?, policy = ?, run_at = ?, start_by = ?, ready_at = ?, next_at = ?, owner = ?, lane = ?, labels = ?, payload_bytes = ?, payload = ? WHERE id = ?`},
		{&st.patchFinished, `UPDATE jobs SET labels = ?, payload_bytes = ?, payload = ? WHERE id = ?`},
		{&st.remove, `UPDATE jobs SET removed_by = ?, removed_at = ? WHERE id = ?`},
		{&st.restore, `UPDATE jobs SET removed_by = 0, removed_at = 0 WHERE id = ?`},
		{&st.removed, `SELECT ` + rowColumns + ` FROM jobs WHERE id = ? AND removed_by <> 0`},
		{&st.sweepable, `SELECT ` + rowColumns + ` FROM jobs WHERE removed_by <> 0 AND removed_at <= ? ORDER BY removed_at, id LIMIT ?`},
		{&st.nextSweep, `SELECT removed_at FROM jobs WHERE removed_by <> 0 AND removed_at < 4000000000000000000 ORDER BY removed_at, id LIMIT 1`},
		{&st.sweepJobs, `DELETE FROM jobs WHERE id` + among},
		{&st.sweepAttempts, `DELETE FROM attempts WHERE job` + among},
		{&st.sweepBodies, `DELETE FROM bodies WHERE job` + among},
		{&st.sweepLines, `DELETE FROM log_lines WHERE job` + among},
		{&st.sweepResults, `DELETE FROM results_kept WHERE job` + among},
		{&st.sweepSteps, `DELETE FROM steps WHERE job` + among},
		{&st.foldEdits, `DELETE FROM bodies WHERE job = ?1 AND kind = 5 AND n <= (SELECT n FROM bodies WHERE job = ?1 AND kind = 5 ORDER BY n DESC LIMIT 1 OFFSET ?2)`},
		{&st.heads, `SELECT ` + rowColumns + ` FROM jobs WHERE queue = ? AND task = ? AND state = 3 AND removed_by = 0 ORDER BY level DESC, rank, id LIMIT ?`},
		{&st.due, `SELECT ` + rowColumns + ` FROM jobs WHERE state IN (2, 5) AND removed_by = 0 AND next_at <= ? ORDER BY next_at, id LIMIT ?`},
		{&st.nextDue, `SELECT next_at FROM jobs WHERE state IN (2, 5) AND removed_by = 0 ORDER BY next_at, id LIMIT 1`},
		{&st.row, `SELECT ` + rowColumns + ` FROM jobs WHERE id = ? AND removed_by = 0`},
		{&st.running, `SELECT ` + rowColumns + ` FROM jobs WHERE queue = ? AND task = ? AND state = 4 AND removed_by = 0`},
		{&st.insertAttempt, `INSERT INTO attempts (job, n, round, worker, token, started_at, ended_at, run_ms, outcome, counted, error_type, error_message, percent, note, log_lines)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`},
		{&st.foldAttempt, `DELETE FROM attempts WHERE job = ? AND n = ?`},
		{&st.attempt, `SELECT token, outcome, error_type FROM attempts WHERE job = ? AND n = ?`},
		{&st.bodyOf, `SELECT bytes FROM bodies WHERE job = ? AND kind = ? AND n = ?`},
		{&st.putCount, `INSERT INTO counts (queue, task, state, n) VALUES (?, ?, ?, ?) ON CONFLICT (queue, task, state) DO UPDATE SET n = excluded.n`},
		{&st.putRank, `UPDATE queues SET next_rank = ? WHERE id = ?`},
		{&st.putFact, `UPDATE facts SET value = ? WHERE name = ?`},
		{&st.putOwned, `INSERT INTO facts (name, value) VALUES ('owned', ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`},
		{&st.setFact, `INSERT INTO facts (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`},
		{&st.addQueue, `INSERT INTO queues (id, name, created_at, made_by) VALUES (?, ?, ?, ?)`},
		{&st.addTask, `INSERT INTO tasks (id, name, created_at, made_by) VALUES (?, ?, ?, ?)`},
		{&st.addPolicy, `INSERT INTO policies (body) VALUES (?) ON CONFLICT (body) DO UPDATE SET body = body RETURNING id`},
		{&st.lastPolicy, `SELECT id FROM policies WHERE id > 0 ORDER BY id DESC LIMIT 1`},
		{&st.policiesOf, `SELECT policy, id FROM jobs WHERE id > ? ORDER BY id LIMIT ?`},
		{&st.policyIDs, `SELECT id FROM policies WHERE id <= ?`},
		{&st.dropPolicy, `DELETE FROM policies WHERE id = ?`},
		{&st.putWorker, `INSERT INTO workers (uid, name, host, pid, version, first_seen, last_seen) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?6)
			ON CONFLICT (uid) DO UPDATE SET last_seen = excluded.last_seen, name = excluded.name, host = excluded.host, pid = excluded.pid, version = excluded.version RETURNING id, wanted`},
		{&st.putWanted, `UPDATE workers SET wanted = ? WHERE id = ?`},
		{&st.setQueue, `UPDATE queues SET settings = ?, version = version + 1 WHERE id = ?`},
		{&st.dropQueue, `DELETE FROM queues WHERE id = ?`},
		{&st.setTask, `UPDATE tasks SET settings = ?, version = version + 1 WHERE id = ?`},
		{&st.pauseQueue, `UPDATE queues SET paused_at = ?, paused_by = ? WHERE id = ?`},
		{&st.insertAction, `INSERT INTO actions (at, principal, action, job, detail) VALUES (?, ?, ?, ?, ?) RETURNING id`},
		{&st.insertReceipts, `INSERT INTO receipts (at, served, entries) VALUES (?, ?, ?) RETURNING id`},
		{&st.deleteReceipts, `DELETE FROM receipts WHERE id <= ?`},
		{&st.setLabels, `UPDATE jobs SET labels = ? WHERE id = ?`},
		{&st.insertLine, `INSERT INTO log_lines (job, attempt, n, at, text) VALUES (?, ?, ?, ?, ?) ON CONFLICT (job, attempt, n) DO NOTHING`},
		{&st.foldLines, `DELETE FROM log_lines WHERE job = ? AND attempt = ? AND n > ? AND n < ?`},
		{&st.deleteLines, `DELETE FROM log_lines WHERE job = ? AND attempt = ?`},
		{&st.sawCause, `INSERT INTO causes (id, error_type, template, texts, job, total, first_at, last_at) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?7)
			ON CONFLICT (id) DO UPDATE SET texts = excluded.texts, job = excluded.job, total = total + excluded.total, last_at = excluded.last_at`},
		{&st.textsOf, `SELECT texts FROM causes WHERE id = ?`},
		{&st.countCause, `INSERT INTO cause_counts (cause, state, queue, task, version, n) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (cause, state, queue, task, version) DO UPDATE SET n = n + excluded.n`},
		{&st.dropCount, `DELETE FROM cause_counts WHERE cause = ? AND state = ? AND queue = ? AND task = ? AND version = ? AND n <= 0`},
		{&st.causeHour, `INSERT INTO cause_hours (cause, hour, version, n) VALUES (?, ?, ?, ?) ON CONFLICT (cause, hour, version) DO UPDATE SET n = n + excluded.n`},
		{&st.dropHours, `DELETE FROM cause_hours WHERE (cause, hour, version) IN (SELECT cause, hour, version FROM cause_hours WHERE hour < ? ORDER BY hour LIMIT ?)`},
		{&st.oldCauses, `SELECT id FROM causes WHERE last_at < ? AND NOT EXISTS (SELECT 1 FROM cause_counts WHERE cause = causes.id) ORDER BY last_at LIMIT ?`},
		{&st.dropCause, `DELETE FROM causes WHERE id = ?`},
		{&st.openByKey, `SELECT ` + rowColumns + ` FROM jobs INDEXED BY jobs_open WHERE task = ? AND key = ? AND (started_at > 0) = ? AND key <> '' AND state < 6 AND removed_by = 0 AND id <> ? ORDER BY id DESC LIMIT 1`},
		{&st.recentByKey, `SELECT ` + rowColumns + ` FROM jobs INDEXED BY jobs_recent WHERE task = ? AND key = ? AND key <> '' AND removed_by = 0 AND id <> ? AND enqueued_at > ? AND state NOT IN (8, 9) ORDER BY enqueued_at DESC, id DESC LIMIT 1`},
		{&st.firstFinished, `SELECT ` + rowColumns + ` FROM jobs INDEXED BY jobs_finished WHERE queue = ? AND state = ? AND state > 5 AND removed_by = 0 ORDER BY finished_at, id LIMIT ?`},
		{&st.workersBefore, `SELECT id, uid FROM workers WHERE last_seen < ? ORDER BY last_seen LIMIT ?`},
		{&st.sawWorker, `UPDATE workers SET last_seen = ? WHERE id = ?`},
		{&st.dropWorker, `DELETE FROM workers WHERE id = ?`},
		{&st.oldActions, `SELECT id, at FROM actions WHERE id > 0 ORDER BY id LIMIT ?`},
		{&st.dropActions, `DELETE FROM actions WHERE id <= ?`},
		{&st.dropOperations, `DELETE FROM operations WHERE action <= ? AND state NOT IN ('trial', 'running')`},
		{&st.idleQueue, `UPDATE queues SET idle_since = ? WHERE id = ?`},
		{&st.idleTask, `UPDATE tasks SET idle_since = ? WHERE id = ?`},
		{&st.removedOfQueue, `SELECT id FROM jobs INDEXED BY jobs_removed_of WHERE queue = ? AND removed_by <> 0 LIMIT 1`},
		{&st.removedOfTask, `SELECT j.id FROM queues q CROSS JOIN jobs j INDEXED BY jobs_removed_of WHERE j.queue = q.id AND j.task = ? AND j.removed_by <> 0 LIMIT 1`},
		{&st.dropQueueCounts, `DELETE FROM counts WHERE queue = ?`},
		{&st.dropQueuePast, `DELETE FROM past_counts WHERE queue = ?`},
		{&st.dropQueueTurns, `DELETE FROM turns WHERE queue = ?`},
		{&st.dropTask, `DELETE FROM tasks WHERE id = ?`},
		{&st.dropTaskCounts, `DELETE FROM counts WHERE queue = ? AND task = ?`},
		{&st.dropTaskPast, `DELETE FROM past_counts WHERE queue = ? AND task = ?`},
		{&st.dropTaskTurns, `DELETE FROM turns WHERE queue = ? AND task = ?`},
		{&st.dropTaskKeys, `DELETE FROM keys WHERE task = ?`},
		{&st.countPast, `INSERT INTO past_counts (queue, task, state, n) VALUES (?, ?, ?, ?) ON CONFLICT (queue, task, state) DO UPDATE SET n = n + excluded.n`},
		{&st.forgetSteps, `DELETE FROM steps WHERE job = ?`},
		{&st.keepKey, `INSERT INTO keys (task, key, job, enqueued_at) VALUES (?, ?, ?, ?) ON CONFLICT (task, key, job) DO NOTHING`},
		{&st.keptKey, `SELECT job, enqueued_at FROM keys INDEXED BY keys_recent WHERE task = ? AND key = ? AND enqueued_at > ? ORDER BY enqueued_at DESC, job DESC LIMIT 1`},
		{&st.dropKeys, `DELETE FROM keys WHERE (task, key, job) IN (SELECT task, key, job FROM keys WHERE enqueued_at < ? ORDER BY enqueued_at LIMIT ?)`},
		{&st.beginStep, `INSERT INTO steps (job, name, attempt, begun_at) VALUES (?1, ?2, ?3, ?4) ON CONFLICT (job, name) DO UPDATE SET attempt = ?3, begun_at = ?4 WHERE done_at = 0`},
		{&st.endStep, `INSERT INTO steps (job, name, attempt, begun_at, done_at, result) VALUES (?1, ?2, ?3, ?4, ?4, ?5) ON CONFLICT (job, name) DO UPDATE SET done_at = ?4, result = ?5 WHERE done_at = 0`},
		{&st.dropStep, `DELETE FROM steps WHERE job = ? AND name = ? AND done_at = 0`},
		{&st.stepsOf, stepColumns},
		{&st.addOperation, `INSERT INTO operations (action, state, filter) VALUES (?, ?, ?) RETURNING id`},
		{&st.putOperation, `UPDATE operations SET state = ?, filter = ?, position = ? WHERE id = ?`},
		{&st.removedBy, `SELECT ` + rowColumns + ` FROM jobs WHERE removed_by = ? AND removed_by <> 0 ORDER BY id LIMIT ?`},
		{&st.keepResult, `INSERT INTO results_kept (job, until) VALUES (?, ?) ON CONFLICT (job) DO UPDATE SET until = excluded.until`},
		{&st.dropResult, `DELETE FROM results_kept WHERE job = ?`},
		{&st.resultsOver, `SELECT job FROM results_kept WHERE until <= ? ORDER BY until, job LIMIT ?`},
		{&st.nextResult, `SELECT until FROM results_kept ORDER BY until, job LIMIT 1`},
		{&st.laneHolder, `SELECT job FROM lanes WHERE queue = ? AND lane = ?`},
		{&st.takeLane, `INSERT INTO lanes (queue, lane, job) VALUES (?, ?, ?) ON CONFLICT (queue, lane) DO UPDATE SET job = excluded.job`},
		{&st.freeLane, `DELETE FROM lanes WHERE queue = ? AND lane = ?`},
		{&st.nextInLane, `SELECT ` + rowColumns + ` FROM jobs WHERE queue = ? AND lane = ? AND lane <> '' AND state = 1 AND removed_by = 0 AND rank > 0 ORDER BY rank, id LIMIT 1`},
		{&st.tooLate, `SELECT ` + rowColumns + ` FROM jobs WHERE start_by > 0 AND started_at = 0 AND state IN (1, 2, 3) AND removed_by = 0 AND start_by <= ? ORDER BY start_by, id LIMIT ?`},
		{&st.nextTooLate, `SELECT start_by FROM jobs WHERE start_by > 0 AND started_at = 0 AND state IN (1, 2, 3) AND removed_by = 0 ORDER BY start_by, id LIMIT 1`},
		{&st.nextTurns, nextTurns},
		{&st.turnOf, `SELECT tag, active FROM turns WHERE queue = ? AND task = ? AND level = ? AND owner = ?`},
		{&st.putTurn, `INSERT INTO turns (queue, task, level, owner, tag, active) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (queue, task, level, owner) DO UPDATE SET tag = excluded.tag, active = excluded.active`},
		{&st.dropTurns, `DELETE FROM turns WHERE (queue, task, level, owner) IN (SELECT queue, task, level, owner FROM turns WHERE active = 0 AND queue = ? AND level = ? AND tag <= ? ORDER BY tag LIMIT ?)`},
		{&st.forgetTurns, `DELETE FROM turns WHERE active = 0 AND queue = ?`},
		{&st.firstTag, `SELECT tag FROM turns WHERE queue = ? AND task = ? AND level = ? AND active = 1 ORDER BY tag LIMIT 1`},
		{&st.idleTag, `SELECT tag FROM turns WHERE active = 0 AND queue = ? AND level = ? ORDER BY tag DESC LIMIT 1`},
		{&st.headsOf, `SELECT ` + rowColumns + ` FROM jobs WHERE queue = ? AND task = ? AND level = ? AND owner = ? AND state = 3 AND turn = 1 AND removed_by = 0 AND id <> ? ORDER BY rank, id LIMIT ?`},
		{&st.waiting, `SELECT ` + rowColumns + ` FROM jobs WHERE queue = ? AND task = ? AND state = ? AND id > ? AND removed_by = 0 ORDER BY id LIMIT ?`},
		{&st.putSchedule, `INSERT INTO schedules (` + scheduleColumns + `) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14)
			ON CONFLICT (id) DO UPDATE SET name = ?2, body = ?3, version = ?4, paused_at = ?6, paused_by = ?7, next_at = ?8, runs = ?9, last = ?10, waiting = ?11, behind = ?12, failed = ?13, last_done = ?14`},
		{&st.activeOf, `SELECT id FROM jobs INDEXED BY jobs_of_schedule WHERE schedule = ? AND schedule <> 0 AND state IN (2, 3, 4, 5) AND (state < 6 OR state = 9 AND reason = 'superseded') AND removed_by = 0 AND id <> ? LIMIT 1`},
		{&st.heldOf, `SELECT ` + rowColumns + ` FROM jobs INDEXED BY jobs_of_schedule WHERE schedule = ? AND schedule <> 0 AND state = 1 AND (state < 6 OR state = 9 AND reason = 'superseded') AND removed_by = 0 AND id <> ? ORDER BY id LIMIT 1`},
		{&st.supersededOf, `SELECT ` + rowColumns + ` FROM jobs INDEXED BY jobs_of_schedule WHERE schedule = ? AND schedule <> 0 AND state = 9 AND (state < 6 OR state = 9 AND reason = 'superseded') AND removed_by = 0 ORDER BY id DESC LIMIT 100 OFFSET ?`},
		{&st.dropSchedule, `DELETE FROM schedules WHERE id = ?`},
		{&st.dropRuns, `DELETE FROM schedule_runs WHERE schedule = ?`},
		{&st.hasRun, `SELECT id FROM schedule_runs WHERE schedule = ? AND planned_at = ?`},
		{&st.addRun, `INSERT INTO schedule_runs (schedule, planned_at, n, asked, job, enqueued_at, reason, times) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`},
		{&st.foldRuns, `DELETE FROM schedule_runs WHERE schedule = ?1 AND planned_at <= (SELECT planned_at FROM schedule_runs WHERE schedule = ?1 ORDER BY planned_at DESC LIMIT 1 OFFSET ?2)`},
		{&st.endRun, `UPDATE schedule_runs SET state = ?, started_at = ?, finished_at = ? WHERE job = ? AND job <> 0`},
		{&st.runOf, runOf},
		{&st.putPlace, `UPDATE jobs SET level = ?, rank = ?, turn = ? WHERE id = ?`},
		{&st.putWalked, `UPDATE queues SET walked = ? WHERE id = ?`},
	}
}

func (st *statements) close() {
	for _, p := range st.list() {
		if *p.stmt != nil {
			(*p.stmt).Close()
		}
	}
	*st = statements{}
}

// Writes counts the statements that wrote since the file was opened.
func (s *Store) Writes() int64 { return s.writes }

// begin opens a transaction where none is open, before a statement that writes.
func (s *Store) begin() error {
	s.writes++
	s.checks.written++
	if s.open {
		return nil
	}
	_, err := s.st.begin.ExecContext(background)
	s.open = err == nil
	return err
}

// Writing tells whether something was written since the last commit.
func (s *Store) Writing() bool { return s.open }

// Commit makes everything that was written since the last one durable. When it
// fails nothing is, and the transaction still has to be rolled back.
func (s *Store) Commit() error {
	_, err := s.st.commit.ExecContext(background)
	s.open = err != nil
	return err
}

// Rollback undoes everything since the last commit.
func (s *Store) Rollback() error {
	s.open = false
	_, err := s.conn.ExecContext(background, "ROLLBACK")
	if err != nil && strings.Contains(err.Error(), "no transaction is active") {
		return nil // a full disk makes SQLite undo it by itself
	}
	return err
}

func (s *Store) exec(stmt *sql.Stmt, args ...any) error {
	if err := s.begin(); err != nil {
		return err
	}
	_, err := stmt.ExecContext(background, args...)
	return err
}

// execID executes a statement that returns an id.
func (s *Store) execID(stmt *sql.Stmt, args ...any) (id int64, err error) {
	if err := s.begin(); err != nil {
		return 0, err
	}
	err = stmt.QueryRowContext(background, args...).Scan(&id)
	return id, err
}

// InsertJob writes a new job's row and its payload.
func (s *Store) InsertJob(r *Row) error {
	inline, err := s.payload(r)
	if err != nil {
		return err
	}
	if r.Plain() {
		return s.exec(s.st.insertPlain, r.plain(nil, inline)...)
	}
	return s.exec(s.st.insertJob, r.ID, r.Queue, r.Task, int64(r.State), r.Priority, r.Level, r.Rank, r.Turn, r.Policy, int64(r.EnqueuedAt), int64(r.RunAt), int64(r.StartBy), int64(r.ReadyAt), int64(r.NextAt), r.Schedule,
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
		if err := s.exec(s.st.insertPlains, values...); err != nil {
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

// payload writes a long payload into bodies and answers what belongs into the
// row.
func (s *Store) payload(r *Row) (inline []byte, err error) {
	if len(r.Payload) <= InlineBytes {
		return r.Payload, nil
	}
	return nil, s.exec(s.st.insertBody, r.ID, PayloadBody, 0, r.Payload)
}

// LoadPayload fills a row's payload from bodies where it is a long one.
func (s *Store) LoadPayload(r *Row) error {
	if r.PayloadBytes <= InlineBytes {
		return nil
	}
	return s.st.bodyOf.QueryRowContext(background, r.ID, PayloadBody, 0).Scan(&r.Payload)
}

// Lease writes that a job runs: attempt, tries, started, worker and lease.
func (s *Store) Lease(r *Row) error {
	return s.exec(s.st.lease, r.Attempt, r.Tries, int64(r.StartedAt), r.Worker, r.Token, int64(r.LeasedAt), r.LeaseMS, r.ID)
}

// Finish writes a job's end: state, tries, time, reason; nothing is planned for
// it any more.
func (s *Store) Finish(r *Row) error {
	return s.exec(s.st.finish, int64(r.State), r.Tries, int64(r.FinishedAt), r.Reason, r.ReasonText, r.Cause, r.ID)
}

// Wait writes that a job waits: state, tries, place, ready_at and next_at.
func (s *Store) Wait(r *Row) error {
	return s.exec(s.st.wait, int64(r.State), r.Tries, r.Level, r.Rank, r.Turn, int64(r.ReadyAt), int64(r.NextAt), r.Cause, r.ID)
}

// Requeue writes a job's new round, with its payload.
func (s *Store) Requeue(r *Row) error {
	if err := s.DropResult(r.ID); err != nil {
		return err
	}
	inline, err := s.payload(r)
	if err != nil {
		return err
	}
	return s.exec(s.st.requeue, int64(r.State), r.Round, r.Policy, r.Level, r.Rank, r.Turn, int64(r.ReadyAt), r.Operation, r.PayloadBytes, inline, r.ID)
}

// Patch writes what an edit of an unfinished job may change.
func (s *Store) Patch(r *Row) error {
	inline, err := s.editedPayload(r)
	if err != nil {
		return err
	}
	return s.exec(s.st.patch, r.Queue, int64(r.State), r.Priority, r.Level, r.Rank, r.Turn, r.Policy, int64(r.RunAt), int64(r.StartBy), int64(r.ReadyAt), int64(r.NextAt), r.Owner, r.Lane, r.Labels, r.PayloadBytes, inline, r.ID)
}

// PatchFinished writes what an edit of a finished job may change: labels and
// payload.
func (s *Store) PatchFinished(r *Row) error {
	inline, err := s.editedPayload(r)
	if err != nil {
		return err
	}
	return s.exec(s.st.patchFinished, r.Labels, r.PayloadBytes, inline, r.ID)
}

// editedPayload writes a payload in the place of another.
func (s *Store) editedPayload(r *Row) (inline []byte, err error) {
	if err := s.exec(s.st.deleteBody, r.ID, PayloadBody, 0); err != nil {
		return nil, err
	}
	return s.payload(r)
}

// Remove takes a job out of every list by an action, when the file was served so long.
// It can be restored until it is swept.
func (s *Store) Remove(id, action, served int64) error {
	return s.exec(s.st.remove, action, served, id)
}

// Restore takes back a removal.
func (s *Store) Restore(id int64) error { return s.exec(s.st.restore, id) }

// Removed reads the row of a removed job; nil where there is none.
func (s *Store) Removed(id int64) (*Row, error) { return s.oneRow(s.st.removed, id) }

// Sweepable reads jobs that were removed before the file was served so long.
func (s *Store) Sweepable(upTo int64, limit int) ([]*Row, error) {
	return rows(s.st.sweepable.QueryContext(background, upTo, limit))
}

// HeldByOperation stands for the time of the removal of jobs that an operation removes:
// they are swept when the time after its last removal is over.
const HeldByOperation = 4_000_000_000_000_000_000

// FirstRemoved tells how long the file was served when the first job that is not swept
// yet was removed.
func (s *Store) FirstRemoved() (served int64, found bool, err error) {
	err = s.st.nextSweep.QueryRowContext(background).Scan(&served)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return served, err == nil, err
}

// Sweep deletes jobs with all that belongs to them.
func (s *Store) Sweep(all ...int64) error {
	for ids := range slices.Chunk(all, atOnce) {
		values := make([]any, atOnce)
		for i := range values {
			values[i] = ids[min(i, len(ids)-1)]
		}
		for _, stmt := range []*sql.Stmt{s.st.sweepJobs, s.st.sweepAttempts, s.st.sweepBodies, s.st.sweepLines, s.st.sweepResults, s.st.sweepSteps} {
			if err := s.exec(stmt, values...); err != nil {
				return err
			}
		}
	}
	return nil
}

// AskCancel writes the wish to cancel a running job.
func (s *Store) AskCancel(r *Row) error {
	return s.exec(s.st.askCancel, int64(r.CancelAskedAt), r.ReasonText, r.ID)
}

// OpenByKey reads the newest unfinished job of a task with a key, other than one; only
// one that was not started in its round where unstarted is true. nil for none.
func (s *Store) OpenByKey(key string, task, other int64, unstarted bool) (*Row, error) {
	newest, err := one(s.st.openByKey.QueryRowContext(background, task, key, false, other))
	if err != nil || unstarted {
		return newest, err
	}
	started, err := one(s.st.openByKey.QueryRowContext(background, task, key, true, other))
	if newest == nil || started != nil && started.ID > newest.ID {
		newest = started
	}
	return newest, err
}

// RecentByKey reads the newest job of a task with a key, other than one, that was
// enqueued after a time and is neither dead nor cancelled; nil for none.
func (s *Store) RecentByKey(key string, task, other int64, after job.Time) (*Row, error) {
	return one(s.st.recentByKey.QueryRowContext(background, task, key, other, int64(after)))
}

// FirstFinished reads the jobs of a queue and state that have finished first.
func (s *Store) FirstFinished(queue int64, state job.State, limit int) ([]*Row, error) {
	return rows(s.st.firstFinished.QueryContext(background, queue, int64(state), limit))
}

// CountPast adds to the number of jobs that were removed after they had been kept long
// enough.
func (s *Store) CountPast(queue, task int64, state job.State, n int64) error {
	return s.exec(s.st.countPast, queue, task, int64(state), n)
}

// KeepKey keeps the key of a job that is removed, so that it answers on.
func (s *Store) KeepKey(r *Row) error {
	return s.exec(s.st.keepKey, r.Task, r.Key, r.ID, int64(r.EnqueuedAt))
}

// KeptKey finds a removed job of a task with a key that was enqueued after a time; nil
// for none. Of its row only id, task and time are known.
func (s *Store) KeptKey(key string, task int64, after job.Time) (*Row, error) {
	r := &Row{Task: task, Key: key, State: job.Done}
	err := s.st.keptKey.QueryRowContext(background, task, key, int64(after)).Scan(&r.ID, &r.EnqueuedAt)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return r, err
}

// DropKeys removes kept keys of jobs that were enqueued before a time.
func (s *Store) DropKeys(before job.Time, limit int) error {
	return s.exec(s.st.dropKeys, int64(before), limit)
}

// Result writes a job's result.
func (s *Store) Result(id int64, result []byte) error {
	return s.exec(s.st.insertBody, id, ResultBody, 0, result)
}

// KeepRefused keeps what a job's handler brought that was refused, as JSON.
func (s *Store) KeepRefused(id int64, body []byte) error {
	return s.exec(s.st.insertBody, id, RefusedBody, 0, body)
}

// DropRefused removes what was refused of a job's outcome.
func (s *Store) DropRefused(id int64) error {
	return s.exec(s.st.deleteBody, id, RefusedBody, 0)
}

// KeepResult notes until when a job's result is kept.
func (s *Store) KeepResult(id int64, until job.Time) error {
	return s.exec(s.st.keepResult, id, int64(until))
}

// DropResult removes a job's result.
func (s *Store) DropResult(id int64) error {
	return errors.Join(s.exec(s.st.deleteBody, id, ResultBody, 0), s.exec(s.st.dropResult, id))
}

// ResultsOver reads the ids of jobs whose results are kept no longer than up to a
// time.
func (s *Store) ResultsOver(upTo job.Time, limit int) ([]int64, error) {
	return ids(s.st.resultsOver.QueryContext(background, int64(upTo), limit))
}

// NextResult tells when the next result is to be removed; zero for never.
func (s *Store) NextResult() (job.Time, error) { return s.oneTime(s.st.nextResult) }

// Labels writes a job's labels, as JSON.
func (s *Store) Labels(id int64, labels string) error { return s.exec(s.st.setLabels, labels, id) }

// InsertLine writes a line of an attempt's log.
func (s *Store) InsertLine(id int64, l api.LogLine) error {
	return s.exec(s.st.insertLine, id, l.Attempt, l.N, int64(l.At), l.Text)
}

// FoldLines removes lines of an attempt's log between two, both not included.
func (s *Store) FoldLines(id int64, attempt, after, before int) error {
	return s.exec(s.st.foldLines, id, attempt, after, before)
}

// The first and the last attempts of a job that are kept whole.
const (
	FirstKept = 10
	LastKept  = 90
)

// InsertAttempt writes an ended attempt and folds the one that is then neither
// among the first nor among the last.
func (s *Store) InsertAttempt(a *Attempt) error {
	err := s.exec(s.st.insertAttempt, a.Job, a.N, a.Round, a.Worker, a.Token, int64(a.StartedAt), int64(a.EndedAt), a.RunMS, string(a.Outcome), a.Counted, a.ErrorType, a.ErrorMessage, a.Percent, a.Note, a.LogLines)
	if err == nil && a.Stack != "" {
		err = s.exec(s.st.insertBody, a.Job, StackBody, a.N, []byte(a.Stack))
	}
	if folded := a.N - LastKept; err == nil && folded > FirstKept {
		err = errors.Join(s.exec(s.st.foldAttempt, a.Job, folded), s.exec(s.st.deleteBody, a.Job, StackBody, folded), s.exec(s.st.deleteLines, a.Job, folded))
	}
	return err
}

// EndedAttempt finds the token, outcome and error type of an ended attempt; nil
// where there is none.
func (s *Store) EndedAttempt(id int64, n int) (*Attempt, error) {
	a := &Attempt{Job: id, N: n}
	err := s.st.attempt.QueryRowContext(background, id, n).Scan(&a.Token, &a.Outcome, &a.ErrorType)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return a, err
}

func rows(r *sql.Rows, err error) ([]*Row, error) {
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var all []*Row
	for r.Next() {
		row := new(Row)
		if err := row.scan(r); err != nil {
			return nil, err
		}
		all = append(all, row)
	}
	return all, r.Err()
}

// Heads reads the first ready jobs of a queue and task in their order.
func (s *Store) Heads(queue, task int64, limit int) ([]*Row, error) {
	return rows(s.st.heads.QueryContext(background, queue, task, limit))
}

// Due reads jobs whose time has come, the longest due first.
func (s *Store) Due(now job.Time, limit int) ([]*Row, error) {
	return rows(s.st.due.QueryContext(background, int64(now), limit))
}

// NextDue tells when the next scheduled job or backoff is due; zero for never.
func (s *Store) NextDue() (job.Time, error) { return s.oneTime(s.st.nextDue) }

func (s *Store) oneTime(stmt *sql.Stmt) (at job.Time, err error) {
	err = stmt.QueryRowContext(background).Scan(&at)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return at, err
}

// Row reads a job's row inside the transaction; nil where there is none.
func (s *Store) Row(id int64) (*Row, error) { return s.oneRow(s.st.row, id) }

func (s *Store) oneRow(stmt *sql.Stmt, id int64) (*Row, error) {
	return one(stmt.QueryRowContext(background, id))
}

func one(r *sql.Row) (*Row, error) {
	row := new(Row)
	err := row.scan(r)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return row, err
}

// Running reads the running jobs of a queue and task.
func (s *Store) Running(queue, task int64) ([]*Row, error) {
	return rows(s.st.running.QueryContext(background, queue, task))
}

// PutCount writes a kept count.
func (s *Store) PutCount(queue, task int64, state job.State, n int64) error {
	return s.exec(s.st.putCount, queue, task, int64(state), n)
}

// PutRank writes a queue's next rank.
func (s *Store) PutRank(queue, next int64) error { return s.exec(s.st.putRank, next, queue) }

// PutNextJob writes the next id of a job.
func (s *Store) PutNextJob(next int64) error {
	if err := s.raiseMark(next); err != nil {
		return err
	}
	return s.exec(s.st.putFact, next, "next_job")
}

// AddQueue writes a new queue's name.
func (s *Store) AddQueue(id int64, name, by string, now job.Time) error {
	return s.exec(s.st.addQueue, id, name, int64(now), by)
}

// AddTask writes a new task's name.
func (s *Store) AddTask(id int64, name, by string, now job.Time) error {
	return s.exec(s.st.addTask, id, name, int64(now), by)
}

// AddPolicy finds or writes a policy and answers its id.
func (s *Store) AddPolicy(body string) (id int64, err error) {
	return s.execID(s.st.addPolicy, body)
}

// PutWorker writes who a worker is, and answers its number and what it was asked
// to do.
func (s *Store) PutWorker(w *api.Worker, now job.Time) (id int64, wanted api.Want, err error) {
	if err := s.begin(); err != nil {
		return 0, "", err
	}
	err = s.st.putWorker.QueryRowContext(background, w.ID, w.Name, w.Host, w.PID, w.Version, int64(now)).Scan(&id, &wanted)
	return id, wanted, err
}

// PutWanted writes what a worker is asked to do.
func (s *Store) PutWanted(worker int64, wanted api.Want) error {
	return s.exec(s.st.putWanted, string(wanted), worker)
}

// SetQueue and SetTask write the defaults of a queue's or a task's jobs, as JSON.
func (s *Store) SetQueue(id int64, settings string) error { return s.exec(s.st.setQueue, settings, id) }

// SetTask is told with [Store.SetQueue].
func (s *Store) SetTask(id int64, settings string) error { return s.exec(s.st.setTask, settings, id) }

// PauseQueue writes who has paused a queue and when; zero and empty where nobody
// has.
func (s *Store) PauseQueue(id int64, at job.Time, by string) error {
	return s.exec(s.st.pauseQueue, int64(at), by, id)
}

// InsertAction records what an operator did to a job, and answers the action's
// number.
func (s *Store) InsertAction(now job.Time, principal, action string, id int64, detail string) (int64, error) {
	return s.execID(s.st.insertAction, int64(now), principal, action, id, detail)
}

// InsertReceipts writes a commit's receipts and answers their row's id.
func (s *Store) InsertReceipts(now job.Time, served int64, entries []byte) (id int64, err error) {
	return s.execID(s.st.insertReceipts, int64(now), served, entries)
}

// DeleteReceipts removes receipts up to a row, which was written at a time.
func (s *Store) DeleteReceipts(upTo int64, at job.Time) error {
	return errors.Join(s.exec(s.st.deleteReceipts, upTo), s.exec(s.st.setFact, "receipts_from", int64(at)))
}

// PutServed writes how long the file has been served, in ms.
func (s *Store) PutServed(ms int64) error { return s.exec(s.st.setFact, "served", ms) }

// Exec executes a statement of a test's own.
func (s *Store) Exec(query string) error {
	if err := s.begin(); err != nil {
		return err
	}
	_, err := s.conn.ExecContext(background, query)
	return err
}
