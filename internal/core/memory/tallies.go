package memory

import (
	"maps"
	"slices"

	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/tally"
	"humblemule.example/job"
)

// Tallies count what has happened since the service was started, by queue and by task. Nothing of
// them is in the file.
type Tallies struct {
	layered
	of [2]map[int64]*Tally
	// waits, runs and ended are of the transaction.
	waits, runs []spent
	ended       []endedAttempt
	begun       bool
}

// Tally is what has happened to the jobs of a queue or of a task.
type Tally struct {
	Enqueued, Requeued, Started, Retried uint64
	// Finished are those that came to a finished state, by that.
	Finished [job.NumStates]uint64
	// Attempts are those that have ended, by their outcomes, and Lost those of them whose leases
	// were lost.
	Attempts map[job.Outcome]uint64
	Lost     uint64
	// Waits are how long jobs were ready before their starts, and Runs how long attempts took.
	Waits, Runs tally.Histogram
}

// spent is how long something took.
type spent struct {
	at      Group
	seconds float64
	trace   string
}

type endedAttempt struct {
	at      Group
	outcome job.Outcome
	lost    bool
}

// Merge adds another tally.
func (t *Tally) Merge(o *Tally) {
	t.Enqueued, t.Requeued, t.Started, t.Retried, t.Lost = t.Enqueued+o.Enqueued, t.Requeued+o.Requeued, t.Started+o.Started, t.Retried+o.Retried, t.Lost+o.Lost
	for s, n := range o.Finished {
		t.Finished[s] += n
	}
	for outcome, n := range o.Attempts {
		t.attempts()[outcome] += n
	}
	t.Waits.Merge(&o.Waits)
	t.Runs.Merge(&o.Runs)
}

func (t *Tally) attempts() map[job.Outcome]uint64 {
	if t.Attempts == nil {
		t.Attempts = map[job.Outcome]uint64{}
	}
	return t.Attempts
}

// load begins anew only with the service: what was counted is not undone when the file is opened
// again.
func (p *Tallies) load(*file) error {
	if !p.begun {
		p.begun = true
		p.of = [2]map[int64]*Tally{{}, {}}
	}
	return nil
}

// Waited notes that a job is started that was ready.
func (p *Tallies) Waited(r *store.Row, now job.Time) {
	if r.ReadyAt != 0 {
		p.waits = append(p.waits, spent{Group{r.Queue, r.Task}, max(now.Sub(r.ReadyAt), 0).Seconds(), tally.TraceOf(r.Traceparent)})
	}
}

// Ended notes that an attempt has ended.
func (p *Tallies) Ended(r *store.Row, outcome job.Outcome, lost bool, now job.Time) {
	at := Group{r.Queue, r.Task}
	p.ended = append(p.ended, endedAttempt{at, outcome, lost})
	if r.LeasedAt != 0 {
		p.runs = append(p.runs, spent{at, max(now.Sub(r.LeasedAt), 0).Seconds(), tally.TraceOf(r.Traceparent)})
	}
}

// in gives the tallies of a queue and of a task.
func (p *Tallies) in(at Group) [2]*Tally {
	var both [2]*Tally
	for i, id := range [2]int64{at.Queue, at.Task} {
		if both[i] = p.of[i][id]; both[i] == nil {
			both[i] = new(Tally)
			p.of[i][id] = both[i]
		}
	}
	return both
}

func (p *Tallies) publish() {
	for _, m := range p.m.News.Moved {
		for _, t := range p.in(m.At) {
			switch {
			case m.From == job.Unplaced:
				t.Enqueued++
			case m.From.Finished() && !m.To.Finished():
				t.Requeued++
			}
			switch {
			case m.To == job.Running:
				t.Started++
			case m.To == job.Backoff:
				t.Retried++
			case m.To.Finished():
				t.Finished[m.To]++
			}
		}
	}
	for _, s := range p.waits {
		for _, t := range p.in(s.at) {
			t.Waits.Add(s.seconds, s.trace, p.m.now)
		}
	}
	for _, s := range p.runs {
		for _, t := range p.in(s.at) {
			t.Runs.Add(s.seconds, s.trace, p.m.now)
		}
	}
	for _, e := range p.ended {
		for _, t := range p.in(e.at) {
			t.attempts()[e.outcome]++
			if e.lost {
				t.Lost++
			}
		}
	}
	p.drop()
}

func (p *Tallies) drop() {
	p.waits, p.runs, p.ended = p.waits[:0], p.runs[:0], p.ended[:0]
}

// KeptTally is what has happened to the jobs of a queue, or of a task.
func (p *Tallies) KeptTally(of TallyOf, id int64) (t Tally) {
	if kept := p.of[of][id]; kept != nil {
		t.Merge(kept)
	}
	return t
}

// TallyOf says of what a tally is.
type TallyOf int

// What tallies are of.
const (
	OfQueue TallyOf = iota
	OfTask
)

// KeptGone are the tallies of names that are no longer there: they go on with the rest, so that
// nothing that was counted becomes less.
func (p *Tallies) KeptGone(of TallyOf, there func(id int64) bool) (t Tally) {
	for _, id := range slices.Sorted(maps.Keys(p.of[of])) {
		if !there(id) {
			t.Merge(p.of[of][id])
		}
	}
	return t
}
