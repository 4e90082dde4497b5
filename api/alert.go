package api

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"humblemule.example/internal/check"
	"humblemule.example/internal/nearest"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// Alerts say when somebody is told that something is wrong, whom, and when not. What is not said is as built
// in: every rule of [BuiltInRules] holds, and nobody is told but by the console and the commands.
type Alerts struct {
	// Rules by name. A rule that is named as what it watches takes the place of the built-in one; others are
	// added to those.
	Rules map[string]AlertRule `json:"rules,omitzero"`
	// Channels are the ways in which somebody is told, by name, and Tell those of rules that name none.
	Channels map[string]AlertChannel `json:"channels,omitzero"`
	Tell     []string                `json:"tell,omitzero"`
	// Quiet are the hours in which only critical alerts are told; what else happens then is told when they end.
	Quiet *QuietHours `json:"quiet,omitzero"`
	// Off switches all alerts off.
	Off bool `json:"off,omitzero"`
}

// AlertRule says when something is wrong. A field that is left out is as built in for what the rule watches.
type AlertRule struct {
	// Watch is what it watches, one of [Watched]; empty where the rule has that name.
	Watch string `json:"watch,omitzero"`
	// Of are the names of queues, tasks, schedules, hooks, endpoints or hosts, by what is watched; empty for
	// all. What one rule names, no rule that names none watches.
	Of []string `json:"of,omitzero"`
	// Over is the bound that must be passed.
	Over Bound `json:"over,omitzero"`
	// For is for how long it must hold; nil means as built in.
	For *job.Duration `json:"for,omitzero"`
	// Severity is critical or warning (RFC 5424).
	Severity string `json:"severity,omitzero"`
	// Tell names the channels, nil for those of all rules.
	Tell []string `json:"tell,omitzero"`
	// Quiet are quiet hours of its own.
	Quiet *QuietHours `json:"quiet,omitzero"`
	Off   bool        `json:"off,omitzero"`
	Note  string      `json:"note,omitzero"`
}

// AlertChannel is a way in which somebody is told of alerts: exactly one of its fields is given.
type AlertChannel struct {
	Mail *job.Mail `json:"mail,omitzero"`
	// Call is a request whose body is the message, as a CloudEvent.
	Call *job.Call `json:"call,omitzero"`
	// Endpoint is the name of an endpoint.
	Endpoint string `json:"endpoint,omitzero"`
	// Command is the name of a command that the file names with which the service is started.
	Command string `json:"command,omitzero"`
}

// QuietHours are those from a time of the day to another, HH:MM, in a zone; the same time twice is none.
type QuietHours struct {
	From string `json:"from"`
	To   string `json:"to"`
	// Zone is a name of the IANA Time Zone Database; empty means UTC.
	Zone string `json:"zone,omitzero"`
}

// The severities, by which the worst is told first.
const (
	SeverityCritical = "critical"
	SeverityWarning  = "warning"
)

// What rules watch beside what is a [Fact] of the same kind.
const (
	WatchDead    = "dead"    // dead letters of a queue
	WatchOldest  = "oldest"  // the oldest ready job of a queue, beside its usual wait
	WatchFailing = "failing" // the share of attempts of a task that fail, beside its usual one
	WatchLate    = "late"    // a schedule that is late
	WatchHook    = FactHook  // deliveries that a hook refuses
	WatchBackup  = "backup"  // backups that the service makes by itself
)

// Watched is what a rule can watch, what Of names then, which bounds it takes, and what is built in.
type Watched struct {
	Watch string `json:"watch"`
	// Says is what is wrong when it alerts; OVER stands for the bound.
	Says string `json:"says"`
	// Mend is what to do about it.
	Mend string `json:"mend"`
	// Of is queue, task, schedule, hook, endpoint or host; empty where it is about the service.
	Of string `json:"of,omitzero"`
	// Over is the built-in bound, empty where there is none, and Bounds which kinds it may be of.
	Over   Bound        `json:"over,omitzero"`
	Bounds []string     `json:"bounds,omitzero"`
	For    job.Duration `json:"for"`
	// Severity is the built-in one.
	Severity string `json:"severity"`
}

// The kinds of bounds.
const (
	BoundNumber   = "number"   // 100
	BoundDuration = "duration" // 30m
	BoundTimes    = "times"    // 4x, of what is usual
	BoundShare    = "share"    // 20%
)

const minute = job.Duration(time.Minute)

// WatchedThings is all that a rule can watch, the worst first.
func WatchedThings() []Watched { return slices.Clone(watched) }

