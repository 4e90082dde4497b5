// Package present writes for people: tables, sentences, times and marks, the
// same words and marks as the console's.
package present

import (
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/term"

	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Out writes to one stream. Colour is left out where the stream is not a terminal
// or NO_COLOR is set.
type Out struct {
	w     io.Writer
	width int
	Now   time.Time
	// NoHints leaves hints out; Silent leaves out everything.
	NoHints, Silent bool
}

// NoColor leaves colour out, where no is true, as NO_COLOR does.
func NoColor(no bool) {
	if no {
		os.Setenv("NO_COLOR", "1")
	}
}

// mostColumns is how wide a table is on a wider terminal, and where there is
// none.
const mostColumns = 100

// New makes an Out of a stream.
func New(w io.Writer) *Out {
	o := &Out{w: colorprofile.NewWriter(w, os.Environ()), width: mostColumns, Now: time.Now()}
	if f, ok := w.(*os.File); ok {
		if columns, _, err := term.GetSize(f.Fd()); err == nil && columns > 0 {
			o.width = min(columns, mostColumns)
		}
	}
	return o
}

// NewWide makes an Out of a given width, with all colours: whoever shows what is written leaves out
// those that its terminal cannot show.
func NewWide(w io.Writer, width int) *Out {
	return &Out{w: w, width: min(width, mostColumns), Now: time.Now()}
}

// The ink of the terminal, by role; the tokens of the console in ANSI's terms.
var (
	quiet  = lipgloss.NewStyle().Faint(true)
	strong = lipgloss.NewStyle().Bold(true)
	inks   = map[job.State]lipgloss.Style{
		job.Held:      lipgloss.NewStyle().Foreground(lipgloss.Color("103")),
		job.Scheduled: lipgloss.NewStyle().Foreground(lipgloss.Color("133")),
		job.Ready:     lipgloss.NewStyle(),
		job.Running:   lipgloss.NewStyle().Foreground(lipgloss.Color("33")),
		job.Backoff:   lipgloss.NewStyle().Foreground(lipgloss.Color("172")),
		job.Done:      lipgloss.NewStyle().Foreground(lipgloss.Color("35")),
		job.Skipped:   quiet,
		job.Cancelled: quiet,
		job.Dead:      lipgloss.NewStyle().Foreground(lipgloss.Color("167")),
	}
	marks = map[job.State]string{
		job.Held: "‖", job.Scheduled: "◷", job.Ready: "○", job.Running: "◐", job.Backoff: "↺",
		job.Done: "●", job.Skipped: "»", job.Cancelled: "⊘", job.Dead: "▼",
	}
)

// State writes a state as its mark and its word.
func State(s job.State) string { return As(s, s.String()) }

// As writes a text as a state is written.
func As(s job.State, text string) string { return inks[s].Render(marks[s] + " " + text) }

// Count writes how many; none is a quiet stroke, so that the eye finds the rest.
func Count(n int64) string {
	if n == 0 {
		return Quiet("–")
	}
	return sentence.Grouped(n)
}

// Number writes a number, and nothing for none.
func Number(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// Quiet writes what matters less.
func Quiet(text string) string { return quiet.Render(text) }

// Strong writes what matters most.
func Strong(text string) string { return strong.Render(text) }

// Line writes a line of text.
func (o *Out) Line(format string, args ...any) {
	if !o.Silent {
		fmt.Fprintf(o.w, format+"\n", args...)
	}
}

// Hint writes the next useful command as a last quiet line.
func (o *Out) Hint(format string, args ...any) {
	if !o.NoHints && !o.Silent {
		fmt.Fprintln(o.w, Quiet(fmt.Sprintf(format, args...)))
	}
}

// Column is a column of a table.
type Column struct {
	Head string
	// Right aligns numbers.
	Right bool
}

// Table writes rows without boxes, columns aligned, no wider than the terminal.
func (o *Out) Table(columns []Column, rows [][]string) {
	o.fit(columns, rows)
	heads := make([]string, len(columns))
	for i, c := range columns {
		heads[i] = c.Head
	}
	t := table.New().Headers(heads...).Rows(rows...).Wrap(false).
		BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).BorderHeader(false).BorderColumn(false).BorderRow(false).
		StyleFunc(func(row, col int) lipgloss.Style {
			s := lipgloss.NewStyle().PaddingRight(2)
			if col == len(columns)-1 {
				s = lipgloss.NewStyle()
			}
			if columns[col].Right {
				s = s.Align(lipgloss.Right)
			}
			if row == table.HeaderRow {
				s = s.Faint(true)
			}
			return s
		})
	fmt.Fprintln(o.w, trimRight(t.String()))
}

// fit shortens the last column to what the terminal has room for.
func (o *Out) fit(columns []Column, rows [][]string) {
	last := len(columns) - 1
	room := o.width
	for c := range last {
		widest := lipgloss.Width(columns[c].Head)
		for _, r := range rows {
			widest = max(widest, lipgloss.Width(r[c]))
		}
		room -= widest + 2
	}
	for _, r := range rows {
		r[last] = ansi.Truncate(strings.ReplaceAll(r[last], "\n", " "), max(room, 8), "…")
	}
}

func trimRight(text string) string {
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		lines[i] = strings.TrimRight(l, " ")
	}
	return strings.Join(lines, "\n")
}

// Facts writes names and values under each other, leaving out what is empty.
func (o *Out) Facts(pairs ...[2]string) {
	widest := 0
	for _, p := range pairs {
		if p[1] != "" {
			widest = max(widest, lipgloss.Width(p[0]))
		}
	}
	for _, p := range pairs {
		if p[1] != "" {
			fmt.Fprintf(o.w, "%s%s  %s\n", Quiet(p[0]), strings.Repeat(" ", widest-lipgloss.Width(p[0])), p[1])
		}
	}
}

// Text writes text of any length, wrapped to the terminal and set in.
func (o *Out) Text(indent int, text string) {
	fmt.Fprintln(o.w, trimRight(lipgloss.NewStyle().MarginLeft(indent).Width(o.width-indent).Render(text)))
}

var moments = regexp.MustCompile(`\d{4}-\d\d-\d\dT[\d:.]+Z`)

// Local puts the service's times within a sentence into the reader's zone.
func Local(sentence string) string {
	return moments.ReplaceAllStringFunc(sentence, func(text string) string {
		var t job.Time
		if t.UnmarshalText([]byte(text)) != nil {
			return text
		}
		return Time(t)
	})
}

// Time writes a moment in the reader's time zone; empty for none.
func Time(t job.Time) string {
	if t == 0 {
		return ""
	}
	return t.Go().Local().Format("2006-01-02 15:04:05 MST")
}

// Age writes how long ago, or in how long, a moment is, to the second; empty for
// none.
func (o *Out) Age(t job.Time) string {
	d := o.Now.Sub(t.Go()).Truncate(time.Second)
	switch {
	case t == 0:
		return ""
	case d == 0:
		return "now"
	case d < 0:
		return "in " + seconds(-d)
	}
	return seconds(d) + " ago"
}

// seconds writes a span of whole seconds as people say it.
func seconds(d time.Duration) string { return strings.Replace(sentence.Roughly(d), ".0 s", " s", 1) }
