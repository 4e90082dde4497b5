// Package scope says what a caller may see and act on. Every read and every command takes
// the scope of its call, which travels in the call's context beside who makes it; today
// every caller has everything.
package scope

import (
	"context"
	"sync/atomic"

	"humblemule.example/job"
)

// Scope is what a caller may see and act on, by the names of queues and tasks. The zero value
// is everything.
type Scope struct {
	sees  func(queue, task string) bool
	taken *atomic.Bool
	// veiled says that the caller does not see what tasks hide of their payloads.
	veiled bool
}

// Veiled gives the scope without what tasks hide of their payloads.
func (s Scope) Veiled() Scope {
	s.veiled = true
	return s
}

// SeesHidden tells whether the caller sees what tasks hide of their payloads.
func (s Scope) SeesHidden() bool { return !s.veiled }

// Only gives the scope for which sees answers. It is asked with an empty task for all of a
// queue, and with an empty queue for all of a task.
func Only(sees func(queue, task string) bool) Scope { return Scope{sees: sees} }

// Noting gives a scope that notes in taken that it was asked for: so a test finds out what
// does not ask.
func (s Scope) Noting(taken *atomic.Bool) Scope {
	s.taken = taken
	return s
}

// Sees tells whether the jobs of a queue and a task are in the scope; with an empty task all
// of the queue, with an empty queue all of the task.
func (s Scope) Sees(queue, task string) bool { return s.sees == nil || s.sees(queue, task) }

// Refuses is why a caller may not act on a queue and a task; nil where it may.
func (s Scope) Refuses(queue, task string) error {
	switch {
	case s.Sees(queue, task):
		return nil
	case queue == "":
		return job.Fault(job.Forbidden, "task %s is outside what this token may use; ask somebody whose token may", task)
	case task == "":
		return job.Fault(job.Forbidden, "queue %s is outside what this token may use; ask somebody whose token may", queue)
	}
	return job.Fault(job.Forbidden, "task %s in queue %s is outside what this token may use; ask somebody whose token may", task, queue)
}

// Whole tells whether the scope is everything.
func (s Scope) Whole() bool { return s.sees == nil }

// Whole refuses a call that is not for everything: what is told or done there is of the
// whole service and cannot be had in part.
func Whole(ctx context.Context) error {
	if Of(ctx).Whole() {
		return nil
	}
	return job.Fault(job.Forbidden, "this concerns the whole service, and this token may use only some queues and tasks; ask somebody whose token may use all")
}

type key struct{}

// With gives ctx the scope of a call.
func With(ctx context.Context, s Scope) context.Context { return context.WithValue(ctx, key{}, s) }

// Of is the scope of the call that ctx is of; what the service does by itself has everything.
func Of(ctx context.Context) Scope {
	s, given := ctx.Value(key{}).(Scope)
	if !given {
		return Scope{}
	}
	if s.taken != nil {
		s.taken.Store(true)
	}
	return s
}
