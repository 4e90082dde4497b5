package memory

import (
	"encoding/binary"
	"fmt"
	"math"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/limit"
	"humblemule.example/internal/core/order"
	"humblemule.example/internal/core/packed"
	"humblemule.example/job"
)

// Limits are what the rates of queues are held by: their tokens, when the next one comes,
// and the latest starts.
type Limits struct{ LimitsView }

// LimitsView is what of them can be seen, and not changed.
type LimitsView struct {
	layered
	buckets Overlay[int64, limit.Bucket]
	// waits is when the rate of a queue lets the next job start that was asked for, and next
	// the same in order, as it was committed.
	waits Overlay[int64, time.Time]
	next  *order.Heap[int64, time.Time]
	// starts are the latest of each queue, oldest first; started those of the transaction.
	starts  map[int64][]api.Start
	started map[int64][]api.Start
}

// StartsKept is how many of the latest starts of a queue are kept. What is stored of each at
// a fold are fewer; those since then are stored with their transactions.
const (
	StartsKept   = 1000
	startsStored = 200
)

func (p *Limits) load(*file) error {
	keep(&p.layered, &p.buckets, map[int64]limit.Bucket{})
	keep(&p.layered, &p.waits, map[int64]time.Time{})
	p.next = order.NewHeap[int64](time.Time.Before)
	p.starts, p.started = map[int64][]api.Start{}, nil
	for id := range p.m.Settings.queues.kept {
		if rate := p.m.Settings.KeptQueue(id).Rules.Rate; rate != nil {
			var b limit.Bucket
			b.Free(time.Now(), rate.PerSecond, *rate.Burst)
			p.buckets.kept[id] = b
		}
	}
	stored, err := p.m.store.Starts()
	for queue, latest := range stored {
		r := packed.Read(latest)
		if p.starts[queue] = readStarts(r, math.MaxInt64); r.Err() != nil {
			return fmt.Errorf("starts of queue %d: %w", queue, r.Err())
		}
	}
	return err
}

// Fill lets the tokens of a queue's rate come in. They do from the first time on: the start
// of the service, or the moment at which the rate was set.
func (p *Limits) Fill(q *Named) {
	if rate := p.m.Settings.Rules(q).Rate; rate != nil {
		b := p.buckets.At(q.ID)
		b.Free(time.Now(), rate.PerSecond, *rate.Burst)
		p.buckets.Put(q.ID, b)
	}
}

// Free tells whether the rate of a queue lets another job start.
func (p *LimitsView) Free(q *Named, rate *api.Rate) bool {
	b := p.buckets.At(q.ID)
	return b.Free(time.Now(), rate.PerSecond, *rate.Burst) > 0
}

// Await notes when the rate of a queue lets the next job start.
func (p *Limits) Await(q *Named, rate *api.Rate) {
	now, b := time.Now(), p.buckets.At(q.ID)
	p.waits.Put(q.ID, now.Add(b.Next(now, rate.PerSecond, *rate.Burst)))
}

// Over gives the queues whose rates let a job start by now that was asked for, and takes
// note that nobody waits for them any more.
func (p *Limits) Over(now time.Time) (queues []int64) {
	queues = p.next.Keys(func(at time.Time) bool { return !at.After(now) })
	for _, id := range queues {
		p.waits.Delete(id)
	}
	return queues
}

// NextStart is when a rate next lets a job start that was asked for; the zero time for
// none.
func (p *LimitsView) NextStart() time.Time {
	_, at, _ := p.next.First()
	return at
}

// Start charges a start to the rate of its queue. Its token never comes back.
func (p *Limits) Start(q *Named, s api.Start) {
	if p.started == nil {
		p.started = map[int64][]api.Start{}
	}
	p.started[q.ID] = append(p.started[q.ID], s)
	if rate := p.m.Settings.Rules(q).Rate; rate != nil {
		b := p.buckets.At(q.ID)
		b.Free(time.Now(), rate.PerSecond, *rate.Burst)
		b.Take(1)
		p.buckets.Put(q.ID, b)
	}
}

