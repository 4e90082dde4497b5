package cron

import (
	"fmt"
	"strings"
	"time"
)

// mostTimes is how many times of a day are told one by one.
const mostTimes = 6

// Describe puts the expression in a sentence that says neither more nor less.
func (e *Expr) Describe() string {
	clock, daily := e.saysClock()
	days := e.saysDays()
	if days == "every day" && !daily {
		return clock
	}
	return clock + " " + days
}

// saysClock says when within a day, and whether "every day" is worth saying beside it.
func (e *Expr) saysClock() (says string, daily bool) {
	hours, minutes := e.hour.len(), e.minute.len()
	eachHour := hours == 24
	if e.second.len() == 1 && !eachHour && hours*minutes <= mostTimes {
		return "at " + e.times(), true
	}
	minute := e.saysMinutes()
	if e.second != 1 {
		minute = e.saysSeconds()
	}
	every := strings.HasPrefix(minute, "every")
	switch {
	case eachHour && (every || strings.HasSuffix(minute, "of every minute")):
		return minute, false
	case eachHour:
		return minute + " of every hour", false
	case e.second == 1 && every && span(e.hour.next(0), e.hour.prev(23)) == e.hour:
		return fmt.Sprintf("%s from %02d:%02d to %02d:%02d", minute, e.hour.next(0), e.minute.next(0), e.hour.prev(23), e.minute.prev(59)), true
	}
	return fmt.Sprintf("%s of %s %s", minute, nouns(e.hour, "hour"), list(e.hour, number)), true
}

// times are the times of a day, which are few.
func (e *Expr) times() string {
	var all []string
	for _, h := range e.hour.members() {
		for _, m := range e.minute.members() {
			text := fmt.Sprintf("%02d:%02d", h, m)
			if s := e.second.next(0); s != 0 {
				text += fmt.Sprintf(":%02d", s)
			}
			all = append(all, text)
		}
	}
	return join(all)
}

func (e *Expr) saysMinutes() string {
	if even := evenly(e.minute, "minute"); even != "" {
		return even
	}
	return fmt.Sprintf("at %s %s", nouns(e.minute, "minute"), list(e.minute, number))
}

// saysSeconds says the seconds and the minutes, where there are seconds.
func (e *Expr) saysSeconds() string {
	even := evenly(e.second, "second")
	says := even
	if even == "" {
		says = fmt.Sprintf("at %s %s", nouns(e.second, "second"), list(e.second, number))
	}
	switch minutes := evenly(e.minute, "minute"); {
	case minutes == "every minute" && even != "":
		return says
	case minutes == "every minute":
		return says + " of every minute"
	}
	return fmt.Sprintf("%s of %s %s", says, nouns(e.minute, "minute"), list(e.minute, number))
}

// evenly says a set of 0 to 59 that comes at even distances also over its end; empty
// where it does not.
func evenly(s set, what string) string {
	n := s.len()
	if n == 60 {
		return "every " + what
	}
	if n < 2 || 60%n != 0 {
		return ""
	}
	var even set
	for i := 0; i < 60; i += 60 / n {
		even |= 1 << i
	}
	if s != even {
		return ""
	}
	return fmt.Sprintf("every %d %ss", 60/n, what)
}

func (e *Expr) saysDays() string {
	allMonths := e.month == span(1, 12)
	in := "every month"
	if !allMonths {
		in = list(e.month, monthName)
	}
	if e.all() {
		if allMonths {
			return "every day"
		}
		return "every day of " + in
	}
	weekdays := ""
	if !e.weekdayAny {
		weekdays = "every " + list(mondayFirst(e.weekday), weekdayName)
	}
	if e.dayAny {
		if allMonths {
			return "on " + weekdays
		}
		return "on " + weekdays + " in " + in
	}
	says := fmt.Sprintf("on %s %s of %s", nouns(e.day, "day"), list(e.day, number), in)
	switch {
	case weekdays == "":
		return says
	case allMonths:
		return says + " and on " + weekdays
	}
	return says + " and on " + weekdays + " of " + map[bool]string{true: "that month", false: "those months"}[e.month.len() == 1]
}

// all tells whether every day of a month is meant.
func (e *Expr) all() bool {
	return e.dayAny && e.weekdayAny || !e.dayAny && e.day == span(1, 31) || !e.weekdayAny && e.weekday == span(0, 6)
}

// mondayFirst moves Sunday to the end of the week.
func mondayFirst(weekdays set) set {
	if weekdays.has(0) {
		return weekdays&^1 | 1<<7
	}
	return weekdays
}

func number(n int) string      { return fmt.Sprint(n) }
func monthName(n int) string   { return time.Month(n).String() }
func weekdayName(n int) string { return time.Weekday(n % 7).String() }

func nouns(s set, what string) string {
	if s.len() == 1 {
		return what
	}
	return what + "s"
}

// list names the numbers of a set; three and more that follow one another as a range.
func list(s set, name func(int) string) string {
	var all []string
	for n := s.next(0); n < 64; {
		end := n
		for s.has(end + 1) {
			end++
		}
		switch {
		case end-n >= 2:
			all = append(all, name(n)+" to "+name(end))
		case end > n:
			all = append(all, name(n), name(end))
		default:
			all = append(all, name(n))
		}
		n = s.next(end + 1)
	}
	return join(all)
}

func join(all []string) string {
	if len(all) < 2 {
		return strings.Join(all, "")
	}
	return strings.Join(all[:len(all)-1], ", ") + " and " + all[len(all)-1]
}
