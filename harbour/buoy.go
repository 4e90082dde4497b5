package harbour

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"humblemule/worker"
)

// BuoyPoll is the task that asks a buoy for the sea around it.
const BuoyPoll = "buoy.poll"

// Watch names the buoy to ask.
type Watch struct {
	Buoy string `json:"buoy"`
}

// Sea is what a buoy tells.
type Sea struct {
	Buoy    string  `json:"buoy"`
	WaveM   float64 `json:"wave_m"`
	PeriodS float64 `json:"period_s"`
}

var (
	buoys = []string{"north-fairway", "south-fairway", "bar-head", "wreck-east"}
	// lostBuoy broke loose in the autumn gale and does not answer any more.
	lostBuoy = "outer-bell"
)

func (w *World) pollBuoy(ctx context.Context, in Watch) (Sea, error) {
	if in.Buoy != lostBuoy && !slices.Contains(buoys, in.Buoy) {
		return Sea{}, worker.GiveUp(&trouble{"buoy_unknown", fmt.Sprintf("the harbour has no buoy %q", in.Buoy)})
	}
	if err := w.wait(ctx, 50*time.Millisecond, 400*time.Millisecond); err != nil {
		return Sea{}, err
	}
	if in.Buoy == lostBuoy || w.chance(10) {
		return Sea{}, &trouble{"buoy_silent", fmt.Sprintf("buoy %s is silent: no answer on channel 72 within 400 ms", in.Buoy)}
	}
	// A swell that every buoy feels a little later than the one before it.
	phase := float64(worker.Job(ctx).EnqueuedAt)/60_000 + float64(slices.Index(buoys, in.Buoy))
	height := 1.4 + 0.6*math.Sin(phase)
	// Deep-water waves of a given steepness: T = sqrt(2πH / (g s)), s = 1/20.
	period := math.Sqrt(2 * math.Pi * height * 20 / 9.81)
	return Sea{Buoy: in.Buoy, WaveM: math.Round(height*100) / 100, PeriodS: math.Round(period*10) / 10}, nil
}
