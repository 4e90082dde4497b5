package engine

import (
	"context"
	"time"

	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// memoryAgrees wants the engine's memory to be what a second engine would load from the
// file by now: the one is a copy of the other, whatever wrote which of them.
func memoryAgrees(t require.TestingT, e *Engine) {
	is, ranks := dump(t, e)
	peek, err := store.Peek(e.c.Store.Path())
	require.NoError(t, err)
	defer func() { require.NoError(t, peek.Close()) }()
	second, err := commit.Over(peek, Options{Wall: e.c.Wall, Log: silent})
	require.NoError(t, err)
	inFile, fileRanks := second.Memory.Dump()
	require.Equal(t, inFile, is, "memory, and what its file holds")
	for name, drawn := range ranks {
		require.Equal(t, fileRanks[name][0], drawn[1], "ranks of %s that are reserved", name)
		require.LessOrEqual(t, drawn[0], drawn[1], "ranks of %s that were drawn", name)
	}
	historyAgrees(t, e)
}

// historyAgrees wants what came and what finished, as history tells it by days, to differ by
// the jobs that have not finished: those that were removed and can be restored are among them.
func historyAgrees(t require.TestingT, e *Engine) {
	db, err := store.Look(e.c.Store.Path())
	require.NoError(t, err)
	defer func() { require.NoError(t, db.Close()) }()
	var unfinished int64
	require.NoError(t, db.QueryRowContext(context.Background(), "SELECT count(*) FROM jobs WHERE state < 6").Scan(&unfinished))
	const day = job.Duration(24 * time.Hour)
	for _, by := range []string{api.ByQueue, api.ByTask} {
		h, err := e.History(context.Background(), api.HistoryQuery{From: max(e.c.Now().Add(-1000*day.Go()), 1), To: e.c.Now().Add(1000 * day.Go()), Step: day, By: by})
		require.NoError(t, err)
		sum := h.Total.Sum
		require.Equal(t, unfinished, sum.Enqueued+sum.Requeued-sum.Done-sum.Dead-sum.Skipped-sum.Cancelled, "by %s: %+v", by, sum)
		var parts api.Flow
		for _, s := range h.Series {
			parts.Enqueued += s.Sum.Enqueued
			parts.Started += s.Sum.Started
			parts.Failed += s.Sum.Failed
			parts.Done += s.Sum.Done
		}
		require.Equal(t, []int64{sum.Enqueued, sum.Started, sum.Failed, sum.Done}, []int64{parts.Enqueued, parts.Started, parts.Failed, parts.Done}, "the parts of %s", by)
	}
}

// dump dumps an engine's memory from within its committer.
func dump(t require.TestingT, e *Engine) (lines []string, ranks map[string][2]int64) {
	require.NoError(t, e.c.Do(context.Background(), commit.Unchecked(func(tx *commit.Tx) error {
		lines, ranks = tx.Dump()
		return nil
	})))
	return lines, ranks
}
