package order

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"humblemule.example/job"
)

// However jobs come, none is overtaken by one that is due after its bound.
func TestAgeing(t *testing.T) {
	draw := rand.New(rand.NewPCG(6853, 6))
	type waiting struct {
		due      job.Time
		priority int
		rank     int64
	}
	for range 200 {
		boost := time.Duration(draw.IntN(100_000)) * time.Millisecond
		var all []waiting
		for range 100 {
			w := waiting{due: job.Time(draw.Int64N(1_000_000)), priority: draw.IntN(10)}
			w.rank = Ageing(w.due, w.priority, boost)
			all = append(all, w)
		}
		slices.SortFunc(all, func(a, b waiting) int { return int(a.rank - b.rank) })
		for i, late := range all {
			for _, first := range all[:i] {
				if first.due > late.due.Add(time.Duration(9-late.priority)*boost) {
					require.FailNow(t, "overtaken for too long", "%+v before %+v", first, late)
				}
			}
		}
	}
	now := job.Time(1_790_000_000_000)
	require.Equal(t, now-5_000, job.Time(Ageing(now, 5, time.Second)))
	require.Positive(t, Ageing(now, 9, 30*24*time.Hour), "0 means that no rank was drawn")
}

// Between any two owners that have jobs waiting throughout a span, the starts within
// the span, divided by the weights, differ by no more than the theorem says.
func TestFair(t *testing.T) {
	const owners, starts = 6, 400
	for seed := range uint64(40) {
		draw := rand.New(rand.NewPCG(seed, 1996))
		weights, waiting, tags := [owners]int{}, [owners]int{}, [owners]int64{}
		for o := range owners {
			weights[o] = 1 + draw.IntN(5)
		}
		served := int64(0)
		var history [][owners]int // starts so far, after each start
		var idle [owners]int      // the last start before which the owner had nothing
		counts := [owners]int{}
		for n := range starts {
			for o := range owners { // bursts come at random; owner 0 always has jobs
				if o == 0 && waiting[o] < 3 || draw.IntN(20) == 0 {
					if waiting[o] == 0 {
						tags[o] = Enter(tags[o], served)
					}
					waiting[o] += 1 + draw.IntN(40)
				}
			}
			next := -1
			for o := range owners {
				if waiting[o] > 0 && (next < 0 || tags[o] < tags[next]) {
					next = o
				}
			}
			served = tags[next]
			tags[next] = Served(tags[next], weights[next])
			waiting[next]--
			counts[next]++
			history = append(history, counts)
			for o := range owners {
				if waiting[o] == 0 {
					idle[o] = n + 1
				}
			}
			checkFair(t, history, idle, weights, fmt.Sprintf("seed %d, start %d", seed, n))
		}
	}
}

func checkFair[N interface{ ~[6]int }](t *testing.T, history []N, idle, weights N, what string) {
	last := len(history) - 1
	for a := range idle {
		for b := range a {
			from := max(idle[a], idle[b])
			for since := from; since < last; since++ {
				got := func(o int) float64 { return float64(history[last][o]-history[since][o]) / float64(weights[o]) }
				bound := 1/float64(weights[a]) + 1/float64(weights[b]) + 1e-3
				if d := got(a) - got(b); d > bound || d < -bound {
					require.FailNow(t, "unfair", "%s: owners %d and %d since %d: %v > %v", what, a, b, since, d, bound)
				}
			}
		}
	}
}

func BenchmarkAgeing(b *testing.B) {
	for n := 0; b.Loop(); n++ {
		Ageing(job.Time(n), n%10, time.Minute)
	}
}

func BenchmarkTurn(b *testing.B) {
	tag := int64(0)
	for served := int64(0); b.Loop(); served++ {
		tag = Served(Enter(tag, served), 3)
	}
}
