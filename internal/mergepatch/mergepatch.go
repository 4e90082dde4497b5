// Package mergepatch edits JSON by merge patches (RFC 7396).
package mergepatch

import (
	"bytes"
	"encoding/json"
	"fmt"
)

// Apply edits a JSON value by an RFC 7396 merge patch. What the patch does not
// touch keeps its bytes: its numbers their digits, its fields their order.
func Apply(target, patch json.RawMessage) (json.RawMessage, error) {
	changes, isObject, err := members(patch)
	if err != nil || !isObject {
		return patch, err
	}
	fields, _, err := members(target)
	if err != nil {
		return nil, err
	}
	for _, c := range changes {
		at := -1
		for i := range fields {
			if fields[i].name == c.name {
				at = i
			}
		}
		if string(c.value) == "null" {
			if at >= 0 {
				fields = append(fields[:at], fields[at+1:]...)
			}
			continue
		}
		if at < 0 {
			fields = append(fields, member{name: c.name})
			at = len(fields) - 1
		}
		if fields[at].value, err = Apply(fields[at].value, c.value); err != nil {
			return nil, err
		}
	}
	return write(fields)
}

type member struct {
	name  string
	value json.RawMessage
}

// members splits an object into its fields, in order; isObject is false for any other
// value.
func members(raw json.RawMessage) (all []member, isObject bool, err error) {
	raw = bytes.TrimSpace(raw)
	if len(raw) == 0 || raw[0] != '{' {
		if len(raw) > 0 && !json.Valid(raw) {
			err = fmt.Errorf("the value is not valid JSON")
		}
		return nil, false, err
	}
	d := json.NewDecoder(bytes.NewReader(raw))
	if _, err := d.Token(); err != nil {
		return nil, false, err
	}
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return nil, false, err
		}
		m := member{name: name.(string)}
		if err := d.Decode(&m.value); err != nil {
			return nil, false, err
		}
		all = append(all, m)
	}
	_, err = d.Token()
	return all, true, err
}

func write(fields []member) (json.RawMessage, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, f := range fields {
		if i > 0 {
			b.WriteByte(',')
		}
		name := new(bytes.Buffer)
		e := json.NewEncoder(name)
		e.SetEscapeHTML(false)
		if err := e.Encode(f.name); err != nil {
			return nil, err
		}
		b.Write(bytes.TrimSpace(name.Bytes()))
		b.WriteByte(':')
		b.Write(f.value)
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}
