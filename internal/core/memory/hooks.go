package memory

import (
	"encoding/json"
	"fmt"
	"iter"
	"maps"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/store"
)

// Hooks are the addresses that take webhooks, by name, and what was delivered there.
type Hooks struct{ HooksView }

// HooksView is what of them can be seen, and not changed.
type HooksView struct {
	layered
	all    Overlay[string, *Hook]
	counts Overlay[string, *api.HookCounts]
}

// Hook is one of them. It is never altered.
type Hook struct {
	Row store.Hook
	// Is is the hook as it was given, without its name.
	Is api.Hook
}

func (p *Hooks) load(*file) error {
	keep(&p.layered, &p.all, map[string]*Hook{})
	keep(&p.layered, &p.counts, map[string]*api.HookCounts{})
	rows, err := p.m.store.Hooks()
	for _, row := range rows {
		h, n := &Hook{Row: row}, new(api.HookCounts)
		if err := json.Unmarshal([]byte(row.Body), &h.Is); err != nil {
			return fmt.Errorf("hook %s: %w", row.Name, err)
		}
		if err := json.Unmarshal([]byte(row.Counts), n); err != nil {
			return fmt.Errorf("hook %s: what was delivered: %w", row.Name, err)
		}
		p.all.kept[row.Name], p.counts.kept[row.Name] = h, n
	}
	return err
}

// Find finds a hook by its name; nil where there is none.
func (p *HooksView) Find(name string) *Hook { return p.all.At(name) }

// Len counts the hooks.
func (p *HooksView) Len() int { return p.all.Len() }

// All visits the hooks.
func (p *HooksView) All() iter.Seq2[string, *Hook] { return p.all.All() }

// Kept finds a hook as it was committed, with what was delivered; nil where there is none.
func (p *HooksView) Kept(name string) (*Hook, *api.HookCounts) {
	h, _ := p.all.Kept(name)
	n, _ := p.counts.Kept(name)
	return h, n
}

// AllKept visits them as they were committed.
func (p *HooksView) AllKept() iter.Seq2[string, *Hook] { return p.all.AllKept() }

// Put keeps a hook, new or not.
func (p *Hooks) Put(h *Hook) error {
	if p.all.At(h.Row.Name) == nil {
		h.Row.Counts = "{}"
		p.counts.Put(h.Row.Name, new(api.HookCounts))
	}
	p.all.Put(h.Row.Name, h)
	return p.m.store.PutHook(&h.Row)
}

// Delete forgets a hook, and what was counted of it.
func (p *Hooks) Delete(name string) error {
	p.all.Delete(name)
	p.counts.Delete(name)
	return p.m.store.DropHook(name)
}

// Count gives what was delivered to a hook, to be added to; nil where there is none.
func (p *Hooks) Count(name string) *api.HookCounts {
	if n, mine := p.counts.Mine(name); mine {
		return n
	}
	was := p.counts.At(name)
	if was == nil {
		return nil
	}
	n := *was
	n.Refused, n.Refusals = maps.Clone(n.Refused), slices.Clone(n.Refusals)
	p.counts.Put(name, &n)
	return &n
}

func (p *Hooks) flush() error {
	for name, n := range p.counts.Changed() {
		body, err := json.Marshal(n)
		if err == nil {
			err = p.m.store.PutHookCounts(name, string(body))
		}
		if err != nil {
			return err
		}
	}
	return nil
}
