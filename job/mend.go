package job

import (
	"encoding/json"
)

// RefusedOutcome is what a handler brought whose job is dead because of it.
type RefusedOutcome struct {
	// Enqueue are the follow-ups as they came.
	Enqueue []json.RawMessage `json:"enqueue,omitzero"`
	// Errors say why they were refused.
	Errors []FieldError `json:"errors"`
}
