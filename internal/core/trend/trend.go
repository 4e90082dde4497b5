// Package trend keeps figures over time, in memory of a bounded size.
package trend

import (
	"time"

	"humblemule.example/job"
)

// Seconds is how many buckets of a second are kept: all rates are over the last minute.
const Seconds = 60

// Window is the span that the buckets reach back at a time: the present second as far as
// it has gone, and 59 whole ones, but no further than counting has gone on, so that a rate
// is right from the start. It is at least a second.
func Window(now job.Time, counting time.Duration) time.Duration {
	reach := (Seconds-1)*time.Second + time.Duration(int64(now)%1000)*time.Millisecond
	return max(min(reach, counting), time.Second)
}

// Move is a change of state in a queue.
type Move struct {
	Queue    int64
	From, To job.State
}

// Moves counts changes of state in one-second buckets over the last minute.
// The zero value is ready to use. It is not safe for concurrent use.
type Moves struct {
	buckets [Seconds]bucket
}

type bucket struct {
	second int64
	counts map[Move]int64
}

// Add counts a move at a time.
func (m *Moves) Add(at job.Time, move Move) {
	second := int64(at) / 1000
	b := &m.buckets[second%Seconds]
	if b.second != second || b.counts == nil {
		*b = bucket{second: second, counts: map[Move]int64{}}
	}
	b.counts[move]++
}

// Sum adds up the moves of the window that ends at a time; of one queue, or of
// all where queue is 0.
func (m *Moves) Sum(now job.Time, queue int64) map[Move]int64 {
	total := map[Move]int64{}
	m.each(now, func(move Move, n int64) {
		if queue == 0 || move.Queue == queue {
			total[Move{From: move.From, To: move.To}] += n
		}
	})
	return total
}

// Flow is how many jobs came to a queue within the window, new ones and requeued ones, and
// how many were finished.
type Flow struct{ In, Out int64 }

// Flows gives those of every queue in which something moved.
func (m *Moves) Flows(now job.Time) map[int64]Flow {
	all := map[int64]Flow{}
	m.each(now, func(move Move, n int64) {
		f := all[move.Queue]
		if move.From == job.Unplaced || move.From.Finished() && !move.To.Finished() {
			f.In += n
		}
		if move.To.Finished() && !move.From.Finished() {
			f.Out += n
		}
		all[move.Queue] = f
	})
	return all
}

func (m *Moves) each(now job.Time, do func(Move, int64)) {
	last := int64(now) / 1000
	for i := range m.buckets {
		b := &m.buckets[i]
		if b.second <= last-Seconds || b.second > last {
			continue
		}
		for move, n := range b.counts {
			do(move, n)
		}
	}
}
