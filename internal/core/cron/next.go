package cron

import "time"

// lastYear is the last one in which times are looked for.
const lastYear = 9999

// stretch is a span of time in which a zone's offset does not change. Civil times are
// seconds since 1970 of what the clocks read.
type stretch struct {
	start, end     int64 // in seconds since 1970 UTC
	noStart, noEnd bool
	offset         int64
}

// longestShift is more than any two offsets of a zone are apart, in seconds.
const longestShift = 48 * 3600

// stretchAt is the one that holds an instant.
func stretchAt(t int64, zone *time.Location) stretch {
	start, end, offset := boundsAt(t, zone)
	s := stretch{offset: offset, noStart: start.IsZero(), noEnd: end.IsZero()}
	if !s.noEnd {
		s.end = end.Unix()
	}
	if !s.noStart {
		s.start = start.Unix()
	}
	return s
}

// reached is the latest civil time that the clocks read before a stretch that has a
// start; another stretch may have come shortly before the last.
func (s *stretch) reached(zone *time.Location) (civil int64) {
	civil = -1 << 62
	for before := s.start; ; {
		start, _, offset := boundsAt(before-1, zone)
		civil = max(civil, before+offset)
		if start.IsZero() || before-start.Unix() > longestShift {
			return civil
		}
		before = start.Unix()
	}
}

// begins tells from which civil time on the expression is asked in a stretch: what the
// clocks read before does not count again. It tells, too, whether a time of the
// expression was left out when the stretch began.
func (e *Expr) begins(s *stretch, zone *time.Location) (civil int64, gap bool) {
	civil = s.start + s.offset
	if e.eachHour {
		return civil, false
	}
	reached := s.reached(zone)
	if reached >= civil {
		return reached, false
	}
	n, found := e.nextCivil(reached)
	return civil, found && n < civil
}

// boundsAt tells the offset at an instant, and a span around it in which that holds.
func boundsAt(t int64, zone *time.Location) (start, end time.Time, offset int64) {
	at := time.Unix(t, 0).In(zone)
	start, end = at.ZoneBounds()
	_, o := at.Zone()
	if !end.IsZero() && !end.After(at) {
		// On the last day of a leap year after those that the zone's file lists, package
		// time tells the end of a common year.
		end = at.Add(time.Hour)
	}
	return start, end, int64(o)
}

// Next is the first time after an instant, in a zone; false where there is none before
// the year 10000. Times are whole seconds.
func (e *Expr) Next(after time.Time, zone *time.Location) (time.Time, bool) {
	t := after.Unix() + 1
	for {
		s := stretchAt(t, zone)
		civil := t + s.offset
		if !s.noStart && t-s.start < longestShift {
			first, gap := e.begins(&s, zone)
			if gap && t == s.start {
				return time.Unix(t, 0).In(zone), true
			}
			civil = max(civil, first)
		}
		n, found := e.nextCivil(civil)
		if !found {
			return time.Time{}, false
		}
		if s.noEnd || n-s.offset < s.end {
			return time.Unix(n-s.offset, 0).In(zone), true
		}
		t = max(s.end, n-s.offset-longestShift)
	}
}

// Prev is the last time before an instant, in a zone; false where there is none from the
// year 1 on.
func (e *Expr) Prev(before time.Time, zone *time.Location) (time.Time, bool) {
	t := before.Unix()
	if before.Nanosecond() == 0 {
		t--
	}
	for {
		s := stretchAt(t, zone)
		n, found := e.prevCivil(t + s.offset)
		if found && (s.noStart || n-s.offset-s.start >= longestShift) {
			return time.Unix(n-s.offset, 0).In(zone), true
		}
		if s.noStart {
			return time.Time{}, false
		}
		switch first, gap := e.begins(&s, zone); {
		case found && n >= first:
			return time.Unix(n-s.offset, 0).In(zone), true
		case gap:
			return time.Unix(s.start, 0).In(zone), true
		case !found:
			return time.Time{}, false
		}
		t = min(s.start-1, n-s.offset+longestShift)
	}
}

// date is what a calendar and a clock read.
type date struct{ year, month, day, hour, minute, second int }

// dateOf reads a civil time.
func dateOf(civil int64) date {
	t := time.Unix(civil, 0).UTC()
	year, month, day := t.Date()
	hour, minute, second := t.Clock()
	return date{year, int(month), day, hour, minute, second}
}

func (d date) civil() int64 {
	return time.Date(d.year, time.Month(d.month), d.day, d.hour, d.minute, d.second, 0, time.UTC).Unix()
}

