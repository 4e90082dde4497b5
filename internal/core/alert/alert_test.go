package alert

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/status"
	"humblemule.example/job"
)

const now = job.Time(1_795_000_000_000)

// said are readings in words: rule, what it is about, text, detail and likely reason.
func said(readings []Reading) (all []string) {
	for _, r := range readings {
		words := []string{r.Rule}
		for _, w := range []string{r.About, r.Fact.Text, r.Fact.Detail, r.Likely} {
			if w != "" {
				words = append(words, w)
			}
		}
		if !r.Opens {
			words = append(words, "(stays)")
		}
		all = append(all, strings.Join(words, " | "))
	}
	return all
}

func queue(change func(q *api.Queue)) func(*Seen) {
	return func(s *Seen) {
		q := api.Queue{Name: "berths", Workers: 2, Counts: map[job.State]int64{job.Ready: 58}, Pace: api.Pace{Slots: 6, CapacityPerMinute: 7.1, Utilisation: 12 / 7.1, Binds: api.BoundBySlots}}
		change(&q)
		s.Queues = append(s.Queues, q)
	}
}

func cause(id, count int64, age time.Duration) func(*Seen) {
	return func(s *Seen) {
		s.Causes = append(s.Causes, api.Cause{ID: id, Template: "the weight “…” is not a number", Count: count, FirstAt: now.Add(-age), By: []api.CauseCount{{Task: "manifest.check", Queue: "common", Count: count}}})
	}
}

