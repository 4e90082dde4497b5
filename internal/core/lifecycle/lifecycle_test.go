package lifecycle

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule/job"
)

// The table of the design, written out: every move that is allowed. All others
// are refused.
func TestMove(t *testing.T) {
	allowed := map[By]string{
		ByEnqueue: "new>held new>scheduled new>ready",
		ByRequeue: "done>held done>scheduled done>ready skipped>held skipped>scheduled skipped>ready " +
			"cancelled>held cancelled>scheduled cancelled>ready dead>held dead>scheduled dead>ready",
		ByDue:      "scheduled>held scheduled>scheduled scheduled>ready backoff>held backoff>scheduled backoff>ready",
		ByStartNow: "scheduled>held scheduled>scheduled scheduled>ready backoff>held backoff>scheduled backoff>ready",
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
