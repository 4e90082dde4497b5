package read

import (
	"context"
	"math"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Foretell adds to a batch how much of its work is done and when it will have ended, as far as the usual
// run times of its tasks tell. What was found is kept for a moment, since many may ask at once.
func (rd *Reader) Foretell(ctx context.Context, b *api.Batch) error {
	if b.State.Over() || b.Jobs > api.MaxBatchGraph {
		return nil
	}
	rd.outlooks.mu.Lock()
	defer rd.outlooks.mu.Unlock()
	told, err := rd.outlooks.of(b.ID, func() (batchOutlook, error) { return rd.outlookOfBatch(ctx, b) })
	b.PercentOfWork, b.ExpectedEnd = told.percent, told.end
	return err
}

// batchOutlook is how much of a batch's work is done, nil where that is not known, and when it ends, 0
// where nothing tells.
type batchOutlook struct {
	percent *float64
	end     job.Time
}

// outlooks of batches are kept while they are young.
type outlooks struct {
	mu     sync.Mutex
	byID   map[int64]batchOutlook
	keptAt time.Time
}

// of gives a batch's outlook, kept or made anew. The caller holds the lock.
func (o *outlooks) of(id int64, find func() (batchOutlook, error)) (batchOutlook, error) {
	if time.Since(o.keptAt) > pacesKept {
		o.byID, o.keptAt = map[int64]batchOutlook{}, time.Now()
	}
	if told, kept := o.byID[id]; kept {
		return told, nil
	}
	told, err := find()
	if err == nil {
		o.byID[id] = told
	}
	return told, err
}

func (rd *Reader) outlookOfBatch(ctx context.Context, b *api.Batch) (told batchOutlook, err error) {
	members, err := rd.store.BatchMembers(ctx, b.ID, api.MaxBatchGraph)
	if err != nil || len(members) == 0 {
		return told, err
	}
	edges, err := rd.store.EdgesIn(ctx, b.ID, members[len(members)-1].ID, api.MaxBatchEdges)
	if err != nil {
		return told, err
	}
	now := rd.clock.Now()
	w, known := rd.workOf(members, now)
	if !known {
		return told, nil
	}
	percent := 100.0
	if all := w.done + w.left; all > 0 {
		percent = math.Round(float64(w.done)/float64(all)*1000) / 10
	}
	told.percent = &percent
	if b.State != api.BatchRunning || b.Open {
		return told, nil
	}
	g := rd.layOut(members, edges, b.Last)
	if in, known := w.span(g.longestLeft(w.takes), rd.slotsFor(w.byQueue, now)); known {
		told.end = now.Add(in)
	}
	return told, nil
}

// work is what the jobs of a batch take by the usual run times of their tasks: what is done, what is left
// in all and in each queue, and what is left of each job, until it has ended if it began now.
type work struct {
	done, left time.Duration
	byQueue    map[int64]time.Duration
	takes      []time.Duration
}

// workOf tells the work of some jobs; it is not known where a task has not run often enough.
func (rd *Reader) workOf(members []store.Member, now job.Time) (w work, known bool) {
	w.byQueue, w.takes = map[int64]time.Duration{}, make([]time.Duration, len(members))
	usual := rd.usuals()
	for i := range members {
		m := &members[i]
		_, task := rd.Names(m.Queue, m.Task)
		ms, _ := usual(task)
		if ms == 0 && !m.State.Finished() {
			return w, false
		}
		takes := time.Duration(ms) * time.Millisecond
		if m.State.Finished() {
			w.done += takes
			continue
		}
		left := takes
		if m.State == job.Running {
			left = max(takes-now.Sub(m.LeasedAt), 0)
		}
		w.done, w.left = w.done+takes-left, w.left+left
		w.byQueue[m.Queue] += left
		w.takes[i] = left
		if m.NextAt > now && (m.State == job.Scheduled || m.State == job.Backoff) {
			w.takes[i] += m.NextAt.Sub(now)
		}
	}
	return w, true
}

// span is how long the work takes at most, where slots are never idle while a job could run: the longest
// path and, of what is left beside it, a share for each slot (Graham 1966). The queue that takes longest
// tells. It is not known where a queue has no slot.
func (w *work) span(path time.Duration, slots map[int64]int) (longest time.Duration, known bool) {
	longest = path
	for queue, left := range w.byQueue {
		n := slots[queue]
		if n == 0 {
			return 0, false
		}
		longest = max(longest, path+max(left-path, 0)/time.Duration(n))
	}
	return longest, true
}

// slotsFor is how many slots serve each of some queues.
func (rd *Reader) slotsFor(queues map[int64]time.Duration, now job.Time) map[int64]int {
	service := rd.m.Workers.Presence.Service(now)
	rd.m.RLock()
	defer rd.m.RUnlock()
	all := map[int64]int{}
	for id := range queues {
		if q := rd.m.Queues.Kept(id); q != nil && rd.m.Settings.KeptPause(id).At == 0 {
			all[id] = rd.slotsOf(q, service)
		}
	}
	return all
}

// longestLeft is how long the longest path takes, where each job takes so long.
func (g *graph) longestLeft(takes []time.Duration) (longest time.Duration) {
	ends := make([]time.Duration, len(g.members))
	for _, i := range g.order {
		for _, n := range g.needs[i] {
			ends[i] = max(ends[i], ends[n])
		}
		if i == g.last {
			ends[i] = longest
		}
		ends[i] += takes[i]
		longest = max(longest, ends[i])
	}
	return longest
}