// What each rule finds wrong, as it is built in unless the case sets rules; an empty text is nothing wrong.
func TestRead(t *testing.T) {
	rules := func(text string) *api.Alerts {
		return &api.Alerts{Rules: map[string]api.AlertRule{"mine": ruleOf(text)}}
	}
	for _, c := range []struct {
		name  string
		seen  func(*Seen)
		set   *api.Alerts
		wants string
	}{
		{"the disk takes nothing", func(s *Seen) { s.RefusingSince = now.Add(-time.Minute) }, nil, "refused | The disk has taken no writes since 2026-11-18T11:05:40.000Z. | Nothing that was acknowledged is lost; the service goes on by itself when the disk does."},
		{"the disk is full", func(s *Seen) { s.Disk = "only 12 MiB are free" }, nil, "disk | Only 12 MiB are free."},
		{"no worker", func(s *Seen) { s.Untaken = []status.Untaken{{Queue: "berths", Ready: 2}} }, nil, "no_worker | berths | No worker serves queue berths: 2 jobs are ready and waiting."},
		{"few that no worker takes", func(s *Seen) { s.Untaken = []status.Untaken{{Queue: "berths", Ready: 2}} }, rules("no_worker berths 2"), ""},
		{"more that no worker takes", func(s *Seen) { s.Untaken = []status.Untaken{{Queue: "berths", Ready: 3}} }, rules("no_worker berths 2"), "mine | berths | No worker serves queue berths: 3 jobs are ready and waiting."},
		{"new cause", cause(7, 5, time.Hour), nil, "new_cause | 7 | New cause: the weight “…” is not a number. | 5 dead letters of manifest.check since 2026-11-18T10:06:40.000Z."},
		{"a cause that is not new", cause(7, 5, 25*time.Hour), nil, "new_cause | 7 | New cause: the weight “…” is not a number. | 5 dead letters of manifest.check since 2026-11-17T10:06:40.000Z. | (stays)"},
		{"a new cause of another task", cause(7, 5, time.Hour), rules("new_cause dues.charge"), "new_cause | 7 | New cause: the weight “…” is not a number. | 5 dead letters of manifest.check since 2026-11-18T10:06:40.000Z."},
		{"shortly after a release", func(s *Seen) {
			cause(7, 5, time.Hour)(s)
			s.Marks = []api.Mark{{At: now.Add(-70 * time.Minute), Kind: api.MarkDeploy, Text: "version 2.4"}, {At: now, Kind: api.MarkNote, Text: "too late"}}
		}, nil, "new_cause | 7 | New cause: the weight “…” is not a number. | 5 dead letters of manifest.check since 2026-11-18T10:06:40.000Z. | Shortly before, at 2026-11-18T09:56:40.000Z, version 2.4 was deployed."},
		{"many dead letters", func(s *Seen) { cause(7, 80, 48*time.Hour)(s); cause(9, 21, 48*time.Hour)(s) }, rules("new_cause manifest.check off"), "dead | common | Queue common has 101 dead letters. | 80 of 101 died of cause 7: the weight “…” is not a number."},
		{"as many as the bound", func(s *Seen) { cause(7, 80, 48*time.Hour)(s); cause(9, 20, 48*time.Hour)(s) }, rules("new_cause manifest.check off"), ""},
		{"waits long", func(s *Seen) {
			queue(func(q *api.Queue) { q.OldestReadyMS = 1_260_000 })(s)
			s.UsualWait = map[string]time.Duration{"berths": 2 * time.Minute}
		}, nil, "oldest | berths | The oldest ready job of queue berths has waited 21 min. | 95 of 100 jobs there usually wait no longer than 2 min. | All slots that serve the queue are used."},
		{"waits as usual", func(s *Seen) {
			queue(func(q *api.Queue) { q.OldestReadyMS = 1_200_000 })(s)
			s.UsualWait = map[string]time.Duration{"berths": 2 * time.Minute}
		}, nil, ""},
		{"nobody knows how long is usual", queue(func(q *api.Queue) { q.OldestReadyMS = 1_260_000 }), nil, ""},
		{"waits for seconds", func(s *Seen) {
			queue(func(q *api.Queue) { q.OldestReadyMS = 59_000 })(s)
			s.UsualWait = map[string]time.Duration{"berths": time.Millisecond}
		}, nil, ""},
		{"waits longer than was set", queue(func(q *api.Queue) { q.OldestReadyMS, q.Paused, q.PausedBy, q.PausedAt = 301_000, true, "ada", now }), rules("oldest berths 5m"), "mine | berths | The oldest ready job of queue berths has waited 5 min. | The queue was paused by ada at 2026-11-18T11:06:40.000Z."},
		{"falls behind", queue(func(q *api.Queue) { q.Pace.Clear = new(api.Clear) }), nil, "behind | berths | Queue berths is falling behind: 12.0 jobs come in per minute, 7.1 can finish. | 58 jobs are waiting; never clear at this rate. | All slots that serve the queue are used."},
		{"fails more", func(s *Seen) { s.Tasks = []Failing{{"dues.charge", 18, 40, 3, 100}} }, nil, "failing | dues.charge | 45 % of the attempts of task dues.charge failed within ten minutes: 18 of 40. | Usually 3.0 % of them fail."},
		{"never failed before", func(s *Seen) { s.Tasks = []Failing{{"dues.charge", 4, 40, 0, 100}} }, nil, "failing | dues.charge | 10 % of the attempts of task dues.charge failed within ten minutes: 4 of 40. | Usually 0 % of them fail."},
		{"fails as usual", func(s *Seen) { s.Tasks = []Failing{{"dues.charge", 18, 40, 12, 100}} }, nil, ""},
		{"fails seldom", func(s *Seen) { s.Tasks = []Failing{{"dues.charge", 3, 40, 0, 100}} }, nil, ""},
		{"few attempts", func(s *Seen) { s.Tasks = []Failing{{"dues.charge", 19, 19, 3, 100}} }, nil, ""},
		{"nobody knows how many usually fail", func(s *Seen) { s.Tasks = []Failing{{"dues.charge", 18, 40, 0, 0}} }, nil, ""},
		{"fails more than was set", func(s *Seen) { s.Tasks = []Failing{{"dues.charge", 9, 40, 0, 0}} }, rules("failing dues.charge 20%"), "mine | dues.charge | 22 % of the attempts of task dues.charge failed within ten minutes: 9 of 40."},
		{"runs die", func(s *Seen) { s.Schedules = []status.Schedule{{Name: "dues", Failed: 2}} }, nil, "schedule | dues | The last 2 runs of schedule dues failed; no run was ever done."},
		{"one run has died", func(s *Seen) { s.Schedules = []status.Schedule{{Name: "dues", Failed: 1}} }, nil, ""},
		{"one run is too many", func(s *Seen) { s.Schedules = []status.Schedule{{Name: "dues", Failed: 1, LastDone: now}} }, rules("schedule dues 0"), "mine | dues | The last run of schedule dues failed; it was last done at 2026-11-18T11:06:40.000Z."},
		{"late", func(s *Seen) { s.Schedules = []status.Schedule{{Name: "dues", LateBy: 6 * time.Minute}} }, nil, "late | dues | Schedule dues is late: its next run was planned 6 min ago."},
		{"a little late", func(s *Seen) { s.Schedules = []status.Schedule{{Name: "dues", LateBy: 4 * time.Minute}} }, nil, ""},
		{"stuck", func(s *Seen) { s.Stuck = []api.Batch{{ID: 7, Name: "voyage 12"}} }, nil, "stuck | 7 | Batch 7 (voyage 12) is stuck."},
		{"in doubt", func(s *Seen) { s.InDoubt = 1 }, nil, "in_doubt | 1 job has steps that may or may not be done. | Find out, then requeue them."},
		{"a hook takes nothing", func(s *Seen) {
			s.Hooks = []status.Hook{{Name: "arrivals", Why: "its secret is missing"}}
			s.Refusing = []Refusing{{"arrivals", 90, "signature"}}
		}, nil, "hook | arrivals | Hook arrivals refuses every delivery: its secret is missing."},
		{"a hook refuses much", func(s *Seen) { s.Refusing = []Refusing{{"arrivals", 21, "signature"}} }, nil, "hook | arrivals | Hook arrivals refused 21 deliveries within ten minutes. | The reason of most: signature."},
		{"a hook refuses some", func(s *Seen) { s.Refusing = []Refusing{{"arrivals", 20, "signature"}} }, nil, ""},
		{"an endpoint rests", func(s *Seen) {
			s.Endpoints = []api.EndpointStatus{{Endpoint: api.Endpoint{Name: "customs"}, PausedWhy: "no message was taken for 3 days", Missed: 4}}
		}, nil, "endpoint | customs | Endpoint customs has paused itself: no message was taken for 3 days. 4 messages were not sent since."},
		{"a host is silent", func(s *Seen) {
			s.Silent = []status.Silent{{Host: "bank.example", Since: now, ProbeAt: now, Why: "no answer"}}
		}, nil, "silent | bank.example | bank.example has given no answer since 2026-11-18T11:06:40.000Z; it is tried again at 2026-11-18T11:06:40.000Z. | Its jobs are held, and one at a time tries it. The last: no answer."},
		{"backups fail", func(s *Seen) { s.Backup = "The latest scheduled backup failed." }, nil, "backup | The latest scheduled backup failed."},
		{"all is off", func(s *Seen) { s.InDoubt = 1 }, &api.Alerts{Off: true}, ""},
		{"a rule is off", func(s *Seen) { s.InDoubt = 1 }, &api.Alerts{Rules: map[string]api.AlertRule{"in_doubt": {Off: true}}}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			seen := Seen{Standing: status.Standing{Now: now}}
			c.seen(&seen)
			var wants []string
			if c.wants != "" {
				wants = []string{c.wants}
			}
			if c.set != nil {
				require.Empty(t, c.set.Check())
			}
			var all []string
			for _, line := range said(Read(&seen, c.set.InForce())) {
				if c.wants != "" && strings.HasSuffix(line, "(stays)") && !strings.HasSuffix(c.wants, "(stays)") {
					continue
				}
				all = append(all, line)
			}
			assert.Equal(t, wants, all)
		})
	}
}

