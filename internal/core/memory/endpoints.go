package memory

import (
	"encoding/json"
	"fmt"
	"iter"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Endpoints are the addresses for messages of ends of jobs, by name.
type Endpoints struct {
	EndpointsView
	// Ended are the jobs that have ended in the transaction, of which somebody is told, or which were messages
	// to an endpoint themselves.
	Ended []Ended
	// BatchesEnded are batches that have ended in the transaction, of which somebody is told.
	BatchesEnded []BatchEnded
	// Mails are what is told by mail in the transaction, by the keys of the letters that hold it.
	Mails map[string][]MailTold
	// changed are those whose counts the transaction has changed.
	changed map[string]bool
}

// EndpointsView is what of them can be seen, and not changed.
type EndpointsView struct {
	layered
	all Overlay[string, *Endpoint]
}

// Endpoint is one of them. It is never altered once it is committed.
type Endpoint struct {
	Row store.Endpoint
	// Is is the endpoint as it was given, without name and paused.
	Is api.Endpoint
}

// Ended is a job that has ended, with whom it says to tell.
type Ended struct {
	store.Row
	Notify []job.Notify
	// Gathered tells that an action on many jobs has ended it, and tells of all of them.
	Gathered bool
}

// Gathered is who is told how many jobs an action on many has ended, and which are the first of them.
type Gathered struct {
	To    job.Notify `json:"to"`
	State job.State  `json:"state"`
	Owner string     `json:"owner,omitempty"`
	Count int64      `json:"count"`
	Jobs  []int64    `json:"jobs"`
}

// MailTold is what is told by mail, for an owner.
type MailTold struct {
	Owner string
	api.Notice
}

// BatchEnded is a batch that has ended, with its jobs by state.
type BatchEnded struct {
	store.Batch
	Counts store.BatchCounts
}

func (p *Endpoints) load(*file) error {
	keep(&p.layered, &p.all, map[string]*Endpoint{})
	p.Ended, p.BatchesEnded, p.Mails, p.changed = nil, nil, nil, nil
	rows, err := p.m.store.Endpoints()
	for _, row := range rows {
		e := &Endpoint{Row: row}
		if err := json.Unmarshal([]byte(row.Body), &e.Is); err != nil {
			return fmt.Errorf("endpoint %s: %w", row.Name, err)
		}
		p.all.kept[row.Name] = e
	}
	return err
}

func (p *Endpoints) drop() {
	p.layered.drop()
	p.Ended, p.BatchesEnded, p.Mails, p.changed = nil, nil, nil, nil
}

// Find finds an endpoint by its name; nil where there is none.
func (p *EndpointsView) Find(name string) *Endpoint { return p.all.At(name) }

// Has tells whether there is an endpoint of the name.
func (p *EndpointsView) Has(name string) bool { return p.Find(name) != nil }

// Len counts the endpoints, and All visits them.
func (p *EndpointsView) Len() int { return p.all.Len() }

// All goes with [EndpointsView.Len].
func (p *EndpointsView) All() iter.Seq2[string, *Endpoint] { return p.all.All() }

// Kept finds one as it was committed; nil where there is none.
func (p *EndpointsView) Kept(name string) *Endpoint {
	e, _ := p.all.Kept(name)
	return e
}

// AllKept visits them as they were committed.
func (p *EndpointsView) AllKept() iter.Seq2[string, *Endpoint] { return p.all.AllKept() }

// Put keeps an endpoint, new or not.
func (p *Endpoints) Put(e *Endpoint) error {
	p.all.Put(e.Row.Name, e)
	return p.m.store.PutEndpoint(&e.Row)
}

// Delete forgets an endpoint.
func (p *Endpoints) Delete(name string) error {
	p.all.Delete(name)
	delete(p.changed, name)
	return p.m.store.DropEndpoint(name)
}

// Count gives the row of an endpoint, to be added to; nil where there is none.
func (p *Endpoints) Count(name string) *store.Endpoint {
	if e, mine := p.all.Mine(name); mine && p.changed[name] {
		return &e.Row
	}
	was := p.all.At(name)
	if was == nil {
		return nil
	}
	e := *was
	p.all.Put(name, &e)
	if p.changed == nil {
		p.changed = map[string]bool{}
	}
	p.changed[name] = true
	return &e.Row
}

func (p *Endpoints) flush() error {
	for name := range p.changed {
		if e := p.all.At(name); e != nil {
			if err := p.m.store.PutEndpoint(&e.Row); err != nil {
				return err
			}
		}
	}
	return nil
}

// End notes that a job ends in a state, where somebody is told of that.
func (p *Endpoints) End(r *store.Row, to job.State) error {
	task := p.m.Tasks.Name(r.Task)
	if job.IsOwn(task) {
		if r.Labels != "" { // a message to an endpoint
			p.end(r, to, nil)
		}
		return nil
	}
	policy, err := p.m.Policies.Of(r.Policy)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(policy.Notify, func(n job.Notify) bool { return slices.Contains(n.On, to) }) || p.picks(r, to, task) {
		p.end(r, to, policy.Notify)
	}
	return nil
}

func (p *Endpoints) end(r *store.Row, to job.State, notify []job.Notify) {
	e := Ended{Row: *r, Notify: notify}
	e.State = to
	p.Ended = append(p.Ended, e)
}

// picks tells whether the events of any endpoint pick an end.
func (p *Endpoints) picks(r *store.Row, to job.State, task string) bool {
	for _, e := range p.all.All() {
		if e.Picks(to, task, p.m.Queues.Name(r.Queue), r.Owner) {
			return true
		}
	}
	return false
}

// Picks tells whether the events of the endpoint pick an end.
func (e *Endpoint) Picks(s job.State, task, queue, owner string) bool {
	return slices.ContainsFunc(e.Is.Events, func(r api.EventRule) bool { return r.Picks(s, task, queue, owner) })
}
