package api

import "humblemule.example/job"

// MaxFollows is how many labels are followed at most.
const MaxFollows = 100

// NewFollow is a label to be followed: it reads and writes itself as name:value.
type NewFollow struct{ Name, Value string }

// MarshalText writes name:value as [LabelPair] does.
func (f NewFollow) MarshalText() ([]byte, error) { return []byte(LabelPair(f.Name, f.Value)), nil }

// UnmarshalText reads what [ReadLabelPair] does.
func (f *NewFollow) UnmarshalText(raw []byte) error {
	f.Name, f.Value, _ = ReadLabelPair(string(raw))
	return nil
}

// Follow is a label that is followed: how many jobs have it, and what moves among them, which
// history tells.
type Follow struct {
	Name   string    `json:"name"`
	Label  NewFollow `json:"label"`
	MadeAt job.Time  `json:"made_at"`
	MadeBy string    `json:"made_by,omitzero"`
	// Counts are the jobs that have it by their states. While Counting, those from before it was
	// followed are not all among them yet.
	Counts   map[job.State]int64 `json:"counts"`
	Counting bool                `json:"counting,omitzero"`
}
