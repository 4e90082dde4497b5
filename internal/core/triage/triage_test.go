package triage

import (
	"bufio"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"os"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type labelled struct{ Cause, Type, Text string }

// The labelled failures of the harbour were made before the rules. Those of half of
// the causes were not looked at while the rules were made.
func readLabelled(t *testing.T) (seen, unseen []labelled) {
	f, err := os.Open("../../harbour/data/causes.ndjson")
	require.NoError(t, err)
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		var l labelled
		require.NoError(t, json.Unmarshal(lines.Bytes(), &l))
		h := fnv.New32a()
		h.Write([]byte(l.Cause))
		if h.Sum32()%2 == 0 {
			seen = append(seen, l)
		} else {
			unseen = append(unseen, l)
		}
	}
	return seen, unseen
}

// grade tells how pure groups are (the share of failures that belong to the cause most
// frequent in their group) and how complete (the share that is in the group most
// frequent for their cause).
func grade(all []labelled, of func(errorType, message string) Cause) (purity, completeness float64, split map[string]map[string]int) {
	groups, causes := map[int64]map[string]int{}, map[string]map[int64]int{}
	split = map[string]map[string]int{}
	for _, l := range all {
		c := of(l.Type, l.Text)
		if groups[c.ID] == nil {
			groups[c.ID] = map[string]int{}
		}
		if causes[l.Cause] == nil {
			causes[l.Cause], split[l.Cause] = map[int64]int{}, map[string]int{}
		}
		groups[c.ID][l.Cause]++
		causes[l.Cause][c.ID]++
		split[l.Cause][c.Template]++
	}
	for _, g := range groups {
		purity += float64(most(g))
	}
	for _, c := range causes {
		completeness += float64(most(c))
	}
	n := float64(len(all))
	return purity / n, completeness / n, split
}

func most[K comparable](counts map[K]int) (n int) {
	for _, c := range counts {
		n = max(n, c)
	}
	return n
}

func TestGrouping(t *testing.T) {
	seen, unseen := readLabelled(t)
	for name, all := range map[string][]labelled{"seen": seen, "unseen": unseen} {
		apart := new(Names)
		with, whole, _ := grade(all, func(errorType, message string) Cause { return Rules(nil).Of(errorType, message, apart) })
		assert.GreaterOrEqual(t, with, 0.97, "%s, with names apart", name)
		assert.GreaterOrEqual(t, whole, 0.97, "%s, with names apart", name)
		purity, completeness, split := grade(all, Of)
		t.Logf("%s: %d failures, purity %.4f, completeness %.4f", name, len(all), purity, completeness)
		assert.GreaterOrEqual(t, purity, 0.97, name)
		assert.GreaterOrEqual(t, completeness, 0.97, name)
		if name == "seen" {
			for cause, templates := range split {
				if len(templates) > 1 {
					t.Logf("%s is split: %v", cause, templates)
				}
			}
		}
	}
	assert.Equal(t, 2000, len(seen)+len(unseen))
}

func TestTemplate(t *testing.T) {
	for message, want := range map[string]string{
		`line 4: the weight "12t" is not a valid number of kilograms`:                    "line #: the weight “…” is not a valid number of kilograms",
		"dial tcp 10.0.0.7:5432: connect: connection refused":                            "dial tcp <address>: connect: connection refused",
		`Post "https://bank.example/v1/dues/77": EOF`:                                    "Post “…”: EOF",
		"Traceback (most recent call last):\n  File \"a.py\", line 3\nKeyError: 'berth'": "KeyError: “…”",
		"open /srv/data/heron-0291.csv: no such file or directory":                       "open <path>: no such file or directory",
		"booking 6f1c2e3a-0b1d-4c5e-8f90-a1b2c3d4e5f6 was made before as 42":             "booking # was made before as #",
		"it's Ada's turn at 06:12 on 2026-11-23":                                         "it's Ada's turn at <time> on <time>",
		"panicked at src/tide.rs:12:7 after 1.5s":                                        "panicked at <path> after #",
		"船舶「heron12」が見つかりません":                                                            "船舶“…”が見つかりません",
		"":          "(no message)",
		"  \n\n ":   "(no message)",
		"9, 10, 11": "#",
	} {
		assert.Equal(t, want, Template(message), message)
	}
	assert.NotEqual(t, Of("a", "x").ID, Of("b", "x").ID, "the type is part of the cause")
}

// Names of tables and the like stay apart while they are few, also after a restart; ships, files
// and numbers are folded, and so are names where there are many.
func TestNames(t *testing.T) {
	names := new(Names)
	of := func(message string) string { return Rules(nil).Of("db", message, names).Template }
	for message, want := range map[string]string{
		`insert: violates unique constraint "berths_vessel_key" of berth 12`: "insert: violates unique constraint “berths_vessel_key” of berth #",
		`violates constraint "weight" of vessel "heron"`:                     "violates constraint “weight” of vessel “…”",
		"ERROR: relation 'vessels' does not exist at 06:12":                  "ERROR: relation “vessels” does not exist at <time>",
		`the weight "12t" of "Marsh Hen"`:                                    "the weight “…” of “…”",
		`column "id_17" or "a_b" is unknown`:                                 "column “…” or “a_b” is unknown",
		`Key (vessel)=("x_y z") and 「船_号」`:                                   "Key (vessel)=(“…”) and “船_号”",
		`open table "` + strings.Repeat("a", 64) + `"`:                       "open table “…”",
		`table ""`:                              "table “…”",
		"index: `berths_by_day`, (key 'berth')": "index: “berths_by_day”, (key “berth”)",
		"it's a 'lock_timeout' of 'Ada's":       "it's a “lock_timeout” of “…”s",
		`„dues_open“ «dues_paid» “dues_due”`:    "“dues_open” “dues_paid” “dues_due”",
	} {
		assert.Equal(t, want, of(message), message)
		assert.Equal(t, want, of(message), "%s, again", message)
	}
	table := func(names *Names, i int) string {
		return Rules(nil).Of("db", fmt.Sprintf("table %q is locked by 12", strings.Repeat("t", i+1)), names).Template
	}
	made := map[string]bool{}
	for i := range 40 {
		made[table(names, i)] = true
	}
	assert.Len(t, made, mostNames+1, "those that came first, and one for all others")
	assert.Contains(t, made, "table “…” is locked by #")
	after := new(Names)
	for template := range made {
		after.Learn("db", template)
	}
	for i := range 40 {
		assert.Equal(t, table(names, i), table(after, i), "after a restart")
	}
}

// Whatever the text: the template is bounded, valid, and stays what it is.
func FuzzTemplate(f *testing.F) {
	for _, text := range []string{"", "a'b'c \xff", strings.Repeat("1 2,", 900), "« “ „ 「", `"unclosed`, "0x 0xg # #"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		template := Template(text)
		assert.LessOrEqual(t, len(template), MaxTemplate)
		assert.True(t, utf8.ValidString(template))
		assert.NotEmpty(t, template)
		c := Of("error", text)
		assert.True(t, c.ID > 0 && c.ID < 1<<40)
		apart := Rules(nil).Of("error", text, new(Names)).Template
		assert.LessOrEqual(t, len(apart), MaxTemplate)
		assert.True(t, utf8.ValidString(apart))
	})
}

func BenchmarkOf(b *testing.B) {
	for b.Loop() {
		Of("error", "Post \"https://bank-7.harbour.internal/v1/dues/77\": dial tcp 10.0.0.7:5432: connect: connection refused after 1.5s at 2026-11-23T06:12:00Z")
	}
}
