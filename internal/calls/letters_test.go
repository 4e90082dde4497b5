package calls

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/post"
	"humblemule.example/job"
)

// Letters of alerts say what is wrong, since when, the likely reason and what to do, as text and as HTML; what
// stands in them can be neither markup nor another header.
func TestLetterOfAlerts(t *testing.T) {
	at := job.At(time.Date(2026, 12, 1, 14, 2, 11, 0, time.UTC))
	open := api.Alert{
		ID: 3, Rule: "no_worker", About: "berths", Severity: api.SeverityCritical, Since: at, OpenedAt: at.Add(2 * time.Minute), Likely: "Shortly before, at 2026-12-01T14:01:00.000Z, version 2.4 was deployed.", Mend: "Start a pool that serves the queue.",
		Fact: api.Fact{Kind: api.FactNoWorker, Text: "No worker serves queue berths: 2 jobs are ready and waiting.", Command: "hmule worker list", Queue: "berths"},
	}
	ended := api.Alert{ID: 2, Rule: "new_cause", Severity: api.SeverityWarning, Since: at, OpenedAt: at, OverAt: at.Add(3 * time.Hour), SeenBy: "ada", SeenAt: at.Add(time.Hour), Note: "the <bank> mends it", Fact: api.Fact{Kind: api.FactNewCause, Text: "New cause: account # is locked."}}
	letter := func(told api.AlertsTold, subject string) *post.Letter {
		l, err := letterOf(&api.Notice{Mail: &job.Mail{To: []string{"watch@harbour.example"}, Subject: "[harbour]"}, Event: api.CloudEvent{ID: "s-7-alerts", Type: api.TypeAlerts, Subject: subject, Data: job.JSON(told)}})
		require.NoError(t, err)
		return l
	}
	office := post.New(post.Server{Console: "https://jobs.harbour.example/"}, nil, job.TaskMail)
	l := letter(api.AlertsTold{Opened: []api.Alert{open}, Over: []api.Alert{ended}}, "Alerts: 1 new, 1 over")
	assert.Equal(t, "[harbour] Alerts: 1 new, 1 over", l.Subject)
	assert.Equal(t, `NEW

No worker serves queue berths: 2 jobs are ready and waiting.

severity  critical
rule      no_worker
since     1 December 2026, 14:02:11 UTC
likely    Shortly before, at 1 December 2026, 14:01:00 UTC, version 2.4 was deployed.
to do     Start a pool that serves the queue.
command   hmule worker list

https://jobs.harbour.example/alerts/3

OVER

New cause: account # is locked.

rule       new_cause
since      1 December 2026, 14:02:11 UTC
over       1 December 2026, 17:02:11 UTC
it lasted  3 h
seen by    ada, 1 December 2026, 15:02:11 UTC
note       the <bank> mends it

https://jobs.harbour.example/alerts/2
`, office.Text(l))
	page, err := office.HTML(l)
	require.NoError(t, err)
	for _, says := range []string{"<h2", ">New</h2>", "2 jobs are ready and waiting.</p>", "the &lt;bank&gt; mends it", `<a href="https://jobs.harbour.example/alerts/3"`} {
		assert.Contains(t, page, says)
	}
	test := letter(api.AlertsTold{Test: "ada"}, "Test of the alerts")
	assert.Contains(t, office.Text(test), "ada wanted to see whether messages of alerts arrive here. They do.")
}
