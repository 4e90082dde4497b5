// Package trend keeps figures over time, in memory of a bounded size.
package trend

import "humblemule/core/job"

// Seconds is the window over which moves are counted.
const Seconds = 60

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
	last := int64(now) / 1000
	total := map[Move]int64{}
	for i := range m.buckets {
		b := &m.buckets[i]
		if b.second <= last-Seconds || b.second > last {
			continue
		}
		for move, n := range b.counts {
			if queue == 0 || move.Queue == queue {
				total[Move{From: move.From, To: move.To}] += n
			}
		}
	}
	return total
}
