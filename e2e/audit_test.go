package e2e

import (
	"bufio"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"testing"
	"time"

	_ "github.com/mattn/go-sqlite3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// ledger is where all clients of a service, in whatever process, write down what they ask
// and what they are told: a line of JSON each.
type ledger struct{ io.Writer }

func openLedger(path string) (ledger, error) {
	f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	return ledger{f}, err
}

// What a line of a ledger tells.
const (
	asksEnqueue  = "asks to enqueue"
	toldEnqueued = "enqueued"
	toldLeased   = "leased"
	begins       = "begins"      // a handler
	willSettle   = "will settle" // a handler has returned, or a worker asks
	toldSettled  = "settled"     // the settle was taken
	toldCancel   = "cancelled"   // the job was, at once
	toldRequeued = "requeued"    // it began the round
	toldRemoved  = "removed"
)

// told is a line of a ledger.
type told struct {
	At      int64       `json:"at"`
	What    string      `json:"what"`
	Key     string      `json:"key,omitempty"` // the job's own, of one call
	Job     int64       `json:"job,omitempty"`
	Attempt int         `json:"attempt,omitempty"`
	Round   int         `json:"round,omitempty"`
	Token   string      `json:"token,omitempty"`
	Outcome job.Outcome `json:"outcome,omitempty"`
}

func (l ledger) note(t told) {
	t.At = time.Now().UnixMilli()
	line, err := json.Marshal(t)
	if err == nil {
		_, err = l.Write(append(line, '\n'))
	}
	if err != nil {
		panic(err) // a ledger with holes proves nothing
	}
}

// attempt names an attempt of a job.
type attempt struct {
	job int64
	n   int
}

// audit holds a ledger against the tables of a data file, and reads nothing else. Nobody
// works any more.
type audit struct {
	*testing.T
	lines    []told
	jobs     map[int64]auditedJob
	attempts map[attempt]auditedAttempt
}

type auditedJob struct {
	key            string
	state          int
	round, attempt int
	removed        bool
}

type auditedAttempt struct {
	round      int
	outcome    job.Outcome
	began, end int64
}

const stateDone, stateCancelled = 6, 8

func newAudit(t *testing.T, ledgerPath, data string) *audit {
	a := &audit{T: t, jobs: map[int64]auditedJob{}, attempts: map[attempt]auditedAttempt{}}
	f, err := os.Open(ledgerPath)
	require.NoError(t, err)
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		var line told
		require.NoError(t, json.Unmarshal(lines.Bytes(), &line), lines.Text())
		a.lines = append(a.lines, line)
	}
	db, err := store.Look(data)
	require.NoError(t, err)
	defer db.Close()
	each := func(query string, read func(rows *sql.Rows) error) {
		rows, err := db.Query(query)
		require.NoError(t, err)
		defer rows.Close()
		for rows.Next() {
			require.NoError(t, read(rows))
		}
		require.NoError(t, rows.Err())
	}
	each("SELECT id, key, state, round, attempt, removed_by <> 0 FROM jobs", func(rows *sql.Rows) error {
		var id int64
		var j auditedJob
		err := rows.Scan(&id, &j.key, &j.state, &j.round, &j.attempt, &j.removed)
		a.jobs[id] = j
		return err
	})
	each("SELECT job, n, round, outcome, started_at, ended_at FROM attempts UNION ALL SELECT id, attempt, round, 'done', leased_at, finished_at FROM jobs WHERE state = 6 AND token <> 0", func(rows *sql.Rows) error {
		var at attempt
		var x auditedAttempt
		err := rows.Scan(&at.job, &at.n, &x.round, &x.outcome, &x.began, &x.end)
		a.attempts[at] = x
		return err
	})
	each(`SELECT c.queue, c.task, c.state, c.n, (SELECT count(*) FROM jobs j WHERE j.queue = c.queue AND j.task = c.task AND j.state = c.state AND j.removed_by = 0) AS real
		FROM counts c WHERE real <> c.n`, func(rows *sql.Rows) error {
		var queue, task, state, kept, counted int64
		err := rows.Scan(&queue, &task, &state, &kept, &counted)
		assert.Failf(t, "a wrong count", "queue %d, task %d, state %d: %d is kept, %d are there", queue, task, state, kept, counted)
		return err
	})
	return a
}

