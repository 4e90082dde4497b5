package store

import (
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/internal/core/words"
)

// Whatever words were put where, folded or not, and however few rows are looked at in one go: the
// blocks are found that hold a word of each group, each once, in order, and no others.
func TestBlocksWithWords(t *testing.T) {
	s, _ := open(t)
	draw := rand.New(rand.NewPCG(12, rand.Uint64()))
	all := map[int64]map[uint32]bool{}
	word := func() uint32 { return words.Hash(string(rune('a' + draw.IntN(20)))) }
	parts := 0
	for range 60 {
		var entries []byte
		n := 1 + draw.IntN(6)
		for range n {
			block := int64(draw.IntN(12))
			if draw.IntN(4) == 0 {
				block += 1 << 20 // ids go on far above where a file was copied
			}
			var set []uint32
			for range 1 + draw.IntN(4) {
				set = append(set, word())
			}
			slices.Sort(set)
			set = slices.Compact(set)
			entries = AppendWords(entries, block, set)
			if all[block] == nil {
				all[block] = map[uint32]bool{}
			}
			for _, h := range set {
				all[block][h] = true
			}
		}
		require.NoError(t, s.PutLateWords(n, entries))
		if draw.IntN(3) == 0 {
			require.NoError(t, s.FoldWords())
			parts++
		}
		require.NoError(t, s.Commit())
		late, err := s.LateFailures()
		require.NoError(t, err)
		for range 10 {
			q := words.Query{{word(), word()}, {word()}}[:1+draw.IntN(2)]
			var want []int64
			for block, set := range all {
				if q.Found(func(h uint32) bool { return set[h] }) == q.Whole() {
					want = append(want, block)
				}
			}
			slices.Sort(want)
			for _, newest := range []bool{false, true} {
				beyond := int64(-1)
				if newest {
					slices.Reverse(want)
					beyond = 1 << 40
				}
				var got []int64
				most := mostParts + 1 + draw.IntN(30)
				for looked := most; looked == most; {
					var found []int64
					found, beyond, looked, err = s.BlocksWith(t.Context(), q, beyond, newest, most)
					require.NoError(t, err)
					got = append(got, found...)
				}
				require.Equal(t, want, got, "newest %v, %d rows at once, %d failures not folded", newest, most, late)
			}
		}
	}
	require.Positive(t, parts)
	for block := range all {
		_, kept, err := s.partsOf(block)
		require.NoError(t, err)
		assert.Less(t, len(kept), mostParts, "parts of block %d", block)
	}
	// Blocks without jobs go, few at a time.
	require.NoError(t, s.FoldWords())
	for next, round := int64(0), 0; ; round++ {
		var err error
		next, err = s.DropWords(next, 3)
		require.NoError(t, err)
		if next == 0 {
			break
		}
		require.Less(t, round, len(all))
	}
	require.NoError(t, s.Commit())
	found, _, _, err := s.BlocksWith(t.Context(), words.Query{slices.Collect(maps.Keys(all[0]))}, 1<<40, true, 1000)
	require.NoError(t, err)
	assert.Empty(t, found)
}
