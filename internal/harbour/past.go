package harbour

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/past"
	"humblemule.example/internal/core/trend"
	"humblemule.example/job"
)

// Followed are the labels that the harbour follows, by their names.
func Followed() map[string]api.NewFollow {
	return map[string]api.NewFollow{"berth-3": {Name: "berth", Value: "berth-3"}, "outer-bell": {Name: "buoy", Value: "outer-bell"}}
}

// pastDays is how many days the harbour has been open when the demo begins.
const pastDays = 30

// line is a kind of work that goes on all the time.
type line struct {
	queue, task string
	// perMinute is how many jobs come on a weekday at noon, runs how long they take in ms, and
	// fails which share of the attempts fails and is tried again.
	perMinute, runs, fails float64
	// skips is which share is not needed any more.
	skips float64
	// says is how attempts fail.
	says job.Failure
}

var lines = []line{
	{"common", TidePredict, 15, 60, 0.2, 0, job.Failure{Type: "tide_constants", Message: "the harmonic constants of gull-rock have not been filed yet"}},
	{"common", BuoyPoll, 16, 8, 0.25, 0, job.Failure{Type: "buoy_silent", Message: "buoy outer-bell is silent: no answer on channel 72 within 400 ms"}},
	{"berths", ManifestCheck, 14, 40, 0.03, 0.05, job.Failure{Type: "customs_busy", Message: "the customs register is busy: 503 after 1.2 s"}},
	{"berths", BerthPlan, 7, 40, 0.03, 0, job.Failure{Type: "tug_late", Message: "the tug for heron has not confirmed"}},
	{"common", DuesCharge, 4, 14, 0.05, 0, job.Failure{Type: "bank_line", Message: `the line to the bank broke during booking "dues"`}},
	{"bulletins", FogBulletin, 4, 6, 0, 0.04, job.Failure{}},
	{"bulletins", NoticePublish, 22, 6, 0.06, 0, job.Failure{Type: "subscriber_busy", Message: "the subscriber answers 429: too many notices"}},
	{"archive", LogPack, 4, 900, 0, 0, job.Failure{}},
}

// What has happened to the harbour, by how long ago it was.
const (
	stormBegan, stormEnded = 9 * 24 * time.Hour, 8*24*time.Hour - 6*time.Hour
	badDeploy, rolledBack  = 5 * time.Hour, 5*time.Hour - 50*time.Minute
	released               = 3*time.Hour + 30*time.Minute
	slowBank, quickBank    = 15 * time.Hour, 11*time.Hour + 30*time.Minute
	firstDeploy            = 17 * 24 * time.Hour
)

// WritePast makes a data file with thirty made-up days: tides and weekends, a storm that
// silenced buoys, a slow bank, and a deployment that was rolled back. What came and how long it
// took follows from the seed.
func WritePast(path string, now time.Time, seed uint64) error {
	return past.Write(path, func(w *past.Writer) error {
		h := &history{w: w, now: now, random: rand.New(rand.NewPCG(seed, 30))}
		return h.write()
	})
}

type history struct {
	w      *past.Writer
	now    time.Time
	random *rand.Rand
	worker int64
	done   map[string]bool
	// dead are manifests that the bad deployment has killed.
	dead int64
}

func (h *history) write() error {
	h.done = map[string]bool{}
	fine := h.now.Add(-trend.Minute.Kept()).Truncate(time.Hour)
	step := time.Hour
	for at := h.now.Add(-pastDays * 24 * time.Hour).Truncate(time.Hour); at.Before(h.now); at = at.Add(step) {
		if !at.Before(fine) {
			step = time.Minute
		}
		if err := h.w.At(at); err != nil {
			return err
		}
		if err := h.events(h.now.Sub(at)); err != nil {
			return err
		}
		for _, l := range lines {
			if err := h.move(l, at, min(step, h.now.Sub(at))); err != nil {
				return err
			}
		}
	}
	return h.w.At(h.now)
}

