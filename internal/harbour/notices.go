package harbour

import (
	"context"
	"fmt"
	"math"
	"time"

	"humblemule.example/worker"
)

// FogBulletin is the task that warns of fog, and NoticePublish the one that sends
// ordinary notices to mariners. Both go through one subscriber, which takes few a second.
const (
	FogBulletin   = "fog.bulletin"
	NoticePublish = "notice.publish"
)

// Air is what a station measures.
type Air struct {
	Station     string  `json:"station"`
	Temperature float64 `json:"temperature_c"`
	DewPoint    float64 `json:"dew_point_c"`
}

// Warning is what is told of the sight.
type Warning struct {
	Humidity float64 `json:"humidity_percent"`
	Sight    string  `json:"sight"`
}

// warnOfFog grades the sight by the relative humidity, which follows from temperature and
// dew point by the Magnus formula, with the constants 17.62 and 243.12 °C (WMO-No. 8).
func (w *World) warnOfFog(ctx context.Context, a Air) (Warning, error) {
	if a.DewPoint > a.Temperature {
		return Warning{}, worker.GiveUp(&trouble{"air_impossible", fmt.Sprintf("station %s tells a dew point of %.1f °C above its %.1f °C", a.Station, a.DewPoint, a.Temperature)})
	}
	if err := w.publish(ctx); err != nil {
		return Warning{}, err
	}
	pressure := func(t float64) float64 { return math.Exp(17.62 * t / (243.12 + t)) }
	humidity := 100 * pressure(a.DewPoint) / pressure(a.Temperature)
	sight := "good"
	switch {
	case humidity >= 99:
		sight = "dense fog"
	case humidity >= 97:
		sight = "fog"
	case humidity >= 90:
		sight = "mist"
	}
	return Warning{Humidity: math.Round(humidity*10) / 10, Sight: sight}, nil
}

// Notice is a notice to mariners.
type Notice struct {
	Number int    `json:"number"`
	Text   string `json:"text"`
}

func (w *World) publishNotice(ctx context.Context, n Notice) (string, error) {
	if err := w.publish(ctx); err != nil {
		return "", err
	}
	return fmt.Sprintf("notice %d is out", n.Number), nil
}

// publish hands something to the subscriber.
func (w *World) publish(ctx context.Context) error {
	if err := w.wait(ctx, 50*time.Millisecond, 250*time.Millisecond); err != nil {
		return err
	}
	if w.chance(15) {
		return &trouble{"subscriber_busy", "the subscriber answers 429: too many notices"}
	}
	return nil
}
