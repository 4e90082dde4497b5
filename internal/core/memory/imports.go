package memory

import (
	"encoding/json"
	"iter"
	"maps"

	"humblemule.example/internal/core/store"
)

// Imports are the other stores, of which jobs were imported, by their ids.
type Imports struct{ ImportsView }

// ImportsView is what of them can be seen, and not changed.
type ImportsView struct {
	layered
	all Overlay[string, *Import]
}

// Import is one of them. It is never altered.
type Import struct {
	store.Import
	// Ranks is how much was added to the ranks of a queue's jobs, by the queue's name.
	Ranks map[string]int64
}

// MostImports is of how many other stores jobs are imported at most.
const MostImports = 1000

func (p *Imports) load(*file) error {
	keep(&p.layered, &p.all, map[string]*Import{})
	rows, err := p.m.store.Imports()
	for _, row := range rows {
		i := &Import{Import: row}
		if err := json.Unmarshal([]byte(row.Ranks), &i.Ranks); err != nil {
			return err
		}
		p.all.kept[row.Store] = i
	}
	return err
}

// Find finds one by the id of its store; nil where there is none.
func (p *ImportsView) Find(id string) *Import { return p.all.At(id) }

// IDsFree tells whether the service has given no job an id yet.
func (p *ImportsView) IDsFree() bool { return p.m.Facts.NextJob.Get() == 1 }

// Store is the id of this store.
func (p *ImportsView) Store() string { return p.m.Facts.StoreID }

// Len counts them.
func (p *ImportsView) Len() int { return p.all.Len() }

// AllKept visits them as they were committed.
func (p *ImportsView) AllKept() iter.Seq2[string, *Import] { return p.all.AllKept() }

// NumKept counts them as they were committed.
func (p *ImportsView) NumKept() int { return p.all.NumKept() }

// Kept finds one as it was committed; nil where there is none.
func (p *ImportsView) Kept(id string) *Import {
	i, _ := p.all.Kept(id)
	return i
}

// Add begins one.
func (p *Imports) Add(row store.Import) error {
	row.ID = int64(p.all.Len() + 1) // none is ever taken away
	return p.put(&Import{Import: row})
}

// Imported notes that so many more jobs were imported, and what is added to ranks.
func (p *Imports) Imported(i *Import, jobs int64, ranks map[string]int64) error {
	next := &Import{i.Import, maps.Clone(i.Ranks)}
	next.Jobs += jobs
	if next.Ranks == nil {
		next.Ranks = map[string]int64{}
	}
	maps.Copy(next.Ranks, ranks)
	return p.put(next)
}

func (p *Imports) put(i *Import) error {
	ranks, err := json.Marshal(i.Ranks)
	if err != nil {
		return err
	}
	i.Import.Ranks = string(ranks)
	p.all.Put(i.Store, i)
	return p.m.store.PutImport(&i.Import)
}