// ruleOf makes a rule of what it watches, of what, and its bound or "off".
func ruleOf(text string) api.AlertRule {
	words := strings.Fields(text)
	r := api.AlertRule{Watch: words[0], Of: words[1:2]}
	if len(words) > 2 {
		r.Over, r.Off = api.Bound(words[2]), words[2] == "off"
	}
	if r.Off {
		r.Over = ""
	}
	return r
}

// scene is a service whose alerts are looked at every ten seconds of virtual time.
type scene struct {
	*testing.T
	rules  map[string]api.AlertRule
	book   Book
	alerts []api.Alert
	up     time.Duration
	wrong  map[string]bool // what it is about
	told   []string
}

const every = 10 * time.Second

func stage(t *testing.T, set *api.Alerts) *scene {
	set.Channels = map[string]api.AlertChannel{"office": {Mail: &job.Mail{To: []string{"watch@harbour.example"}}}, "horn": {Command: "horn"}}
	if set.Tell == nil {
		set.Tell = []string{"office"}
	}
	require.Empty(t, set.Check())
	return &scene{T: t, rules: set.InForce(), wrong: map[string]bool{}}
}

// now is the time of the scene by the wall.
func (s *scene) now() job.Time { return now.Add(s.up) }

// look lets time pass, looks, and notes what is told.
func (s *scene) look() {
	s.up += every
	var readings []Reading
	for about := range s.wrong {
		rule, thing, _ := strings.Cut(about, " ")
		r := s.rules[rule]
		readings = append(readings, Reading{Rule: rule, About: thing, Severity: r.Severity, For: r.For.Go(), Fact: api.Fact{Kind: r.Watch, Text: strings.TrimSpace(about) + "."}, Opens: true, Once: r.Watch == api.FactNewCause})
	}
	var changed []api.Alert
	s.book, changed = Step(s.book, s.alerts, readings, s.up, s.now())
	s.keep(changed)
	told := Say(s.alerts, s.rules, s.now())
	s.keep(told.Alerts)
	for _, channel := range []string{"horn", "office"} {
		if m := told.To[channel]; m != nil {
			s.told = append(s.told, fmt.Sprintf("%s %s: %s", s.up, channel, Subject(m)))
		}
	}
}

