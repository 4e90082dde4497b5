package job

import (
	"encoding/json"
	"maps"
	"reflect"
	"slices"
)

// Setup is what a file defines: the settings of queues and tasks, by their names.
type Setup struct {
	Queues map[string]Defaults `json:"queues,omitzero"`
	Tasks  map[string]Defaults `json:"tasks,omitzero"`
}

// SetupRequest asks what a setup would change, or makes it so.
type SetupRequest struct {
	Setup
	// Adopt lets the file define what was set otherwise before.
	Adopt bool `json:"adopt,omitzero"`
	// DryRun tells the difference and changes nothing.
	DryRun bool `json:"dry_run,omitzero"`
}

// What a setup does to a queue or task.
const (
	SetupAdds    = "add"
	SetupChanges = "change"
	SetupAdopts  = "adopt"
	SetupRemoves = "remove"
)

// SetupDiff is the difference between a setup and what is in force. What neither it nor
// an earlier load has defined is told in Others and left alone.
type SetupDiff struct {
	Changes []SetupChange `json:"changes"`
	// Same is how many the file defines as they are.
	Same   int      `json:"same"`
	Others []string `json:"others,omitzero"`
	// Loaded tells that it was made so.
	Loaded bool `json:"loaded"`
}

// SetupChange is what a setup does to one queue or task.
type SetupChange struct {
	// Kind is queue or task.
	Kind string `json:"kind"`
	Name string `json:"name"`
	// Change is add, change, adopt (it was set otherwise than by a file) or remove: its
	// settings are taken away, its jobs stay.
	Change string `json:"change"`
	// Fields are the settings that differ.
	Fields []SetupField `json:"fields,omitzero"`
}

// SetupField is a setting that differs; null where it is not set.
type SetupField struct {
	Field  string          `json:"field"`
	Before json.RawMessage `json:"before"`
	After  json.RawMessage `json:"after"`
}

// Differ tells which settings differ; nil stands for none.
func Differ(before, after *Defaults) (all []SetupField) {
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
			all = append(all, SetupField{Field: name, Before: orNull(a[name]), After: orNull(b[name])})
		}
	}
	return all
}

func fieldsOf(d *Defaults) (all map[string]json.RawMessage) {
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
