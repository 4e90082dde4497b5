package cron

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var epoch = time.Date(1999, 12, 31, 23, 59, 59, 0, time.UTC)

func zone(t testing.TB, name string) *time.Location {
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

func parse(t testing.TB, text string) *Expr {
	e, err := Parse(text)
	require.NoError(t, err, text)
	return e
}

// Runs around changes of clocks, of which the rules speak one by one.
func TestClockChanges(t *testing.T) {
	for _, c := range []struct {
		expr, zone, from string
		want             []string
	}{
		// Lisbon: on 2027-03-28 clocks go from 01:00 to 02:00, on 2027-10-31 from 02:00 back.
		{"30 1 * * *", "Europe/Lisbon", "2027-03-27T12:00:00Z", []string{"2027-03-28T02:00:00+01:00", "2027-03-29T01:30:00+01:00"}},
		{"*/10 1 * * *", "Europe/Lisbon", "2027-03-28T00:50:00Z", []string{"2027-03-28T02:00:00+01:00", "2027-03-29T01:00:00+01:00"}},
		{"0,30 1,2 * * *", "Europe/Lisbon", "2027-03-28T00:50:00Z", []string{"2027-03-28T02:00:00+01:00", "2027-03-28T02:30:00+01:00", "2027-03-29T01:00:00+01:00"}},
		{"30 * * * *", "Europe/Lisbon", "2027-03-28T00:00:00Z", []string{"2027-03-28T00:30:00Z", "2027-03-28T02:30:00+01:00"}},
		{"30 1 * * *", "Europe/Lisbon", "2027-10-30T12:00:00Z", []string{"2027-10-31T01:30:00+01:00", "2027-11-01T01:30:00Z"}},
		{"30 * * * *", "Europe/Lisbon", "2027-10-31T00:00:00Z", []string{"2027-10-31T01:30:00+01:00", "2027-10-31T01:30:00Z", "2027-10-31T02:30:00Z"}},
		{"30 */1 * * *", "Europe/Lisbon", "2027-10-31T00:00:00Z", []string{"2027-10-31T01:30:00+01:00", "2027-10-31T01:30:00Z"}},
		{"30 0-23 * * *", "Europe/Lisbon", "2027-10-31T00:00:00Z", []string{"2027-10-31T01:30:00+01:00", "2027-10-31T02:30:00Z"}},
		// São Paulo had no midnight on 2018-11-04, Apia no 30th of December 2011.
		{"0 0 * * *", "America/Sao_Paulo", "2018-11-03T12:00:00Z", []string{"2018-11-04T01:00:00-02:00", "2018-11-05T00:00:00-02:00"}},
		{"0 9,17 * * *", "Pacific/Apia", "2011-12-29T20:00:00Z", []string{"2011-12-29T17:00:00-10:00", "2011-12-31T00:00:00+14:00", "2011-12-31T09:00:00+14:00"}},
		// Lord Howe moves by half an hour.
		{"15 2 * * *", "Australia/Lord_Howe", "2027-10-02T12:00:00Z", []string{"2027-10-03T02:30:00+11:00", "2027-10-04T02:15:00+11:00"}},
		{"0 0 29 2 *", "UTC", "2096-03-01T00:00:00Z", []string{"2104-02-29T00:00:00Z"}},
		{"0 0 13 * fri", "UTC", "2027-08-01T00:00:00Z", []string{"2027-08-06T00:00:00Z", "2027-08-13T00:00:00Z", "2027-08-20T00:00:00Z"}},
	} {
		z := zone(t, c.zone)
		at, err := time.Parse(time.RFC3339, c.from)
		require.NoError(t, err)
		for _, want := range c.want {
			next, found := parse(t, c.expr).Next(at, z)
			require.True(t, found)
			require.Equal(t, want, next.Format(time.RFC3339), "%s in %s", c.expr, c.zone)
			back, found := parse(t, c.expr).Prev(next.Add(time.Second), z)
			require.True(t, found)
			require.Equal(t, next, back)
			at = next
		}
	}
}

// oracle walks through every second or minute of a span and asks of each what the clocks
// read; it knows nothing of fields that follow one another. Civil times that are skipped
// are looked at one by one too.
func oracle(e *Expr, from, to int64, z *time.Location) (runs []int64) {
	step := int64(60)
	if e.six || oddOffsets(from, to, z) {
		step = 1
	}
	reached := civilAt(from-longestShift, z)
	for t := from - longestShift; t < from; t += 60 {
		reached = max(reached, civilAt(t, z))
	}
	reached = max(reached, civilAt(from-1, z)/step*step)
	for t := from; t < to; t += step {
		civil := civilAt(t, z)
		run := false
		if e.eachHour {
			run = e.reads(civil)
		} else {
			for c := reached + step; c <= civil; c += step {
				run = run || e.reads(c)
			}
			reached = max(reached, civil)
		}
		if run {
			runs = append(runs, t)
		}
	}
	return runs
}

// oddOffsets tells whether clocks are ever off by part of a minute.
func oddOffsets(from, to int64, z *time.Location) bool {
	for t := from - longestShift; t < to; t += 3600 {
		if (civilAt(t, z)-t)%60 != 0 {
			return true
		}
	}
	return false
}

func civilAt(t int64, z *time.Location) int64 {
	_, offset := time.Unix(t, 0).In(z).Zone()
	return t + int64(offset)
}

// reads tells whether the clocks read what the expression names.
func (e *Expr) reads(civil int64) bool {
	t := time.Unix(civil, 0).UTC()
	day, weekday := e.day.has(t.Day()), e.weekday.has(int(t.Weekday()))
	named := day && weekday
	if !e.dayAny && !e.weekdayAny {
		named = day || weekday
	}
	return e.second.has(t.Second()) && e.minute.has(t.Minute()) && e.hour.has(t.Hour()) && e.month.has(int(t.Month())) && named
}

var zones = []string{
	"UTC", "Europe/Lisbon", "Europe/Berlin", "America/New_York", "America/Sao_Paulo", "America/Caracas", "Asia/Kolkata", "Asia/Kathmandu", "Asia/Pyongyang",
	"Australia/Lord_Howe", "Pacific/Apia", "Pacific/Kwajalein", "Africa/Casablanca", "Africa/Cairo", "Africa/Monrovia", "Antarctica/Troll", "America/St_Johns", "Asia/Tehran", "Asia/Gaza", "Europe/Dublin",
}

func drawn(draw *rand.Rand) string {
	one := func(low, high int) string {
		a, b := low+draw.IntN(high-low+1), low+draw.IntN(high-low+1)
		switch draw.IntN(6) {
		case 0:
			return "*"
		case 1:
			return fmt.Sprintf("*/%d", 1+draw.IntN(min(high-low, 20)))
		case 2:
			return fmt.Sprintf("%d-%d", min(a, b), max(a, b))
		case 3:
			return fmt.Sprintf("%d,%d", a, b)
		}
		return fmt.Sprint(a)
	}
	day, month, weekday := "*", "*", "*"
	if draw.IntN(4) == 0 {
		day = one(1, 28)
	}
	if draw.IntN(8) == 0 {
		month = one(1, 12)
	}
	if draw.IntN(4) == 0 {
		weekday = one(0, 6)
	}
	text := fmt.Sprintf("%s %s %s %s %s", one(0, 59), one(0, 23), day, month, weekday)
	if draw.IntN(5) == 0 {
		text = one(0, 59) + " " + text
	}
	return text
}

// compare holds Next and Prev against the oracle over a span.
func compare(t *testing.T, text, name string, from, to int64) {
	z, e := zone(t, name), parse(t, text)
	runs := oracle(e, from, to, z)
	at := time.Unix(from-1, 0)
	for _, want := range runs {
		next, found := e.Next(at, z)
		require.True(t, found)
		require.Equal(t, time.Unix(want, 0).In(z), next, "%q in %s after %s", text, name, at.UTC())
		at = next
	}
	next, found := e.Next(at, z)
	require.True(t, !found || next.Unix() >= to, "%q in %s after %s: %s", text, name, at.UTC(), next)
	before := time.Unix(to, 0)
	for i := len(runs) - 1; i >= 0; i-- {
		prev, found := e.Prev(before, z)
		require.True(t, found)
		require.Equal(t, time.Unix(runs[i], 0).In(z), prev, "%q in %s before %s", text, name, before.UTC())
		before = prev
	}
}

// Every minute within two days of each change of the clocks, from 1970 to 2100.
func TestAgainstOracleAtChanges(t *testing.T) {
	draw := rand.New(rand.NewPCG(1970, 2100))
	for _, name := range zones {
		changes := 0
		for at := time.Unix(0, 0).In(zone(t, name)); at.Year() <= 2100; {
			_, end := at.ZoneBounds()
			if end.IsZero() {
				break
			}
			if !end.After(at) { // see boundsAt
				at = at.Add(24 * time.Hour)
				continue
			}
			if changes++; end.Year() <= 2037 || changes%8 == 0 { // by rule from then on
				text, around := drawn(draw), int64(2*24*3600)
				if parse(t, text).six {
					around = 2 * 3600 // every second
				}
				compare(t, text, name, end.Unix()-around, end.Unix()+around)
			}
			at = end
		}
	}
}

// Days drawn from all years.
func TestAgainstOracleAnyTime(t *testing.T) {
	draw := rand.New(rand.NewPCG(6853, 7))
	for range 400 {
		from, text, span := draw.Int64N(131*366*24*60)*60, drawn(draw), int64(3*24*3600)
		if parse(t, text).six {
			span = 3600
		}
		compare(t, text, zones[draw.IntN(len(zones))], from, from+span)
	}
}

func BenchmarkNext(b *testing.B) {
	for _, text := range []string{"*/20 * * * * *", "30 3 * * *", "0 9 13 * fri", "0 0 29 2 *"} {
		for _, name := range []string{"UTC", "Europe/Lisbon"} {
			b.Run(text+" "+name, func(b *testing.B) {
				e, z := parse(b, text), zone(b, name)
				at := epoch
				for b.Loop() {
					next, found := e.Next(at, z)
					if at = next; !found || at.Year() > 2090 {
						at = epoch
					}
				}
			})
		}
	}
}