var watched = []Watched{
	{FactRefused, "the disk takes no writes", "Look at the disk. Do not restart the service: it goes on by itself when the disk does.", "", "", nil, 0, SeverityCritical},
	{FactDisk, "too little is free for jobs to be taken in", "Free some space, purge a queue, or keep finished jobs for a shorter time.", "", "", nil, 0, SeverityCritical},
	{FactNoWorker, "more than OVER jobs are ready that no worker takes", "Start a pool that serves the queue, or see whether a name is misspelt.", "queue", "0", []string{BoundNumber}, 2 * minute, SeverityCritical},
	{FactNewCause, "jobs have begun to die of an error", "Read what failed, mend it, and recover its jobs; then say that you have seen it.", "task", "", nil, 0, SeverityWarning},
	{WatchDead, "a queue has more than OVER dead letters", "Mend what most of them died of, then recover those jobs.", "queue", "100", []string{BoundNumber}, minute, SeverityWarning},
	{WatchOldest, "a job waits in a queue for longer than OVER", "See what keeps the queue: too few slots, a limit, a lane, or a pause.", "queue", "10x", []string{BoundTimes, BoundDuration}, 2 * minute, SeverityWarning},
	{FactBehind, "more jobs come to a queue than finish", "Add slots, or let fewer jobs come.", "queue", "", nil, 10 * minute, SeverityWarning},
	{WatchFailing, "more than OVER of the attempts of a task fail", "See what the attempts fail of; pause the queue where trying again does harm.", "task", "4x", []string{BoundTimes, BoundShare}, 2 * minute, SeverityWarning},
	{FactSchedule, "the latest runs of a schedule have died, more than OVER in a row", "Read the error of its last run.", "schedule", "1", []string{BoundNumber}, 0, SeverityWarning},
	{WatchLate, "a schedule is late by more than OVER", "See whether the service had stopped, or its clock has jumped.", "schedule", "5m", []string{BoundDuration}, 0, SeverityWarning},
	{FactStuck, "a batch is stuck", "Requeue what has died, or let the jobs that wait go on without it.", "", "", nil, 10 * minute, SeverityWarning},
	{FactInDoubt, "more than OVER jobs have steps in doubt", "Find out whether the steps are done, then requeue the jobs.", "", "0", []string{BoundNumber}, 5 * minute, SeverityWarning},
	{WatchHook, "a hook refuses more than OVER deliveries within ten minutes, or all", "See the reasons: a changed secret, a clock that is off, or a stranger who sends.", "hook", "20", []string{BoundNumber}, 0, SeverityWarning},
	{FactEndpoint, "an endpoint has paused itself", "Ask whose it is; when it takes messages again, resume it.", "endpoint", "", nil, 0, SeverityWarning},
	{FactSilent, "a host gives no answer to calls", "See whether the host is up: its jobs go on by themselves when it answers.", "host", "", nil, 5 * minute, SeverityWarning},
	{WatchBackup, "a scheduled backup has failed", "Look at the folder of the backups: its rights, and what is free.", "", "", nil, 0, SeverityWarning},
}

// WatchedAs finds what a rule watches; nil where there is nothing of the name.
func WatchedAs(watch string) *Watched {
	if i := slices.IndexFunc(watched, func(w Watched) bool { return w.Watch == watch }); i >= 0 {
		return &watched[i]
	}
	return nil
}

// BuiltInRules are the rules that hold unless others take their places: one for each thing that is watched,
// named as that.
func BuiltInRules() map[string]AlertRule {
	all := map[string]AlertRule{}
	for _, w := range watched {
		all[w.Watch] = AlertRule{}.within(w.Watch)
	}
	return all
}

// WatchedAs is what a rule of a name watches.
func (r *AlertRule) WatchedAs(name string) string {
	if r.Watch == "" {
		return name
	}
	return r.Watch
}

// within gives a rule of a name with what is built in for what it watches.
func (r AlertRule) within(name string) AlertRule {
	r.Watch = r.WatchedAs(name)
	if w := WatchedAs(r.Watch); w != nil {
		if r.Over == "" {
			r.Over = w.Over
		}
		if r.For == nil {
			r.For = &w.For
		}
		if r.Severity == "" {
			r.Severity = w.Severity
		}
	}
	return r
}

