package memory

import (
	"time"

	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Finding is what jobs are found by beside their queues and tasks: how many an owner has in each
// state, and which ids were given within a minute.
type Finding struct {
	layered
	owners map[ownerState]int64 // as the transaction changes them
	// issued are the ids of the minute under way, and late those of before the start.
	issued Cell[store.Issued]
	late   Cell[[]store.Issued]
	// dated tells that the transaction has given ids to jobs that were enqueued at other times.
	dated bool
}

type ownerState struct {
	owner string
	state job.State
}

func (p *Finding) load(*file) error {
	late, err := p.m.store.Unissued()
	keepOne(&p.layered, &p.issued, store.Issued{})
	keepOne(&p.layered, &p.late, late)
	p.owners = nil
	return err
}

func (p *Finding) drop() {
	p.layered.drop()
	p.owners, p.dated = nil, false
}

// Dated notes the id of a job that was enqueued elsewhere at a time.
func (p *Finding) Dated(id int64, at job.Time) error {
	p.dated = true
	return p.m.store.PutIssued(store.Issued{Minute: int64(at) / time.Minute.Milliseconds(), First: id, Last: id})
}

// Count counts a row under its owner in a state, or no longer.
func (p *Finding) Count(r *store.Row, s job.State, by int64) {
	if r.Owner == "" || s == job.Unplaced {
		return
	}
	if p.owners == nil {
		p.owners = map[ownerState]int64{}
	}
	p.owners[ownerState{r.Owner, s}] += by
}

func (p *Finding) flush() error {
	for at, n := range p.owners {
		if n == 0 {
			continue
		}
		if err := p.m.store.CountOwner(at.owner, at.state, n); err != nil {
			return err
		}
	}
	first, next := max(p.m.Facts.NextJob.Kept(), p.m.Facts.raised), p.m.Facts.NextJob.Get()
	if next != first {
		if err := p.issue(first, next); err != nil {
			return err
		}
	}
	if now := p.issued.Get(); p.dated && now.Last != 0 { // what is not noted is looked for after what is
		return p.m.store.PutIssued(now)
	}
	return nil
}

// issue notes the ids that the transaction has given.
func (p *Finding) issue(first, next int64) error {
	for _, i := range p.late.Get() {
		if err := p.m.store.PutIssued(i); err != nil {
			return err
		}
	}
	p.late.Set(nil)
	minute, now := int64(p.m.now)/time.Minute.Milliseconds(), p.issued.Get()
	if now.Last != 0 && now.Minute == minute {
		now.Last = next - 1
		p.issued.Set(now)
		return nil
	}
	p.issued.Set(store.Issued{Minute: minute, First: first, Last: next - 1})
	if now.Last == 0 {
		return nil
	}
	return p.m.store.PutIssued(now)
}

// KeptIssued gives what of the ids is not in the file yet.
func (p *Finding) KeptIssued() []store.Issued {
	all := p.late.Kept()
	if now := p.issued.Kept(); now.Last != 0 {
		all = append(all[:len(all):len(all)], now)
	}
	return all
}
