package engine

import (
	"context"

	"github.com/stretchr/testify/require"

	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/store"
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
}

// dump dumps an engine's memory from within its committer.
func dump(t require.TestingT, e *Engine) (lines []string, ranks map[string][2]int64) {
	require.NoError(t, e.c.Do(context.Background(), commit.Unchecked(func(tx *commit.Tx) error {
		lines, ranks = tx.Dump()
		return nil
	})))
	return lines, ranks
}
