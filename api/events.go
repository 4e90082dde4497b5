package api

// EventFilter says which changes are followed: those of the jobs of a batch, of an owner, or with a key. One of
// them is given, or none for all changes.
type EventFilter struct {
	Batch int64
	Owner string
	Key   string
}
