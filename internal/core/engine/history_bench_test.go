package engine

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/past"
	"humblemule.example/internal/core/trend"
	"humblemule.example/job"
)

// History of thirty days over fifty tasks, by the hour, with how long things took and without.
func BenchmarkHistory(b *testing.B) {
	path, now := filepath.Join(b.TempDir(), "history.db"), time.Now().Truncate(time.Hour)
	random := rand.New(rand.NewPCG(6853, 50))
	err := past.Write(path, func(w *past.Writer) error {
		for at := now.Add(-30 * 24 * time.Hour); at.Before(now); at = at.Add(time.Hour) {
			if err := w.At(at); err != nil {
				return err
			}
			for i := range 50 {
				n := int64(40)
				f := &trend.Figures{N: [trend.NumCounts]int64{trend.Enqueued: n, trend.Started: n, trend.Done: n}}
				for range n {
					f.Waits.Add(100 * random.ExpFloat64())
					f.Runs.Add(400 * random.ExpFloat64())
				}
				if err := w.Ran(fmt.Sprint("queue-", i%8), fmt.Sprint("task-", i), 0, f); err != nil {
					return err
				}
			}
		}
		return w.At(now)
	})
	if err != nil {
		b.Fatal(err)
	}
	e, err := Open(path, Options{LookEvery: unwatched, Log: silent})
	if err != nil {
		b.Fatal(err)
	}
	defer e.Close()
	for _, times := range []bool{false, true} {
		b.Run(fmt.Sprint("times=", times), func(b *testing.B) {
			for b.Loop() {
				h, err := e.History(b.Context(), api.HistoryQuery{From: job.At(now.Add(-30 * 24 * time.Hour)), Step: job.Duration(time.Hour), By: api.ByTask, Times: times})
				if err != nil || len(h.Series) != 50 {
					b.Fatal(err, len(h.Series))
				}
			}
		})
	}
}
