package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/fields"
	"humblemule.example/job"
)

// A schedule's life by the wire and by commands.
func TestSchedules(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule()
	says := s.says
	refuses := func(status int, want string, args ...string) {
		t.Helper()
		stdout, stderr, got := run(t, s.url, args...)
		assert.Equal(t, status, got, stdout)
		assert.Contains(t, stderr, want, args)
	}
	says("There is no schedule yet", "schedule", "list")
	says("at 03:30 every day, Europe/Lisbon", "schedule", "set", "tides", "cron=30 3 * * *", "zone=Europe/Lisbon", "job.task=tide.predict", `job.payload={"cents":12345678901234567890}`)
	says("cron             30 3 * * * → 31 3 * * *", "schedule", "set", "tides", "cron=31 3 * * *", "note=before the first ship")
	told, err := m.Schedule(t.Context(), "tides")
	require.NoError(t, err)
	assert.Equal(t, []any{int64(2), "tide.predict", "before the first ship"}, []any{told.Version, told.Job.Task, told.Note})
	says("every 1m30s", "schedule", "set", "buoys", "every=90s", "job.task=buoy.poll", "job.queue=berths", "if_still_running=wait", "spread=10s")
	says("cron             not set → * * * * *", "schedule", "set", "buoys", "cron=* * * * *")
	says("every            not set → 1m30s", "schedule", "set", "buoys", "every=90s")
	says("buoys", "schedule", "list")
	says("Job 1 was enqueued", "schedule", "run", "tides")
	refuses(1, "the last run of tides, job 1, is unfinished", "schedule", "run", "tides")
	says("Schedule buoys is paused.", "schedule", "pause", "buoys")
	says("Schedule buoys was resumed, next at", "schedule", "resume", "buoys")
	says("schedule tides", "schedule", "coming", "--task", "tide.predict")
	says("planned run", "schedule", "coming", "--span", "31d")
	says("at 01:30 on every Monday to Friday", "explain", "cron", "30 1 * * mon-fri", "--zone", "Europe/Lisbon")
	refuses(1, "zone \"Lisbn\" is not a valid time zone (the nearest is Europe/Lisbon)", "explain", "cron", "* * * * *", "--zone", "Lisbn")
	refuses(1, "there is no schedule", "schedule", "show", "nothing")
	refuses(2, `"walk" is not a command of hmule schedule`, "schedule", "walk", "tides")
	refuses(1, "every", "schedule", "set", "tides", "every=soon")
	refuses(2, "--replace", "schedule", "set", "tides", "--replace", `{"crom":"* * * * *"}`)

	coming, err := m.ListComing(t.Context(), api.ComingQuery{Queue: "berths", Limit: 2})
	require.NoError(t, err)
	require.Len(t, coming.Items, 2)
	assert.Equal(t, []any{"buoys", "buoy.poll", true}, []any{coming.Items[0].Schedule, coming.Items[0].Task, coming.More})
	assert.Equal(t, 90*time.Second, coming.Items[1].At.Sub(coming.Items[0].At))
	settings, err := m.Setup(t.Context())
	require.NoError(t, err)
	assert.Contains(t, settings.Settings, api.Setting{Of: "service", Name: "listen", Value: fields.ValueOf(s.listen), From: api.SettingByFlag, Where: "--listen"})
	assert.Contains(t, settings.Settings, api.Setting{Of: "retention", Name: "dead", Value: fields.ValueOf("90d"), From: api.SettingBuiltIn})

	l := leaseOf(t, m, "common")
	assert.Equal(t, "tides", l.Job.Schedule.Name)
	assert.Contains(t, string(l.Job.Payload), "12345678901234567890", "no number passes through a float")
	says("run by hand", "schedule", "show", "tides")

	read := s.ask("GET", "/v1/schedules/tides", "")
	tag := read.header.Get("ETag")
	assert.Equal(t, `"2"`, tag)
	body := `{"cron":"0 4 * * *","job":{"task":"tide.predict"}}`
	answer := s.ask("PUT", "/v1/schedules/tides", body, "If-Match: "+tag)
	assert.Equal(t, http.StatusOK, answer.status)
	answer = s.ask("PUT", "/v1/schedules/tides", `{"cron":"0 5 * * *","job":{"task":"tide.predict"}}`, "If-Match: "+tag)
	detail, _ := answer.problem(t)
	assert.Equal(t, http.StatusPreconditionFailed, answer.status)
	assert.Contains(t, detail, "has changed since you read it")
	for _, c := range []struct{ method, path, body, field, says string }{
		{"PUT", "/v1/schedules/x", `{"job":{"task":"a"}}`, "cron", "give an expression such as"},
		{"PUT", "/v1/schedules/x", `{"cron":"","job":{"task":"a"}}`, "cron", "is missing"},
		{"PUT", "/v1/schedules/x", `{"cron":"* * * *","job":{"task":"a"}}`, "cron", "has 4 fields"},
		{"PUT", "/v1/schedules/x", `{"cron":"* * * * * * *","job":{"task":"a"}}`, "cron", "has 7 fields"},
		{"PUT", "/v1/schedules/x", `{"cron":"*/0 * * * *","job":{"task":"a"}}`, "cron", "is too small"},
		{"PUT", "/v1/schedules/x", `{"cron":"* * * * 5-1","job":{"task":"a"}}`, "cron", "runs backwards"},
		{"PUT", "/v1/schedules/x", `{"cron":"0 0 30 2 *","job":{"task":"a"}}`, "cron", "February has no day 30"},
		{"PUT", "/v1/schedules/x", `{"cron":"* * * * *","zone":"Mars/Base","job":{"task":"a"}}`, "zone", "is not a valid time zone"},
		{"PUT", "/v1/schedules/x", `{"cron":"* * * * *","until":"2020-01-01T00:00:00Z","job":{"task":"a"}}`, "until", "leaves no time to come"},
		{"PUT", "/v1/schedules/x", `{"cron":"* * * * *","crn":1,"job":{"task":"a"}}`, "crn", "spelling"},
		{"PUT", "/v1/schedules/x", `{"cron":"* * * * *","job":{"task":"a","run_at":"2036-01-01T00:00:00Z"}}`, "job.run_at", "cannot be set in a schedule"},
		{"PUT", "/v1/schedules/x", `{"cron":"* * * * *","job":{"task":"A B"}}`, "job.task", "is not a valid name"},
		{"PUT", "/v1/schedules/X", `{"cron":"* * * * *","job":{"task":"a"}}`, "name", "is not a valid name"},
		{"GET", "/v1/explain/cron?expr=61+*+*+*+*", "", "expr", "61 is outside 0 to 59"},
		{"GET", "/v1/explain/cron", "", "expr", "is empty"},
		{"GET", "/v1/coming?span=1y", "", "span", "90s"},
		{"GET", "/v1/coming?span=60d", "", "span", "1m to 31d"},
	} {
		answer := s.ask(c.method, c.path, c.body)
		assert.Equal(t, http.StatusUnprocessableEntity, answer.status, c.body+c.path)
		_, fields := answer.problem(t)
		if assert.NotEmpty(t, fields, c.body+c.path) {
			assert.Equal(t, c.field, fields[0].Field, c.body)
			assert.Contains(t, fields[0].Message, c.says)
		}
	}
	says("The schedule tides was deleted.", "schedule", "delete", "tides")
	refuses(1, "there is no schedule", "schedule", "delete", "tides")
}

