// Package text cuts and cleans texts that come from jobs and users before they are kept or
// shown.
package text

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Shorten is a text as messages quote it: no more than 40 bytes, in whole characters.
func Shorten(s string) string {
	const most = 40
	if len(s) <= most {
		return s
	}
	cut := most
	for !utf8.RuneStart(s[cut]) {
		cut--
	}
	return s[:cut] + "…"
}

// Commands tells whether a character may command a terminal, or turn the direction of
// what stands around it (UAX #9): text from jobs holds none that is written as it is.
func Commands(r rune) bool {
	switch {
	case r < 0x20, r >= 0x7f && r <= 0x9f, r == 0x061c, r == 0x200e, r == 0x200f, r >= 0x2028 && r <= 0x202e, r >= 0x2066 && r <= 0x2069, r == 0xfeff:
		return true
	}
	return false
}

// visible is a mark in the place of a character that commands.
func visible(r rune) string {
	switch {
	case r < 0x20:
		return string(0x2400 + r) // Unicode's control pictures
	case r == 0x7f:
		return "\u2421"
	}
	return fmt.Sprintf("‹U+%04X›", r)
}

// Visible writes characters that would command a terminal, but for line feeds and tabs,
// as visible marks.
func Visible(text string) string {
	if strings.IndexFunc(text, Commands) < 0 {
		return text
	}
	var b strings.Builder
	for _, r := range text {
		if Commands(r) && r != '\n' && r != '\t' {
			b.WriteString(visible(r))
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// VisibleJSON does to every string of a JSON text what [Visible] does to one.
func VisibleJSON(raw []byte) []byte {
	return eachRune(raw, func(r rune, escaped bool) string {
		if escaped && (r == '\n' || r == '\t') {
			return ""
		}
		return visible(r)
	})
}

// EscapeJSON writes such characters within a JSON text as escapes, which a terminal does
// not obey; it stays the same value.
func EscapeJSON(raw []byte) []byte {
	return eachRune(raw, func(r rune, escaped bool) string {
		if escaped {
			return ""
		}
		return fmt.Sprintf(`\u%04x`, r)
	})
}

// eachRune puts something in the place of every character of the strings of a JSON text
// that commands; empty leaves it.
func eachRune(raw []byte, instead func(r rune, escaped bool) string) []byte {
	out, from, inString := []byte(nil), 0, false
	put := func(at, length int, r rune, escaped bool) {
		if !Commands(r) {
			return
		}
		if text := instead(r, escaped); text != "" {
			out = append(append(out, raw[from:at]...), text...)
			from = at + length
		}
	}
	for i := 0; i < len(raw); {
		switch c := raw[i]; {
		case c == '"':
			inString = !inString
			i++
		case !inString:
			i++
		case c == '\\' && i+6 <= len(raw) && raw[i+1] == 'u':
			if n, err := strconv.ParseUint(string(raw[i+2:i+6]), 16, 16); err == nil {
				put(i, 6, rune(n), true)
			}
			i += 6
		case c == '\\' && i+1 < len(raw):
			if at := strings.IndexByte("bfr", raw[i+1]); at >= 0 {
				put(i, 2, rune("\b\f\r"[at]), true)
			}
			i += 2
		default:
			r, size := utf8.DecodeRune(raw[i:])
			put(i, size, r, false)
			i += size
		}
	}
	if out == nil {
		return raw
	}
	return append(out, raw[from:]...)
}

// Cut shortens text to most bytes at a character's border and marks the cut.
func Cut(text string, most int) string {
	const mark = " … (cut)"
	if len(text) <= most {
		return text
	}
	end := most - len(mark)
	for end > 0 && text[end]&0xC0 == 0x80 {
		end--
	}
	return text[:end] + mark
}
