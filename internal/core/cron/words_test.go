package cron

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The sentences, word by word.
func TestSays(t *testing.T) {
	for text, says := range map[string]string{
		"* * * * *":                  "every minute",
		"* * * * * *":                "every second",
		"*/20 * * * * *":             "every 20 seconds",
		"5,10 * * * * *":             "at seconds 5 and 10 of every minute",
		"*/15 30 3 * * *":            "every 15 seconds of minute 30 of hour 3 every day",
		"15 30 3 * * *":              "at 03:30:15 every day",
		"30 30 * * * *":              "at second 30 of minute 30 of every hour",
		"0 */10 * * * *":             "every 10 minutes",
		"*/5 * * * *":                "every 5 minutes",
		"*/7 * * * *":                "at minutes 0, 7, 14, 21, 28, 35, 42, 49 and 56 of every hour",
		"10 * * * *":                 "at minute 10 of every hour",
		"@hourly":                    "at minute 0 of every hour",
		"30 3 * * *":                 "at 03:30 every day",
		"@daily":                     "at 00:00 every day",
		"0 8,20 * * *":               "at 08:00 and 20:00 every day",
		"0,30 9-11 * * *":            "at 09:00, 09:30, 10:00, 10:30, 11:00 and 11:30 every day",
		"*/5 9-17 * * *":             "every 5 minutes from 09:00 to 17:55 every day",
		"* 0 * * *":                  "every minute from 00:00 to 00:59 every day",
		"10,40 9-17 * * mon-fri":     "at minutes 10 and 40 of hours 9 to 17 on every Monday to Friday",
		"*/30 9,11,13,15 * * *":      "every 30 minutes of hours 9, 11, 13 and 15 every day",
		"0 */2 * * *":                "at minute 0 of hours 0, 2, 4, 6, 8, 10, 12, 14, 16, 18, 20 and 22 every day",
		"0 9 * * mon-fri":            "at 09:00 on every Monday to Friday",
		"0 9 * * sat,sun":            "at 09:00 on every Saturday and Sunday",
		"0 9 * * fri-sun":            "at 09:00 on every Friday to Sunday",
		"@weekly":                    "at 00:00 on every Sunday",
		"0 9 * * 7":                  "at 09:00 on every Sunday",
		"@monthly":                   "at 00:00 on day 1 of every month",
		"@yearly":                    "at 00:00 on day 1 of January",
		"0 9 1,15 * *":               "at 09:00 on days 1 and 15 of every month",
		"0 9 13 * fri":               "at 09:00 on day 13 of every month and on every Friday",
		"0 9 13 6 fri":               "at 09:00 on day 13 of June and on every Friday of that month",
		"0 9 1-7 jan,jul tue":        "at 09:00 on days 1 to 7 of January and July and on every Tuesday of those months",
		"0 9 * jun-aug mon":          "at 09:00 on every Monday in June to August",
		"0 9 * dec *":                "at 09:00 every day of December",
		"0 0 1-31 * mon":             "at 00:00 every day",
		"0 0 */2 * *":                "at 00:00 on days 1, 3, 5, 7, 9, 11, 13, 15, 17, 19, 21, 23, 25, 27, 29 and 31 of every month",
		"0 0 29 feb *":               "at 00:00 on day 29 of February",
		"*/20 * * * * mon":           "every 20 seconds on every Monday",
		"  0   9 *\t* MON-FRI/2 ":    "at 09:00 on every Monday, Wednesday and Friday",
		"5 4 * * *":                  "at 04:05 every day",
		"0-4 * * * *":                "at minutes 0 to 4 of every hour",
		"*/10 0-3,22,23 * * *":       "every 10 minutes of hours 0 to 3, 22 and 23 every day",
		"0 0 12 * * mon,wed,thu,fri": "at 12:00 on every Monday and Wednesday to Friday",
	} {
		e, err := Parse(text)
		if assert.NoError(t, err, text) {
			assert.Equal(t, says, e.Describe(), text)
		}
	}
}

// What is wrong goes with its field and place.
func TestParseErrors(t *testing.T) {
	for text, want := range map[string]string{
		"":                             "is empty; write five fields",
		"* * * *":                      "has 4 fields; there are five",
		"* * * * * * *":                "has 7 fields",
		"61 * * * *":                   "minute, at position 1: 61 is outside 0 to 59; read as five fields: minute hour day-of-month month day-of-week",
		"* 24 * * *":                   "hour, at position 3: 24 is outside 0 to 23",
		"* * * * * 8":                  "day-of-week, at position 11: 8 is outside 0 to 7; read as six fields: second minute",
		"*/0 * * * *":                  "minute, at position 3: a step of 0 is too small",
		"*/-1 * * * *":                 "a step of -1 is too small",
		"*/x * * * *":                  `"x" is not a step`,
		"*/60 * * * *":                 "a step of 60 is longer than the whole field",
		"5/15 * * * *":                 "5/15 steps from a single number; write the range, as in 5-59/15",
		"* * * * 5-1":                  "day-of-week, at position 9: 5-1 runs backwards; write it as two ranges, as in 5-6,0-1",
		"0 0 L * *":                    "day-of-month, at position 5: L (the last day) is not understood",
		"0 0 15W * *":                  "at position 7: W (the nearest working day) is not understood",
		"0 0 * * 6#3":                  "# (the n-th weekday of a month) is not understood",
		"0 0 ? * *":                    "? (no day in particular) is not understood",
		"0 0 * * tua":                  `"tua" is neither 0 to 7 nor a name (the nearest is tue)`,
		"0 0 * janu *":                 "(the nearest is jan)",
		"0 0 30 2 *":                   "day-of-month, at position 5: never comes: February has no day 30",
		"0 0 31 4,6,9 *":               "never comes: April, June and September have no day 31",
		"1,,2 * * * *":                 "minute, at position 3: a number is missing",
		"1- * * * *":                   "minute, at position 3: a number is missing",
		"+1 * * * *":                   "is not a valid number",
		"@dayly":                       "is not a valid short form (the nearest is @daily)",
		"a b c d e":                    `minute, at position 1: "a" is not a valid number from 0 to 59`,
		"99999999999999999999 * * * *": "is not a valid number from 0 to 59",
	} {
		_, err := Parse(text)
		require.ErrorContains(t, err, want, text)
	}
}

// Whatever is written is read or refused, and what is read comes some time.
func FuzzParse(f *testing.F) {
	for _, text := range []string{"* * * * *", "*/5 9-17 1,15 jan-mar mon-fri", "0 30 3 29 2 *", "@yearly", "5/15 * * * *", "0 0 L W #"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		e, err := Parse(text)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		require.NotEmpty(t, e.Describe())
		next, found := e.Next(epoch, zone(t, "Europe/Lisbon"))
		require.True(t, found)
		prev, found := e.Prev(next.Add(1), next.Location())
		require.True(t, found)
		require.Equal(t, next, prev)
	})
}
