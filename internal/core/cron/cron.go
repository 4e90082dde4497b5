// Package cron reads expressions that say when something is to happen again and again,
// finds the next and the previous time in a time zone, and puts them in words.
//
// An expression has five fields, as POSIX crontab has them, or six with the seconds
// first:
//
//	[second 0-59] minute 0-59 hour 0-23 day-of-month 1-31 month 1-12 day-of-week 0-7
//
// A field is * or a list, separated by commas, of numbers, ranges (9-17), and steps
// through a range (*/5, 9-17/2). Months and weekdays have names of three letters; 0 and 7
// are Sunday. Where both day-of-month and day-of-week are restricted, that is anything
// but a plain *, a day is meant that either names. @hourly, @daily, @weekly, @monthly and
// @yearly stand for five fields.
//
// # Daylight saving
//
// Where the hour field begins with *, it is matched against the local reading of every
// instant: times that are left out do not come, times that come twice are meant twice.
// Otherwise a local time that does not exist is taken at the first instant after the gap,
// several in one gap as one, and one that comes twice the first time only.
package cron

import (
	"fmt"
	"math/bits"
	"slices"
	"strconv"
	"strings"

	"humblemule.example/internal/nearest"
	"humblemule.example/internal/sentence"
)

// Expr is an expression that was read.
type Expr struct {
	second, minute, hour, day, month, weekday set
	// dayAny and weekdayAny tell a plain *; eachHour an hour field that begins with *.
	dayAny, weekdayAny, eachHour bool
	six                          bool
	text                         string
}

// set holds numbers from 0 to 63.
type set uint64

func (s set) has(n int) bool { return s>>n&1 == 1 }

// next is the lowest number from n on; 64 where there is none.
func (s set) next(n int) int { return bits.TrailingZeros64(uint64(s >> n << n)) }

// prev is the highest number up to n; -1 where there is none.
func (s set) prev(n int) int { return 63 - bits.LeadingZeros64(uint64(s<<(63-n)>>(63-n))) }

func (s set) len() int { return bits.OnesCount64(uint64(s)) }

func (s set) members() (all []int) {
	for n := s.next(0); n < 64; n = s.next(n + 1) {
		all = append(all, n)
	}
	return all
}

// span are all numbers from low to high.
func span(low, high int) set { return set(1)<<(high+1) - set(1)<<low }

// field is a place of an expression.
type field struct {
	name      string
	low, high int
	names     []string // of the numbers from low on
}

var fields = []field{
	{"second", 0, 59, nil},
	{"minute", 0, 59, nil},
	{"hour", 0, 23, nil},
	{"day-of-month", 1, 31, nil},
	{"month", 1, 12, []string{"jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"}},
	{"day-of-week", 0, 7, []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}},
}

// The forms of an expression, as they are told.
const (
	FormFive = "five fields: minute hour day-of-month month day-of-week"
	FormSix  = "six fields: second minute hour day-of-month month day-of-week"
)

var shorthands = map[string]string{
	"@hourly": "0 * * * *", "@daily": "0 0 * * *", "@weekly": "0 0 * * 0", "@monthly": "0 0 1 * *", "@yearly": "0 0 1 1 *",
}

const longest = 500

// Error says what is wrong with an expression.
type Error struct {
	// Field is its name, such as minute; empty where it is of the whole. Position is the
	// byte at which it stands, from 1 on; 0 for the whole.
	Field    string
	Position int
	Message  string
}

func (e *Error) Error() string {
	if e.Field == "" {
		return e.Message
	}
	return fmt.Sprintf("%s, at position %d: %s", e.Field, e.Position, e.Message)
}

func wrong(format string, args ...any) error { return &Error{Message: fmt.Sprintf(format, args...)} }

// Parse reads an expression. Its errors are of the type [*Error].
func Parse(text string) (*Expr, error) {
	if len(text) > longest {
		return nil, wrong("is longer than %d bytes", longest)
	}
	whole := text
	if trimmed := strings.TrimSpace(text); strings.HasPrefix(trimmed, "@") {
		full, known := shorthands[trimmed]
		if !known {
			return nil, wrong("%q is not a valid short form%s; there are @hourly, @daily, @weekly, @monthly and @yearly", trimmed, sentence.Perhaps(nearest.To(trimmed, []string{"@hourly", "@daily", "@weekly", "@monthly", "@yearly"})))
		}
		whole = full
	}
	parts := split(whole)
	e := &Expr{second: 1, text: strings.TrimSpace(text), six: len(parts) == 6}
	first := 1
	switch {
	case len(parts) == 6:
		first = 0
	case len(parts) == 0:
		return nil, wrong("is empty; write %s, such as 30 3 * * *", FormFive)
	case len(parts) != 5:
		return nil, wrong("has %s; there are five (minute hour day-of-month month day-of-week) or six with the second first", counted(len(parts), "field"))
	}
	sets := []*set{&e.second, &e.minute, &e.hour, &e.day, &e.month, &e.weekday}
	for i, p := range parts {
		var err error
		if *sets[first+i], err = fields[first+i].read(p); err != nil {
			err.(*Error).Message += "; read as " + e.Form()
			return nil, err
		}
	}
	if e.weekday.has(7) {
		e.weekday = e.weekday&^(1<<7) | 1
	}
	days := parts[len(parts)-3:]
	e.dayAny, e.weekdayAny = days[0].text == "*", days[2].text == "*"
	e.eachHour = strings.HasPrefix(parts[2-first].text, "*")
	return e, e.canMatch(days[0].at)
}

