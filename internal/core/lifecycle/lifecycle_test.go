package lifecycle

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/job"
)

// The table of the design, written out: every move that is allowed. All others
// are refused.
func TestMove(t *testing.T) {
	allowed := map[By]string{
		ByEnqueue: "new>held new>scheduled new>ready",
		ByRequeue: "done>held done>scheduled done>ready skipped>held skipped>scheduled skipped>ready " +
			"cancelled>held cancelled>scheduled cancelled>ready dead>held dead>scheduled dead>ready",
		ByDue:      "scheduled>held scheduled>scheduled scheduled>ready backoff>held backoff>scheduled backoff>ready",
		ByStartNow: "held>held held>scheduled held>ready scheduled>held scheduled>scheduled scheduled>ready backoff>held backoff>scheduled backoff>ready",
		ByUnheld:   "held>held held>scheduled held>ready",
		ByPatch: "held>held held>scheduled held>ready scheduled>held scheduled>scheduled scheduled>ready " +
			"ready>held ready>scheduled ready>ready backoff>backoff",
		ByCancel: "held>cancelled scheduled>cancelled ready>cancelled backoff>cancelled",
		ByUndo: "held>held held>scheduled held>ready scheduled>held scheduled>scheduled scheduled>ready " +
			"ready>held ready>scheduled ready>ready backoff>held backoff>scheduled backoff>ready",
		ByStartBy: "held>skipped scheduled>skipped ready>skipped",
		ByAge:     "backoff>dead",
		ByLease:   "ready>running",
		BySettle: "running>done running>skipped running>dead running>backoff running>cancelled " +
			"running>held running>scheduled running>ready",
		ByLeaseEnd:   "running>backoff running>dead running>cancelled",
		ByEndLease:   "running>held running>scheduled running>ready running>cancelled",
		ByAccept:     "dead>done",
		BySuperseded: "backoff>dead dead>cancelled",
		ByImport:     "new>held new>scheduled new>ready new>backoff new>done new>skipped new>cancelled new>dead ready>held",
		ByDependency: "held>cancelled",
		BySilence:    "ready>held",
	}
	require.Len(t, allowed, len(moves), "every cause is in the table")
	for cause, list := range allowed {
		var found []string
		for from := range job.State(job.NumStates) {
			for to := range job.State(job.NumStates) {
				if Move(from, to, cause) == nil {
					found = append(found, from.String()+">"+to.String())
				}
			}
		}
		assert.ElementsMatch(t, strings.Fields(list), found, "by %s", cause)
	}
	assert.EqualError(t, Move(job.Done, job.Running, ByLease), "illegal move: a done job cannot become running by lease")
}

func TestPlace(t *testing.T) {
	const now = job.Time(1_000_000)
	for want, waits := range map[job.State][]Waits{
		job.Held:      {{HeldBack: true, Now: now}, {HeldBack: true, NextAt: now + 1, Now: now}, {LaneTaken: true, Now: now}, {LaneTaken: true, NextAt: now, Now: now}},
		job.Scheduled: {{NextAt: now + 1, Now: now}, {NextAt: now + 1, LaneTaken: true, Now: now}},
		job.Ready:     {{Now: now}, {NextAt: now, Now: now}, {NextAt: now - 1, Now: now}},
	} {
		for _, w := range waits {
			assert.Equal(t, want, Place(w), "%+v", w)
		}
	}
}

// The page on states is written from the tables that the service goes by.
//
//go:generate env HMULE_WRITE_PAGE=1 go test -run TestPage .
func TestPage(t *testing.T) {
	var b strings.Builder
	b.WriteString("# The states of a job\n\nThis page is written from the tables that the service goes by (`go generate ./internal/core/lifecycle`).\n\n| state | a job in it |\n| --- | --- |\n")
	for _, s := range job.States() {
		fmt.Fprintf(&b, "| `%s` | %s |\n", s, s.Meaning())
	}
	b.WriteString("\n## What moves a job\n\n| from | to | when |\n| --- | --- | --- |\n")
	words := func(all []job.State) string {
		var list []string
		for _, s := range all {
			list = append(list, "`"+s.String()+"`")
		}
		return strings.Join(list, ", ")
	}
	for _, c := range Changes() {
		fmt.Fprintf(&b, "| %s | %s | %s |\n", words(c.From), words(c.To), c.By.Meaning())
	}
	b.WriteString("\n## Reasons\n\nWhy a job is finished that is not done; a handler's or an operator's own words are told with it.\n\n| reason | the job is finished because |\n| --- | --- |\n")
	for _, r := range job.Reasons() {
		fmt.Fprintf(&b, "| `%s` | %s |\n", r, r.Meaning())
	}
	b.WriteString("\n## Outcomes\n\nWhat a worker says when it ends a lease.\n\n| outcome | then |\n| --- | --- |\n")
	for _, o := range job.Outcomes() {
		fmt.Fprintf(&b, "| `%s` | %s |\n", o, o.Meaning())
	}
	const page = "../../../docs/reference/states.md"
	if os.Getenv("HMULE_WRITE_PAGE") != "" {
		require.NoError(t, os.WriteFile(page, []byte(b.String()), 0o644))
	}
	is, err := os.ReadFile(page)
	require.NoError(t, err)
	require.Equal(t, b.String(), string(is), "run: go generate ./internal/core/lifecycle")
}
