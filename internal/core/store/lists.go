package store

import (
	"context"

	"humblemule.example/job"
)

// IDsInGroup reads ids of a group beyond after, newest or oldest first.
func (s *Store) IDsInGroup(ctx context.Context, g Group, after int64, newest bool, limit int) ([]int64, error) {
	cmp, dir := beyond(newest)
	if g.State == job.Running { // they have an index of their own
		return ids(s.ask(ctx, "SELECT id FROM jobs WHERE queue = ? AND task = ? AND state = {running} AND removed_by = 0 AND id "+cmp+" ? ORDER BY id "+dir+" LIMIT ?", g.Queue, g.Task, after, limit))
	}
	return ids(s.ask(ctx, "SELECT id FROM jobs WHERE queue = ? AND task = ? AND state = ? AND state <> {running} AND removed_by = 0 AND id "+cmp+" ? ORDER BY id "+dir+" LIMIT ?",
		g.Queue, g.Task, int64(g.State), after, limit))
}

// IDs reads ids of all jobs beyond after, newest or oldest first.
func (s *Store) IDs(ctx context.Context, after int64, newest bool, limit int) ([]int64, error) {
	cmp, dir := beyond(newest)
	return ids(s.ask(ctx, "SELECT id FROM jobs WHERE id "+cmp+" ? ORDER BY id "+dir+" LIMIT ?", after, limit))
}