// events are what happens once.
func (h *history) events(ago time.Duration) error {
	once := func(name string, since time.Duration, do func() error) error {
		if h.done[name] || ago > since {
			return nil
		}
		h.done[name] = true
		return do()
	}
	deploy := func(version string) func() error {
		return func() (err error) {
			h.worker, err = h.w.Worker(api.Worker{ID: fmt.Sprintf("harbour-office-%d", len(h.done)), Name: "harbour-office", Host: "quay-1", Version: version, Queues: []string{"common"}})
			return err
		}
	}
	for _, e := range []struct {
		name  string
		since time.Duration
		do    func() error
	}{
		{"open", pastDays * 24 * time.Hour, deploy("2.2")},
		{"2.3", firstDeploy, deploy("2.3")},
		{"bad", badDeploy, deploy("2.4")},
		{"rollback", rolledBack, deploy("2.3")},
		{"requeue", released, func() error {
			n := h.dead
			h.dead = 0
			return errors.Join(h.w.Did("ada", api.ActRequeue, `{"action":"requeue","filter":{"state":["dead"],"task":["manifest.check"]},"note":"version 2.4 was rolled back"}`), h.w.Requeued("berths", ManifestCheck, n), h.finish("berths", ManifestCheck, n, 40))
		}},
		{"bank", quickBank, func() error { return h.w.Did("grace", "set_task", `{"task":"dues.charge"}`) }},
	} {
		if err := once(e.name, e.since, e.do); err != nil {
			return err
		}
	}
	return nil
}

// finish has jobs done.
func (h *history) finish(queue, task string, n int64, ms float64) error {
	f := &trend.Figures{N: [trend.NumCounts]int64{trend.Started: n, trend.Done: n}}
	h.took(&f.Waits, 300, n)
	h.took(&f.Runs, ms, n)
	return h.w.Ran(queue, task, h.worker, f)
}

// took adds n spans around another, as spans of work lie; of many some stand for others.
func (h *history) took(s *trend.Sketch, ms float64, n int64) {
	const most = 300
	for left := n; left > 0; {
		each := min(n/most+1, left)
		s.AddMany(ms*math.Exp(0.45*h.random.NormFloat64()), uint32(each))
		left -= each
	}
}

// tide is how busy the harbour was: more at high water, less at the other end of the day than
// now, and at weekends; so that the traffic of the demo goes on where the past ends.
func tide(at time.Time, ago time.Duration) float64 {
	busy := 0.85 + 0.15*math.Cos(2*math.Pi*ago.Hours()/12.42)
	busy *= 0.72 + 0.28*math.Cos(2*math.Pi*ago.Hours()/24)
	if d := at.UTC().Weekday(); ago > 24*time.Hour && (d == time.Saturday || d == time.Sunday) {
		busy *= 0.7
	}
	return busy
}

// move moves the jobs of a line that came within a step. All have finished when it is over,
// but those that died of the bad deployment.
func (h *history) move(l line, at time.Time, step time.Duration) error {
	ago := h.now.Sub(at)
	busy, fails, runs := tide(at, ago), l.fails, l.runs
	dies := 0.0
	switch storm := ago <= stormBegan && ago > stormEnded; {
	case storm && l.task == BuoyPoll:
		fails = 0.6
	case storm && l.task == FogBulletin:
		busy *= 4
	case l.task == ManifestCheck && ago <= badDeploy && ago > rolledBack:
		dies = 0.55
	case l.task == DuesCharge && ago <= slowBank && ago > quickBank:
		runs *= 60
	}
	n := h.some(l.perMinute * busy * step.Minutes())
	if n == 0 {
		return nil
	}
	share := func(of int64, p float64) int64 { return min(h.some(float64(of)*p), of) }
	skipped := share(n, l.skips)
	died := share(n-skipped, dies)
	failed := h.some(float64(n-skipped-died) * fails / (1 - fails))
	came := &trend.Figures{N: [trend.NumCounts]int64{trend.Enqueued: n}}
	ran := &trend.Figures{N: [trend.NumCounts]int64{trend.Started: n + failed, trend.Done: n - skipped - died, trend.Failed: failed + died, trend.Dead: died, trend.Skipped: skipped}}
	h.took(&ran.Waits, 180, n+failed)
	h.took(&ran.Runs, runs, n-skipped-died)
	h.dead += died
	return errors.Join(
		h.w.Came(l.queue, l.task, came), h.w.Ran(l.queue, l.task, h.worker, ran), h.w.Failed(l.queue, l.task, h.worker, l.says, failed, 0),
		h.w.Failed(l.queue, l.task, h.worker, job.Failure{Type: "manifest_malformed", Message: `line 4: the weight "12t" is not a valid number of kilograms`}, died, died))
}

// some is a number around a mean, as jobs come by chance.
func (h *history) some(mean float64) int64 {
	if mean > 30 {
		return int64(max(math.Round(mean+math.Sqrt(mean)*h.random.NormFloat64()), 0))
	}
	n, left := int64(0), math.Exp(-mean)
	for p := h.random.Float64(); p > left; p *= h.random.Float64() {
		n++
	}
	return n
}
