package harbour

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"humblemule.example/worker"
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

// radioRound is how many buoys are asked in one round of the radio, and how long
// the radio waits for others to be asked too.
var radioRound = worker.Many{Limit: 4, Gather: 300 * time.Millisecond}

// pollBuoys asks several buoys in one round.
func (w *World) pollBuoys(ctx context.Context, asked []*worker.Item[Watch, Sea]) error {
	if err := w.wait(ctx, 50*time.Millisecond, 400*time.Millisecond); err != nil {
		return err
	}
	for _, a := range asked {
		sea, err := w.hear(a.In.Buoy, float64(a.Job().EnqueuedAt)/60_000)
		if err != nil {
			a.Fail(err)
		} else {
			a.Done(sea)
		}
	}
	return nil
}

// hear is what a buoy answers; minutes tell the time.
func (w *World) hear(buoy string, minutes float64) (Sea, error) {
	if buoy != lostBuoy && !slices.Contains(buoys, buoy) {
		return Sea{}, worker.GiveUp(&trouble{"buoy_unknown", fmt.Sprintf("the harbour has no buoy %q", buoy)})
	}
	if buoy == lostBuoy || w.chance(10) {
		return Sea{}, &trouble{"buoy_silent", fmt.Sprintf("buoy %s is silent: no answer on channel 72 within 400 ms", buoy)}
	}
	// A swell that every buoy feels a little later than the one before it.
	phase := minutes + float64(slices.Index(buoys, buoy))
	height := 1.4 + 0.6*math.Sin(phase)
	// Deep-water waves of a given steepness: T = sqrt(2πH / (g s)), s = 1/20.
	period := math.Sqrt(2 * math.Pi * height * 20 / 9.81)
	return Sea{Buoy: buoy, WaveM: math.Round(height*100) / 100, PeriodS: math.Round(period*10) / 10}, nil
}
