package read

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/status"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// NoHook says that a hook is not there.
func NoHook(name string) error {
	return job.Fault(job.NotFound, "there is no hook %q", text.Shorten(name))
}

// KeptHook finds a hook by its name; nil where there is none.
func (rd *Reader) KeptHook(name string) *memory.Hook {
	rd.m.RLock()
	defer rd.m.RUnlock()
	h, _ := rd.m.Hooks.Kept(name)
	return h
}

// Hooks tells all hooks, by name.
func (rd *Reader) Hooks(ctx context.Context) ([]api.HookStatus, error) {
	if err := scope.Whole(ctx); err != nil {
		return nil, err
	}
	rd.m.RLock()
	defer rd.m.RUnlock()
	all := []api.HookStatus{}
	for name := range rd.m.Hooks.AllKept() {
		all = append(all, rd.tellHook(name))
	}
	slices.SortFunc(all, func(a, b api.HookStatus) int { return cmp.Compare(a.Name, b.Name) })
	return all, nil
}

// Hook tells a hook as it stands.
func (rd *Reader) Hook(ctx context.Context, name string) (api.HookStatus, error) {
	if err := scope.Whole(ctx); err != nil {
		return api.HookStatus{}, err
	}
	rd.m.RLock()
	defer rd.m.RUnlock()
	if h, _ := rd.m.Hooks.Kept(name); h == nil {
		return api.HookStatus{}, NoHook(name)
	}
	return rd.tellHook(name), nil
}

// HookAsSet gives a hook as it was set, with its version; there is false where it is not there.
func (rd *Reader) HookAsSet(name string) (is api.Hook, version int64, there bool) {
	h := rd.KeptHook(name)
	if h == nil {
		return is, 0, false
	}
	return h.Is, h.Row.Version, true
}

// tellHook tells a hook that is there; the caller holds the read lock.
func (rd *Reader) tellHook(name string) api.HookStatus {
	h, n := rd.m.Hooks.Kept(name)
	told := api.HookStatus{Hook: h.Is.WithDefaults(), Path: "/hooks/" + name, Version: h.Row.Version, MadeAt: h.Row.MadeAt, DefinedBy: api.SettingByHand, Counts: *n, Faults: rd.hookFaults(name, &h.Is), Warnings: h.Is.Warnings()}
	told.Name = name
	if slices.Contains(rd.m.Settings.KeptOwned().Hooks, name) {
		told.DefinedBy = api.SettingByFile
	}
	return told
}

// hookFaults are why a hook cannot prove its senders now.
func (rd *Reader) hookFaults(name string, h *api.Hook) (all []string) {
	unreadable := rd.told.Secrets.Unreadable()
	for _, s := range h.Proof.Secrets {
		if err := rd.told.Secrets.ForHook(s, name); err != nil {
			all = append(all, err.Error())
		}
		if i := slices.IndexFunc(unreadable, func(u string) bool { return strings.HasPrefix(u, "secret "+s+" ") }); i >= 0 {
			all = append(all, unreadable[i])
		}
	}
	return all
}

// Deliveries tells those of a hook before one, 0 for all, the latest first.
func (rd *Reader) Deliveries(ctx context.Context, name string, before int64, most int) ([]api.Delivery, error) {
	if err := scope.Whole(ctx); err != nil {
		return nil, err
	}
	found, err := rd.store.Deliveries(ctx, name, before, most)
	if err != nil {
		return nil, err
	}
	if len(found) == 0 && rd.KeptHook(name) == nil {
		return nil, NoHook(name)
	}
	all := make([]api.Delivery, len(found))
	for i, d := range found {
		all[i] = api.Delivery{Number: d.ID, At: d.At, Job: d.Job, State: d.State, ID: d.Sender, Times: d.Times, Differing: d.Differing, LastAt: d.LastAt}
	}
	return all, nil
}

// hooksWrong lists what is wrong with hooks, and what is allowed and likely not meant.
func (rd *Reader) hooksWrong() (wrong []status.Hook, notes []string) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	var names []string
	for name := range rd.m.Hooks.AllKept() {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		h, _ := rd.m.Hooks.Kept(name)
		for _, text := range rd.hookFaults(name, &h.Is) {
			wrong = append(wrong, status.Hook{Name: name, Why: text})
		}
		for _, w := range h.Is.Warnings() {
			notes = append(notes, "Hook "+name+": "+w.Message)
		}
	}
	return wrong, notes
}