func (s *scene) keep(changed []api.Alert) {
	for _, a := range changed {
		if a.ID == 0 {
			a.ID = int64(len(s.alerts) + 1)
			s.alerts = append(s.alerts, a)
		} else {
			s.alerts[a.ID-1] = a
		}
	}
}

// pass lets time pass, in which some things are wrong and all others right, and gives what was told.
func (s *scene) pass(d time.Duration, wrong ...string) (told []string) {
	clear(s.wrong)
	for _, about := range wrong {
		s.wrong[about] = true
	}
	s.told = nil
	for end := s.up + d; s.up < end; {
		s.look()
	}
	return s.told
}

// open are the alerts that are not over, in words.
func (s *scene) open() (all []string) {
	for _, a := range s.alerts {
		if a.OverAt == 0 {
			all = append(all, a.Rule+" "+a.About+" "+a.StateAt(s.now()))
		}
	}
	return all
}

// An alert opens when its rule has held for as long as it says, is told once, and each day, and when it is
// over; a minute of right is no end.
func TestStep(t *testing.T) {
	s := stage(t, &api.Alerts{})
	assert.Empty(t, s.pass(9*time.Minute, "behind berths"))
	assert.Empty(t, s.open())
	assert.Empty(t, s.pass(10*time.Second))
	assert.Empty(t, s.pass(10*time.Minute, "behind berths"), "it begins anew when it was right")
	assert.Equal(t, []string{"20m20s office: behind berths"}, s.pass(2*time.Minute, "behind berths"))
	assert.Equal(t, []string{"behind berths open"}, s.open())
	assert.Equal(t, now.Add(9*time.Minute+20*time.Second), s.alerts[0].Since)
	assert.Empty(t, s.pass(9*time.Minute))
	assert.Empty(t, s.pass(time.Hour, "behind berths"))
	assert.Equal(t, []string{"24h21m20s office: Still: behind berths"}, s.pass(23*time.Hour+30*time.Minute, "behind berths"))
	assert.Equal(t, []string{"25h11m20s office: Over: behind berths"}, s.pass(time.Hour-9*time.Minute+time.Minute))
	assert.Empty(t, s.open())
	assert.Empty(t, s.pass(time.Hour))
}

