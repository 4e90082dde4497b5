package api

import (
	"fmt"
	"reflect"
	"slices"
	"time"

	"humblemule.example/internal/check"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Schedule is a rule that enqueues a job, or starts a batch, again and again.
type Schedule struct {
	Name string `json:"name,omitzero"`
	// Cron says when, in the local time of Zone; or Every, 1s to 366d, counted from From
	// on, which is when the schedule was made where it is absent. One of the two is given.
	Cron  string       `json:"cron,omitzero"`
	Every job.Duration `json:"every,omitzero"`
	From  job.Time     `json:"from,omitzero"`
	// Zone is a name of the tz database, such as Europe/Lisbon; empty means UTC.
	Zone string `json:"zone,omitzero"`
	// Job is what is enqueued. It has no run_at, delay and start_by.
	Job job.Spec `json:"job,omitzero"`
	// Batch is what is started instead: closed, with a last job, which stands for the run, and with
	// MaxScheduledJobs jobs at most. Its jobs have no run_at and start_by, and wait for one another only.
	Batch *NewBatch `json:"batch,omitzero"`
	// IfStillRunning says what becomes of a run whose last one is not over: skip (the
	// default), wait (for its end; one at most waits), or also. Skip and wait replace a
	// last run that waits for its next attempt. A batch is over with its last job.
	IfStillRunning string `json:"if_still_running,omitzero"`
	// Missed says what becomes of times that could not be kept within LateLimit: skip, once
	// (the default: one run for all of them), or all, to 1000.
	Missed string `json:"missed,omitzero"`
	// LateLimit is 1s to 30d; zero means 1m.
	LateLimit job.Duration `json:"late_limit,omitzero"`
	// Spread, to 1h, delays each run by a part of it that depends on the name alone, so
	// that schedules of one time do not start at once.
	Spread job.Duration `json:"spread,omitzero"`
	// Paused pauses it or lets it go on; nil leaves that as it is.
	Paused *bool `json:"paused,omitzero"`
	// Until is the time after which nothing is planned.
	Until job.Time `json:"until,omitzero"`
	Note  string   `json:"note,omitzero"`
}

// The words of a schedule.
const (
	RunSkips   = "skip"
	RunWaits   = "wait"
	RunsAlso   = "also"
	MissedSkip = "skip"
	MissedOnce = "once"
	MissedAll  = "all"

	// MaxMissed is how many missed runs of a schedule are made up for.
	MaxMissed = 1000
	// MaxSchedules bounds the schedules of a service.
	MaxSchedules = 20_000
	// MaxScheduledJobs is how many jobs a batch of a schedule has at most, the last one included.
	MaxScheduledJobs = 500
)

// Run is the spec of the job that stands for a run: that of its job, or of the last one of its batch.
func (s *Schedule) Run() *job.Spec {
	if s.Batch != nil && s.Batch.Last != nil {
		return s.Batch.Last
	}
	return &s.Job
}

// Specs are those of all jobs that a run enqueues.
func (s *Schedule) Specs() (all []*job.Spec) {
	if s.Batch != nil {
		for i := range s.Batch.Jobs {
			all = append(all, &s.Batch.Jobs[i].Spec)
		}
	}
	return append(all, s.Run())
}

// Own gives a schedule whose specs may be changed, each as a whole.
func (s Schedule) Own() Schedule {
	if s.Batch != nil {
		b := *s.Batch
		b.Jobs = slices.Clone(b.Jobs)
		if b.Last != nil {
			last := *b.Last
			b.Last = &last
		}
		s.Batch = &b
	}
	return s
}

// WithDefaults gives a schedule with its defaults.
func (s Schedule) WithDefaults() Schedule {
	for _, d := range []struct {
		field *string
		word  string
	}{{&s.Zone, "UTC"}, {&s.IfStillRunning, RunSkips}, {&s.Missed, MissedOnce}} {
		if *d.field == "" {
			*d.field = d.word
		}
	}
	if s.LateLimit == 0 {
		s.LateLimit = defaultLate
	}
	return s
}

// Check answers what is wrong with a schedule, but for its expression and its zone.
func (s *Schedule) Check(maxPayload int) []job.FieldError {
	var c check.List
	switch {
	case s.Cron == "" && s.Every == 0:
		c.Add("cron", "is missing; give an expression such as 30 3 * * *, or every, such as 90s")
	case s.Cron != "" && s.Every != 0:
		c.Add("every", "cannot be combined with cron; give one of the two")
	case s.Every != 0 && (s.Every < shortestEvery || s.Every > longestEvery):
		c.Add("every", "%s is outside 1s to 366d", s.Every)
	}
	if s.From != 0 && s.Cron != "" {
		c.Add("from", "belongs to every; a cron expression has its own times")
	}
	c.OneOf("if_still_running", s.IfStillRunning, RunSkips, RunWaits, RunsAlso)
	c.OneOf("missed", s.Missed, MissedSkip, MissedOnce, MissedAll)
	if s.LateLimit != 0 && (s.LateLimit < job.Duration(time.Second) || s.LateLimit > longestLate) {
		c.Add("late_limit", "%s is outside 1s to 30d", s.LateLimit)
	}
	if s.Spread < 0 || s.Spread > longestSpread {
		c.Add("spread", "%s is outside 0 to 1h", s.Spread)
	}
	if len(s.Note) > longestNote {
		c.Add("note", "is longer than %d bytes", longestNote)
	}
	if s.Batch != nil {
		s.checkBatch(&c, maxPayload)
		return c
	}
	for _, w := range s.Job.Check(maxPayload) {
		w.Field = "job." + w.Field
		c = append(c, w)
	}
	unplanned(&c, "job.", &s.Job)
	if s.Job.Delay != 0 {
		c.Add("job.delay", "cannot be set in a schedule, which itself says when a run is due")
	}
	if s.Job.After != nil {
		c.Add("job.after", "cannot be set in a schedule, whose runs would all wait for the same jobs")
	}
	return c
}

// unplanned adds what of a spec sets a time of its own.
func unplanned(c *check.List, at string, spec *job.Spec) {
	if spec.RunAt != 0 {
		c.Add(at+"run_at", "cannot be set in a schedule, which itself says when a run is due")
	}
	if spec.StartBy != 0 {
		c.Add(at+"start_by", "cannot be set in a schedule, which itself says when a run is due")
	}
}

// checkBatch adds what is wrong with the batch of a schedule.
func (s *Schedule) checkBatch(c *check.List, maxPayload int) {
	b := s.Batch
	if !reflect.ValueOf(s.Job).IsZero() {
		c.Add("job", "cannot be combined with batch; give one of the two")
	}
	if b.Open {
		c.Add("batch.open", "cannot be set in a schedule, by which nobody would close it; let a job of it add others as it ends")
	}
	if b.Dedupe != "" {
		c.Add("batch.dedupe", "cannot be set in a schedule; if_still_running says what becomes of a run whose last one is not over")
	}
	if b.Last == nil {
		c.Add("batch.last", "is missing; the run of a schedule is over when the last job of its batch is")
	}
	if n := len(b.Jobs) + 1; n > MaxScheduledJobs {
		c.Add("batch.jobs", "are %d with the last one; a run enqueues at most %d: let one of them add the others as it ends", n, MaxScheduledJobs)
		return
	}
	at := func(i int) string { return fmt.Sprintf("jobs[%d].", i) }
	for _, w := range b.Check(maxPayload, at) {
		c.Add("batch."+w.Field, "%s", w.Message)
	}
	for i := range b.Jobs {
		unplanned(c, "batch."+at(i), &b.Jobs[i].Spec)
		if a := b.Jobs[i].After; a != nil && len(a.Jobs) > 0 {
			c.Add("batch."+at(i)+"after.jobs", "cannot be set in a schedule, whose runs would all wait for the same jobs; name jobs of the batch in after.refs")
		}
	}
	if b.Last != nil {
		unplanned(c, "batch.last.", b.Last)
	}
}

// Warnings says what is allowed in a schedule and likely not meant.
func (s *Schedule) Warnings() (all []job.Warning) {
	w := s.WithDefaults()
	if w.Missed == MissedAll && w.IfStillRunning != RunsAlso {
		all = append(all, job.Warning{Code: job.WarnRunsMeet, Message: fmt.Sprintf("missed: all makes many runs at once, and if_still_running: %s lets only the first of them run%s", w.IfStillRunning, map[bool]string{true: " and one wait"}[w.IfStillRunning == RunWaits]) + "."})
	}
	if s.Zone == "" && s.Cron != "" {
		all = append(all, job.Warning{Code: job.WarnZone, Message: "No zone is given: the expression is read in UTC."})
	}
	return all
}

// What a schedule's times came to, where they were not enqueued.
const (
	// RunStillRunning: the last run was not over.
	RunStillRunning = "still_running"
	// RunMissed: it could not be kept in time.
	RunMissed = "missed"
	// RunDuplicate: an earlier job with the same key answered for it.
	RunDuplicate = "duplicate"
	// RunRestored: the data file was restored from a backup after it came; whether it was enqueued
	// before is not known.
	RunRestored = "restored"
)

// Run is a planned time of a schedule, and what became of it.
type Run struct {
	// Number counts the runs that were enqueued, from 1 on; 0 for one that was not.
	Number    int64    `json:"number,omitzero"`
	PlannedAt job.Time `json:"planned_at"`
	// Asked tells that somebody ran it now; PlannedAt is when.
	Asked bool  `json:"asked,omitzero"`
	Job   int64 `json:"job_id,omitzero"`
	// Batch is that of which Job is the last one.
	Batch      int64     `json:"batch_id,omitzero"`
	EnqueuedAt job.Time  `json:"enqueued_at,omitzero"`
	StartedAt  job.Time  `json:"started_at,omitzero"`
	FinishedAt job.Time  `json:"finished_at,omitzero"`
	State      job.State `json:"state,omitzero"`
	// LateMS is how long after its planned time it started.
	LateMS int64 `json:"late_ms,omitzero"`
	// Reason is why it was not enqueued: still_running, missed, duplicate or restored; Times how many
	// planned times the line stands for where these are more than one.
	Reason string `json:"reason,omitzero"`
	Times  int64  `json:"times,omitzero"`
	// Summary tells what became of the planned time.
	Summary string `json:"summary"`
}

// Describe tells what became of a planned time.
func (r *Run) Describe() string {
	switch r.Reason {
	case RunStillRunning:
		return "skipped: the last run was not over"
	case RunMissed:
		if r.Times > 1 {
			return "missed, with " + sentence.Count(r.Times-1, "time", "times") + " before it"
		}
		return "missed"
	case RunDuplicate:
		return "an earlier job with the same key answered"
	case RunRestored:
		if r.Times > 1 {
			return "not enqueued again after a restore, with " + sentence.Count(r.Times-1, "time", "times") + " before it"
		}
		return "not enqueued again after a restore"
	}
	says := r.State.String()
	if r.State == job.Unplaced {
		says = "gone"
	}
	if r.LateMS >= 1000 {
		says += ", " + sentence.Roughly(time.Duration(r.LateMS)*time.Millisecond) + " late"
	}
	if r.Asked {
		says += ", run by hand"
	}
	return says
}

// Instant is a moment, in UTC and as the clocks of a zone read it.
type Instant struct {
	UTC   job.Time `json:"utc"`
	Local string   `json:"local"`
}

// CronExplanation is an expression as it is read: its form, its sentence, the next times, and
// what changes of the clocks do to them.
type CronExplanation struct {
	Form    string    `json:"form"`
	Summary string    `json:"summary"`
	Zone    string    `json:"zone"`
	Next    []Instant `json:"next"`
	Notes   []string  `json:"notes"`
}

// ScheduleStatus is a schedule as it stands.
type ScheduleStatus struct {
	Schedule
	Version int64 `json:"version"`
	// DefinedBy is file or hand.
	DefinedBy string `json:"defined_by"`
	// PausedAt and PausedBy tell since when it is paused, and by whom.
	PausedAt job.Time `json:"paused_at,omitzero"`
	PausedBy string   `json:"paused_by,omitzero"`
	// SpreadMS is its own part of the spread.
	SpreadMS int64     `json:"spread_ms,omitzero"`
	Summary  string    `json:"summary"`
	Next     []Instant `json:"next"`
	Notes    []string  `json:"notes,omitzero"`
	// Last is the latest run that was enqueued.
	Last *Run `json:"last,omitzero"`
	// FailedInARow is how many runs have died since one was done, at LastDoneAt.
	FailedInARow int64    `json:"failed_in_a_row,omitzero"`
	LastDoneAt   job.Time `json:"last_done_at,omitzero"`
	// Waiting is the job of a run that waits for the end of the last one.
	Waiting  int64         `json:"waiting,omitzero"`
	Warnings []job.Warning `json:"warnings,omitzero"`
}

const (
	shortestEvery = job.Duration(time.Second)
	longestEvery  = job.Duration(366 * day)
	defaultLate   = job.Duration(time.Minute)
	longestLate   = job.Duration(30 * day)
	longestSpread = job.Duration(time.Hour)
	longestNote   = 1000
)
