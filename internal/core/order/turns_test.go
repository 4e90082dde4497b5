package order

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Over any stretch in which the same names had work, each gets its share to
// within one turn, whatever went before.
func TestTurns(t *testing.T) {
	weights := map[string]int{"berths": 5, "common": 2, "archive": 1}
	weight := func(name string) int { return weights[name] }
	turns := Turns{}
	var first []string
	for range 8 {
		first = append(first, turns.Next([]string{"berths", "common", "archive"}, weight))
	}
	assert.Equal(t, []string{"berths", "common", "berths", "berths", "archive", "berths", "common", "berths"}, first, "spread out, not in runs")

	draw := rand.New(rand.NewPCG(6853, 7))
	all := []string{"berths", "common", "archive"}
	for range 500 {
		open, total := all[draw.IntN(2):], 0
		if draw.IntN(3) == 0 {
			open = all[:1]
		}
		for _, name := range open {
			total += weights[name]
		}
		rounds, got := 1+draw.IntN(5), map[string]int{}
		for range rounds * total {
			got[turns.Next(open, weight)]++
		}
		for _, name := range open {
			assert.InDelta(t, rounds*weights[name], got[name], float64(len(all)), "%s of %v", name, open)
		}
	}
}
