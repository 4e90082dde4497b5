package trend

import "humblemule/core/job"

// Minutes is how many minutes of a queue's rates are kept in memory.
const Minutes = 60

// Minute is what happened in a queue within one minute.
type Minute struct {
	// At is the minute's start.
	At job.Time
	// Enqueued counts new jobs, Finished those that left as done, skipped,
	// cancelled or dead.
	Enqueued, Finished int64
}

// Rates are a queue's last minutes. The zero value is ready to use. It is not
// safe for concurrent use.
type Rates struct {
	minutes [Minutes]Minute
}

const minute = job.Time(60_000)

// Add counts enqueued and finished jobs at a time.
func (r *Rates) Add(at job.Time, enqueued, finished int64) {
	start := at - at%minute
	m := &r.minutes[start/minute%Minutes]
	if m.At != start {
		*m = Minute{At: start}
	}
	m.Enqueued += enqueued
	m.Finished += finished
}

// Last gives the minutes kept before and at a time, oldest first; those in which
// nothing happened are left out.
func (r *Rates) Last(now job.Time) (all []Minute) {
	start := now - now%minute
	for at := start - (Minutes-1)*minute; at <= start; at += minute {
		if m := r.minutes[at/minute%Minutes]; m.At == at {
			all = append(all, m)
		}
	}
	return all
}

// PerMinute gives the mean rates of the last minutes, at most 5, the present one
// included as far as it has gone.
func (r *Rates) PerMinute(now job.Time) (enqueued, finished float64) {
	const window = 5 * minute
	start := now - now%minute
	for _, m := range r.Last(now) {
		if m.At > start-window {
			enqueued += float64(m.Enqueued)
			finished += float64(m.Finished)
		}
	}
	minutes := float64(window-minute+now%minute) / float64(minute)
	return enqueued / minutes, finished / minutes
}
