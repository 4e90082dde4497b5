package api

import "encoding/json"

// Setup is what a file defines: the settings of queues and tasks, by their names, how long
// finished jobs are kept, and what else is a cause.
type Setup struct {
	Queues    map[string]Defaults `json:"queues,omitzero"`
	Tasks     map[string]Defaults `json:"tasks,omitzero"`
	Retention *Retention          `json:"retention,omitzero"`
	Triage    []TriageRule        `json:"triage,omitzero"`
	Schedules map[string]Schedule `json:"schedules,omitzero"`
	Hooks     map[string]Hook     `json:"hooks,omitzero"`
	Endpoints map[string]Endpoint `json:"endpoints,omitzero"`
	Alerts    *Alerts             `json:"alerts,omitzero"`
	// Empty says that it is meant to define nothing, where it does not.
	Empty bool `json:"empty,omitzero"`
}

// SetupRequest asks what a setup would change, or makes it so.
type SetupRequest struct {
	Setup
	// Adopt lets the file define what was set in another way before.
	Adopt bool `json:"adopt,omitzero"`
	// DryRun tells the difference and changes nothing.
	DryRun bool `json:"dry_run,omitzero"`
	// MayRemove says that finished jobs which are kept no longer then may be removed.
	MayRemove bool `json:"may_remove,omitzero"`
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
	// Removes is, of a dry run, how many finished jobs would no longer be kept, and
	// Operation, of a load, the operation that removes them, which can be undone.
	Removes   int64 `json:"removes,omitzero"`
	Operation int64 `json:"operation,omitzero"`
	// Loaded tells that it was made so.
	Loaded bool `json:"loaded"`
}

// SetupChange is what a setup does to one queue or task, to the retention or the triage.
type SetupChange struct {
	// Kind is queue, task, schedule, hook, endpoint, retention, triage or alerts; the last three have no names.
	Kind string `json:"kind"`
	Name string `json:"name,omitzero"`
	// Change is add, change, adopt (it was not set by a file) or remove: its
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

// Where a setting comes from.
const (
	SettingBuiltIn    = "built_in"
	SettingByFile     = "file"
	SettingByVariable = "variable"
	SettingByFlag     = "flag"
	// SettingByHand is what the API, a command or the console has set.
	SettingByHand = "hand"
)

// Setting is one that is in force.
type Setting struct {
	// Of is service, calls, retention, triage, alerts, queues or tasks (what holds where one says
	// nothing itself), or one of them, as in: queue berths, task tide.predict.
	Of    string          `json:"of"`
	Name  string          `json:"name"`
	Value json.RawMessage `json:"value"`
	// From is built_in, file, variable, flag or hand, and Where the place there, such as
	// HMULE_LISTEN or hmule.yaml:3:11.
	From  string `json:"from"`
	Where string `json:"where,omitzero"`
}

// Settings are all that are in force, with the version of those of queues and tasks.
type Settings struct {
	Version  int64     `json:"version"`
	Settings []Setting `json:"settings"`
}