// nextCivil is the first civil time from one on.
func (e *Expr) nextCivil(from int64) (int64, bool) {
	d := dateOf(from)
	if d.day = e.nextDay(&d); d.year > lastYear {
		return 0, false
	}
	if !e.nextClock(&d) { // nothing is left of the day
		d.day, d.hour, d.minute, d.second = d.day+1, 0, 0, 0
		if d.day = e.nextDay(&d); d.year > lastYear {
			return 0, false
		}
		e.nextClock(&d)
	}
	return d.civil(), true
}

// nextDay moves on to the first day that is meant, at midnight where it is a later one,
// and answers it.
func (e *Expr) nextDay(d *date) int {
	for began := *d; d.year <= lastYear; d.day = 1 {
		if m := e.month.next(d.month); m != d.month {
			d.month, d.day = m, 1
			if m == 64 {
				d.year, d.month = d.year+1, e.month.next(1)
			}
		}
		if day := e.days(d.year, d.month).next(d.day); day < 64 {
			if *d != began || day != d.day {
				d.hour, d.minute, d.second = 0, 0, 0
			}
			return day
		}
		d.month++
	}
	return 1
}

// nextClock moves on to the first time of the day; false where none is left.
func (e *Expr) nextClock(d *date) bool {
	h, m, s := d.hour, d.minute, e.second.next(d.second)
	if s == 64 {
		s, m = e.second.next(0), m+1
	}
	if n := e.minute.next(min(m, 63)); n != m {
		s, m = e.second.next(0), n
	}
	if m == 64 {
		m, h = e.minute.next(0), h+1
	}
	if n := e.hour.next(h); n != h {
		s, m, h = e.second.next(0), e.minute.next(0), n
	}
	d.hour, d.minute, d.second = h, m, s
	return h < 24
}

// prevCivil is the last civil time up to one.
func (e *Expr) prevCivil(to int64) (int64, bool) {
	d := dateOf(to)
	if d.day = e.prevDay(&d); d.year < 1 {
		return 0, false
	}
	if !e.prevClock(&d) {
		d.day, d.hour, d.minute, d.second = d.day-1, 23, 59, 59
		if d.day = e.prevDay(&d); d.year < 1 {
			return 0, false
		}
		e.prevClock(&d)
	}
	return d.civil(), true
}

func (e *Expr) prevDay(d *date) int {
	for began := *d; d.year >= 1; d.day = 31 {
		if m := e.month.prev(d.month); m != d.month {
			d.month, d.day = m, 31
			if m < 1 {
				d.year, d.month = d.year-1, e.month.prev(12)
			}
		}
		if day := e.days(d.year, d.month).prev(d.day); day > 0 {
			if *d != began || day != d.day {
				d.hour, d.minute, d.second = 23, 59, 59
			}
			return day
		}
		d.month--
	}
	return 1
}

func (e *Expr) prevClock(d *date) bool {
	h, m, s := d.hour, d.minute, e.second.prev(d.second)
	if s < 0 {
		s, m = e.second.prev(59), m-1
	}
	n := -1
	if m >= 0 {
		n = e.minute.prev(m)
	}
	if n != m {
		s, m = e.second.prev(59), n
	}
	if m < 0 {
		m, h = e.minute.prev(59), h-1
	}
	n = -1
	if h >= 0 {
		n = e.hour.prev(h)
	}
	if n != h {
		s, m, h = e.second.prev(59), e.minute.prev(59), n
	}
	d.hour, d.minute, d.second = h, m, s
	return h >= 0
}

// days are the days of a month that are meant.
func (e *Expr) days(year, month int) set {
	all := span(1, daysIn(year, month))
	if e.dayAny && e.weekdayAny {
		return all
	}
	var named set
	if !e.weekdayAny {
		week := e.weekday >> firstWeekday(year, month)
		week |= e.weekday << (7 - firstWeekday(year, month)) & span(0, 6)
		week &= span(0, 6) // bit 0 is the weekday of the first
		named = (week | week<<7 | week<<14 | week<<21 | week<<28) << 1
	}
	if !e.dayAny {
		named |= e.day
	}
	return all & named
}

// firstWeekday is that of the first day of a month; Sunday is 0.
func firstWeekday(year, month int) int {
	return int(time.Date(year, time.Month(month), 1, 0, 0, 0, 0, time.UTC).Weekday())
}

func daysIn(year, month int) int {
	switch month {
	case 4, 6, 9, 11:
		return 30
	case 2:
		if year%4 == 0 && (year%100 != 0 || year%400 == 0) {
			return 29
		}
		return 28
	}
	return 31
}
