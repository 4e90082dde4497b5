package triage

import (
	"regexp"
	"strings"
	"sync"
	"unicode/utf8"
)

// quoted is a text in quotes; a single quote opens only where a word begins.
var quoted = regexp.MustCompile("\"[^\"]*\"|`[^`]*`|“[^”]*”|„[^“”]*[“”]|«[^»]*»|「[^」]*」|(?:^|[\\s(=\\[,:])'[^']*'")

var (
	// nameParts is what a name is made of; spelled is one that says by itself that it is a name.
	nameParts = regexp.MustCompile(`^\pL[\pL_.$-]{0,62}$`)
	spelled   = regexp.MustCompile(`^\pL[\pL.$-]*_[\pL_.$-]*$`)
	// announced is what stands before a name.
	announced = regexp.MustCompile(`(?i)\b(attribute|class|collection|column|constraint|field|function|index|key|method|module|option|parameter|property|relation|schema|sequence|setting|table|trigger|type|variable|view)s?[:=]? ?$`)
)

// foldQuoted puts the same mark in the place of all quoted texts, but of names that are kept.
func foldQuoted(text string, keep func(place int, name string) bool) string {
	var b strings.Builder
	from := 0
	for place, at := range quoted.FindAllStringIndex(text, -1) {
		opens := at[0]
		if text[opens] != '\'' && text[at[1]-1] == '\'' { // with what stands before the quote
			_, width := utf8.DecodeRuneInString(text[opens:])
			opens += width
		}
		_, first := utf8.DecodeRuneInString(text[opens:])
		_, last := utf8.DecodeLastRuneInString(text[:at[1]])
		name := text[opens+first : at[1]-last]
		b.WriteString(text[from:opens])
		if isName(name, text[:opens]) && keep(place, name) {
			b.WriteString("“" + name + "”")
		} else {
			b.WriteString("“…”")
		}
		from = at[1]
	}
	b.WriteString(text[from:])
	return b.String()
}

// isName tells whether a quoted text is the name of a thing such as a table, of which there are
// few: not a number, a ship or a file.
func isName(text, before string) bool {
	return spelled.MatchString(text) && len(text) <= 63 || nameParts.MatchString(text) && announced.MatchString(before)
}

// Names are the quoted names that stay apart in templates, for each place of a template: those
// that came first, so many at most. All names that come after these are folded, as if they were
// not names. Anybody may ask for them.
type Names struct {
	mu   sync.Mutex
	seen map[namePlace]map[string]bool
}

// namePlace is a place among the quoted texts of a template.
type namePlace struct {
	errorType, template string
	place               int
}

// What is kept of names: so many at a place, at so many places.
const (
	mostNames  = 20
	mostPlaces = 5000
)

// template is the template of an error, with the names that stay apart.
func (n *Names) template(errorType, message string) string {
	any := false
	folded := template(message, func(int, string) bool { any = true; return false })
	if n == nil || !any {
		return folded
	}
	return template(message, func(place int, name string) bool { return n.keep(namePlace{errorType, folded, place}, name) })
}

// Learn notes the names of a template that was made before.
func (n *Names) Learn(errorType, made string) { n.template(errorType, made) }

func (n *Names) keep(at namePlace, name string) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	names := n.seen[at]
	if names[name] {
		return true
	}
	if len(names) >= mostNames || names == nil && len(n.seen) >= mostPlaces {
		return false
	}
	if n.seen == nil {
		n.seen = map[namePlace]map[string]bool{}
	}
	if names == nil {
		names = map[string]bool{}
		n.seen[at] = names
	}
	names[name] = true
	return true
}
