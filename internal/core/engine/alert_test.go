package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// watched opens the yard again, with the wall's clock later by something, so that alerts are looked at, mail can be sent, and one command be run.
func (y *yard) watched(later time.Duration) {
	y.Helper()
	require.NoError(y, y.e.Close())
	var err error
	y.e, err = Open(y.path, Options{Log: silent, Wall: func() time.Time { return time.Now().Add(later) }, Mails: func() bool { return true }, MayCall: func(string) error { return nil }, MayRun: func(name string) error {
		if name != "horn" {
			return fmt.Errorf("%q is not a command", name)
		}
		return nil
	}})
	require.NoError(y, err)
}

func (y *yard) load(s api.Setup) error {
	_, err := y.e.Load(context.Background(), api.SetupRequest{Setup: s})
	return err
}

// alerts are those in one of some states, in words.
func (y *yard) alerts(states ...string) (all []string) {
	y.Helper()
	found, err := y.e.Alerts(context.Background(), states)
	require.NoError(y, err)
	for _, a := range found {
		if a.Cause != 0 {
			a.About = "" // a hash
		}
		all = append(all, strings.Join(strings.Fields(fmt.Sprint(a.ID, " ", a.Rule, " ", a.About, " ", a.State)), " "))
	}
	return all
}

// messages are the messages of alerts that nobody has sent yet: to whom, and what they say.
func (y *yard) messages() (all []string) {
	y.Helper()
	for _, l := range y.own(100) {
		var n api.Notice
		require.NoError(y, json.Unmarshal(l.Job.Payload, &n))
		require.Equal(y, y.job(l.Job.ID).Key, n.Event.ID)
		to := n.Command + n.Endpoint
		if n.Mail != nil {
			to = n.Mail.To[0]
		}
		all = append(all, to+": "+n.Event.Subject)
		y.settle(l, job.OutcomeDone)
	}
	return all
}

var offices = map[string]api.AlertChannel{"office": {Mail: &job.Mail{To: []string{"watch@harbour.example"}}}, "horn": {Command: "horn"}}

// A new cause of dead letters is told, seen and over; what is open stays so over a restart, with what was
// told.
func TestAlerts(t *testing.T) {
	inYard(t, func(y *yard) {
		y.watched(0)
		require.NoError(t, y.load(api.Setup{Queues: map[string]api.Defaults{"common": {}}, Alerts: &api.Alerts{
			Channels: offices, Tell: []string{"office"}, Rules: map[string]api.AlertRule{"dead": {Over: "4", Severity: api.SeverityCritical, Tell: []string{"office", "horn"}}, "no_worker": {Off: true}},
		}}))
		y.dead(3)
		time.Sleep(11 * time.Second)
		assert.Equal(t, []string{"1 new_cause open"}, y.alerts())
		assert.Empty(t, y.messages())
		time.Sleep(time.Minute)
		assert.Equal(t, []string{"watch@harbour.example: New cause: account # is locked"}, y.messages())

		y.dead(3)
		time.Sleep(2 * time.Minute)
		assert.Equal(t, []string{"2 dead common open", "1 new_cause open"}, y.alerts(), "the critical one first")
		assert.ElementsMatch(t, []string{"horn: Queue common has 6 dead letters", "watch@harbour.example: Queue common has 6 dead letters"}, y.messages())
		a, err := y.e.Alert(context.Background(), 2)
		require.NoError(t, err)
		assert.Regexp(t, `^6 of 6 died of cause \d+: account # is locked\.$`, a.Likely)
		stats, err := y.e.Stats(context.Background(), "")
		require.NoError(t, err)
		assert.Contains(t, fmt.Sprint(stats.Facts), "2 alerts are open that nobody has seen. 1 is critical.")

		ada := WithCall(context.Background(), Call{Principal: "ada", Path: "/x", Key: "seen"})
		require.NoError(t, y.e.SeeAlert(ada, 1, "the bank mends it"))
		require.NoError(t, y.e.SeeAlert(ada, 1, "the bank mends it"), "the same again is the same")
		assert.Equal(t, []string{"2 dead common open", "1 new_cause over"}, y.alerts())
		y.refuses(y.e.SeeAlert(context.Background(), 1, ""), "alert 1 is over since")
		y.refuses(y.e.SeeAlert(context.Background(), 9, ""), "there is no alert 9")
		y.refuses(y.e.SeeAlert(context.Background(), 2, strings.Repeat("x", 4000)), "note is longer than")
		y.refuses(y.e.MuteAlert(context.Background(), 2, job.Duration(-time.Second)), "for is -1s")
		require.NoError(t, y.e.MuteAlert(context.Background(), 2, job.For(time.Hour)))
		memoryAgrees(t, y.e)

		y.watched(0)
		assert.Equal(t, []string{"2 dead common muted", "1 new_cause over"}, y.alerts())
		time.Sleep(70 * time.Second)
		assert.Equal(t, []string{"watch@harbour.example: Over: New cause: account # is locked"}, y.messages())
		_, err = y.e.Requeue(context.Background(), 1, api.Requeue{})
		require.NoError(t, err)
		_, err = y.e.Requeue(context.Background(), 2, api.Requeue{})
		require.NoError(t, err)
		y.fails = func(string) bool { return false }
		y.work()
		time.Sleep(3 * time.Minute)
		assert.Empty(t, y.alerts(api.AlertOpen, api.AlertSeen, api.AlertMuted))
		assert.Empty(t, y.messages(), "it was muted")
		y.watched(40 * 24 * time.Hour)
		time.Sleep(11 * time.Second)
		assert.Equal(t, []string{"2 dead common over"}, y.alerts(), "those that are over are kept for a month, and the latest for its number")
	})
}

