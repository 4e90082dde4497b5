package job

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Time is a moment in milliseconds since 1970 UTC; zero means none. On the
// wire it is RFC 3339 in UTC with milliseconds.
type Time int64

// At makes a Time of a time.Time; the zero time.Time becomes none.
func At(t time.Time) Time {
	if t.IsZero() {
		return 0
	}
	return Time(t.UnixMilli())
}

const timeLayout = "2006-01-02T15:04:05.000Z"

// For makes a Duration of a time.Duration; less than a millisecond is dropped.
func For(d time.Duration) Duration { return Duration(d.Truncate(time.Millisecond)) }

// Go gives the moment as a time.Time in UTC.
func (t Time) Go() time.Time { return time.UnixMilli(int64(t)).UTC() }

// Add gives the moment d later, rounded down to the millisecond.
func (t Time) Add(d time.Duration) Time { return t + Time(d.Milliseconds()) }

// Sub gives the span from earlier to t.
func (t Time) Sub(earlier Time) time.Duration { return time.Duration(t-earlier) * time.Millisecond }

// String writes the moment as on the wire.
func (t Time) String() string { return t.Go().Format(timeLayout) }

// MarshalText writes RFC 3339 in UTC with milliseconds.
func (t Time) MarshalText() ([]byte, error) { return t.AppendText(nil) }

// AppendText appends what MarshalText writes.
func (t Time) AppendText(b []byte) ([]byte, error) {
	// Package time writes this layout without looking at it word by word; it has no fraction.
	b = t.Go().AppendFormat(b, time.RFC3339)
	ms := int64(t) % 1000
	if ms < 0 {
		ms += 1000
	}
	return append(b[:len(b)-1], '.', byte('0'+ms/100), byte('0'+ms/10%10), byte('0'+ms%10), 'Z'), nil
}

// LastYear is the last that RFC 3339 has a place for.
const LastYear = 9999

// UnmarshalText reads RFC 3339 with any offset, from the year 2000 to 9999 in UTC.
func (t *Time) UnmarshalText(text []byte) error {
	parsed, err := time.Parse(time.RFC3339Nano, string(text))
	if year := parsed.UTC().Year(); err != nil || year < 2000 || year > LastYear {
		return fmt.Errorf("%q is not a valid time; write RFC 3339 such as 2026-11-23T06:00:00Z", text)
	}
	*t = At(parsed)
	return nil
}

// Duration is a span that people set. On the wire it is a string such as
// "90s", "1h30m" or "2d"; ISO 8601 such as "PT90S" is read too.
type Duration time.Duration

const (
	day = 24 * time.Hour
	// MaxDuration bounds every duration that people set: ten years.
	MaxDuration = Duration(3650 * day)
)

// Go gives the span as a time.Duration.
func (d Duration) Go() time.Duration { return time.Duration(d) }

// String writes the span with the units d, h, m, s and ms, largest first.
func (d Duration) String() string {
	b, _ := d.AppendText(nil)
	return string(b)
}

// MarshalText writes the span as [Duration.String] does.
func (d Duration) MarshalText() ([]byte, error) { return d.AppendText(nil) }

var units = [...]struct {
	name string
	size Duration
}{{"d", Duration(day)}, {"h", Duration(time.Hour)}, {"m", Duration(time.Minute)}, {"s", Duration(time.Second)}, {"ms", Duration(time.Millisecond)}, {"µs", Duration(time.Microsecond)}, {"ns", 1}}

// AppendText appends what MarshalText writes.
func (d Duration) AppendText(b []byte) ([]byte, error) {
	if d == 0 {
		return append(b, "0s"...), nil
	}
	if d < 0 {
		b, d = append(b, '-'), -d
	}
	for _, u := range units {
		if n := d / u.size; n > 0 {
			b = append(strconv.AppendInt(b, int64(n), 10), u.name...)
			d -= n * u.size
		}
	}
	return b, nil
}

// UnmarshalText reads a span as [ParseDuration] does.
func (d *Duration) UnmarshalText(text []byte) error {
	parsed, err := ParseDuration(string(text))
	if err != nil {
		return err
	}
	*d = parsed
	return nil
}

var (
	daysPart = regexp.MustCompile(`^([0-9]+)d(.*)$`)
	iso8601  = regexp.MustCompile(`^P(?:([0-9]+)W)?(?:([0-9]+)D)?(?:T(?:([0-9]+)H)?(?:([0-9]+)M)?(?:([0-9]+(?:\.[0-9]+)?)S)?)?$`)
)

// ParseDuration reads "90s", "1h30m", "250ms", "2d", "2d12h" or ISO 8601
// without years and months. A span is never negative and at most ten years.
func ParseDuration(text string) (Duration, error) {
	total, ok := parseSpan(text)
	if !ok {
		return 0, fmt.Errorf("%q is not a valid duration; write it as 90s, 1h30m, 2d or PT90S", text)
	}
	if total < 0 {
		return 0, fmt.Errorf("%q is negative; a duration is 0s or more", text)
	}
	if total > float64(MaxDuration) {
		return 0, fmt.Errorf("%q is more than ten years", text)
	}
	return Duration(total), nil
}

func parseSpan(text string) (nanoseconds float64, ok bool) {
	if strings.HasPrefix(text, "P") {
		return parseISO(text)
	}
	if m := daysPart.FindStringSubmatch(text); m != nil {
		days, _ := strconv.ParseFloat(m[1], 64)
		if m[2] == "" {
			return days * float64(day), true
		}
		rest, err := time.ParseDuration(m[2])
		return days*float64(day) + float64(rest), err == nil && rest >= 0
	}
	d, err := time.ParseDuration(text)
	return float64(d), err == nil
}

func parseISO(text string) (nanoseconds float64, ok bool) {
	m := iso8601.FindStringSubmatch(text)
	if m == nil || strings.Join(m[1:], "") == "" || strings.HasSuffix(text, "T") {
		return 0, false
	}
	for i, unit := range []time.Duration{7 * day, day, time.Hour, time.Minute, time.Second} {
		n, _ := strconv.ParseFloat(m[i+1], 64)
		nanoseconds += n * float64(unit)
	}
	return nanoseconds, true
}
