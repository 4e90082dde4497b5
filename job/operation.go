package job

import (
	"encoding/json"
)

// FinishedStates are those in which a job has ended.
func FinishedStates() []State { return []State{Done, Skipped, Cancelled, Dead} }

// Edit is a change of a job's payload. By whom and when is empty where it has not been
// made.
type Edit struct {
	Job    int64           `json:"job,omitzero"`
	Action string          `json:"action,omitzero"`
	By     string          `json:"by,omitzero"`
	At     Time            `json:"at,omitzero"`
	Before json.RawMessage `json:"before"`
	After  json.RawMessage `json:"after"`
}
