// Package veil hides parts of JSON values, which JSON Pointers (RFC 6901) name, and puts them
// back where an edit brings what stands for them.
package veil

import (
	"bytes"
	"encoding/json"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// Mark stands where something is hidden.
const Mark = "(hidden)"

var mark = json.RawMessage(`"` + Mark + `"`)

// Valid tells whether a text is a JSON Pointer to a part of a value.
func Valid(pointer string) bool {
	if !strings.HasPrefix(pointer, "/") {
		return false
	}
	for i := range len(pointer) {
		if pointer[i] == '~' && (i+1 == len(pointer) || pointer[i+1] != '0' && pointer[i+1] != '1') {
			return false
		}
	}
	return true
}

// Over hides the parts of a value that pointers name. What it does not hide keeps its bytes; of a
// value that is not valid JSON all is hidden.
func Over(value json.RawMessage, pointers ...string) json.RawMessage {
	for _, pointer := range pointers {
		next, found, err := replace(value, tokens(pointer), func(json.RawMessage) json.RawMessage { return mark })
		if err != nil {
			return mark
		}
		if found {
			value = next
		}
	}
	return value
}

// At is the part of a value that a pointer names, the last of those where members of one name come twice; nil
// where there is none, or the value is not valid JSON.
func At(value json.RawMessage, pointer string) json.RawMessage {
	if !Valid(pointer) || !jsontext.Value(value).IsValid(lenient...) {
		return nil
	}
	for _, name := range tokens(pointer) {
		if value = member(value, name); value == nil {
			return nil
		}
	}
	return bytes.TrimSpace(value)
}

// lenient has JSON be read as encoding/json reads it.
var lenient = []jsontext.Options{jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)}

// member is a member of an object, or an element of an array, in valid JSON; nil where there is none.
func member(value json.RawMessage, name string) (found json.RawMessage) {
	d := jsontext.NewDecoder(bytes.NewBuffer(value), lenient...)
	open, err := d.ReadToken()
	if err != nil || open.Kind() != '{' && open.Kind() != '[' {
		return nil
	}
	for i := 0; d.PeekKind() != '}' && d.PeekKind() != ']'; i++ {
		is := open.Kind() == '[' && name == strconv.Itoa(i)
		if open.Kind() == '{' {
			key, err := d.ReadToken()
			if err != nil {
				return nil
			}
			is = key.String() == name
		}
		part, err := d.ReadValue()
		if err != nil {
			return nil
		}
		if is {
			found = json.RawMessage(bytes.Clone(part))
		}
	}
	return found
}

// Restore puts back what an edit brings hidden: where a pointer names the mark, and something was
// there before, it is that.
func Restore(edited, before json.RawMessage, pointers ...string) json.RawMessage {
	for _, pointer := range pointers {
		var was json.RawMessage
		_, found, err := replace(before, tokens(pointer), func(v json.RawMessage) json.RawMessage { was = v; return v })
		if err != nil || !found {
			continue
		}
		next, found, err := replace(edited, tokens(pointer), func(v json.RawMessage) json.RawMessage {
			if !bytes.Equal(bytes.TrimSpace(v), mark) {
				return v
			}
			return was
		})
		if err == nil && found {
			edited = next
		}
	}
	return edited
}

var unescape = strings.NewReplacer("~1", "/", "~0", "~")

func tokens(pointer string) []string {
	all := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for i, t := range all {
		all[i] = unescape.Replace(t)
	}
	return all
}

// replace replaces the part of a value that a way leads to; all of them, where members of one name
// come twice.
func replace(value json.RawMessage, way []string, with func(json.RawMessage) json.RawMessage) (_ json.RawMessage, found bool, err error) {
	if len(way) == 0 {
		return with(value), true, nil
	}
	d := json.NewDecoder(bytes.NewReader(value))
	open, err := d.Token()
	if err != nil {
		return nil, false, err
	}
	delim, is := open.(json.Delim)
	if !is {
		return value, false, nil
	}
	var whole []byte
	kept := 0 // of value, so far
	for i := 0; d.More(); i++ {
		name := strconv.Itoa(i)
		if delim == '{' {
			key, err := d.Token()
			if err != nil {
				return nil, false, err
			}
			name = key.(string)
		}
		var part json.RawMessage
		if err := d.Decode(&part); err != nil {
			return nil, false, err
		}
		if name != way[0] {
			continue
		}
		next, is, err := replace(part, way[1:], with)
		if err != nil {
			return nil, false, err
		}
		if is {
			end := int(d.InputOffset())
			whole = append(append(whole, value[kept:end-len(part)]...), next...)
			kept, found = end, true
		}
	}
	if _, err = d.Token(); err != nil || !found { // the end, so that what is not whole is not taken for it
		return value, false, err
	}
	return append(whole, value[kept:]...), true, nil
}
