package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
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
	dumpAgrees(t, e)
	historyAgrees(t, e)
	findingAgrees(t, e)
}

func dumpAgrees(t require.TestingT, e *Engine) {
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
}

// findingAgrees wants what jobs are found by to be what their rows say: owners, labels, and when
// they were enqueued.
func findingAgrees(t require.TestingT, e *Engine) {
	ctx := context.Background()
	db, err := store.Look(e.c.Store.Path())
	require.NoError(t, err)
	defer func() { require.NoError(t, db.Close()) }()
	column := func(query string, args ...any) (all []string) {
		rows, err := db.QueryContext(ctx, query, args...)
		require.NoError(t, err)
		defer rows.Close()
		for rows.Next() {
			var text string
			require.NoError(t, rows.Scan(&text))
			all = append(all, text)
		}
		require.NoError(t, rows.Err())
		return all
	}
	require.Equal(t, column("SELECT owner || ' ' || state || ' ' || count(*) FROM jobs WHERE owner <> '' AND removed_by = 0 GROUP BY owner, state ORDER BY 1"),
		column("SELECT owner || ' ' || state || ' ' || n FROM owner_counts ORDER BY 1"), "jobs by owner and state")
	var labelled []string
	for _, line := range column("SELECT job || ' ' || labels FROM specs WHERE labels <> ''") {
		id, text, _ := strings.Cut(line, " ")
		var labels map[string]string
		require.NoError(t, json.Unmarshal([]byte(text), &labels))
		for name, value := range labels {
			labelled = append(labelled, fmt.Sprint(store.LabelHash(name, value), " ", id))
		}
	}
	slices.Sort(labelled)
	require.Equal(t, labelled, column("SELECT label || ' ' || job FROM labelled ORDER BY 1"), "jobs by label")
	for _, line := range column("SELECT name || ' ' || label || ' ' || value FROM follows WHERE first = 0") {
		part := strings.Split(line, " ")
		require.Equal(t, column("SELECT state || ' ' || count(*) FROM jobs JOIN specs ON job = id WHERE removed_by = 0 AND labels <> '' AND labels ->> ? = ? GROUP BY state ORDER BY 1", part[1], part[2]),
			column("SELECT state || ' ' || n FROM follow_counts WHERE name = ? AND n <> 0 ORDER BY 1", part[0]), "jobs with the followed label %s", line)
	}
	for _, at := range column("SELECT DISTINCT enqueued_at FROM jobs WHERE id % 7 = 0 ORDER BY id DESC LIMIT 3") {
		ms, err := strconv.ParseInt(at, 10, 64)
		require.NoError(t, err)
		for where, f := range map[string]api.Filter{"enqueued_at >= ?": {Since: job.Time(ms)}, "enqueued_at < ?": {Until: job.Time(ms)}, "enqueued_at = ?": {Since: job.Time(ms), Until: job.Time(ms + 1)}} {
			f.Limit = api.MaxPage
			page, err := e.Jobs(ctx, f)
			require.NoError(t, err)
			ids := make([]string, len(page.Jobs))
			for i, j := range page.Jobs {
				ids[i] = fmt.Sprint(j.ID)
			}
			require.Equal(t, append([]string{}, column("SELECT id FROM jobs WHERE "+where+" AND removed_by = 0 ORDER BY id DESC LIMIT 500", ms)...), ids, "jobs by time, %s %d", where, ms)
		}
	}
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
