package memory

import (
	"encoding/json"
	"fmt"
	"iter"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// RestorableFor is how long a removed job can be restored, in time in which the file is
// served; then it is swept.
const RestorableFor = 10 * time.Minute

// Removals are the operations whose removals can be undone, by their actions; and what has
// become of the jobs that operations have requeued.
type Removals struct{ RemovalsView }

// RemovalsView is what of them can be seen, and not changed.
type RemovalsView struct {
	layered
	all    Overlay[int64, Removal]
	became map[became]int64
}

// Removal is an operation whose removals can be undone: its jobs are swept when the time
// after its last removal is over, however long it took.
type Removal struct {
	// Last is how long the file was served at the last removal.
	Last     int64
	UnderWay bool
}

// became is a state in which jobs are that an operation has requeued.
type became struct {
	operation int64
	state     job.State
}

// StoredOperation is an operation as its row holds it.
type StoredOperation struct {
	api.Operation
	// LastRemoval is how long the file was served at its last removal; 0 for none.
	LastRemoval int64 `json:"last_removal,omitempty"`
	// Tells is who is told of the jobs that it has ended, once it is over.
	Tells []Gathered `json:"tells,omitempty"`
}

// ReadOperation reads a row.
func ReadOperation(row *store.Operation) (o StoredOperation, err error) {
	if err = json.Unmarshal([]byte(row.Body), &o); err != nil {
		return o, fmt.Errorf("operation %d: %w", row.ID, err)
	}
	o.ID = row.ID
	return o, nil
}

func (p *Removals) load(*file) error {
	keep(&p.layered, &p.all, map[int64]Removal{})
	p.became = nil
	rows, err := p.m.store.Removals()
	if err != nil {
		return err
	}
	for i := range rows {
		o, err := ReadOperation(&rows[i])
		if err != nil {
			return err
		}
		p.all.kept[rows[i].Action] = Removal{Last: o.LastRemoval, UnderWay: !o.Over()}
	}
	return nil
}

// Of finds the removal of an action.
func (p *RemovalsView) Of(action int64) (r Removal, found bool) { return p.all.Get(action) }

// All visits the removals.
func (p *RemovalsView) All() iter.Seq2[int64, Removal] { return p.all.All() }

// Set sets the removal of an action, and End says that it is over.
func (p *Removals) Set(action int64, r Removal) {
	p.all.Put(action, r)
	p.m.Times.Sweep.Reread()
}

// End goes with [Removals.Set].
func (p *Removals) End(action int64) {
	p.all.Delete(action)
	p.m.Times.Sweep.Reread()
}

// Became counts what becomes of a job that an operation has requeued: it comes from a
// state, or is requeued right now.
func (p *Removals) Became(operation int64, from, to job.State, requeued bool) {
	if p.became == nil {
		p.became = map[became]int64{}
	}
	if !requeued {
		p.became[became{operation, from}]--
	}
	p.became[became{operation, to}]++
}

func (p *Removals) flush() error {
	for b, n := range p.became {
		if n == 0 {
			continue
		}
		if err := p.m.store.CountBecame(b.operation, b.state, n); err != nil {
			return err
		}
	}
	return nil
}

func (p *Removals) drop() {
	p.layered.drop()
	p.became = nil
}
