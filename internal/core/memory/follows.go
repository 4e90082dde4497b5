package memory

import (
	"iter"
	"maps"
	"slices"

	"humblemule.example/internal/core/store"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// Follows are the labels that are followed, with how many jobs have each.
type Follows struct{ FollowsView }

// FollowsView is what of them can be seen, and not changed.
type FollowsView struct {
	layered
	all    Overlay[string, *store.Follow]
	counts Overlay[string, *ByState]
	// changed are those whose counts the transaction changes, and anew those of which the file has
	// no counts any more.
	changed, anew map[string]bool
}

func (p *Follows) load(*file) error {
	keep(&p.layered, &p.all, map[string]*store.Follow{})
	keep(&p.layered, &p.counts, map[string]*ByState{})
	p.changed, p.anew = nil, nil
	all, err := p.m.store.Follows()
	if err != nil {
		return err
	}
	for i := range all {
		p.all.kept[all[i].Name] = &all[i]
	}
	counts, err := p.m.store.FollowCounts()
	for _, c := range counts {
		of(p.counts.kept, c.Name)[c.State] = c.N
	}
	return err
}

func (p *Follows) drop() {
	p.layered.drop()
	p.changed, p.anew = nil, nil
}

// NotFollowed says that nothing is followed under a name.
func NotFollowed(name string) error {
	return job.Fault(job.NotFound, "no label is followed as %q; GET /v1/follow lists those that are", text.Shorten(name))
}

// Named finds a label that is followed by the name of that; nil where there is none.
func (p *FollowsView) Named(name string) *store.Follow { return p.all.At(name) }

// Num is how many are followed.
func (p *FollowsView) Num() int { return p.all.Len() }

// Unwalked gives one whose jobs are not all counted yet; nil where all are.
func (p *FollowsView) Unwalked() *store.Follow {
	for _, f := range p.all.All() {
		if f.First != 0 {
			return f
		}
	}
	return nil
}

// Of gives those whose label a row has.
func (p *Follows) Of(r *store.Row) (all []*store.Follow) {
	if r.Labels == "" || p.all.Len() == 0 {
		return nil
	}
	labels := r.LabelMap()
	for _, f := range p.all.All() {
		if value, has := labels[f.Label]; has && value == f.Value {
			all = append(all, f)
		}
	}
	return all
}

// Count counts a row in a state, or no longer, under the labels that are followed.
func (p *Follows) Count(r *store.Row, s job.State, by int64) {
	if s == job.Unplaced {
		return
	}
	for _, f := range p.Of(r) {
		if f.First == 0 || r.ID >= f.First || r.ID <= f.Walked {
			p.add(f.Name, s, by)
		}
	}
}

func (p *Follows) add(name string, s job.State, by int64) {
	edit(&p.counts, name)[s] += by
	if p.changed == nil {
		p.changed = map[string]bool{}
	}
	p.changed[name] = true
}

// Put follows a label, from the next job on; those that are there are counted by a walk.
func (p *Follows) Put(f store.Follow) error {
	if err := p.Delete(f.Name); err != nil {
		return err
	}
	p.all.Put(f.Name, &f)
	return p.m.store.PutFollow(f)
}

// Delete follows a label no longer.
func (p *Follows) Delete(name string) error {
	p.all.Delete(name)
	p.counts.Delete(name)
	if p.anew == nil {
		p.anew = map[string]bool{}
	}
	p.anew[name] = true
	return p.m.store.DropFollow(name)
}

// Walked counts jobs that the walk of a label has come to, up to an id; over tells that there are
// no more.
func (p *Follows) Walked(f *store.Follow, rows []*store.Row, upTo int64, over bool) error {
	for _, r := range rows {
		if slices.ContainsFunc(p.Of(r), func(o *store.Follow) bool { return o.Name == f.Name }) {
			p.add(f.Name, r.State, +1)
		}
	}
	next := *f
	if next.Walked = upTo; over {
		next.First, next.Walked = 0, 0
	}
	p.all.Put(f.Name, &next)
	return p.m.store.PutFollow(next)
}

func (p *Follows) flush() error {
	if len(p.changed) == 0 {
		return nil // as in most transactions, which allocate nothing for it
	}
	for _, name := range slices.Sorted(maps.Keys(p.changed)) {
		if p.all.At(name) == nil {
			continue
		}
		now, before := p.counts.At(name), orNone(p.counts.kept[name])
		if p.anew[name] {
			before = &none
		}
		for s, n := range now {
			if n == before[s] {
				continue
			}
			if err := p.m.store.PutFollowCount(store.FollowCount{Name: name, State: job.State(s), N: n}); err != nil {
				return err
			}
		}
	}
	return nil
}

// KeptFollows visits the labels that are followed, with their counts.
func (p *FollowsView) KeptFollows() iter.Seq2[*store.Follow, *ByState] {
	return func(yield func(*store.Follow, *ByState) bool) {
		for name, f := range p.all.AllKept() {
			n, _ := p.counts.Kept(name)
			if !yield(f, orNone(n)) {
				return
			}
		}
	}
}

// KeptFollow finds one by its name; nil where there is none.
func (p *FollowsView) KeptFollow(name string) (*store.Follow, *ByState) {
	f, _ := p.all.Kept(name)
	n, _ := p.counts.Kept(name)
	return f, orNone(n)
}