// InForce are the rules that hold, with all that is built in; a may be nil. Rules that are off are among
// them, unless all are.
func (a *Alerts) InForce() map[string]AlertRule {
	all := BuiltInRules()
	if a == nil {
		return all
	}
	if a.Off {
		return map[string]AlertRule{}
	}
	for name, r := range a.Rules {
		all[name] = r.within(name)
	}
	for name, r := range all {
		if r.Tell == nil {
			r.Tell = a.Tell
		}
		if r.Quiet == nil && r.Severity != SeverityCritical {
			r.Quiet = a.Quiet
		}
		all[name] = r
	}
	return all
}

// What there may be of alerts.
const (
	MaxAlertRules    = 500
	MaxAlertChannels = 50
	mostAbout        = 100
	mostTell         = 20
	longestHold      = job.Duration(7 * day)
)

// Check answers what is wrong with alerts, but for what they name elsewhere.
func (a *Alerts) Check() []job.FieldError {
	var c check.List
	if len(a.Rules) > MaxAlertRules {
		c.Add("rules", "are %d; at most %d are taken", len(a.Rules), MaxAlertRules)
	}
	if len(a.Channels) > MaxAlertChannels {
		c.Add("channels", "are %d; at most %d are taken", len(a.Channels), MaxAlertChannels)
	}
	for _, name := range slices.Sorted(maps.Keys(a.Channels)) {
		at := "channels." + name
		c.Name(at, name)
		ch := a.Channels[name]
		ch.check(&c, at)
	}
	a.checkTell(&c, "tell", a.Tell)
	a.Quiet.check(&c, "quiet")
	for _, name := range slices.Sorted(maps.Keys(a.Rules)) {
		at := "rules." + name
		c.Name(at, name)
		r := a.Rules[name]
		r.check(&c, at+".", name)
		a.checkTell(&c, at+".tell", r.Tell)
		r.Quiet.check(&c, at+".quiet")
	}
	return c
}

func (a *Alerts) checkTell(c *check.List, at string, tell []string) {
	if len(tell) > mostTell {
		c.Add(at, "names %d channels; at most %d are taken", len(tell), mostTell)
	}
	for i, name := range tell {
		if _, there := a.Channels[name]; !there {
			c.Add(fmt.Sprintf("%s[%d]", at, i), "%q is not one of the channels%s", text.Shorten(name), orNearest(name, slices.Sorted(maps.Keys(a.Channels))))
		}
	}
}

// orNearest names what is perhaps meant, or else the whole choice.
func orNearest(name string, names []string) string {
	if n := nearest.To(name, names); n != "" {
		return "; the nearest is " + n
	}
	if len(names) == 0 {
		return "; there is none"
	}
	return "; there are " + strings.Join(names, ", ")
}

func (r *AlertRule) check(c *check.List, at, name string) {
	watch := r.WatchedAs(name)
	w := WatchedAs(watch)
	if w == nil {
		var names []string
		for _, one := range watched {
			names = append(names, one.Watch)
		}
		c.Add(at+"watch", "%q cannot be watched%s", text.Shorten(watch), orNearest(watch, names))
		return
	}
	if len(r.Of) > mostAbout {
		c.Add(at+"of", "names %d; at most %d are taken", len(r.Of), mostAbout)
	}
	if len(r.Of) > 0 && w.Of == "" {
		c.Add(at+"of", "cannot be given: %s is about the service as a whole", watch)
	}
	for i, of := range r.Of {
		if w.Of == "host" {
			c.Word(fmt.Sprintf("%sof[%d]", at, i), of, job.MaxWordBytes)
		} else {
			c.Name(fmt.Sprintf("%sof[%d]", at, i), of)
		}
	}
	if r.Over != "" {
		_, kind, fault := r.Over.Read()
		switch {
		case fault != "":
			c.Add(at+"over", "%s", fault)
		case len(w.Bounds) == 0:
			c.Add(at+"over", "cannot be given: %s has no bound", watch)
		case !slices.Contains(w.Bounds, kind):
			c.Add(at+"over", "%s is a %s; %s takes %s", r.Over, kind, watch, strings.Join(named(w.Bounds), " or "))
		}
	}
	if r.For != nil && (*r.For < 0 || *r.For > longestHold) {
		c.Add(at+"for", "is %s; give 0s to %s", *r.For, longestHold)
	}
	c.OneOf(at+"severity", r.Severity, SeverityCritical, SeverityWarning)
	if len(r.Note) > longestNote {
		c.Add(at+"note", "is longer than %d bytes", longestNote)
	}
}

// named gives an example for each of some kinds of bounds.
func named(kinds []string) (all []string) {
	examples := map[string]string{BoundNumber: "a number such as 100", BoundDuration: "a duration such as 30m", BoundTimes: "how many times what is usual, such as 4x", BoundShare: "a share such as 20%"}
	for _, k := range kinds {
		all = append(all, examples[k])
	}
	return all
}

