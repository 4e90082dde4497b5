package cron

import (
	"fmt"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Rule finds planned times: those of an expression in a zone, or every so often from a
// time on.
type Rule struct {
	expr  *Expr
	zone  *time.Location
	every time.Duration
	from  time.Time
}

// Zone finds a zone of the tz database; the error names the nearest one.
func Zone(name string) (*time.Location, error) {
	if name == "" {
		return time.UTC, nil
	}
	z, err := time.LoadLocation(name)
	if err != nil || name == "Local" {
		return nil, wrong("%s is not a valid time zone%s; write it as Europe/Lisbon, or UTC", quoted(name), sentence.Perhaps(nearestZone(name)))
	}
	return z, nil
}

// NewRule reads the times of a schedule, which was checked; made is when it was made.
func NewRule(s *api.Schedule, made job.Time) (r Rule, field string, err error) {
	if r.zone, err = Zone(s.Zone); err != nil {
		return r, "zone", err
	}
	if s.Every != 0 {
		r.every, r.from = s.Every.Go(), made.Go()
		if s.From != 0 {
			r.from = s.From.Go()
		}
		return r, "", nil
	}
	r.expr, err = Parse(s.Cron)
	return r, "cron", err
}

// Check answers what is wrong with a schedule.
func Check(s *api.Schedule, maxPayload int, now job.Time) []job.FieldError {
	wrong := s.Check(maxPayload)
	if s.Cron == "" && s.Every == 0 || s.Every != 0 && s.Cron != "" {
		return wrong
	}
	rule, field, err := NewRule(s, now)
	if err != nil {
		return append(wrong, job.FieldError{Field: field, Message: err.Error()})
	}
	if next, found := rule.Next(now.Go()); s.Until != 0 && (s.Until <= now || found && job.At(next) > s.Until) {
		wrong = append(wrong, job.FieldError{Field: "until", Message: fmt.Sprintf("%s leaves no time to come", s.Until)})
	}
	return wrong
}

// Next is the first planned time after an instant; false where there is none.
func (r *Rule) Next(after time.Time) (time.Time, bool) {
	if r.expr != nil {
		return r.expr.Next(after, r.zone)
	}
	if after.Before(r.from) {
		return r.from, true
	}
	return r.from.Add(after.Sub(r.from)/r.every*r.every + r.every), true
}

// Prev is the last planned time before an instant; false where there is none.
func (r *Rule) Prev(before time.Time) (time.Time, bool) {
	if r.expr != nil {
		return r.expr.Prev(before, r.zone)
	}
	if !before.After(r.from) {
		return time.Time{}, false
	}
	return r.from.Add((before.Sub(r.from) - 1) / r.every * r.every), true
}

// Describe puts the rule in words.
func (r *Rule) Describe() string {
	if r.expr != nil {
		return r.expr.Describe()
	}
	return "every " + job.Duration(r.every).String()
}

// Form tells which form of an expression was read.
func (r *Rule) Form() string {
	if r.expr != nil {
		return r.expr.Form()
	}
	return "a span of time"
}

// Tell gives the next n times after an instant, not after until where that is not zero,
// and what changes of the clocks do to them.
func (r *Rule) Tell(after time.Time, n int, until job.Time) api.CronExplanation {
	told := api.CronExplanation{Form: r.Form(), Summary: r.Describe(), Zone: r.zone.String(), Next: []api.Instant{}, Notes: []string{}}
	last := after
	for range n {
		next, found := r.Next(last)
		if !found || until != 0 && job.At(next) > until {
			break
		}
		told.Next = append(told.Next, r.Instant(next))
		last = next
	}
	told.Notes = append(told.Notes, r.notes(after, last)...)
	return told
}

// Instant tells a moment in UTC and in the rule's zone.
func (r *Rule) Instant(at time.Time) api.Instant {
	return api.Instant{UTC: job.At(at), Local: at.In(r.zone).Format("Mon 2006-01-02 15:04:05 MST")}
}

// mostNotes bounds the changes of clocks that are told.
const mostNotes = 4

// notes says what changes of the clocks within a span do to the times of the rule.
func (r *Rule) notes(from, to time.Time) (all []string) {
	for at := from.Unix(); len(all) < mostNotes; {
		s := stretchAt(at, r.zone)
		if s.noEnd || s.end > to.Unix() {
			return all
		}
		next := stretchAt(s.end, r.zone)
		if shift := next.offset - s.offset; shift != 0 {
			all = append(all, r.note(s.end, s.offset, next.offset))
		}
		at = s.end
	}
	return all
}

func (r *Rule) note(at, before, after int64) string {
	const clock = "15:04"
	reads := func(civil int64) string { return time.Unix(civil, 0).UTC().Format(clock) }
	day := time.Unix(at+before, 0).UTC().Format("Monday 2006-01-02")
	says := fmt.Sprintf("On %s clocks go from %s to %s", day, reads(at+before), reads(at+after))
	if r.expr == nil {
		return says + "; a span of time is not affected."
	}
	first, end := at+before, at+after // the times that are left out, or come twice
	if after < before {
		first, end = at+after, at+before
	}
	n, found := r.expr.nextCivil(first)
	touched := found && n < end
	switch {
	case !touched:
		return says + "; no planned time is affected."
	case after > before && r.expr.eachHour:
		return says + "; the times in between do not exist, so they do not come."
	case after > before:
		return fmt.Sprintf("%s; a time in between, such as %s, comes at %s.", says, reads(n), reads(at+after))
	case r.expr.eachHour:
		return says + "; the times in between come twice."
	}
	return fmt.Sprintf("%s; a time in between, such as %s, comes only the first time.", says, reads(n))
}
