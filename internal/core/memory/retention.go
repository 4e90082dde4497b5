package memory

import (
	"fmt"
	"sync/atomic"
	"time"

	"humblemule.example/job"
)

// Retention is how far the removal of finished jobs has come, and why it rests.
type Retention struct {
	layered
	// Next is when finished jobs are looked at again, From the queue with which the round
	// goes on, and FirstGoes when the first job that it has seen is kept no longer; 0 for
	// none.
	Next      Cell[time.Time]
	From      Cell[int64]
	FirstGoes Cell[job.Time]
	// Forget is when what is kept beside the jobs is looked through again.
	Forget Cell[time.Time]
	// WordsFrom is the block of words with which the looking through goes on.
	WordsFrom Cell[int64]
	rest      Cell[rest]
	// drift is by how much the wall clock differs from the monotonic one.
	drift      Cell[time.Duration]
	openedWall time.Time
	// shortenings counts changes of settings, and operations, for which retention waits.
	shortenings atomic.Int64
}

// rest is until when retention rests, and why; zero while it does not.
type rest struct {
	until time.Time
	why   string
}

// retentionRests is for how long retention rests when it may go by a wrong clock.
const retentionRests = 30 * time.Minute

func (p *Retention) load(*file) error {
	keepOne(&p.layered, &p.Next, p.Next.kept)
	keepOne(&p.layered, &p.From, 0)
	keepOne(&p.layered, &p.FirstGoes, 0)
	keepOne(&p.layered, &p.Forget, p.Forget.kept)
	keepOne(&p.layered, &p.WordsFrom, 0)
	keepOne(&p.layered, &p.rest, p.rest.kept)
	keepOne(&p.layered, &p.drift, p.drift.kept)
	if p.openedWall.IsZero() {
		p.openedWall = p.m.clock.Wall().Round(0)
	}
	return nil
}

// Rest lets nothing be removed for a while, and gives the note that says so.
func (p *Retention) Rest(why string) (note string) {
	note = fmt.Sprintf("finished jobs are kept longer until %s: %s", p.m.clock.Now().Add(retentionRests), why)
	p.rest.Set(rest{time.Now().Add(retentionRests), note})
	return note
}

// RestsUntil is until when retention rests; a time that has passed where it does not.
func (p *Retention) RestsUntil() time.Time { return p.rest.Get().until }

// EndRest notes that it no longer rests.
func (p *Retention) EndRest() {
	if p.rest.Get().why != "" {
		p.rest.Set(rest{})
	}
}

// KeptRest says why retention rests; empty where it does not.
func (p *Retention) KeptRest() string { return p.rest.kept.why }

// Jumped tells by how much the wall clock has jumped since it was asked last.
func (p *Retention) Jumped() time.Duration {
	drift := p.m.clock.Wall().Round(0).Sub(p.openedWall) - time.Since(p.m.clock.Opened)
	jump := drift - p.drift.Get()
	p.drift.Set(drift)
	return jump.Abs()
}

// OpenedWall is what the wall clock told when the file was opened.
func (p *Retention) OpenedWall() time.Time { return p.openedWall }

// Hold lets retention wait until what it gives is called. Anybody may.
func (p *Retention) Hold() (release func()) {
	p.shortenings.Add(1)
	return func() { p.shortenings.Add(-1) }
}

// Held tells whether retention waits.
func (p *Retention) Held() bool { return p.shortenings.Load() > 0 }
