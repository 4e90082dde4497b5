package memory

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"humblemule.example/job"
)

// Policies are by what jobs are tried again and kept. Many jobs share one, which stands in
// the file once; the latest are kept in memory. One that no job has goes after two walks
// over the jobs' rows that have found none of it.
type Policies struct {
	PoliciesView
	// Walk is how far the walk has come.
	Walk Cell[PolicyWalk]
}

// PoliciesView is what of them can be seen, and not changed.
type PoliciesView struct {
	layered
	// ids are the numbers of policies, by their bodies.
	ids  Overlay[string, int64]
	gone []int64 // policies that the transaction has dropped
	// mu guards read, which are policies by their numbers; anybody may ask for one.
	mu   sync.RWMutex
	read map[int64]job.Policy
	// used is what the walk has found: policies that have jobs.
	used Overlay[int64, bool]
}

// mostPolicies bounds the policies kept in memory; more are read when needed.
const mostPolicies = 4096

// PolicyWalk is a walk over the jobs' rows, and what the one before has found.
type PolicyWalk struct {
	// Next is when the next walk begins, while none is under way.
	Next time.Time
	// Under is true while a walk is under way: After is the last job that it has seen, Top
	// the last policy that was there when it began, and Doomed what it is about to drop.
	Under      bool
	After, Top int64
	Doomed     []int64
	// Unused are those that the last walk has found no job of.
	Unused map[int64]bool
}

func (p *Policies) load(*file) error {
	keep(&p.layered, &p.ids, map[string]int64{})
	keep(&p.layered, &p.used, map[int64]bool{})
	keepOne(&p.layered, &p.Walk, p.Walk.kept)
	p.gone = nil
	p.mu.Lock()
	defer p.mu.Unlock()
	p.read = map[int64]job.Policy{}
	return nil
}

// Use gives the number of a policy that a job gets.
func (p *Policies) Use(body string) (id int64, err error) {
	id, known := p.ids.Get(body)
	if !known {
		if id, err = p.m.store.AddPolicy(body); err != nil {
			return 0, err
		}
		p.ids.Put(body, id)
	}
	if p.Walk.Get().Under {
		p.Found(id)
	}
	return id, nil
}

// InUse tells whether the walk under way has found jobs of a policy, and Found notes it.
func (p *PoliciesView) InUse(id int64) bool { return p.used.At(id) }

// Found goes with [Policies.InUse].
func (p *Policies) Found(id int64) {
	if !p.used.At(id) {
		p.used.Put(id, true)
	}
}

// BeginWalk forgets what the walk before has found.
func (p *Policies) BeginWalk() {
	for id := range p.used.All() {
		p.used.Delete(id)
	}
}

// Drop drops a policy that no job has.
func (p *Policies) Drop(id int64) error {
	for body, known := range p.ids.All() {
		if known == id {
			p.ids.Delete(body)
		}
	}
	p.gone = append(p.gone, id)
	return p.m.store.DropPolicy(id)
}

// Of gives a policy as the transaction sees it.
func (p *PoliciesView) Of(id int64) (job.Policy, error) {
	for body, mine := range p.ids.Changed() {
		if mine == id {
			return parsed(body)
		}
	}
	return p.Get(context.Background(), id)
}

func parsed(body string) (policy job.Policy, err error) {
	err = json.Unmarshal([]byte(body), &policy)
	return policy, err
}

// Get gives a policy that was committed. Anybody may ask, without a lock.
func (p *PoliciesView) Get(ctx context.Context, id int64) (job.Policy, error) {
	p.mu.RLock()
	policy, known := p.read[id]
	p.mu.RUnlock()
	if known {
		return policy, nil
	}
	body, err := p.m.store.PolicyBody(ctx, id)
	if err == nil {
		policy, err = parsed(body)
	}
	if err != nil {
		return policy, fmt.Errorf("policy %d: %w", id, err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.read) >= mostPolicies {
		clear(p.read)
	}
	p.read[id] = policy
	return policy, nil
}

func (p *Policies) publish() {
	if len(p.ids.kept)+len(p.ids.changed) > mostPolicies {
		clear(p.ids.kept)
	}
	p.layered.publish()
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, id := range p.gone {
		delete(p.read, id)
	}
}

func (p *Policies) drop() {
	p.layered.drop()
	p.gone = nil
}
