package read

import (
	"context"
	"encoding/json"
	"math"
	"slices"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/check"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/sentence"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// NoBatch says that no batch has an id.
func NoBatch(id int64) error {
	return job.Fault(job.NotFound, "batch %d does not exist, or is no longer kept", id)
}

// Batch tells how a batch stands.
func (rd *Reader) Batch(ctx context.Context, id int64) (api.Batch, error) {
	if err := scope.Whole(ctx); err != nil {
		return api.Batch{}, err
	}
	b, err := rd.store.ReadBatch(ctx, id)
	if err != nil {
		return api.Batch{}, err
	}
	if b == nil {
		return api.Batch{}, NoBatch(id)
	}
	return rd.summedUp(ctx, b)
}

// summedUp is a batch as it is told outside, with what it waits for in a sentence.
func (rd *Reader) summedUp(ctx context.Context, b *store.Batch) (told api.Batch, err error) {
	if told, err = rd.tellBatch(ctx, b); err != nil {
		return told, err
	}
	s := sentence.Batch{Counts: told.Counts, Jobs: told.Jobs, TooLate: told.TooLate, Open: told.Open, Ended: told.State.Over(), Took: told.FinishedAt.Sub(told.MadeAt), Stuck: told.State == api.BatchStuck}
	if s.Stuck {
		if s.Blocking, err = rd.blocking(ctx, b); err != nil {
			return told, err
		}
	}
	told.Summary = sentence.OfBatch(s)
	return told, nil
}

// blocking are the first jobs of a batch that others wait for in vain.
func (rd *Reader) blocking(ctx context.Context, b *store.Batch) (all []job.Edge, err error) {
	const most = 4
	ids, err := rd.store.BlockingIn(ctx, b.ID, most)
	if err != nil {
		return nil, err
	}
	rows, err := rd.store.Read(ctx, ids)
	for _, r := range rows {
		_, task := rd.Names(r.Queue, r.Task)
		all = append(all, job.Edge{Job: r.ID, Ref: r.Ref, Task: task, State: r.State})
	}
	return all, err
}

// EndOfBatch tells how a batch has ended; empty where it has not.
func EndOfBatch(s store.BatchState) api.BatchState {
	if s == store.BatchRunning {
		return ""
	}
	return batchStates[s]
}

var batchStates = [...]api.BatchState{store.BatchRunning: api.BatchRunning, store.BatchDone: api.BatchDone, store.BatchFailed: api.BatchFailed, store.BatchCancelled: api.BatchCancelled}

// tellBatch is a batch as it is told outside.
func (rd *Reader) tellBatch(ctx context.Context, b *store.Batch) (api.Batch, error) {
	n, err := rd.store.ReadBatchCounts(ctx, b.ID)
	if err != nil {
		return api.Batch{}, err
	}
	told := api.Batch{
		ID: b.ID, Name: b.Name, Owner: b.Owner, State: batchStates[b.State], Open: b.Open, MadeAt: b.MadeAt, MadeBy: b.MadeBy, FinishedAt: b.FinishedAt,
		Jobs: b.Jobs, Gone: b.Gone, Last: b.Last, Counts: map[job.State]int64{}, TooLate: n[store.TooLateState],
	}
	if b.Labels != "" {
		if err := json.Unmarshal([]byte(b.Labels), &told.Labels); err != nil {
			return told, err
		}
	}
	for _, s := range job.States() {
		count := n[s]
		if s == job.Skipped {
			count += told.TooLate
		}
		if count > 0 {
			told.Counts[s] = count
		}
		if s.Finished() {
			told.Finished += count
		}
	}
	if b.Jobs > 0 {
		told.Percent = math.Round(float64(told.Finished)/float64(b.Jobs)*1000) / 10
	}
	if b.Idle {
		if told.State, err = rd.idleState(ctx, b); err != nil {
			return told, err
		}
	}
	return told, nil
}

// mostStuck bounds the batches of which it is looked up at a time whether they are stuck.
const mostStuck = 10

// stuckBatches are the latest batches that are stuck. What was found is kept for a moment.
func (rd *Reader) stuckBatches(ctx context.Context) ([]api.Batch, error) {
	s := rd.stuck
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.at.IsZero() && time.Since(s.at) < pacesKept {
		return s.all, nil
	}
	rows, err := rd.store.Batches(ctx, store.BatchFilter{ByState: true, Idle: true, Before: math.MaxInt64}, mostStuck)
	if err != nil {
		return nil, err
	}
	var all []api.Batch
	for i := range rows {
		told, err := rd.summedUp(ctx, &rows[i])
		if err != nil {
			return nil, err
		}
		if told.State == api.BatchStuck {
			all = append(all, told)
		}
	}
	s.at, s.all = time.Now(), all
	return all, nil
}

// stuck keeps which batches are, since many ask at once.
type stuck struct {
	mu  sync.Mutex
	at  time.Time
	all []api.Batch
}

// idleState tells whether a batch of which no job goes on by itself is stuck. It is not where one of
// them waits for something else that may go on: its lane, an earlier run, or a job of no batch or another.
func (rd *Reader) idleState(ctx context.Context, b *store.Batch) (api.BatchState, error) {
	waits, err := rd.store.WaitsOutside(ctx, b.ID)
	if err != nil || waits {
		return api.BatchRunning, err
	}
	return api.BatchStuck, nil
}

// Batches lists batches, newest first.
func (rd *Reader) Batches(ctx context.Context, q api.BatchQuery) (api.BatchPage, error) {
	page := api.BatchPage{Batches: []api.Batch{}}
	if err := scope.Whole(ctx); err != nil {
		return page, err
	}
	if q.Limit == 0 {
		q.Limit = api.DefaultPage
	}
	var c check.List
	if q.Limit < 1 || q.Limit > api.MaxPage {
		c.Add("limit", "%d is outside 1 to %d", q.Limit, api.MaxPage)
	}
	if q.State != "" && !slices.Contains(api.BatchStates(), q.State) {
		c.Add("state", "%q is unknown; it is running, stuck, done, failed or cancelled", text.Shorten(string(q.State)))
	}
	if err := job.Wrong("the list was not read", c); err != nil {
		return page, err
	}
	f := store.BatchFilter{Name: q.Name, Owner: q.Owner, Before: math.MaxInt64, ByState: q.State != "", Idle: q.State == api.BatchStuck}
	f.State = store.BatchState(max(slices.Index(batchStates[:], q.State), 0))
	if q.Cursor != "" {
		from, err := parseCursor(q.Cursor)
		if err != nil {
			return page, err
		}
		f.Before = from.id
	}
	for {
		rows, err := rd.store.Batches(ctx, f, q.Limit)
		if err != nil {
			return page, err
		}
		for i := range rows {
			told, err := rd.tellBatch(ctx, &rows[i])
			if err != nil {
				return page, err
			}
			f.Before = rows[i].ID
			if q.State != "" && told.State != q.State { // running and stuck are told apart here
				continue
			}
			if page.Batches = append(page.Batches, told); len(page.Batches) == q.Limit {
				page.NextCursor = place{id: f.Before}.cursor()
				return page, nil
			}
		}
		if len(rows) < q.Limit {
			return page, nil
		}
	}
}