// What begins within a minute is one message; a critical alert does not wait.
func TestGathered(t *testing.T) {
	s := stage(t, &api.Alerts{Rules: map[string]api.AlertRule{"refused": {Tell: []string{"office", "horn"}}}})
	ten := []string{"new_cause 1"}
	s.pass(10*time.Second, ten...)
	for i := range 9 {
		ten = append(ten, fmt.Sprint("new_cause ", i+2))
	}
	assert.Equal(t, []string{"1m10s office: Alerts: 10 new"}, s.pass(10*time.Minute, ten...))
	assert.Equal(t, []string{"10m20s horn: refused", "10m20s office: Alerts: 2 new"}, s.pass(10*time.Second, append(ten, "new_cause 11", "refused ")...), "the first one waits for nothing")
	assert.Equal(t, []string{"12m30s horn: Over: refused", "12m30s office: Alerts: 12 over"}, s.pass(10*time.Minute))
	assert.Empty(t, s.pass(time.Hour, ten...), "a new cause is told once")
}

// In quiet hours only what is critical is told; the rest when they end, unless it is over by then.
func TestQuiet(t *testing.T) {
	s := stage(t, &api.Alerts{Quiet: &api.QuietHours{From: "11:00", To: "12:00"}})
	assert.Equal(t, []string{"10s office: refused"}, s.pass(20*time.Minute, "refused ", "backup "))
	assert.Equal(t, []string{"22m10s office: Over: refused", "53m20s office: backup"}, s.pass(time.Hour, "backup "))
	s = stage(t, &api.Alerts{Quiet: &api.QuietHours{From: "23:30", To: "12:00", Zone: "Europe/Berlin"}})
	assert.Equal(t, []string{"1m10s office: backup"}, s.pass(20*time.Minute, "backup "), "it is after noon there")
}

// Who has seen or muted an alert is not told again but of its end; muted ones say nothing at all.
func TestSeenAndMuted(t *testing.T) {
	s := stage(t, &api.Alerts{})
	s.pass(5*time.Minute, "backup ", "stuck 7", "in_doubt ")
	s.pass(30*time.Minute, "backup ", "stuck 7", "in_doubt ")
	s.alerts[0].SeenAt, s.alerts[0].SeenBy = s.now(), "ada"
	s.alerts[1].MutedUntil = s.now().Add(30 * time.Hour)
	assert.Equal(t, []string{"backup  seen", "in_doubt  muted", "stuck 7 open"}, s.open())
	assert.Equal(t, []string{"24h2m10s office: Still: backup", "24h12m10s office: Still: stuck 7"}, s.pass(25*time.Hour, "backup ", "stuck 7", "in_doubt "))
	assert.Len(t, s.pass(20*time.Minute), 2, "the ends of those that are not muted")
	assert.Empty(t, s.open())
}

// After a restart what is counted within ten minutes is not known: an alert of it stays until it is.
func TestRestart(t *testing.T) {
	s := stage(t, &api.Alerts{})
	assert.Len(t, s.pass(15*time.Minute, "failing dues.charge", "backup "), 2)
	s.book, s.up = Book{}, 0
	assert.Len(t, s.pass(9*time.Minute), 1)
	assert.Equal(t, []string{"failing dues.charge open"}, s.open())
	s.pass(5 * time.Minute)
	assert.Empty(t, s.open())
}

