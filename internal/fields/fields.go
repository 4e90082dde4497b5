// Package fields takes values apart by their fields in JSON: what differs between two, and
// which settings are in force.
package fields

import (
	"encoding/json"
	"maps"
	"reflect"
	"slices"

	"humblemule.example/api"
)

// Differ tells which settings differ of two values of a type that is an object in JSON;
// nil stands for none.
func Differ[T any](before, after *T) (all []api.SetupField) {
	a, b := fieldsOf(before), fieldsOf(after)
	names := map[string]bool{}
	for name := range a {
		names[name] = true
	}
	for name := range b {
		names[name] = true
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if !reflect.DeepEqual(a[name], b[name]) {
			all = append(all, api.SetupField{Field: name, Before: orNull(a[name]), After: orNull(b[name])})
		}
	}
	return all
}

func fieldsOf[T any](d *T) (all map[string]json.RawMessage) {
	if d == nil {
		return nil
	}
	raw, err := json.Marshal(d)
	if err != nil {
		panic(err) // its values are plain
	}
	if err := json.Unmarshal(raw, &all); err != nil {
		panic(err)
	}
	return all
}

func orNull(raw json.RawMessage) json.RawMessage {
	if raw == nil {
		return json.RawMessage("null")
	}
	return raw
}

// ValueOf is a value of a setting as JSON.
func ValueOf(v any) json.RawMessage {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err) // settings are plain
	}
	return raw
}

// SettingsOf are the parts of a value that is an object in JSON, in the order of their
// names.
func SettingsOf[T any](of string, v *T, from, where string) (all []api.Setting) {
	fields := fieldsOf(v)
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		all = append(all, api.Setting{Of: of, Name: name, Value: fields[name], From: from, Where: where})
	}
	return all
}
