package memory

import (
	"slices"
	"sync"

	"humblemule.example/api"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/triage"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// Causes are what jobs have failed by, as far as taking them in needs it: which are known,
// and what the transaction has seen and counted. All else stands in the file.
type Causes struct {
	layered
	// Rules find causes. They have a lock of their own.
	Rules Causer
	// known are those that have a row.
	known  Overlay[int64, bool]
	seen   map[int64]*store.Seen
	texts  map[textsKey]*store.CauseTexts
	counts map[causeKey]int64 // changes
}

// MostCauses bounds the causes of a service; what comes beyond is counted under one that is
// named so.
const MostCauses = 5000

var otherCauses = triage.Cause{ID: 1, Type: "other", Template: "(more causes than are told apart)"}

// textsKey is what messages are kept by.
type textsKey struct{ cause, queue, task int64 }

// causeKey is what jobs are counted by under a cause.
type causeKey struct {
	cause       int64
	state       job.State
	queue, task int64
	program     Program
}

// Causing tells whether jobs in a state are counted under their causes.
func Causing(s job.State) bool { return s == job.Backoff || s == job.Dead }

func (p *Causes) load(*file) error {
	known := map[int64]bool{}
	err := p.m.store.EachCause(func(id int64, errorType, template string) {
		known[id] = true
		p.Rules.names.Learn(errorType, template)
	})
	keep(&p.layered, &p.known, known)
	p.seen, p.texts, p.counts = nil, nil, nil
	return err
}

// Count counts a row under its cause in a state, or no longer, where it has one that counts.
func (p *Causes) Count(r *store.Row, s job.State, by int64) error {
	if r.Cause == 0 || !Causing(s) {
		return nil
	}
	program, err := p.m.Workers.Program(r.Worker)
	if err != nil {
		return err
	}
	if p.counts == nil {
		p.counts = map[causeKey]int64{}
	}
	p.counts[causeKey{r.Cause, s, r.Queue, r.Task, program}] += by
	return nil
}

// Saw notes the failure of a row's attempt, and its cause.
func (p *Causes) Saw(r *store.Row, c triage.Cause, message string) error {
	return p.SawAt(r, c, message, p.m.now)
}

// SawAt is Saw of an attempt that has failed at another time.
func (p *Causes) SawAt(r *store.Row, c triage.Cause, message string, at job.Time) error {
	p.m.Words.Note(r.ID, c, message)
	if !p.known.At(c.ID) && p.known.Len() >= MostCauses {
		c = otherCauses
	}
	r.Cause = c.ID
	p.known.Put(c.ID, true)
	if p.seen == nil {
		p.seen, p.texts = map[int64]*store.Seen{}, map[textsKey]*store.CauseTexts{}
	}
	seen := p.seen[c.ID]
	if seen == nil {
		seen = &store.Seen{ID: c.ID, Type: c.Type, Template: c.Template, First: at, At: at}
		p.seen[c.ID] = seen
	}
	seen.N++
	seen.First, seen.At = min(seen.First, at), max(seen.At, at)
	seen.Job = r.ID
	of := textsKey{c.ID, r.Queue, r.Task}
	texts := p.texts[of]
	if texts == nil {
		texts = &store.CauseTexts{Cause: c.ID, Queue: r.Queue, Task: r.Task}
		p.texts[of] = texts
	}
	texts.At = max(texts.At, at)
	const mostText = 500
	texts.Job = r.ID
	if text := text.Cut(message, mostText); len(texts.Texts) < store.TextsKept && !slices.Contains(texts.Texts, text) {
		texts.Texts = append([]string{text}, texts.Texts...)
	}
	return nil
}

// DropBefore drops causes that nothing has failed by since a time, at most so many, and
// tells how many went.
func (p *Causes) DropBefore(since job.Time, most int) (n int, err error) {
	gone, err := p.m.store.DropCauses(since, most)
	for _, id := range gone {
		if p.seen[id] == nil { // else it comes again at the flush
			p.known.Delete(id)
		}
	}
	return len(gone), err
}

func (p *Causes) flush() error {
	for _, seen := range p.seen {
		if err := p.m.store.SawCause(*seen, p.m.now); err != nil {
			return err
		}
	}
	for _, texts := range p.texts {
		if err := p.m.store.SawTexts(*texts); err != nil {
			return err
		}
	}
	for k, n := range p.counts {
		if n == 0 {
			continue
		}
		if err := p.m.store.CountCause(store.CauseCount{Cause: k.cause, State: k.state, Queue: k.queue, Task: k.task, Version: k.program.Version, Host: k.program.Host, N: n}); err != nil {
			return err
		}
	}
	return nil
}

func (p *Causes) drop() {
	p.layered.drop()
	p.seen, p.texts, p.counts = nil, nil, nil
}

// Causer finds causes; it remembers those of the latest messages, since failures come in
// swarms. Anybody may ask it.
type Causer struct {
	mu     sync.Mutex
	rules  triage.Rules
	names  triage.Names
	recent map[[2]string]triage.Cause
}

// use makes the causer ask rules first. What has failed before keeps its cause.
func (c *Causer) use(rules []api.TriageRule) {
	compiled := triage.Compile(rules)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.rules, c.recent = compiled, nil
}

// Of gives the cause of a failure.
func (c *Causer) Of(f *job.Failure) triage.Cause {
	const most = 2000
	key := [2]string{f.Type, f.Message}
	c.mu.Lock()
	known, found := c.recent[key]
	rules := c.rules
	c.mu.Unlock()
	if found {
		return known
	}
	known = rules.Of(f.Type, f.Message, &c.names)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.recent == nil || len(c.recent) > most {
		c.recent = map[[2]string]triage.Cause{}
	}
	c.recent[key] = known
	return known
}
