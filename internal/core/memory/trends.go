package memory

import (
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/trend"
	"humblemule.example/job"
)

// News is what a transaction has to tell when it is committed. It is what moved, not what
// stands: nothing of it is kept.
type News struct {
	layered
	// Moved are the jobs that changed their states, in order.
	Moved []Move
	// Touched are jobs that changed otherwise.
	Touched []int64
	// Asked are leases whose handlers are asked to end.
	Asked []*Lease
	// Batches are those that have changed.
	Batches []BatchNews
	// Settings tells that a queue was paused, or goes on.
	Settings bool
}

// BatchNews is a batch that has changed.
type BatchNews struct {
	ID    int64
	Owner string // of one that is over
	State store.BatchState
}

// Over tells whether all of its jobs have ended.
func (b *BatchNews) Over() bool { return b.State != store.BatchRunning }

// Move is a job that changed its state.
type Move struct {
	Job      int64
	At       Group
	From, To job.State
	// Batch, Owner and Key are those of the job.
	Batch      int64
	Owner, Key string
	// Imported tells that it came from another store: what it had gone through did not happen here.
	Imported bool
}

func (p *News) load(*file) error { p.drop(); return nil }
func (p *News) publish()         {}

// drop makes new lists: whoever was told may still look at the old ones.
func (p *News) drop() { p.Moved, p.Touched, p.Asked, p.Batches, p.Settings = nil, nil, nil, nil, false }

// Any tells whether there is anything to tell.
func (p *News) Any() bool {
	return len(p.Moved)+len(p.Touched)+len(p.Asked)+len(p.Batches) > 0 || p.Settings
}

// Trends are what moved within the last minute.
type Trends struct {
	layered
	moves trend.Moves
}

func (p *Trends) load(*file) error { return nil }

func (p *Trends) publish() {
	for _, m := range p.m.News.Moved {
		if m.Imported {
			continue
		}
		p.moves.Add(p.m.now, trend.Move{Queue: m.At.Queue, From: m.From, To: m.To})
	}
}

// KeptMoves adds up the moves of the last minute, of one queue, or of all where it is 0.
func (p *Trends) KeptMoves(now job.Time, queue int64) map[trend.Move]int64 {
	return p.moves.Sum(now, queue)
}

// KeptFlows tells how many jobs came to each queue, and were finished, in the last minute.
func (p *Trends) KeptFlows(now job.Time) map[int64]trend.Flow { return p.moves.Flows(now) }