// The service is killed again and again: each planned time comes once, and none is lost.
func TestSchedulesOverKills(t *testing.T) {
	s := serve(t)
	m := s.mule(client.RetryFor(20*time.Second), client.HTTPClient(newHTTP()))
	_, err := m.PutSchedule(t.Context(), "often", api.Schedule{Cron: "* * * * * *", IfStillRunning: api.RunsAlso, Missed: api.MissedAll, LateLimit: job.Duration(time.Second), Job: job.Spec{Task: "buoy.poll"}})
	require.NoError(t, err)
	for n := range 8 {
		time.Sleep(time.Duration(400+170*n) * time.Millisecond)
		s.kill()
		s.start()
	}
	require.Eventually(t, func() bool {
		runs, err := client.First(100, m.Runs(t.Context(), "often"))
		return err == nil && len(runs) >= 8 && time.Since(runs[0].PlannedAt.Go()) < 2*time.Second
	}, 20*time.Second, 50*time.Millisecond)
	runs, err := client.First(500, m.Runs(t.Context(), "often"))
	require.NoError(t, err)
	jobs := everyJob(t, m)
	seen := map[int64]bool{}
	for i, r := range runs {
		require.NotContains(t, seen, r.Job)
		seen[r.Job] = true
		require.Contains(t, jobs, r.Job)
		if i > 0 {
			require.Equal(t, time.Second, runs[i-1].PlannedAt.Sub(r.PlannedAt), "run %d", r.Number)
		}
	}
	for id, j := range jobs {
		require.Equal(t, "buoy.poll", j.Task)
		if !seen[id] { // enqueued since the history was read
			require.Greater(t, id, runs[0].Job)
		}
	}
}