func (p *Limits) publish() {
	for id, c := range p.waits.changed {
		if c.gone {
			p.next.Remove(id)
		} else {
			p.next.Put(id, c.value)
		}
	}
	p.layered.publish()
	for id, more := range p.started {
		if len(more) == 0 { // the queue is gone
			delete(p.starts, id)
			continue
		}
		p.keepStarts(id, more)
	}
}

func (p *Limits) keepStarts(queue int64, more []api.Start) {
	all := append(p.starts[queue], more...)
	if over := len(all) - 2*StartsKept; over > 0 {
		all = append([]api.Start(nil), all[len(all)-StartsKept:]...)
	}
	p.starts[queue] = all
}

// appendStarted appends the starts of the transaction as they are stored, of each queue the
// latest.
func (p *Limits) appendStarted(b []byte) []byte {
	for queue, all := range p.started {
		if len(all) > 0 {
			all = all[max(len(all)-StartsKept, 0):]
			b = binary.AppendUvarint(binary.AppendUvarint(b, uint64(queue)), uint64(len(all)))
			b = appendStarts(b, all)
		}
	}
	return b
}

// unpackStarted keeps starts that appendStarted has written, of queues that are there, and tells
// of which.
func (p *Limits) unpackStarted(b []byte) (queues []int64, err error) {
	for r := packed.Read(b); r.More(); {
		queue := r.Int()
		all := readStarts(r, r.Int())
		if r.Err() != nil {
			return queues, r.Err()
		}
		if p.m.Queues.Kept(queue) != nil {
			p.keepStarts(queue, all)
			queues = append(queues, queue)
		}
	}
	return queues, nil
}

// packLatest gives the latest starts of a queue, as they are stored at a fold.
func (p *Limits) packLatest(queue int64) []byte {
	all := p.starts[queue]
	return appendStarts(nil, all[max(len(all)-startsStored, 0):])
}

func (p *Limits) drop() {
	p.layered.drop()
	p.started = nil
}

func (p *Limits) forgetQueue(id int64) {
	if p.started == nil {
		p.started = map[int64][]api.Start{}
	}
	p.started[id] = nil
	p.buckets.Delete(id)
	p.waits.Delete(id)
}

// KeptWait is when the rate of a queue lets the next job start, as far as one was asked
// for; 0 where none was.
func (p *LimitsView) KeptWait(queue int64) job.Time {
	if at, _ := p.waits.Kept(queue); !at.IsZero() {
		return job.Time(at.UnixMilli())
	}
	return 0
}

// KeptStarts are the latest starts of a queue, oldest first.
func (p *LimitsView) KeptStarts(queue int64) []api.Start {
	all := p.starts[queue]
	return all[max(len(all)-StartsKept, 0):]
}

// appendStarts appends starts one behind the other.
func appendStarts(b []byte, all []api.Start) []byte {
	for _, s := range all {
		b = binary.AppendUvarint(b, uint64(s.Job))
		b = packed.AppendBytes(b, s.Task)
		b = binary.AppendVarint(b, int64(s.Priority))
		b = packed.AppendBytes(b, s.Owner)
		b = packed.AppendBytes(b, s.Lane)
		b = binary.AppendVarint(b, int64(s.StartedAt))
		b = binary.AppendVarint(b, int64(s.StartedAt-s.ReadyAt))
	}
	return b
}

// readStarts reads up to n starts.
func readStarts(r *packed.Reader, n int64) (all []api.Start) {
	for ; n > 0 && r.More(); n-- {
		s := api.Start{Job: r.Int(), Task: r.String(), Priority: int(r.Signed()), Owner: r.String(), Lane: r.String(), StartedAt: job.Time(r.Signed())}
		s.ReadyAt = s.StartedAt - job.Time(r.Signed())
		all = append(all, s)
	}
	return all
}
