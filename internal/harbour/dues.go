package harbour

import (
	"context"
	"fmt"
	"time"

	"humblemule.example/worker"
)

// DuesCharge is the task that charges a ship's harbour dues, once.
const DuesCharge = "dues.charge"

// Dues name the ship and what it owes.
type Dues struct {
	Ship  string `json:"ship"`
	Cents int    `json:"cents"`
}

// Booking is the bank's receipt.
type Booking struct {
	Number int `json:"number"`
	Cents  int `json:"cents"`
}

// bank is a simulated bank that honours keys: the same key books once.
type bank struct {
	booked map[string]Booking
}

// book books an amount under a key; now and then its line breaks after that.
func (w *World) book(key string, cents int) (Booking, error) {
	w.mu.Lock()
	if w.bank.booked == nil {
		w.bank.booked = map[string]Booking{}
	}
	b, before := w.bank.booked[key]
	if !before {
		b = Booking{Number: len(w.bank.booked) + 1, Cents: cents}
		w.bank.booked[key] = b
	}
	w.mu.Unlock()
	if w.chance(4) {
		return Booking{}, &trouble{"bank_line", fmt.Sprintf("the line to the bank broke during booking %q", key)}
	}
	return b, nil
}

// chargeDues charges a ship once, however often its job is tried.
func (w *World) chargeDues(ctx context.Context, d Dues) (Booking, error) {
	if d.Cents <= 0 {
		return Booking{}, worker.GiveUp(&trouble{"dues_wrong", fmt.Sprintf("dues of %d cents cannot be charged", d.Cents)})
	}
	return worker.Once(ctx, "charge", func(ctx context.Context, step worker.Step) (Booking, error) {
		if step.InDoubt {
			worker.Logger(ctx).Warn("an earlier attempt may have charged already; the bank knows by the key", "key", step.Key)
		}
		if err := w.wait(ctx, 100*time.Millisecond, 600*time.Millisecond); err != nil {
			return Booking{}, worker.NotDone(err)
		}
		return w.book(step.Key, d.Cents)
	})
}
