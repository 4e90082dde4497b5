package memory

import (
	"humblemule.example/job"
)

// Times are when something is next to be done of what stands in the file.
type Times struct {
	layered
	// Due is the next time that a scheduled job, or one in backoff, waits for; Late the
	// next by which a job must be started; Results when the next result is kept no longer.
	Due, Late, Results Next[job.Time]
	// Sweep is how long the file must have been served before a removed job is swept.
	Sweep Next[int64]
}

// Next is when something is next to be done: 0 for never. It is read anew where what was
// next is no more.
type Next[T ~int64] struct {
	Cell[T]
	stale bool
	read  func() (T, error)
}

// By notes that something is to be done by a time.
func (n *Next[T]) By(at T) {
	if n.now == 0 || at < n.now {
		n.Set(at)
	}
}

// Reread has what is next read anew before the commit.
func (n *Next[T]) Reread() { n.stale = true }

// RereadAny has it read anew where there is anything at all.
func (n *Next[T]) RereadAny() { n.stale = n.stale || n.now != 0 }

func (n *Next[T]) flush() (err error) {
	if n.stale {
		n.now, err = n.read()
	}
	return err
}

func (n *Next[T]) drop() {
	n.Cell.drop()
	n.stale = false
}

func (p *Times) load(*file) error {
	s := p.m.store
	for _, next := range []struct {
		of   *Next[job.Time]
		read func() (job.Time, error)
	}{{&p.Due, s.NextDue}, {&p.Late, s.NextTooLate}, {&p.Results, s.NextResult}} {
		if err := keepNext(&p.layered, next.of, next.read); err != nil {
			return err
		}
	}
	return keepNext(&p.layered, &p.Sweep, p.nextToSweep)
}

func keepNext[T ~int64](p *layered, n *Next[T], read func() (T, error)) error {
	first, err := read()
	*n = Next[T]{Cell: Cell[T]{kept: first, now: first}, read: read}
	p.all = append(p.all, n)
	return err
}

// nextToSweep is how long the file must have been served before something is to be swept;
// 0 for nothing.
func (p *Times) nextToSweep() (next int64, err error) {
	first, found, err := p.m.store.FirstRemoved()
	if found {
		next = first + RestorableFor.Milliseconds()
	}
	for _, r := range p.m.Removals.All() {
		if at := r.Last + RestorableFor.Milliseconds(); !r.UnderWay && (next == 0 || at < next) {
			next = at
		}
	}
	return next, err
}

func (p *Times) flush() error {
	for _, n := range []interface{ flush() error }{&p.Due, &p.Late, &p.Results, &p.Sweep} {
		if err := n.flush(); err != nil {
			return err
		}
	}
	return nil
}
