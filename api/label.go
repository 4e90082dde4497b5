package api

import (
	"net/url"
	"strings"
)

// LabelPair writes a label as name:value, as filters in addresses take it. What would end the name is escaped
// as in a URL: the label crane:no of value 3 is crane%3Ano:3.
func LabelPair(name, value string) string {
	return strings.NewReplacer("%", "%25", ":", "%3A", "=", "%3D").Replace(name) + ":" + value
}

// ReadLabelPair reads name:value, or name=value; ok is false where neither is written, and the text is the name.
func ReadLabelPair(text string) (name, value string, ok bool) {
	name = text
	if at := strings.IndexAny(text, ":="); at >= 0 {
		name, value, ok = text[:at], text[at+1:], true
	}
	if plain, err := url.PathUnescape(name); err == nil {
		name = plain
	}
	return name, value, ok
}
