package api

import (
	"fmt"
	"strings"
	"time"

	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Clear is when no job of a queue waits any more: most likely, and a range that holds in nine
// cases of ten. What is left out does not come about within 30 days: never, at this rate.
type Clear struct {
	Likely   job.Time `json:"likely,omitzero"`
	Earliest job.Time `json:"earliest,omitzero"`
	Latest   job.Time `json:"latest,omitzero"`
}

// What keeps a queue from going faster.
const (
	BoundBySlots      = "slots"
	BoundByMaxRunning = "max_running"
	BoundByRate       = "rate"
	BoundByLane       = "lane"
	BoundByNobody     = "no_worker"
	BoundByPause      = "pause"
	BoundByArrivals   = "arrivals" // nothing does: it could go faster if there were more to do
)

// Pace is how fast a queue can go, and when it is clear at that.
type Pace struct {
	// Slots is how many slots of living workers the queue has now, less those that run jobs of
	// other queues.
	Slots int `json:"slots"`
	// CapacityPerMinute is how many jobs can finish a minute; left out where nothing tells yet.
	CapacityPerMinute float64 `json:"capacity_per_minute,omitzero"`
	// Utilisation is which share of that the jobs use up that come; left out where it is not
	// known.
	Utilisation float64 `json:"utilisation,omitzero"`
	// Binds is what keeps the queue from going faster.
	Binds string `json:"binds"`
	// Clear is left out where the capacity is not known.
	Clear *Clear `json:"clear,omitzero"`
}

// Spread is how many jobs came, or finished, a minute lately: the mean, and the standard
// deviation of the number in one minute.
type Spread struct {
	PerMinute float64 `json:"per_minute"`
	Deviation float64 `json:"deviation"`
}

// ComingJobs are jobs that come at a time, beside those that come all the time.
type ComingJobs struct {
	At   job.Time `json:"at"`
	Jobs int64    `json:"jobs"`
}

// Forecast is how a queue will fare.
type Forecast struct {
	Queue string   `json:"queue"`
	AsOf  job.Time `json:"as_of"`
	// Waiting are the jobs that are ready or held, with the More that are assumed.
	Waiting int64 `json:"waiting"`
	More    int64 `json:"more,omitzero"`
	Running int64 `json:"running"`
	// In and Out are those of the last Minutes whole minutes.
	In      Spread `json:"in"`
	Out     Spread `json:"out"`
	Minutes int    `json:"minutes"`
	// Run is how long attempts take, and Attempts how many a job takes on average.
	Run      *Spans  `json:"run,omitzero"`
	Attempts float64 `json:"attempts"`
	Pace
	// WaitMS is how long jobs wait in the long run, if jobs come as they did; left out where
	// more come than can finish.
	WaitMS *int64       `json:"wait_ms,omitzero"`
	Coming []ComingJobs `json:"coming"`
	// With is how it would fare with as many slots as was asked.
	With *Pace `json:"with,omitzero"`
	// Needs is how many slots it takes to be clear by the time that was asked for.
	Needs *Needs `json:"needs,omitzero"`
	// Summary tells all this in sentences.
	Summary []string `json:"summary"`
}

// Needs is how many slots it takes for a queue to be clear by a time: most likely, and in nine
// cases of ten; 0 where no number of slots will do.
type Needs struct {
	By     job.Time `json:"by"`
	Likely int      `json:"likely"`
	Sure   int      `json:"sure"`
}

// ForecastQuery asks how a queue will fare: also with other Slots, by a time, and if so many
// More jobs were waiting; 0 for none of these.
type ForecastQuery struct {
	Queue string
	Slots int
	By    job.Time
	More  int64
}

// MaxForecastMore bounds the jobs that can be assumed.
const MaxForecastMore = 1_000_000_000

// MaxForecastSlots bounds the slots that can be asked about.
const MaxForecastSlots = 100_000

// Describe tells in sentences how the queue will fare.
func (f *Forecast) Describe() (all []string) {
	add := func(format string, args ...any) { all = append(all, fmt.Sprintf(format, args...)) }
	add("%s", upper(fmt.Sprintf("%s waiting in queue %s, and %s running.", jobsAre(f.Waiting-f.More), f.Queue, jobsAre(f.Running))))
	if f.More > 0 {
		add("%s assumed to wait too.", sentence.Count(f.More, "more job is", "more jobs are"))
	}
	switch {
	case f.Binds == BoundByPause:
		add("The queue is paused: nothing starts until it is resumed.")
		return all
	case f.Binds == BoundByNobody:
		add("No worker serves it.")
		return all
	case f.Clear == nil:
		add("How fast it goes is not known yet: a forecast needs 30 runs, or 10 minutes in which jobs waited.")
		return all
	}
	if f.Minutes > 0 {
		add("Over the last %s, %s came a minute.", sentence.Count(int64(f.Minutes), "minute", "minutes"), rate(f.In.PerMinute))
	}
	if f.CapacityPerMinute > 0 {
		add("%s a minute can finish with %s.", rate(f.CapacityPerMinute), sentence.Count(int64(f.Slots), "slot", "slots"))
	}
	if f.Waiting > 0 {
		add("%s", clearBy("", f.Clear))
		all = append(all, binds(f.Binds)...)
	}
	if jobs := f.coming(); jobs > 0 {
		add("Within the next 12 hours %s as planned, the first at %s.", sentence.Count(jobs, "more job comes", "more jobs come"), f.Coming[0].At)
	}
	if w := f.With; w != nil {
		with := "With " + sentence.Count(int64(w.Slots), "slot", "slots") + ": "
		if f.Waiting > 0 && w.Clear != nil {
			add("%s", clearBy(with, w.Clear))
		} else if w.CapacityPerMinute > 0 {
			add("%s%s a minute can finish.", with, rate(w.CapacityPerMinute))
		}
	}
	if n := f.Needs; n != nil && f.Waiting > 0 {
		all = append(all, needs(n))
	}
	return all
}

// WithMore says in a sentence when the queue would be clear with the jobs that are assumed.
func (f *Forecast) WithMore() string {
	switch {
	case f.Binds == BoundByPause:
		return fmt.Sprintf("Queue %s is paused: nothing starts until it is resumed.", f.Queue)
	case f.Binds == BoundByNobody:
		return fmt.Sprintf("No worker serves queue %s: they would wait until one does.", f.Queue)
	case f.Clear == nil:
		return fmt.Sprintf("%s would wait in queue %s; how fast it goes is not known yet.", upper(sentence.Count(f.Waiting, "job", "jobs")), f.Queue)
	}
	head := fmt.Sprintf("Queue %s would then be ", f.Queue)
	if latest := f.Clear.Latest; latest != 0 && latest.Sub(f.AsOf) < time.Minute {
		return head + "clear within a minute."
	}
	return strings.Join(append([]string{clearBy(head, f.Clear)}, binds(f.Binds)...), " ")
}

// coming is how many jobs are planned.
func (f *Forecast) coming() (jobs int64) {
	for _, c := range f.Coming {
		jobs += c.Jobs
	}
	return jobs
}

func jobsAre(n int64) string {
	if n == 0 {
		return "no job is"
	}
	return sentence.Count(n, "job is", "jobs are")
}

// rate is a number of jobs a minute, to two digits or so.
func rate(perMinute float64) string {
	if perMinute >= 10 {
		return sentence.Count(int64(perMinute+0.5), "job", "jobs")
	}
	return strings.TrimSuffix(fmt.Sprintf("%.1f", perMinute), ".0") + " jobs"
}

// clearBy says when no job waits any more.
func clearBy(head string, c *Clear) string {
	begin := func(text string) string {
		if head == "" {
			return upper(text)
		}
		return head + text
	}
	switch {
	case c.Likely == 0 && c.Earliest == 0:
		return begin("never clear at this rate.")
	case c.Likely == 0:
		return begin(fmt.Sprintf("hardly ever clear at this rate; at %s at the earliest.", c.Earliest))
	case c.Likely == c.Latest:
		return begin("clear at once.")
	case c.Latest == 0:
		return begin(fmt.Sprintf("clear by %s; perhaps at %s, perhaps never at this rate.", c.Likely, c.Earliest))
	}
	return begin(fmt.Sprintf("clear by %s; between %s and %s in nine cases of ten.", c.Likely, c.Earliest, c.Latest))
}

func upper(text string) string { return strings.ToUpper(text[:1]) + text[1:] }

// binds says what keeps a queue from going faster, and what would help.
func binds(by string) []string {
	switch by {
	case BoundBySlots:
		return []string{"All its slots are used: more slots would make it faster."}
	case BoundByMaxRunning:
		return []string{"Its limit of running jobs keeps it from going faster: more slots would not help."}
	case BoundByRate:
		return []string{"Its rate of starts keeps it from going faster: more slots would not help."}
	case BoundByLane:
		return []string{"Its lanes keep it from going faster: one job of a lane runs at a time, and more slots would not help."}
	}
	return nil
}

func needs(n *Needs) string {
	by := n.By.String()
	switch {
	case n.Likely == 0:
		return fmt.Sprintf("No number of slots makes it clear by %s.", by)
	case n.Sure == 0:
		return fmt.Sprintf("To be clear by %s it takes %s; no number makes that sure.", by, sentence.Count(int64(n.Likely), "slot", "slots"))
	case n.Sure == n.Likely:
		return fmt.Sprintf("To be clear by %s it takes %s.", by, sentence.Count(int64(n.Likely), "slot", "slots"))
	}
	return fmt.Sprintf("To be clear by %s it takes %s; %s to be sure in nine cases of ten.", by, sentence.Count(int64(n.Likely), "slot", "slots"), sentence.Grouped(int64(n.Sure)))
}