// run tells everything that does not fit.
func (a *audit) run() {
	a.enqueues()
	a.leases()
	a.ends()
	a.acts()
}

// Every job that was acknowledged is there as it was asked for, once; and none that nobody
// has asked for.
func (a *audit) enqueues() {
	asked, jobOf := map[string]bool{}, map[string]int64{}
	for id, j := range a.jobs {
		assert.Zero(a, jobOf[j.key], "job %d was enqueued again as job %d", jobOf[j.key], id)
		jobOf[j.key] = id
	}
	for _, l := range a.lines {
		switch l.What {
		case asksEnqueue:
			asked[l.Key] = true
		case toldEnqueued:
			assert.Equal(a, l.Job, jobOf[l.Key], "the acknowledged job %s", l.Key)
		}
	}
	for key, id := range jobOf {
		assert.True(a, asked[key], "nobody has asked for job %d (%s)", id, key)
	}
}

// Attempts are numbered on, one at a time: none is leased under two tokens or begun twice,
// and none begins before the one before it has ended.
func (a *audit) leases() {
	tokens, begun := map[attempt]string{}, map[attempt]bool{}
	for _, l := range a.lines {
		at := attempt{l.Job, l.Attempt}
		switch l.What {
		case toldLeased:
			assert.Contains(a, []string{"", l.Token}, tokens[at], "%v was leased twice", at)
			tokens[at] = l.Token
		case begins:
			assert.False(a, begun[at], "%v was begun twice", at)
			begun[at] = true
		default:
			continue
		}
		assert.Contains(a, a.attempts, at, "an attempt that was leased")
		if before, found := a.attempts[attempt{l.Job, l.Attempt - 1}]; found {
			assert.GreaterOrEqual(a, l.At, before.end, "%v began while the one before it was live", at)
		}
	}
	for at, x := range a.attempts {
		assert.LessOrEqual(a, at.n, a.jobs[at.job].attempt, "%v", at)
		before, found := a.attempts[attempt{at.job, at.n - 1}]
		assert.True(a, found || at.n == 1, "the attempt before %v", at)
		assert.LessOrEqual(a, before.end, x.began, "%v and the one before it", at)
		assert.LessOrEqual(a, before.round, x.round)
	}
}

// Every end that was acknowledged stands, nothing has an outcome that no worker told, and a
// round is done once, at its end.
func (a *audit) ends() {
	said := map[string]bool{}
	of := func(at attempt, o job.Outcome) string { return fmt.Sprint(at, o) }
	for _, l := range a.lines {
		at := attempt{l.Job, l.Attempt}
		switch l.What {
		case willSettle:
			said[of(at, l.Outcome)] = true
		case toldSettled:
			assert.Equal(a, l.Outcome, a.attempts[at].outcome, "the acknowledged end of %v", at)
		}
	}
	done := map[string]bool{}
	for at, x := range a.attempts {
		if x.outcome != job.OutcomeDone {
			continue
		}
		assert.True(a, said[of(at, job.OutcomeDone)], "%v is done, and nobody said so", at)
		round := fmt.Sprint(at.job, x.round)
		assert.False(a, done[round], "a round of %v is done twice", at)
		done[round] = true
		if j := a.jobs[at.job]; x.round == j.round {
			assert.Equal(a, []int{stateDone, at.n}, []int{j.state, j.attempt}, "%v was done: nothing comes after it", at)
		}
	}
	for id, j := range a.jobs {
		assert.GreaterOrEqual(a, j.state, stateDone, "job %d is not finished", id)
		assert.Equal(a, j.state == stateDone, done[fmt.Sprint(id, j.round)], "job %d is done by its attempts, and by its state", id)
	}
}

// What operators were told has happened.
func (a *audit) acts() {
	cancelled := map[int64]int{}
	for _, l := range a.lines {
		j := a.jobs[l.Job]
		switch l.What {
		case toldCancel:
			cancelled[l.Job] = l.Round
		case toldRequeued:
			assert.GreaterOrEqual(a, j.round, l.Round, "job %d was requeued", l.Job)
		case toldRemoved:
			assert.True(a, j.removed, "job %d was removed", l.Job)
		}
	}
	for id, round := range cancelled {
		if j := a.jobs[id]; j.round == round {
			assert.Equal(a, stateCancelled, j.state, "job %d was cancelled", id)
		}
	}
}