// Notify is the channel as a job would tell of its end, the zero value for a command.
func (ch *AlertChannel) Notify() job.Notify {
	return job.Notify{On: []job.State{job.Dead}, Endpoint: ch.Endpoint, Call: ch.Call, Mail: ch.Mail}
}

func (ch *AlertChannel) check(c *check.List, at string) {
	given := 0
	for _, is := range []bool{ch.Mail != nil, ch.Call != nil, ch.Endpoint != "", ch.Command != ""} {
		if is {
			given++
		}
	}
	if given != 1 {
		c.Add(at, "has %d ways; give one of mail, call, endpoint and command", given)
		return
	}
	if ch.Command != "" {
		c.Name(at+".command", ch.Command)
		return
	}
	var wrong check.List
	job.CheckNotify(&wrong, at, []job.Notify{ch.Notify()})
	for _, w := range wrong {
		c.Add(strings.Replace(w.Field, at+"[0].", at+".", 1), "%s", w.Message)
	}
}

func (q *QuietHours) check(c *check.List, at string) {
	if q == nil {
		return
	}
	for field, value := range map[string]string{".from": q.From, ".to": q.To} {
		if _, err := time.Parse("15:04", value); err != nil || len(value) != len("15:04") {
			c.Add(at+field, "%q is not a time of the day such as 22:00", text.Shorten(value))
		}
	}
	if _, err := time.LoadLocation(q.Zone); err != nil || q.Zone == "Local" {
		c.Add(at+".zone", "%q is not a time zone such as Europe/London", text.Shorten(q.Zone))
	}
}

// Holds tells whether a time is within the quiet hours; q may be nil.
func (q *QuietHours) Holds(at job.Time) bool {
	if q == nil {
		return false
	}
	zone, err := time.LoadLocation(q.Zone)
	if err != nil {
		return false
	}
	day := at.Go().In(zone).Format("15:04")
	if q.From <= q.To {
		return q.From <= day && day < q.To
	}
	return day >= q.From || day < q.To
}

// Bound is the bound of a rule: a number as 100, a duration as 30m, how many times what is usual as 4x, or a
// share as 20%. It reads itself from a text or a number.
type Bound string

// Read gives the value of a bound, a duration in milliseconds and a share as a part of one, with its kind;
// fault says why it is none.
func (b Bound) Read() (value float64, kind, fault string) {
	s := strings.TrimSpace(string(b))
	number, kind, scale := s, BoundNumber, 1.0
	switch {
	case strings.HasSuffix(s, "x"):
		number, kind = strings.TrimSuffix(s, "x"), BoundTimes
	case strings.HasSuffix(s, "%"):
		number, kind, scale = strings.TrimSuffix(s, "%"), BoundShare, 100
	}
	value, err := strconv.ParseFloat(number, 64)
	if err == nil && value >= 0 && value <= 1e12 {
		return value / scale, kind, ""
	}
	if d, err := job.ParseDuration(s); err == nil && d >= 0 && kind == BoundNumber {
		return float64(d.Go().Milliseconds()), BoundDuration, ""
	}
	return 0, "", fmt.Sprintf("%q is not a bound such as 100, 30m, 4x or 20%%", text.Shorten(s))
}

// MarshalJSON writes a number as one, and anything else as a text.
func (b Bound) MarshalJSON() ([]byte, error) {
	if n, err := strconv.ParseInt(string(b), 10, 64); err == nil {
		return strconv.AppendInt(nil, n, 10), nil
	}
	return json.Marshal(string(b))
}

// UnmarshalJSON reads a text or a number.
func (b *Bound) UnmarshalJSON(raw []byte) error {
	var s string
	if raw = bytes.TrimSpace(raw); len(raw) > 0 && raw[0] == '"' {
		if err := json.Unmarshal(raw, &s); err != nil {
			return err
		}
	} else if _, err := strconv.ParseFloat(string(raw), 64); err == nil {
		s = string(raw)
	} else if string(raw) != "null" {
		return fmt.Errorf("%q is not a bound such as 100, 30m, 4x or 20%%", text.Shorten(string(raw)))
	}
	*b = Bound(s)
	return nil
}

// The states of an alert.
const (
	AlertOpen  = "open"
	AlertSeen  = "seen"
	AlertMuted = "muted"
	AlertOver  = "over"
)