// A person keeps a schedule in the console: the sentence and the times change while they
// type, and what became of its times is told.
func TestComingPage(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule(client.HTTPClient(newHTTP()))
	p := open(t, s.url+"/coming")
	press := p.press
	enter := func(xpath, text string) {
		p.focus(xpath)
		p.do(chromedp.Evaluate[chromedp.Void]("document.activeElement.select?.()"), chromedp.KeyEvent(text))
	}
	p.says("No schedule is kept. This keeps one:")
	press(`//a[text()="New schedule"]`)
	p.says("at 03:30 every day")
	enter(`//input[@name="cron"]`, "61 3 * * *")
	p.says("minute, at position 1: 61 is outside 0 to 59")
	enter(`//input[@name="cron"]`, "30 1 28 3 *")
	enter(`//input[@name="zone"]`, "Europe/Lisbon")
	p.says("at 01:30 on day 28 of March, Europe/Lisbon")
	enter(`//input[@name="cron"]`, "0 9 * * mon")
	p.says("at 09:00 on every Monday, Europe/Lisbon")
	enter(`//input[@name="name"]`, "tides")
	enter(`//input[@name="task"]`, "tide.predict")
	enter(`//textarea[@name="payload"]`, `{"berth":`)
	p.says("JSON")
	enter(`//textarea[@name="payload"]`, `{"cents":12345678901234567890}`)
	press(`//input[@name="if_still_running"][@value="wait"]`)
	p.accessible("the form of a schedule")
	press(`//aside//button[text()="Keep this schedule"]`)
	p.says("1 schedule is kept; its next time is as shown.")
	press(`//*[@role="dialog"]//button[text()="Keep 1 schedule"]`)
	p.says("job\ntide.predict in queue of its task, else common")
	told := s.ask("GET", "/v1/schedules/tides", "")
	assert.Contains(t, string(told.body), `"payload":{"cents":12345678901234567890}`, "its digits stay as they were entered")
	assert.Contains(t, string(told.body), `"if_still_running":"wait"`)

	press(`//aside//button[text()="Run now"]`)
	press(`//*[@role="dialog"]//button[text()="Enqueue 1 job"]`)
	p.says("1 planned times; none was left out")
	press(`//aside//button[text()="Run now"]`)
	press(`//*[@role="dialog"]//button[text()="Enqueue 1 job"]`)
	p.says("for the end of the run before")
	press(`//aside//button[text()="Pause"]`)
	press(`//*[@role="dialog"]//button[text()="Pause 1 schedule"]`)
	p.says("1 schedule is paused.")
	p.accessible("what is coming")
	enter(`//input[@name="note"]`, "until spring")
	_, err := m.ResumeSchedule(t.Context(), "tides") // another person, meanwhile
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		schedules, err := client.Collect(m.Schedules(t.Context()))
		return err == nil && len(schedules) == 1
	}, 5*time.Second, 50*time.Millisecond)
	press(`//aside//button[text()="Delete"]`)
	press(`//*[@role="dialog"]//button[text()="Delete 1 schedule"]`)
	p.says("No schedule is kept. This keeps one:")
	p.quiet("/v1/explain/cron", "/v1/schedules/tides") // refused what was half typed; and was gone
	assert.False(t, strings.Contains(fmt.Sprint(everyJob(t, m)[1].State), "cancelled"), "its jobs stay")
}