// canMatch refuses what no date ever matches.
func (e *Expr) canMatch(at int) error {
	if !e.weekdayAny {
		return nil
	}
	months := e.month.members()
	for _, m := range months {
		if e.day.next(1) <= daysIn(2000, m) {
			return nil
		}
	}
	has := "have"
	if len(months) == 1 {
		has = "has"
	}
	return &Error{"day-of-month", at, fmt.Sprintf("never comes: %s %s no day %d", list(e.month, monthName), has, e.day.next(1))}
}

// Form tells how many fields were read, and which.
func (e *Expr) Form() string {
	if e.six {
		return FormSix
	}
	return FormFive
}

// String is the expression as it was written.
func (e *Expr) String() string { return e.text }

// part is a piece of an expression, and the byte at which it stands, from 1 on.
type part struct {
	text string
	at   int
}

// split parts a text by spaces.
func split(text string) (all []part) {
	for i := 0; i < len(text); {
		if text[i] == ' ' || text[i] == '\t' || text[i] == '\n' || text[i] == '\r' {
			i++
			continue
		}
		end := i
		for end < len(text) && !strings.ContainsRune(" \t\n\r", rune(text[end])) {
			end++
		}
		all = append(all, part{text[i:end], i + 1})
		i = end
	}
	return all
}

// read reads the numbers that a field names.
func (f *field) read(p part) (all set, err error) {
	at := p.at
	for _, text := range strings.Split(p.text, ",") {
		s, err := f.readOne(part{text, at})
		if err != nil {
			return 0, err
		}
		all |= s
		at += len(text) + 1
	}
	return all, nil
}

// readOne reads a number, a range, or a step through one.
func (f *field) readOne(p part) (set, error) {
	text, step, hasStep := strings.Cut(p.text, "/")
	low, high, err := f.bounds(part{text, p.at})
	if err != nil {
		return 0, err
	}
	if !hasStep {
		return span(low, high), nil
	}
	at := p.at + len(text) + 1
	n, err := strconv.Atoi(step)
	switch {
	case err != nil || step[0] == '+':
		return 0, f.wrong(at, "%s is not a step; it is a whole number from 1 on, as in */5", quoted(step))
	case n < 1:
		return 0, f.wrong(at, "a step of %d is too small; it is 1 or more", n)
	case low == high && text != "*":
		return 0, f.wrong(p.at, "%s/%s steps from a single number; write the range, as in %s-%d/%s", text, step, text, f.last(), step)
	case n > f.high-f.low:
		return 0, f.wrong(at, "a step of %d is longer than the whole field, %d to %d", n, f.low, f.high)
	}
	var s set
	for i := low; i <= high; i += n {
		s |= 1 << i
	}
	return s, nil
}

// last is the highest number that is written; Sunday is 0 there.
func (f *field) last() int {
	if f.names != nil && f.low == 0 {
		return f.high - 1
	}
	return f.high
}

// bounds reads *, a number or a range.
func (f *field) bounds(p part) (low, high int, err error) {
	if p.text == "*" {
		return f.low, f.last(), nil
	}
	first, second, isRange := strings.Cut(p.text, "-")
	if low, err = f.number(part{first, p.at}); err != nil || !isRange {
		return low, low, err
	}
	at := p.at + len(first) + 1
	if high, err = f.number(part{second, at}); err != nil {
		return 0, 0, err
	}
	if high == 0 && f.last() == 6 && low > 0 {
		high = 7 // to Sunday
	}
	if low > high {
		return 0, 0, f.wrong(p.at, "%s runs backwards; write it as two ranges, as in %d-%d,%d-%d", p.text, low, f.last(), f.low, high)
	}
	return low, high, nil
}

// strange are signs that other dialects have.
var strange = map[byte]string{
	'L': "the last day", 'W': "the nearest working day", '#': "the n-th weekday of a month", '?': "no day in particular",
}

// number reads a number or a name.
func (f *field) number(p part) (int, error) {
	text := strings.ToLower(p.text)
	if i := slices.Index(f.names, text); i >= 0 {
		return f.low + i, nil
	}
	n, err := strconv.Atoi(text)
	if err == nil && text[0] != '+' && text[0] != '-' {
		if n < f.low || n > f.high {
			return 0, f.wrong(p.at, "%d is outside %d to %d", n, f.low, f.high)
		}
		return n, nil
	}
	if err := f.isStrange(p); err != nil {
		return 0, err
	}
	switch {
	case text == "":
		return 0, f.wrong(p.at, "a number is missing; it is %d to %d", f.low, f.high)
	case f.names != nil:
		return 0, f.wrong(p.at, "%s is neither %d to %d nor a name%s; names are %s", quoted(p.text), f.low, f.high, sentence.Perhaps(nearest.To(text, f.names)), strings.Join(f.names, ", "))
	}
	return 0, f.wrong(p.at, "%s is not a valid number from %d to %d", quoted(p.text), f.low, f.high)
}

func (f *field) isStrange(p part) error {
	for i := range len(p.text) {
		means, known := strange[p.text[i]]
		isLetter := p.text[i] == 'L' || p.text[i] == 'W'
		if !known || isLetter && strings.Trim(p.text, "0123456789LW") != "" {
			continue
		}
		return f.wrong(p.at+i, "%c (%s) is not understood; name the days, or let the handler decide which of them count", p.text[i], means)
	}
	return nil
}

func (f *field) wrong(at int, format string, args ...any) error {
	return &Error{f.name, at, fmt.Sprintf(format, args...)}
}

func quoted(text string) string {
	if len(text) > 40 {
		text = text[:37] + "..."
	}
	return fmt.Sprintf("%q", text)
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