// Whatever comes and goes, of one thing at most one alert is open, each that opens is told once and its end
// once, and what flaps is told ever more rarely.
func TestNothingFlaps(t *testing.T) {
	seed := rand.Uint64()
	draw := rand.New(rand.NewPCG(seed, 7))
	t.Logf("seed %d", seed)
	s := stage(t, &api.Alerts{})
	things := []string{"backup ", "disk ", "dead common", "behind berths", "schedule dues"}
	for range 3000 {
		clear(s.wrong)
		for _, about := range things {
			if draw.IntN(3) > 0 {
				s.wrong[about] = true
			}
		}
		for range 1 + draw.IntN(20) {
			s.look()
			open := map[string]bool{}
			for _, a := range s.alerts {
				require.False(t, a.OverAt == 0 && open[a.Rule+a.About], "two alerts of %s %s are open", a.Rule, a.About)
				open[a.Rule+a.About] = open[a.Rule+a.About] || a.OverAt == 0
				require.LessOrEqual(t, a.RightFor.Go(), max(longestRight, s.rules[a.Rule].For.Go()))
			}
		}
	}
	flaps := s.pass(0)
	for range 12 * 60 / 4 { // twelve hours of two minutes wrong and two right
		flaps = append(flaps, s.pass(2*time.Minute, "disk ")...)
		flaps = append(flaps, s.pass(2*time.Minute)...)
	}
	assert.Less(t, len(flaps), 12)
}

// A flood of causes opens so many alerts, and one for the rest; a message names some of them, and is one.
func TestFlood(t *testing.T) {
	s := stage(t, &api.Alerts{})
	var flood []string
	for i := range 600 {
		flood = append(flood, fmt.Sprint("new_cause ", i))
	}
	told := s.pass(10*time.Minute, flood...)
	assert.Equal(t, []string{"1m10s office: Alerts: 50 new, 51 more"}, told)
	open := s.open()
	assert.Len(t, open, MostOfRule+1)
	assert.Contains(t, open, "new_cause (others) open")
	last := s.alerts[len(s.alerts)-1]
	assert.Equal(t, "Rule new_cause finds 500 more things wrong.", strings.ReplaceAll(last.Text, "\u202f", " "))
	assert.Empty(t, s.pass(time.Hour, flood...))
	assert.Len(t, s.alerts, MostOfRule+1)
	assert.Len(t, s.pass(10*time.Minute), 1)
	assert.Empty(t, s.open())
}

// 200 rules are held against a large service, of which a tenth is wrong, within 5 ms.
func BenchmarkRead(b *testing.B) {
	seen := Seen{Standing: status.Standing{Now: now}, UsualWait: map[string]time.Duration{}}
	set := &api.Alerts{Rules: map[string]api.AlertRule{}}
	watched := api.WatchedThings()
	for i := range 200 {
		name := fmt.Sprint("quay-", i)
		queue(func(q *api.Queue) { q.Name, q.OldestReadyMS = name, 1_260_000; q.Pace.Clear = new(api.Clear) })(&seen)
		cause(int64(i), 2, 48*time.Hour)(&seen)
		seen.UsualWait[name] = time.Hour
		seen.Tasks = append(seen.Tasks, Failing{name, 10, 40, 30, 100})
		if i%10 == 0 {
			cause(int64(i), 200, time.Hour)(&seen)
			seen.UsualWait[name] = time.Second
			seen.Tasks[i].UsuallyFailed = 1
			seen.Untaken = append(seen.Untaken, status.Untaken{Queue: name, Ready: 2})
		}
		watch := watched[i%len(watched)]
		r := api.AlertRule{Watch: watch.Watch}
		if watch.Of != "" {
			r.Of = []string{name}
		}
		set.Rules[name] = r
	}
	rules := set.InForce()
	var book Book
	var alerts []api.Alert
	for i := 0; b.Loop(); i++ {
		next, changed := Step(book, alerts, Read(&seen, rules), time.Duration(i)*every, now)
		book = next
		Say(changed, rules, now)
	}
}
