package present

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/stretchr/testify/assert"

	"humblemule.example/job"
)

// A table fits the terminal whatever stands in its last column, keeps its columns
// aligned, and writes no colour where there is not a terminal.
func TestTable(t *testing.T) {
	var b bytes.Buffer
	o := New(&b)
	long := strings.Repeat("the harmonic constants of gull-rock have not been filed yet ", 4)
	o.Table([]Column{{Head: "id", Right: true}, {Head: "state"}, {Head: "note"}}, [][]string{
		{"7", State(job.Dead), long + "\nand a second line"}, {"12345", State(job.Scheduled), "é"},
	})
	text := b.String()
	assert.NotContains(t, text, "\x1b", "no colour without a terminal")
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	assert.Len(t, lines, 3)
	for _, l := range lines {
		assert.LessOrEqual(t, lipgloss.Width(l), mostColumns, l)
		assert.Equal(t, strings.TrimRight(l, " "), l)
	}
	assert.True(t, strings.HasPrefix(lines[1], "    7  ▼ dead"), lines[1])
	assert.True(t, strings.HasPrefix(lines[2], "12345  ◷ scheduled  é"), lines[2])
	assert.True(t, strings.HasSuffix(lines[1], "…"), lines[1])
}

// Every state has a mark of its own, so that it goes without colour.
func TestMarks(t *testing.T) {
	seen := map[string]job.State{}
	for _, s := range job.States() {
		mark := marks[s]
		assert.Equal(t, 1, lipgloss.Width(mark), s.String())
		assert.NotContains(t, seen, mark)
		seen[mark] = s
	}
}

func TestAge(t *testing.T) {
	o := &Out{Now: time.UnixMilli(1_795_000_000_000)}
	at := job.At(o.Now)
	for want, when := range map[string]job.Time{
		"": 0, "now": at - 900, "9 s ago": at - 9400, "65 s ago": at - 65_000, "5 min ago": at - 300_000, "in 3 s": at + 3000, "in 8 h": at + 8*3600*1000, "3 days ago": at - 3*86400*1000,
	} {
		assert.Equal(t, want, o.Age(when))
	}
}

func TestFacts(t *testing.T) {
	var b bytes.Buffer
	New(&b).Facts([2]string{"task", "tide.predict"}, [2]string{"owner", ""}, [2]string{"enqueued", "now"})
	assert.Equal(t, "task      tide.predict\nenqueued  now\n", b.String())
}
