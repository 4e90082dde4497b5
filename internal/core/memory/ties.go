package memory

import (
	"slices"
	"time"

	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Ties are what ends mean to other jobs: those that have ended while others wait for them, and the
// batches whose jobs change.
type Ties struct {
	layered
	// Ended are jobs, and batches, that have ended in this transaction and were not told yet.
	Ended []store.Ending
	// batches are those that the transaction changes, in order.
	batches []*BatchChange
	byBatch map[int64]*BatchChange
	// known are batches that have changed lately and have not ended, with their counts as they stand in the
	// file.
	known Overlay[int64, knownBatch]
	// endings are those that are told later, by their numbers, and later how many there are of a job.
	endings Overlay[int64, store.Ending]
	later   Overlay[int64, int]
	// first and last bound their numbers, and At is the one of which a slice was told last.
	first, last, At Cell[int64]
	// Walk is how far the walk has come through jobs that are kept because others may wait for them.
	Walk Cell[TiesWalk]
}

// knownBatch is a batch with its jobs by state.
type knownBatch struct {
	store.Batch
	counts store.BatchCounts
}

// mostKnown bounds the batches that are known.
const mostKnown = 10_000

// TiesWalk is a walk through jobs that are kept because others may wait for them: After is the one
// that was looked at last, and Next when it goes on.
type TiesWalk struct {
	After int64
	Next  time.Time
}

// BatchChange is what a transaction changes of a batch: how many more jobs there are in each state, in
// all, and that are no longer kept.
type BatchChange struct {
	ID         int64
	By         store.BatchCounts
	Jobs, Gone int64
	// Looked says that the batch is to be looked at, whatever has changed.
	Looked bool
}

// Matters tells whether the change may let the last job of the batch go, or end the batch: not where
// jobs only go from one of the states to another in which they go on by themselves.
func (c *BatchChange) Matters() bool {
	return c.Jobs != 0 || c.Gone != 0 || c.Looked || c.By[job.Held] != 0 || slices.ContainsFunc(job.FinishedStates(), func(s job.State) bool { return c.By[s] != 0 }) || c.By[store.TooLateState] != 0
}

func (p *Ties) load(*file) error {
	keep(&p.layered, &p.endings, map[int64]store.Ending{})
	keep(&p.layered, &p.later, map[int64]int{})
	keepOne(&p.layered, &p.Walk, TiesWalk{})
	keep(&p.layered, &p.known, map[int64]knownBatch{})
	p.forget()
	all, err := p.m.store.Endings()
	first, last := int64(1), int64(0)
	for i, e := range all {
		if i == 0 {
			first = e.ID
		}
		p.endings.kept[e.ID] = e
		p.later.kept[e.Of]++
		last = e.ID
	}
	keepOne(&p.layered, &p.first, first)
	keepOne(&p.layered, &p.last, last)
	keepOne(&p.layered, &p.At, 0)
	return err
}

func (p *Ties) drop() {
	p.layered.drop()
	p.forget()
}

func (p *Ties) forget() { p.Ended, p.batches, p.byBatch = nil, nil, nil }

// End notes that a job has ended, or was deleted, for which others wait that are there by now.
func (p *Ties) End(id int64, how lifecycle.How) {
	p.Ended = append(p.Ended, store.Ending{Of: id, How: how, UpTo: p.m.Facts.NextJob.Get() - 1})
}

// Later has an end told in later transactions.
func (p *Ties) Later(e store.Ending) error {
	if e.ID == 0 {
		p.last.Set(p.last.Get() + 1)
		e.ID = p.last.Get()
		p.later.Put(e.Of, p.later.At(e.Of)+1)
	}
	p.endings.Put(e.ID, e)
	return p.m.store.PutEnding(e)
}

// Told notes that all were told of an end.
func (p *Ties) Told(e store.Ending) error {
	if e.ID == 0 {
		return nil
	}
	p.endings.Delete(e.ID)
	if e.ID == p.first.Get() {
		p.first.Set(e.ID + 1)
	}
	if n := p.later.At(e.Of); n > 1 {
		p.later.Put(e.Of, n-1)
	} else {
		p.later.Delete(e.Of)
	}
	return p.m.store.DropEnding(e.ID)
}

// Waits tells whether an end of a job is told later.
func (p *Ties) Waits(id int64) bool { return p.later.At(id) > 0 }

// Next gives the end that is told next after the one with a number; false where there is none.
func (p *Ties) Next(after int64) (e store.Ending, found bool) {
	for id := max(after+1, p.first.Get()); id <= p.last.Get(); id++ {
		if e, found = p.endings.Get(id); found {
			return e, true
		}
	}
	return e, false
}

// NumEndings counts the ends that are told later.
func (p *Ties) NumEndings() int { return p.endings.NumKept() }

// Change is what the transaction changes of a batch.
func (p *Ties) Change(batch int64) *BatchChange {
	c := p.byBatch[batch]
	if c == nil {
		if p.byBatch == nil {
			p.byBatch = map[int64]*BatchChange{}
		}
		c = &BatchChange{ID: batch}
		p.byBatch[batch] = c
		p.batches = append(p.batches, c)
	}
	return c
}

// NextChange takes one of the changes; nil where there are none.
func (p *Ties) NextChange() *BatchChange {
	if len(p.batches) == 0 {
		return nil
	}
	c := p.batches[0]
	p.batches = p.batches[1:]
	delete(p.byBatch, c.ID)
	return c
}

// Batch gives a batch and its jobs by state, without what the transaction has changed and was not judged
// yet; nil where it is not there.
func (p *Ties) Batch(id int64) (*store.Batch, store.BatchCounts, error) {
	k, found := p.known.Get(id)
	if !found {
		b, err := p.m.store.Batch(id)
		if err != nil || b == nil {
			return nil, k.counts, err
		}
		if k.counts, err = p.m.store.BatchCounts(id); err != nil {
			return nil, k.counts, err
		}
		k.Batch = *b
		p.know(k)
	}
	return &k.Batch, k.counts, nil
}

// know keeps what is known of a batch while it has not ended.
func (p *Ties) know(k knownBatch) {
	if k.FinishedAt != 0 {
		p.known.Delete(k.ID)
		return
	}
	if p.known.NumKept() >= mostKnown {
		for id := range p.known.AllKept() { // any is as good as another
			p.known.Delete(id)
			break
		}
	}
	p.known.Put(k.ID, k)
}

// Count writes how the jobs of a batch by state have changed.
func (p *Ties) Count(c *BatchChange) {
	k, found := p.known.Get(c.ID)
	for state, n := range c.By {
		if n != 0 {
			p.m.store.CountBatch(c.ID, job.State(state), n)
			k.counts[state] += n
		}
	}
	if found {
		p.know(k)
	}
}

// PutBatch writes how a batch stands.
func (p *Ties) PutBatch(b *store.Batch) error {
	if k, found := p.known.Get(b.ID); found {
		k.Batch = *b
		p.know(k)
	}
	return p.m.store.PutBatch(b)
}

// DropBatch deletes a batch, of which no job is kept.
func (p *Ties) DropBatch(id int64) error {
	p.known.Delete(id)
	return p.m.store.DropBatch(id)
}

// Moved counts a job of a batch that goes to a state; the reason in its row is that of whichever of
// the two states is a finished one.
func (p *Ties) Moved(r *store.Row, to job.State) {
	c := p.Change(r.Batch)
	if r.State != job.Unplaced {
		c.By[countedAs(r.State, job.Reason(r.Reason))]--
	}
	c.By[countedAs(to, job.Reason(r.Reason))]++
}

// countedAs is the state as which a job of a batch is counted.
func countedAs(s job.State, reason job.Reason) job.State {
	if s == job.Skipped && reason != job.SaidByHandler {
		return store.TooLateState
	}
	return s
}

// Ends tells whether anything is to be told, or to be judged, that may let other jobs go.
func (p *Ties) Ends() bool {
	return len(p.Ended) > 0 || slices.ContainsFunc(p.batches, (*BatchChange).Matters)
}

// Any tells whether there is anything to tell, or to judge.
func (p *Ties) Any() bool { return len(p.Ended)+len(p.batches) > 0 }
