// Package harbour is the demo: the office of Saltmarrow Harbour, a made-up
// port. It has handlers that do small real work on the data beside it, a
// simulated outside world that is slow and fails by a seed, and the traffic of
// an ordinary day.
package harbour

import (
	"context"
	"embed"
	"errors"
	"math/rand/v2"
	"sync"
	"time"

	"humblemule.example/worker"
)

//go:embed data/stations.csv data/manifests
var data embed.FS

// World is what lies outside the office. It is safe for concurrent use.
type World struct {
	mu     sync.Mutex
	random *rand.Rand
	// constantsFiled tells whether the harmonic constants of Gull Rock have
	// been filed, without which its tides cannot be predicted.
	constantsFiled bool
	// speed shortens every wait; 1 is the world's own pace.
	speed float64
	// fixed says that nothing fails by chance.
	fixed bool
	bank  bank
	// berths are taken until.
	berths map[string]time.Time
}

// NewWorld makes a world whose chances follow from the seed. A speed of 1 is an
// ordinary day; a higher one shortens every wait.
func NewWorld(seed uint64, speed float64) *World {
	return &World{random: rand.New(rand.NewPCG(seed, seed)), speed: speed}
}

// NewFixedWorld makes a world in which nothing fails by chance and every wait is
// short, as a day of known outcomes needs it.
func NewFixedWorld() *World {
	w := NewWorld(1, 20)
	w.fixed = true
	return w
}

// FileConstants files the constants of Gull Rock: the fix after which its dead
// letters can be requeued.
func (w *World) FileConstants() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.constantsFiled = true
}

// chance is true once in n times.
func (w *World) chance(n int) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return !w.fixed && w.random.IntN(n) == 0
}

// wait lets something outside take its time, between shortest and longest.
func (w *World) wait(ctx context.Context, shortest, longest time.Duration) error {
	w.mu.Lock()
	d := shortest + time.Duration(w.random.Int64N(int64(longest-shortest)))
	w.mu.Unlock()
	timer := time.NewTimer(time.Duration(float64(d) / w.speed))
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// Office gives a pool the handlers of the harbour office.
func (w *World) Office(p *worker.Pool) {
	worker.Handle(p, TidePredict, w.predictTide)
	worker.Handle(p, ManifestCheck, w.checkManifest)
	worker.Handle(p, DuesCharge, w.chargeDues)
	worker.Handle(p, BerthPlan, w.planBerth)
	worker.Handle(p, FogBulletin, w.warnOfFog)
	worker.Handle(p, NoticePublish, w.publishNotice)
	worker.HandleMany(p, BuoyPoll, radioRound, w.pollBuoys)
}

//go:embed data/hmule.yaml
var setup []byte

// Setup is the file that sets the harbour's queues, tasks and schedules.
func Setup() []byte { return setup }

//go:embed data/load.yaml
var loadPlan []byte

// Load is a file of a load that compares two settings for the harbour.
func Load() []byte { return loadPlan }

// ArchiveRoom gives a pool the handlers of the archive room.
func (w *World) ArchiveRoom(p *worker.Pool) { worker.Handle(p, LogPack, w.packLog) }

// trouble is an error with a type of its own.
type trouble struct {
	kind, text string
}

func (t *trouble) Error() string { return t.text }

// ErrorType is the type under which the attempt is kept.
func (t *trouble) ErrorType() string { return t.kind }

var errNoAnswer = errors.New("the tide gauge gives no answer on its line")
