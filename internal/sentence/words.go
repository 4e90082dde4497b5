// Package sentence writes what is said to people: why a job is where it is, and spans,
// counts and names within a sentence. What is said anywhere is said in these words.
package sentence

import (
	"fmt"
	"strings"
	"time"
)

// Perhaps offers a nearest name, in the middle of a sentence.
func Perhaps(nearest string) string {
	if nearest == "" {
		return ""
	}
	return " (the nearest is " + nearest + ")"
}

// List writes names as "a, b and c", and Or as "a, b or c".
func List(names []string) string { return listed(names, " and ") }

// Or goes with [List].
func Or(names []string) string { return listed(names, " or ") }

func listed(names []string, last string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + last + names[len(names)-1]
}

// OfMost writes "3 of 17", or "3, without limit" where most is 0.
func OfMost(n, most int) string {
	if most == 0 {
		return fmt.Sprintf("%d, without limit,", n)
	}
	return fmt.Sprintf("%d of %d", n, most)
}

func in(d time.Duration) string {
	if d <= 0 {
		return "now"
	}
	return "in " + Roughly(d)
}

// Roughly writes a span with its one or two largest units, as people say it.
func Roughly(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 2*(24*time.Hour):
		return fmt.Sprintf("%.0f h", d.Hours())
	default:
		return fmt.Sprintf("%.0f days", d.Hours()/24)
	}
}

// Count writes a number with its noun, in groups of three digits.
func Count(n int64, one, many string) string { return Grouped(n) + " " + Plural(n, one, many) }

// Plural chooses the form of a noun for a number.
func Plural(n int64, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// Grouped writes a number in groups of three digits, set apart by a narrow
// space, as 12 345.
func Grouped(n int64) string {
	digits := fmt.Sprint(n)
	for i := len(digits) - 3; i > 0 && digits[i-1] != '-'; i -= 3 {
		digits = digits[:i] + "\u202f" + digits[i:]
	}
	return digits
}
