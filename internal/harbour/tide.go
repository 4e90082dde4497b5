package harbour

import (
	"context"
	"encoding/csv"
	"fmt"
	"math"
	"strconv"
	"sync"
	"time"

	"humblemule.example/worker"
)

// TidePredict is the task that predicts a day's tide at a station.
const TidePredict = "tide.predict"

// Day asks for the tide of one day.
type Day struct {
	Station string `json:"station"`
	// Date is as 2026-11-23; where it is empty, the day for which the schedule has planned.
	Date string `json:"date,omitempty"`
	// GaugeSilent is how many attempts the gauge lets fail; for tests.
	GaugeSilent int `json:"gauge_silent,omitempty"`
}

// Curve is a day's tide: its high and low waters.
type Curve struct {
	Station string  `json:"station"`
	Date    string  `json:"date"`
	Waters  []Water `json:"waters"`
}

// Water is a high or low water.
type Water struct {
	At      string  `json:"at"`
	HeightM float64 `json:"height_m"`
	Kind    string  `json:"kind"`
}

// speeds of the constituents in degrees per hour, from the motions of earth,
// moon and sun (Schureman, Manual of Harmonic Analysis and Prediction of Tides).
var speeds = map[string]float64{
	"M2": 28.9841042, "S2": 30.0, "N2": 28.4397295, "K1": 15.0410686, "O1": 13.9430356, "M4": 57.9682084,
}

type constituent struct{ speed, amplitude, phase float64 }

// stations are the constants by station.
var stations = sync.OnceValues(func() (map[string][]constituent, error) {
	f, err := data.Open("data/stations.csv")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	if err != nil {
		return nil, err
	}
	all := map[string][]constituent{}
	for _, row := range rows[1:] {
		amplitude, err1 := strconv.ParseFloat(row[3], 64)
		phase, err2 := strconv.ParseFloat(row[4], 64)
		if err1 != nil || err2 != nil || speeds[row[2]] == 0 {
			return nil, fmt.Errorf("stations.csv: %v cannot be read", row)
		}
		all[row[0]] = append(all[row[0]], constituent{speeds[row[2]], amplitude, phase})
	}
	return all, nil
})

func (w *World) predictTide(ctx context.Context, day Day) (Curve, error) {
	if by := worker.Job(ctx).Schedule; by != nil && day.Date == "" {
		day.Date = by.PlannedAt.Go().Format(time.DateOnly)
	}
	date, err := time.Parse(time.DateOnly, day.Date)
	if err != nil {
		return Curve{}, worker.GiveUp(&trouble{"tide_date", fmt.Sprintf("%q is not a valid date; write it as 2026-11-23", day.Date)})
	}
	all, err := stations()
	if err != nil {
		return Curve{}, err
	}
	constants := all[day.Station]
	if constants == nil {
		return Curve{}, worker.GiveUp(&trouble{"tide_station", fmt.Sprintf("the harbour has no station %q", day.Station)})
	}
	if err := w.wait(ctx, 300*time.Millisecond, 2500*time.Millisecond); err != nil {
		return Curve{}, err
	}
	if day.Station == "gull-rock" && !w.filed() {
		return Curve{}, &trouble{"tide_constants", "the harmonic constants of gull-rock have not been filed yet"}
	}
	if w.chance(12) || worker.Job(ctx).Tries <= day.GaugeSilent {
		return Curve{}, errNoAnswer
	}
	return Curve{Station: day.Station, Date: day.Date, Waters: waters(constants, date)}, nil
}

func (w *World) filed() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.constantsFiled
}

// height is the tide above the mean at a time: the sum of the constituents'
// cosines.
func height(constants []constituent, at time.Time) (sum float64) {
	hours := at.Sub(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)).Hours()
	for _, c := range constants {
		sum += c.amplitude * math.Cos((c.speed*hours-c.phase)*math.Pi/180)
	}
	return sum
}

// waters finds the day's high and low waters to the minute.
func waters(constants []constituent, day time.Time) (found []Water) {
	for minute := range 24 * 60 {
		at := day.Add(time.Duration(minute) * time.Minute)
		before, here, after := height(constants, at.Add(-time.Minute)), height(constants, at), height(constants, at.Add(time.Minute))
		kind := ""
		switch {
		case here > before && here >= after:
			kind = "high"
		case here < before && here <= after:
			kind = "low"
		default:
			continue
		}
		found = append(found, Water{At: at.Format("15:04"), HeightM: math.Round(here*100) / 100, Kind: kind})
	}
	return found
}
