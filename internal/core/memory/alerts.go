package memory

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/store"
)

// Alerts are what rules have found wrong, by number, also what is over.
type Alerts struct{ AlertsView }

// AlertsView is what of them can be seen, and not changed.
type AlertsView struct {
	layered
	all Overlay[int64, *api.Alert]
	// last is the highest number that was given.
	last Cell[int64]
}

func (p *Alerts) load(*file) error {
	keep(&p.layered, &p.all, map[int64]*api.Alert{})
	rows, err := p.m.store.Alerts()
	last := int64(0)
	for _, row := range rows {
		a := new(api.Alert)
		if err := json.Unmarshal([]byte(row.Body), a); err != nil {
			return fmt.Errorf("alert %d: %w", row.ID, err)
		}
		p.all.kept[row.ID], last = a, row.ID
	}
	keepOne(&p.layered, &p.last, last)
	return err
}

// Find finds an alert by its number; nil where there is none.
func (p *AlertsView) Find(id int64) *api.Alert { return p.all.At(id) }

// All are all alerts, by number.
func (p *AlertsView) All() []api.Alert {
	byID := maps.Collect(p.all.All())
	return inOrder(byID)
}

// AllKept are all alerts as they were committed, by number.
func (p *AlertsView) AllKept() []api.Alert { return inOrder(p.all.kept) }

func inOrder(byID map[int64]*api.Alert) []api.Alert {
	all := make([]api.Alert, 0, len(byID))
	for _, id := range slices.Sorted(maps.Keys(byID)) {
		all = append(all, *byID[id])
	}
	return all
}

// Last is the highest number that was given.
func (p *AlertsView) Last() int64 { return p.last.Get() }

// Put keeps an alert, new or not.
func (p *Alerts) Put(a api.Alert) error {
	p.last.Set(max(p.last.Get(), a.ID))
	body, err := json.Marshal(a)
	if err != nil {
		return err
	}
	p.all.Put(a.ID, &a)
	return p.m.store.PutAlert(&store.Alert{ID: a.ID, Body: string(body)}, int64(a.OverAt))
}

// Drop forgets an alert, but for the latest, by which numbers are given.
func (p *Alerts) Drop(id int64) error {
	if id == p.last.Get() {
		return nil
	}
	p.all.Delete(id)
	return p.m.store.DropAlert(id)
}
