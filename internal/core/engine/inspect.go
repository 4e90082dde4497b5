package engine

import "humblemule.example/internal/core/store"

// Inspection is what can be told of a data file without changing it.
type Inspection = store.Inspection

// Inspect looks at a data file. An error says why a service could not use it.
func Inspect(path string) (Inspection, error) { return store.Inspect(path) }
