package engine

import (
	"context"

	"humblemule.example/internal/core/scope"
)

// Veiled gives the context of a call whose caller does not see what tasks hide of their payloads.
func Veiled(ctx context.Context) context.Context {
	in := scope.Of(ctx)
	if !in.SeesHidden() {
		return ctx
	}
	return scope.With(ctx, in.Veiled())
}

// SeesWhole tells whether the caller of a call sees all queues and tasks.
func SeesWhole(ctx context.Context) bool { return scope.Of(ctx).Whole() }

// Sees tells whether the caller of a call sees the jobs of a queue and a task.
func Sees(ctx context.Context, queue, task string) bool { return scope.Of(ctx).Sees(queue, task) }

// Whole refuses callers who do not see everything.
func Whole(ctx context.Context) error { return scope.Whole(ctx) }
