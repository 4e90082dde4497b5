package harbour

import (
	"context"
	"fmt"
	"time"

	"humblemule.example/worker"
)

// BerthPlan is the task that gives a ship its hours at a berth. The plans of one berth
// are made one after the other: each begins where the last one ends.
const BerthPlan = "berth.plan"

// Call is a ship that asks for a berth.
type Call struct {
	Ship  string `json:"ship"`
	Berth string `json:"berth"`
	Hours int    `json:"hours"`
	// TugMinutes is how long the harbour waits for the tug's answer first.
	TugMinutes int `json:"tug_minutes,omitzero"`
}

// Stay is when a ship lies at its berth.
type Stay struct {
	Berth string    `json:"berth"`
	From  time.Time `json:"from"`
	Until time.Time `json:"until"`
}

// planBerth gives a ship the first free hours at its berth.
func (w *World) planBerth(ctx context.Context, c Call) (Stay, error) {
	if c.Hours < 1 || c.Hours > 72 {
		return Stay{}, worker.GiveUp(&trouble{"berth_hours", fmt.Sprintf("%s asks for %d h at %s; a call is 1 to 72 h", c.Ship, c.Hours, c.Berth)})
	}
	shortest := 300*time.Millisecond + time.Duration(c.TugMinutes)*time.Minute
	if c.TugMinutes > 0 {
		shortest = time.Duration(float64(shortest) * w.speed) // minutes are told as they are
	}
	if err := w.wait(ctx, shortest, shortest+time.Second); err != nil {
		return Stay{}, err
	}
	if w.chance(12) {
		return Stay{}, &trouble{"tug_late", fmt.Sprintf("the tug for %s has not confirmed", c.Ship)}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.berths == nil {
		w.berths = map[string]time.Time{}
	}
	from := time.Now().UTC().Truncate(time.Hour).Add(time.Hour)
	if taken := w.berths[c.Berth]; taken.After(from) {
		from = taken
	}
	s := Stay{Berth: c.Berth, From: from, Until: from.Add(time.Duration(c.Hours) * time.Hour)}
	w.berths[c.Berth] = s.Until
	return s, nil
}
