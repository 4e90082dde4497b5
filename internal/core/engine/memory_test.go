package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"github.com/stretchr/testify/require"

	"humblemule/internal/core/store"
)

// memoryAgrees wants the engine's memory to be what a second engine would load from the
// file by now: the one is a copy of the other, whatever wrote which of them.
func memoryAgrees(t require.TestingT, e *Engine) {
	is, ranks := dumpOf(t, e)
	peek, err := store.Peek(e.store.Path())
	require.NoError(t, err)
	defer func() { require.NoError(t, peek.Close()) }()
	second := &Engine{opts: e.opts, log: silent, store: peek}
	second.registry.workers = map[string]*worker{}
	require.NoError(t, second.recover())
	inFile, fileRanks := dump(second)
	require.Equal(t, inFile, is, "memory, and what its file holds")
	for name, next := range ranks {
		require.LessOrEqual(t, next, fileRanks[name], "ranks of %s that were drawn", name)
		require.LessOrEqual(t, fileRanks[name], next+ranksReserved, "ranks of %s that are reserved", name)
	}
	for body, id := range e.policies {
		kept, err := peek.PolicyBody(id)
		require.NoError(t, err)
		require.Equal(t, kept, body)
	}
}

// dumpOf dumps an engine's memory from within its committer.
func dumpOf(t require.TestingT, e *Engine) (lines []string, ranks map[string]int64) {
	require.NoError(t, e.do(context.Background(), func(*txn) error {
		lines, ranks = dump(e)
		return nil
	}))
	return lines, ranks
}

// dump writes what an engine keeps in memory of its file in a canonical form, a fact a
// line, and the next rank of each queue.
func dump(e *Engine) (lines []string, ranks map[string]int64) {
	add := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	asJSON := func(v any) string {
		raw, err := json.Marshal(v)
		if err != nil {
			panic(err)
		}
		return string(raw)
	}
	v := &e.view
	ranks = map[string]int64{}
	add("store %s, next job %d, settings %d, owned %s", e.storeID, e.nextJob, v.settings.Load(), asJSON(v.owned))
	add("next due %d, late %d, result %d, sweep %d", e.nextDue, e.nextLate, e.nextDrop, e.nextSweep)
	for _, name := range slices.Sorted(maps.Keys(v.queues)) {
		q := v.queues[name]
		ranks[name] = q.nextRank
		add("queue %s: %d, version %d, reserved %d, defaults %s, rules %s, pause %v, walking %v, past %v, running %d", name, q.id, q.version, q.reserved, asJSON(q.defaults), asJSON(q.rules), q.pause, q.walk != nil, q.past, q.running)
		for _, task := range slices.Sorted(maps.Keys(q.tasks)) {
			if c := *q.tasks[task]; c != (stateCounts{}) {
				add("queue %s, task %d: %v", name, task, c)
			}
		}
		if v.queueOf[q.id] != q || e.walking[q] != (q.walk != nil) {
			add("queue %s is not itself", name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(v.tasks)) {
		id := v.tasks[name]
		add("task %s: %d, version %d, defaults %s, running %d", name, id, v.taskVersion[id], asJSON(v.taskDefaults[id]), v.taskRunning[id])
		if v.taskName[id] != name {
			add("task %s is not itself", name)
		}
	}
	add("causes %v", slices.Sorted(maps.Keys(e.knownCauses)))
	for _, name := range slices.Sorted(maps.Keys(v.schedules)) {
		s := v.schedules[name]
		add("schedule %s: %+v, fires at %d, planned %v", name, s.row, s.firesAt(), s.index >= 0 && e.plan[s.index] == s)
	}
	add("%d schedules are planned", len(e.plan))
	for _, id := range slices.Sorted(maps.Keys(e.leases)) {
		l := e.leases[id]
		row := *l.row
		row.Payload = nil
		add("lease %d of %s: %+v, policy %s, lines %d", id, l.worker, row, asJSON(l.policy), l.lines)
	}
	add("%d leases end", len(e.ends))
	add("receipts reach to %d, kept %d", e.receipts.reach, e.receipts.kept)
	for _, row := range e.receipts.rows {
		for _, call := range row.calls {
			add("receipts %d of %d, served %d: %x %x %v", row.id, row.at, row.served, call, e.receipts.of[call].id.body, e.receipts.of[call].ids)
		}
	}
	return lines, ranks
}