// What alerts name must be there; what a set-up no longer says is as built in again.
func TestAlertsAreChecked(t *testing.T) {
	inYard(t, func(y *yard) {
		y.watched(0)
		y.enqueue(job.Spec{Task: "tide.predict"})
		y.refuses(y.load(api.Setup{Alerts: &api.Alerts{
			Tell: []string{"ofice"}, Quiet: &api.QuietHours{From: "9:00", To: "24:00", Zone: "Mars/Base"},
			Channels: map[string]api.AlertChannel{"office": {}, "both": {Command: "horn", Endpoint: "customs"}, "web": {Call: &job.Call{URL: "file:///etc/passwd", Method: "GET"}}, "mail": {Mail: &job.Mail{To: []string{"a\r\nb"}}}},
			Rules:    map[string]api.AlertRule{"dead": {Over: "5m"}, "mine": {Watch: "deads"}, "disk": {Of: []string{"x"}, Over: "1"}, "failing": {Over: "-1", Severity: "loud", For: new(job.Duration(-1))}, "oldest": {Over: "many", Of: []string{"No"}}},
		}}), "alerts.tell[0] \"ofice\" is not one of the channels; the nearest is office", "alerts.quiet.from", "alerts.quiet.to", "alerts.quiet.zone", "alerts.channels.office has 0 ways", "alerts.channels.both has 2 ways",
			"alerts.channels.web.call.url", "alerts.channels.web.call.method", "alerts.channels.mail.mail.to[0]", "alerts.rules.dead.over 5m is a duration; dead takes a number such as 100", "alerts.rules.mine.watch \"deads\" cannot be watched; the nearest is dead",
			"alerts.rules.disk.of cannot be given", "alerts.rules.disk.over cannot be given", "alerts.rules.failing.over", "alerts.rules.failing.severity", "alerts.rules.failing.for", "alerts.rules.oldest.over", "alerts.rules.oldest.of[0]")
		y.refuses(y.load(api.Setup{Alerts: &api.Alerts{
			Channels: map[string]api.AlertChannel{"a": {Command: "siren"}, "b": {Endpoint: "customs"}},
			Rules:    map[string]api.AlertRule{"old": {Watch: "oldest", Of: []string{"berth", "commen"}}, "late": {Of: []string{"tides"}}, "failing": {Of: []string{"tide.predict", "tide.predit"}}, "silent": {Of: []string{"bank.example"}}},
		}}), `alerts.rules.old.of[0] there is no queue "berth"`, `alerts.rules.old.of[1] there is no queue "commen" (the nearest is common)`, `alerts.rules.late.of[0] there is no schedule "tides"`, `alerts.rules.failing.of[1] there is no task "tide.predit"`,
			`alerts.channels.a.command "siren" is not a command`, `alerts.channels.b.endpoint there is no endpoint "customs"`)
		assert.Len(t, y.e.AlertRules(), len(api.WatchedThings()))

		set := api.Setup{Endpoints: map[string]api.Endpoint{"customs": {URL: "https://customs.example"}}, Queues: map[string]api.Defaults{"berths": {}}, Alerts: &api.Alerts{
			Channels: map[string]api.AlertChannel{"b": {Endpoint: "customs"}}, Tell: []string{"b"}, Rules: map[string]api.AlertRule{"old": {Watch: "oldest", Of: []string{"berths"}, Over: "30m"}},
		}}
		require.NoError(t, y.load(set))
		rules, err := y.e.AlertSetup(context.Background())
		require.NoError(t, err)
		words := map[string]string{}
		for _, r := range rules.Rules {
			words[r.Name] = r.Says + " " + r.DefinedBy
		}
		assert.Equal(t, "A job waits in a queue for longer than 30m: queue berths, for 2m. file", words["old"])
		assert.Equal(t, "A job waits in a queue for longer than 10 times the usual, for 2m. built_in", words["oldest"])
		y.refuses(y.e.DeleteEndpoint(context.Background(), "customs"), "the channel b of the alerts names it")
		diff, err := y.e.Load(context.Background(), api.SetupRequest{Setup: set, DryRun: true})
		require.NoError(t, err)
		assert.Empty(t, diff.Changes)

		told, err := y.e.TestAlerts(context.Background(), nil)
		require.NoError(t, err)
		assert.Equal(t, map[string]int64{"b": 2}, told.Jobs)
		_, err = y.e.TestAlerts(context.Background(), []string{"c"})
		y.refuses(err, `there is no channel "c"`)
		require.NoError(t, y.e.PauseEndpoint(context.Background(), "customs"))
		_, err = y.e.TestAlerts(context.Background(), nil)
		y.refuses(err, "channel b tells endpoint customs, which is paused")
		assert.Equal(t, []string{"customs: Test of the alerts"}, y.messages())
		found, err := y.e.Check(context.Background())
		require.NoError(t, err)
		assert.Contains(t, fmt.Sprint(found), "Channel b of the alerts reaches nobody: endpoint customs is paused.")
		require.NoError(t, y.load(api.Setup{Empty: true}))
		assert.Len(t, y.e.AlertRules(), len(api.WatchedThings()))
	})
}

