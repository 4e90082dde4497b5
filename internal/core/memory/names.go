package memory

import (
	"iter"

	"humblemule.example/job"
)

// Named is a queue or a task: its number and its name, which stay while it is there.
type Named struct {
	ID   int64
	Name string
	// MadeBy is who made it.
	MadeBy string
}

// Names are the queues, or the tasks, of the service. A name is there from its first job,
// or its first settings, until it has been without a use for long.
type Names struct{ NamesView }

// NamesView is what of them can be seen, and not changed.
type NamesView struct {
	layered
	kind   kind
	byID   Overlay[int64, *Named]
	byName Overlay[string, *Named]
	// idle is since when a name has had no use, as it was noted.
	idle Overlay[int64, job.Time]
	// made counts the names by who made them.
	made Overlay[string, int]
	// last is the highest number that was ever given.
	last Cell[int64]
}

type kind int

const (
	queues kind = iota
	tasks
)

func (p *Names) load(f *file) error {
	keep(&p.layered, &p.byID, map[int64]*Named{})
	keep(&p.layered, &p.byName, map[string]*Named{})
	keep(&p.layered, &p.idle, map[int64]job.Time{})
	keep(&p.layered, &p.made, map[string]int{})
	last := int64(0)
	add := func(id int64, name, by string, idle job.Time) {
		n := &Named{id, name, by}
		p.byID.kept[id], p.byName.kept[name], last = n, n, max(last, id)
		p.made.kept[by]++
		if idle != 0 {
			p.idle.kept[id] = idle
		}
	}
	if p.kind == queues {
		for _, q := range f.queues {
			add(q.ID, q.Name, q.MadeBy, q.IdleSince)
		}
	} else {
		for _, t := range f.tasks {
			add(t.ID, t.Name, t.MadeBy, t.IdleSince)
		}
	}
	keepOne(&p.layered, &p.last, last)
	return nil
}

// Get finds a name by its number; nil where it is not there.
func (p *NamesView) Get(id int64) *Named { return p.byID.At(id) }

// Find finds one by its name; nil where it is not there.
func (p *NamesView) Find(name string) *Named { return p.byName.At(name) }

// Name is the name of a number; empty where it is not there.
func (p *NamesView) Name(id int64) string {
	if n := p.Get(id); n != nil {
		return n.Name
	}
	return ""
}

// ID is the number of a name; 0 where it is not there.
func (p *NamesView) ID(name string) int64 {
	if n := p.Find(name); n != nil {
		return n.ID
	}
	return 0
}

// Len counts the names.
func (p *NamesView) Len() int { return p.byID.Len() }

// All visits the names.
func (p *NamesView) All() iter.Seq2[int64, *Named] { return p.byID.All() }

// MadeBy counts those that somebody has made.
func (p *NamesView) MadeBy(principal string) int { return p.made.At(principal) }

// Use finds a name, or makes it.
func (p *Names) Use(name, by string) (*Named, error) {
	if n := p.Find(name); n != nil {
		return n, nil
	}
	n := &Named{p.last.Get() + 1, name, by}
	p.last.Set(n.ID)
	p.byID.Put(n.ID, n)
	p.byName.Put(name, n)
	p.made.Put(by, p.made.At(by)+1)
	if p.kind == queues {
		return n, p.m.store.AddQueue(n.ID, name, by, p.m.now)
	}
	return n, p.m.store.AddTask(n.ID, name, by, p.m.now)
}

// RemoveQueue takes away a queue that has no jobs, with what is kept of it.
func (m *Memory) RemoveQueue(q *Named) error {
	m.Queues.forget(q)
	m.Settings.forgetQueue(q.ID)
	m.Counts.forgetQueue(q.ID)
	m.Places.forgetQueue(q.ID)
	m.Limits.forgetQueue(q.ID)
	return m.store.DropQueue(q.ID)
}

// RemoveTask takes away a task that has no jobs, with what is kept of it.
func (m *Memory) RemoveTask(t *Named) error {
	m.Tasks.forget(t)
	m.Settings.tasks.Delete(t.ID)
	queues, err := m.Counts.forgetTask(t.ID)
	if err != nil {
		return err
	}
	return m.store.DropTask(t.ID, queues)
}

func (p *Names) forget(n *Named) {
	p.byID.Delete(n.ID)
	p.byName.Delete(n.Name)
	p.idle.Delete(n.ID)
	p.made.Put(n.MadeBy, p.made.At(n.MadeBy)-1)
}

// IdleSince is since when a name has had no use, as it was noted; 0 where it has.
func (p *NamesView) IdleSince(id int64) job.Time { return p.idle.At(id) }

// NoteIdle notes since when a name has had no use; 0 where it has.
func (p *Names) NoteIdle(id int64, since job.Time) error {
	p.idle.Put(id, since)
	if p.kind == queues {
		return p.m.store.PutIdleQueue(id, since)
	}
	return p.m.store.PutIdleTask(id, since)
}

// Kept finds a name by its number, and KeptNamed by itself; nil where it is not there.
func (p *NamesView) Kept(id int64) *Named {
	n, _ := p.byID.Kept(id)
	return n
}

// KeptNamed goes with [Names.Kept].
func (p *NamesView) KeptNamed(name string) *Named {
	n, _ := p.byName.Kept(name)
	return n
}

// KeptID is the number of a name; 0 where it is not there.
func (p *NamesView) KeptID(name string) int64 {
	if n := p.KeptNamed(name); n != nil {
		return n.ID
	}
	return 0
}

// KeptName is the name of a number; empty where it is not there.
func (p *NamesView) KeptName(id int64) string {
	if n := p.Kept(id); n != nil {
		return n.Name
	}
	return ""
}

// AllKept visits the names.
func (p *NamesView) AllKept() iter.Seq2[int64, *Named] { return p.byID.AllKept() }

// NumKept counts them.
func (p *NamesView) NumKept() int { return p.byID.NumKept() }
