package memory

import (
	"iter"

	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Sessions are those who have shown a token once, by the hashes of the secrets that they show since.
type Sessions struct {
	layered
	all  Overlay[string, *Session]
	last Cell[int64]
}

// Session is one of them. It is never altered.
type Session struct {
	store.Session
	// Ended is closed when it has ended.
	Ended chan struct{}
}

// MostSessions is how many there are at most: beyond it the one that was seen longest ago ends.
const MostSessions = 1000

func (p *Sessions) load(*file) error {
	before := p.all.kept
	keep(&p.layered, &p.all, map[string]*Session{})
	rows, err := p.m.store.Sessions()
	last := int64(0)
	for _, row := range rows {
		s := &Session{row, make(chan struct{})}
		if was := before[row.Hash]; was != nil {
			s.Ended = was.Ended
		}
		p.all.kept[row.Hash] = s
		last = max(last, row.ID)
	}
	keepOne(&p.layered, &p.last, last)
	return err
}

// Add begins a session, and gives it its number.
func (p *Sessions) Add(s store.Session) error {
	if p.all.Len() >= MostSessions {
		var oldest *Session
		for _, s := range p.all.All() {
			if oldest == nil || s.SeenAt < oldest.SeenAt {
				oldest = s
			}
		}
		if err := p.End(oldest); err != nil {
			return err
		}
	}
	s.ID = p.last.Get() + 1
	p.last.Set(s.ID)
	p.all.Put(s.Hash, &Session{s, make(chan struct{})})
	return p.m.store.PutSession(&s)
}

// Seen notes when a session was seen.
func (p *Sessions) Seen(s *Session, now job.Time) error {
	next := &Session{s.Session, s.Ended}
	next.SeenAt = now
	p.all.Put(s.Hash, next)
	return p.m.store.PutSession(&next.Session)
}

// End ends a session.
func (p *Sessions) End(s *Session) error {
	p.all.Delete(s.Hash)
	return p.m.store.DropSession(s.ID)
}

// All visits the sessions, and Get finds one by the hash of its secret; nil where there is none.
func (p *Sessions) All() iter.Seq2[string, *Session] { return p.all.All() }

// Get goes with [Sessions.All].
func (p *Sessions) Get(hash string) *Session { return p.all.At(hash) }

// Kept finds a session by the hash of its secret; nil where there is none.
func (p *Sessions) Kept(hash string) *Session {
	s, _ := p.all.Kept(hash)
	return s
}

// AllKept visits the sessions.
func (p *Sessions) AllKept() iter.Seq2[string, *Session] { return p.all.AllKept() }

func (p *Sessions) publish() {
	for _, s := range p.all.Gone() {
		close(s.Ended)
	}
	p.layered.publish()
}