// What fails more than is usual, and what is refused much, is found by how it has grown within ten minutes;
// what is usual must be known first.
func TestAlertsOfWhatGrows(t *testing.T) {
	inYard(t, func(y *yard) {
		y.watched(0)
		y.hook("arrivals", api.Hook{Task: "manifest.check", Proof: unproved})
		once := 1
		run := func(n int, fails bool) {
			specs := make([]job.Spec, n)
			for i := range specs {
				specs[i] = job.Spec{Task: "tide.predict", MaxAttempts: &once}
			}
			_, err := y.e.EnqueueMany(context.Background(), specs, func(int) string { return "" })
			require.NoError(t, err)
			y.fails = func(string) bool { return fails }
			y.work()
		}
		of := func(rule string) (n int) {
			for _, a := range y.alerts(api.AlertOpen) {
				if strings.Contains(a, " "+rule+" ") {
					n++
				}
			}
			return n
		}
		run(25, true)
		time.Sleep(5 * time.Minute)
		assert.Zero(t, of(api.WatchFailing), "nobody knows what is usual")
		run(400, false)
		time.Sleep(15 * time.Minute)
		assert.Zero(t, of(api.WatchFailing))
		run(30, true)
		time.Sleep(2*time.Minute + 20*time.Second)
		assert.Equal(t, 1, of(api.WatchFailing))
		found, err := y.e.Alerts(context.Background(), []string{api.AlertOpen})
		require.NoError(t, err)
		assert.Contains(t, fmt.Sprint(found), "100 % of the attempts of task tide.predict failed within ten minutes: 30 of 30.")
		time.Sleep(15 * time.Minute)
		assert.Zero(t, of(api.WatchFailing), "it was ten minutes ago")

		refuse := func(n int64) {
			require.NoError(t, y.e.NoteRefusals(context.Background(), map[string]*api.HookCounts{"arrivals": {Refused: map[string]int64{api.RefusedSignature: n}}}))
		}
		refuse(20)
		time.Sleep(time.Minute)
		assert.Zero(t, of(api.WatchHook))
		refuse(1)
		time.Sleep(time.Minute)
		assert.Equal(t, 1, of(api.WatchHook))
		time.Sleep(15 * time.Minute)
		assert.Zero(t, of(api.WatchHook))
	})
}