// AlertStates are all of them.
func AlertStates() []string { return []string{AlertOpen, AlertSeen, AlertMuted, AlertOver} }

// Alert is something that a rule has found wrong. What it says is as it was found last.
type Alert struct {
	ID    int64  `json:"id"`
	State string `json:"state"`
	// Rule is the name of the rule, and About the one thing that it is about, empty for the service.
	Rule     string `json:"rule"`
	About    string `json:"about,omitzero"`
	Severity string `json:"severity"`
	// Fact is what is wrong; its kind is what the rule watches.
	Fact
	// Likely is what may be the reason; empty where nothing tells.
	Likely string `json:"likely,omitzero"`
	// Mend is what to do about it.
	Mend string `json:"mend,omitzero"`
	// Since is since when it has been wrong, OpenedAt when it had been for as long as the rule says, and OverAt
	// when it was over; 0 while it is not.
	Since    job.Time `json:"since"`
	OpenedAt job.Time `json:"opened_at"`
	OverAt   job.Time `json:"over_at,omitzero"`
	// Reopened is how often it was over and wrong again within an hour.
	Reopened int `json:"reopened,omitzero"`
	// RightFor is for how long it must be right to be over.
	RightFor job.Duration `json:"right_for"`
	// SeenBy is who has seen it, and Note what they say of it.
	SeenBy string   `json:"seen_by,omitzero"`
	SeenAt job.Time `json:"seen_at,omitzero"`
	Note   string   `json:"note,omitzero"`
	// MutedUntil is until when nobody is told, and MutedBy who says so.
	MutedUntil job.Time `json:"muted_until,omitzero"`
	MutedBy    string   `json:"muted_by,omitzero"`
	// ToldAt is when somebody was told that it is wrong, RemindedAt when they were reminded, and OverToldAt when
	// they were told that it is over; 0 for never.
	ToldAt     job.Time `json:"told_at,omitzero"`
	RemindedAt job.Time `json:"reminded_at,omitzero"`
	OverToldAt job.Time `json:"over_told_at,omitzero"`
	// Untold is why nobody was told yet; empty where somebody was, or will be within a minute. It is not kept.
	Untold string `json:"untold,omitzero"`
}

// StateAt is the state of an alert at a time.
func (a *Alert) StateAt(now job.Time) string {
	switch {
	case a.OverAt != 0:
		return AlertOver
	case a.MutedUntil > now:
		return AlertMuted
	case a.SeenAt != 0:
		return AlertSeen
	}
	return AlertOpen
}

// TypeAlerts is the type of the CloudEvent of a message of alerts, whose data are [AlertsTold].
const TypeAlerts = "humblemule.alerts"

// AlertsTold is what one message says of alerts: those that have opened, those that are still wrong a day
// after it was said, and those that are over.
type AlertsTold struct {
	Opened []Alert `json:"opened,omitzero"`
	Still  []Alert `json:"still,omitzero"`
	Over   []Alert `json:"over,omitzero"`
	// More is how many the message does not name.
	More int `json:"more,omitzero"`
	// Test tells that it is a test, by whom.
	Test string `json:"test,omitzero"`
}

// SeenRequest is what somebody says who has seen an alert.
type SeenRequest struct {
	Note string `json:"note,omitzero"`
}

// MuteRequest says for how long nobody is told of an alert; zero ends that.
type MuteRequest struct {
	For job.Duration `json:"for"`
}

// What there may be of a note, and for how long an alert can be muted.
const (
	MaxAlertNote = longestNote
	MaxMute      = job.Duration(30 * day)
)

// AlertRuleStatus is a rule that holds, with all that is built in.
type AlertRuleStatus struct {
	Name string `json:"name"`
	AlertRule
	// Says tells in words when it alerts.
	Says string `json:"says"`
	// DefinedBy is built_in or file.
	DefinedBy string `json:"defined_by"`
	// Open is how many of its alerts are not over.
	Open int `json:"open"`
}

// AlertSetup is what holds of alerts: the rules, and the channels with their names.
type AlertSetup struct {
	Rules    []AlertRuleStatus       `json:"rules"`
	Channels map[string]AlertChannel `json:"channels"`
	// Off tells that all alerts are switched off.
	Off bool `json:"off,omitzero"`
}

// AlertTestRequest names the channels that are tested; none for all.
type AlertTestRequest struct {
	Channels []string `json:"channels,omitzero"`
}

// AlertTest tells which jobs send the messages of a test, one for each channel, by the names of those.
type AlertTest struct {
	Jobs map[string]int64 `json:"jobs"`
}
