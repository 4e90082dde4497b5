// Package setup sets what holds for queues and tasks, one by one or all that a file defines,
// pauses queues, and deletes names. Where a change would keep finished jobs for a shorter
// time it sees to it that none goes unnoticed.
//
// It keeps nothing; the settings are a part of the memory.
package setup

import (
	"humblemule.example/internal/core/bulk"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/plan"
)

// Setter sets. Its methods may be called from any goroutine.
type Setter struct {
	c    *commit.Committer
	m    *memory.Memory
	bulk *bulk.Operator
	plan *plan.Planner
}

// New gives a setter.
func New(c *commit.Committer, operator *bulk.Operator, planner *plan.Planner) *Setter {
	return &Setter{c, c.Memory, operator, planner}
}
