// Package triage finds the cause of a failure: what is left of its error once the
// parts that vary are removed. Failures of one type with one template have one cause.
//
// The rules, in order, on the line of the error that says most (the last one of a
// Python traceback, else the first):
//
//	quoted text, in any of "" '' `` “” „“ «» 「」            “…”
//	addresses of the web and of mail                        <url> <mail>
//	UUIDs                                                   #
//	IP addresses with a port                                <address>
//	dates, times of day                                     <time>
//	paths, with a line and column                           <path>
//	host names with a digit, with a port                    <address>
//	numbers, with a sign, a fraction or a unit              #
//	other words with a digit, hexadecimal ones among them   #
//
// A quoted name stays as it is where few names are quoted in its place: one with an underscore, or
// one behind a word such as table or constraint ([Names]).
//
// Then placeholders that follow one another, as in a list, become one, and so do
// spaces. Words without a digit stay: a ship's name that stands unquoted makes causes
// of its own.
package triage

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"

	"humblemule.example/api"
	"humblemule.example/internal/core/words"
)

// Version is that of the rules. It is part of every cause's id: other rules, other
// causes.
const Version = 1

// What a template holds at most, and how much of an error is read for it, in bytes.
const (
	MaxTemplate = 300
	mostRead    = 2000
)

// Cause is what failures have in common.
type Cause struct {
	// ID is a hash of the rules' version, the type and the template: positive, below
	// 2^40.
	ID int64
	// Type is the error's own type, such as manifest_malformed.
	Type     string
	Template string
}

// Rules are those that were set; the first that fits goes before the built-in ones.
type Rules []compiled

type compiled struct {
	api.TriageRule
	pattern *regexp.Regexp
}

// Compile makes rules of those that were set and checked.
func Compile(set []api.TriageRule) (all Rules) {
	for _, r := range set {
		all = append(all, compiled{r, regexp.MustCompile(r.Matches)})
	}
	return all
}

// Of finds the cause of an error by its type and message. Names may be nil: then none stay apart.
func (rules Rules) Of(errorType, message string, names *Names) Cause {
	text := shorten(strings.ToValidUTF8(message, "?"), mostRead)
	for _, r := range rules {
		if r.Type != "" && r.Type != errorType {
			continue
		}
		if at := r.pattern.FindStringSubmatchIndex(text); at != nil {
			return causeOf(errorType, strings.TrimSpace(shorten(string(r.pattern.ExpandString(nil, r.Becomes, text, at)), MaxTemplate)))
		}
	}
	return causeOf(errorType, names.template(errorType, message))
}

// Of finds the cause of an error by the built-in rules, with no name apart.
func Of(errorType, message string) Cause { return Rules(nil).Of(errorType, message, nil) }

func causeOf(errorType, template string) Cause {
	c := Cause{Type: errorType, Template: template}
	sum := sha256.Sum256(fmt.Appendf(nil, "%d\x00%s\x00%s", Version, c.Type, c.Template))
	c.ID = int64(binary.BigEndian.Uint64(sum[:8])>>24) | 1
	return c
}

// rule replaces what a pattern matches.
type rule struct {
	pattern *regexp.Regexp
	with    string
}

const (
	hostLabel = `[A-Za-z0-9_-]*`
	unit      = `( ?(ns|µs|us|ms|s|sec|m|min|h|d|B|KB|KiB|MB|MiB|GB|GiB|kg|t|%))?`
)

var rules = []rule{
	{regexp.MustCompile(`[A-Za-z][A-Za-z0-9+.-]*://[^\s"',)>]+`), "<url>"},
	{regexp.MustCompile(`<?[A-Za-z0-9._%+-]+@[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)+>?`), "<mail>"},
	{regexp.MustCompile(`\b[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}\b`), "#"},
	{regexp.MustCompile(`\b\d{1,3}(\.\d{1,3}){3}(:\d+)?\b|\[[0-9a-fA-F:]*:[0-9a-fA-F:.]+\](:\d+)?|\b([0-9a-fA-F]{1,4}:){4,7}[0-9a-fA-F]{1,4}\b`), "<address>"},
	{regexp.MustCompile(`\b\d{4}-\d\d-\d\d([T ]\d\d:\d\d(:\d\d([.,]\d+)?)?(Z|[+-]\d\d:?\d\d)?)?`), "<time>"},
	{regexp.MustCompile(`\b\d{1,2}:\d\d(:\d\d([.,]\d+)?)?\b`), "<time>"},
	{regexp.MustCompile(`(^|[\s(=:,\[>])(([A-Za-z]:\\|~?/|\.{1,2}/)[^\s"',:;)\]]+|[\w.-]+(/[\w.-]+)+/[\w.-]+|[\w.-]+/[\w-]+\.[A-Za-z]\w*)(:\d+){0,2}`), "$1<path>"},
	// A host's name with a digit: in its first label, or in a later one.
	{regexp.MustCompile(`\b(` + hostLabel + `\d` + hostLabel + `(\.[A-Za-z]` + hostLabel + `)+|[A-Za-z]` + hostLabel + `(\.` + hostLabel + `)*\.` + hostLabel + `\d` + hostLabel + `(\.[A-Za-z]` + hostLabel + `)+)(:\d+)?\b`), "<address>"},
	{regexp.MustCompile(`0x[0-9a-fA-F]+`), "#"},
	numbers,
	numbers, // those that share the character between them are matched every other one
	{regexp.MustCompile(`[A-Za-z_-]*\d[A-Za-z0-9_-]*`), "#"},
}

var numbers = rule{regexp.MustCompile(`(^|[^\p{L}\d_-])[+-]?\d+([.,]\d+)*` + unit + `([^\p{L}\d_-]|$)`), "$1#$5"}

var (
	repeated = regexp.MustCompile(`(#|<(time|address|path|url|mail)>)([\s,;./x-]{0,3}(#|<(time|address|path|url|mail)>))+`)
	spaces   = regexp.MustCompile(`\s+`)
)

// Template is a message without the parts that vary. It is never longer than
// [MaxTemplate], and is valid UTF-8.
func Template(message string) string {
	return template(message, func(int, string) bool { return false })
}

// template leaves those quoted texts that are kept apart: keep is asked for each that is a name, by
// its place among all that are quoted.
func template(message string, keep func(place int, name string) bool) string {
	text := strings.ToValidUTF8(words.Telling(message), "?")
	text = foldQuoted(shorten(text, mostRead), keep)
	for _, r := range rules {
		text = r.pattern.ReplaceAllString(text, r.with)
	}
	text = repeated.ReplaceAllString(text, "$1")
	text = strings.TrimSpace(spaces.ReplaceAllString(text, " "))
	if text == "" {
		return "(no message)"
	}
	return strings.TrimSpace(shorten(text, MaxTemplate))
}

func shorten(text string, most int) string {
	if len(text) <= most {
		return text
	}
	for most > 0 && !utf8.RuneStart(text[most]) {
		most--
	}
	return text[:most]
}
