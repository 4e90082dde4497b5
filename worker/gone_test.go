package worker

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestGone(t *testing.T) {
	var g gone
	g.add("unasked")
	require.False(t, g.has("unasked"), "no call is open that could tell of it")

	first := g.begin()
	g.add("a")
	second := g.begin()
	g.add("b")
	require.True(t, g.has("a"))
	g.end(first)
	require.False(t, g.has("a"), "only the first call could tell of it")
	require.True(t, g.has("b"), "the second may still")
	g.end(second)
	require.False(t, g.has("b"))

	// A pool that is never without a call remembers what is settled meanwhile, no more.
	last := g.begin()
	for i := range 10_000 {
		next := g.begin()
		g.add(fmt.Sprint(i))
		g.end(last)
		last = next
	}
	require.Len(t, g.tokens, 1)
	require.Len(t, g.at, 1)
}
