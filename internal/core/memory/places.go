package memory

import (
	"iter"

	"humblemule.example/internal/core/order"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Places are what decides the order of waiting jobs, beside what stands in their rows: each
// queue's counter of ranks, the tags that owners were served by, the walks that give jobs
// new places, and whose turn it is among the queues of a worker.
type Places struct{ PlacesView }

// PlacesView is what of them can be seen, and not changed.
type PlacesView struct {
	layered
	ranks  Overlay[int64, ranks]
	served Overlay[Level, int64]
	serves Cell[int]
	walks  Overlay[int64, *Walk]
	turns  Overlay[string, order.Turns]
}

// Level is a level of a queue, with turns of its own.
type Level struct {
	Queue int64
	Level int
}

// ranks are the counter of a queue, and what stands in the file: ranks below it may be
// drawn without a word.
type ranks struct{ next, reserved int64 }

// ranksReserved is how many ranks are drawn for one write of a queue's counter. After a
// start of the service some are left out, which changes no order.
const ranksReserved = 1000

// Walk is a way through the waiting jobs of a queue whose order was changed, to give them
// new places, in slices.
type Walk struct {
	Groups []store.Group
	// After is the last id that was looked at in the first of the groups.
	After int64
}

func (p *Places) load(f *file) error {
	keep(&p.layered, &p.ranks, map[int64]ranks{})
	keep(&p.layered, &p.served, map[Level]int64{})
	keep(&p.layered, &p.walks, map[int64]*Walk{})
	keep(&p.layered, &p.turns, map[string]order.Turns{})
	keepOne(&p.layered, &p.serves, 0)
	for _, q := range f.queues {
		p.ranks.kept[q.ID] = ranks{q.NextRank, q.NextRank}
		if q.Walked >= 0 { // a walk was under way: it begins again
			p.walks.kept[q.ID] = p.newWalk(q.ID)
		}
	}
	return nil
}

func (p *Places) newWalk(queue int64) *Walk {
	w := new(Walk)
	for task := range p.m.Counts.TasksOf(queue) {
		w.Groups = append(w.Groups, store.Group{Queue: queue, Task: task, State: job.Ready}, store.Group{Queue: queue, Task: task, State: job.Held})
	}
	return w
}

// DrawRank draws a queue's next rank.
func (p *Places) DrawRank(queue int64) int64 {
	r, known := p.ranks.Get(queue)
	if !known {
		r = ranks{1, 1}
	}
	rank := r.next
	r.next++
	p.ranks.Put(queue, r)
	return rank
}

// NextRank tells the rank that would be drawn next, and RaiseRank has the ranks of a queue go on at
// one, where they have not come so far.
func (p *Places) NextRank(queue int64) int64 {
	r, known := p.ranks.Get(queue)
	if !known {
		return 1
	}
	return r.next
}

// RaiseRank goes with [Places.NextRank].
func (p *Places) RaiseRank(queue, to int64) {
	if to > p.NextRank(queue) {
		r := p.ranks.At(queue)
		r.next = to
		p.ranks.Put(queue, r)
	}
}

// flush reserves more ranks where those that were are used up.
func (p *Places) flush() error {
	for queue, r := range p.ranks.Changed() {
		if r.next <= r.reserved {
			continue
		}
		r.reserved = r.next + ranksReserved
		if err := p.m.store.PutRank(queue, r.reserved); err != nil {
			return err
		}
		p.ranks.Put(queue, r)
	}
	return nil
}

// StartWalk begins a walk through the jobs that wait in a queue.
func (p *Places) StartWalk(q *Named) error {
	p.walks.Put(q.ID, p.newWalk(q.ID))
	return p.m.store.PutWalked(q.ID, 0)
}

// Walk is the walk through a queue; nil where there is none.
func (p *PlacesView) Walk(q *Named) *Walk { return p.walks.At(q.ID) }

// Walks visits the queues that are walked through.
func (p *PlacesView) Walks() iter.Seq2[int64, *Walk] { return p.walks.All() }

// Walked notes how far a walk has come; with nothing left it is over.
func (p *Places) Walked(q *Named, to *Walk) error {
	if len(to.Groups) > 0 {
		p.walks.Put(q.ID, to)
		return nil
	}
	p.walks.Delete(q.ID)
	return p.m.store.PutWalked(q.ID, -1)
}

// KeptWalking tells whether a queue is walked through.
func (p *PlacesView) KeptWalking(queue int64) bool {
	_, walking := p.walks.Kept(queue)
	return walking
}

// NumWalks counts the walks under way.
func (p *PlacesView) NumWalks() int { return p.walks.NumKept() }

// Served is the tag that was served last at a level, where it is known.
func (p *PlacesView) Served(at Level) (tag int64, known bool) { return p.served.Get(at) }

// SetServed notes it.
func (p *Places) SetServed(at Level, tag int64) { p.served.Put(at, tag) }

// Serves counts one more start by turns, and tells how many there were.
func (p *Places) Serves() int {
	p.serves.Set(p.serves.Get() + 1)
	return p.serves.Get()
}

// Turns are those of a worker's queues, which the transaction may take.
func (p *Places) Turns(worker string) order.Turns {
	if t, mine := p.turns.Mine(worker); mine {
		return t
	}
	next := order.Turns{}
	for name, n := range p.turns.At(worker) {
		next[name] = n
	}
	p.turns.Put(worker, next)
	return next
}

// publish bounds what is kept of workers: their turns are only a fair order, and begin anew.
func (p *Places) publish() {
	if len(p.turns.kept) > mostWorkers {
		clear(p.turns.kept)
	}
	p.layered.publish()
}

func (p *Places) forgetQueue(id int64) {
	p.ranks.Delete(id)
	p.walks.Delete(id)
}
