// Package check gathers what is wrong with the fields of a value, in the words in which it is
// answered. It knows what is common to all values: names, texts, numbers, JSON.
package check

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"

	"humblemule.example/internal/text"
)

// deepestJSON is how deep values may be nested in what a handler brings.
const deepestJSON = 1000

// JSONFault says why bytes are not valid JSON value that can be kept and told on: not valid by
// RFC 8259, not UTF-8, a name twice in one object, or nested too deep. Empty means that
// they are one.
func JSONFault(raw []byte) string {
	depth := 0
	inString := false
	for i := 0; i < len(raw); i++ {
		switch c := raw[i]; {
		case inString && c == '\\':
			i++
		case c == '"':
			inString = !inString
		case inString:
		case c == '{' || c == '[':
			if depth++; depth > deepestJSON {
				return fmt.Sprintf("is nested deeper than %d levels", deepestJSON)
			}
		case c == '}' || c == ']':
			depth--
		}
	}
	if !jsontext.Value(raw).IsValid() {
		return "is not a JSON value in valid UTF-8 without repeated names"
	}
	return ""
}

// Indexed names a field of the i-th item of a list, as items[2].token.
func Indexed(list string, i int, field string) string {
	return fmt.Sprintf("%s[%d].%s", list, i, field)
}

// FieldError names a field that holds a wrong value, and the mend.
type FieldError struct {
	Field   string `json:"field"`
	Message string `json:"message"`
}

// isName tells whether a queue or task may be named so: [a-z0-9][a-z0-9._-]{0,127}.
func isName(s string) bool {
	for i := range len(s) {
		c := s[i]
		word := c >= 'a' && c <= 'z' || c >= '0' && c <= '9'
		if !word && (i == 0 || c != '.' && c != '_' && c != '-') {
			return false
		}
	}
	return len(s) > 0 && len(s) <= 128
}

// OneOf wants a word to be one of some, or left out.
func (c *List) OneOf(field, word string, words ...string) {
	if word == "" || slices.Contains(words, word) {
		return
	}
	if len(words) == 1 {
		c.Add(field, "%q is unknown; it is %s, or left out", text.Shorten(word), words[0])
		return
	}
	last := len(words) - 1
	c.Add(field, "%q is unknown; it is %s or %s", text.Shorten(word), strings.Join(words[:last], ", "), words[last])
}

// checks gathers field errors.
type List []FieldError

// Add adds what is wrong with a field.
func (c *List) Add(field, format string, args ...any) {
	*c = append(*c, FieldError{field, fmt.Sprintf(format, args...)})
}

// Name wants a value to be a name of a queue or a task.
func (c *List) Name(field, value string) {
	if !isName(value) {
		c.Add(field, "%q is not a valid name; use 1 to 128 of a-z, 0-9, '.', '_' and '-', beginning with a letter or digit", text.Shorten(value))
	}
}

// Word wants a value to be at most so many bytes of text that commands no terminal.
func (c *List) Word(field, value string, most int) {
	if len(value) > most {
		c.Add(field, "is %d bytes; at most %d are kept", len(value), most)
	} else if !utf8.ValidString(value) {
		c.Add(field, "is not valid UTF-8")
	} else if at := strings.IndexFunc(value, text.Commands); at >= 0 {
		r, _ := utf8.DecodeRuneInString(value[at:])
		c.Add(field, "holds the control or direction character U+%04X; leave it out", r)
	}
}

// Name answers an error that shows the form where name is no queue's or
// task's name.
func Name(field, name string) []FieldError {
	var c List
	c.Name(field, name)
	return c
}
