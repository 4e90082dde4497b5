package read

import (
	"context"
	"fmt"
	"math"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/forecast"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/trend"
	"humblemule.example/job"
)

// lately is how many whole minutes tell how fast jobs come and finish, and measured how many of
// the last ones tell the capacity of a queue in which jobs waited all the while.
const (
	lately   = 30
	measured = 10
)

// speedOf is how many jobs of a queue start a minute while jobs wait; 0 where nothing tells.
func (rd *Reader) speedOf(ctx context.Context, queue int64, service memory.Service) (perMinute float64, err error) {
	all, err := rd.recentOf(ctx)
	if err != nil {
		return 0, err
	}
	rd.m.RLock()
	defer rd.m.RUnlock()
	q := rd.m.Queues.Kept(queue)
	if q == nil {
		return 0, nil
	}
	o := rd.outlookOf(q, all, service)
	capacity, _ := o.Capacity(o.Slots)
	if !o.known || math.IsInf(capacity, 0) {
		return 0, nil
	}
	return capacity * o.Attempts, nil
}

// fewestTold is how many runs, and ends of jobs, must be known before a forecast goes by them.
const fewestTold = 30

// recent is what moved in a queue in the last minutes, the last one last.
type recent struct {
	in, out [lately]float64
	// nowIn and nowOut are those of the minute under way.
	nowIn, nowOut float64
	// minutes is how many of these the service has seen, and started and ended what they add up
	// to.
	minutes        int
	started, ended int64
	runs           trend.Sketch
}

// paces keeps what moved lately for a moment, since many ask at once.
type paces struct {
	mu sync.Mutex
	at time.Time
	pace
}

// pace is what moved lately in each queue, by its series, and in which queues jobs wait for their lanes.
type pace struct {
	byID  map[int64]*recent
	lanes map[int64]bool
}

const pacesKept = 2 * time.Second

// recentOf tells what moved lately.
func (rd *Reader) recentOf(ctx context.Context) (pace, error) {
	rd.paces.mu.Lock()
	defer rd.paces.mu.Unlock()
	if time.Since(rd.paces.at) < pacesKept && rd.paces.byID != nil {
		return rd.paces.pace, nil
	}
	minute := job.Time(time.Minute.Milliseconds())
	to := rd.clock.Now()
	to -= to % minute
	span := historySpan{from: to - lately*minute, to: to + minute, step: time.Minute, of: trend.Minute}
	rd.m.RLock()
	since := rd.m.History.KeptSince()
	rd.m.RUnlock()
	seen := lately
	if since == 0 {
		seen = 0
	} else if since > span.from {
		seen = max(int(to.Sub(since)/time.Minute), 0)
	}
	all := map[int64]*recent{}
	err := rd.readHistory(ctx, span, trend.OfQueue, true, func(int64) bool { return true }, func() { clear(all) }, func(i int, series trend.Series) {
		for id, f := range series {
			if all[id] == nil {
				all[id] = &recent{minutes: seen}
			}
			r := all[id]
			if i == lately {
				r.nowIn, r.nowOut = float64(f.In()), float64(f.Out())
				continue
			}
			r.in[i], r.out[i] = float64(f.In()), float64(f.Out())
			r.started += f.N[trend.Started]
			r.ended += f.Out()
			r.runs.Merge(&f.Runs)
		}
	})
	if err != nil {
		return pace{}, err
	}
	lanes, err := rd.lanesHold(ctx)
	if err != nil {
		return pace{}, err
	}
	rd.paces.at, rd.paces.pace = time.Now(), pace{all, lanes}
	return rd.paces.pace, nil
}

// lanesHold tells in which queues jobs wait for their lanes.
func (rd *Reader) lanesHold(ctx context.Context) (map[int64]bool, error) {
	var held []int64
	rd.m.RLock()
	for id := range rd.m.Queues.AllKept() {
		if rd.m.Counts.KeptQueue(id)[job.Held] > 0 {
			held = append(held, id)
		}
	}
	rd.m.RUnlock()
	all := make(map[int64]bool, len(held))
	for _, id := range held {
		holds, err := rd.store.LanesHold(ctx, id)
		if err != nil {
			return nil, err
		}
		all[id] = holds
	}
	return all, nil
}

// spreadOf tells the mean and the variance of the last minutes.
func spreadOf(all [lately]float64, minutes int) (mean, variance float64) {
	if minutes == 0 {
		return 0, 0
	}
	last := all[lately-minutes:]
	for _, n := range last {
		mean += n / float64(minutes)
	}
	for _, n := range last {
		variance += (n - mean) * (n - mean) / float64(minutes)
	}
	return mean, variance
}

// outlook is what a forecast of a queue goes by, with what is told of it beside.
type outlook struct {
	forecast.Queue
	recent
	paused bool
	known  bool
	run    *api.Spans
}

// outlookOf gathers what a forecast of a queue goes by. The caller holds the read lock.
func (rd *Reader) outlookOf(q *memory.Named, lately pace, service memory.Service) outlook {
	m := rd.m
	o := outlook{paused: m.Settings.KeptPause(q.ID).At != 0}
	if r := lately.byID[m.History.KeptSeries(trend.OfQueue, q.Name)]; r != nil {
		o.recent = *r
	}
	counts, rules := m.Counts.KeptQueue(q.ID), m.Settings.KeptQueue(q.ID).Rules
	o.Waiting, o.Running = counts[job.Ready], counts[job.Running]
	if lately.lanes[q.ID] { // what waits for other jobs comes when those have ended
		o.Waiting += counts[job.Held]
	}
	o.Slots = rd.slotsOf(q, service)
	o.Come.PerMinute, o.Come.Variance = spreadOf(o.in, o.minutes)
	o.Come.Minutes, o.Attempts = o.minutes, 1
	if o.ended >= fewestTold {
		const most = 20
		o.Attempts = min(max(float64(o.started)/float64(o.ended), 1), most)
	}
	runs, since := &o.runs, job.Time(0)
	if runs.Count() < fewestTold {
		var f trend.Figures
		f, since = m.History.KeptUsual(trend.OfQueue, q.Name)
		runs = &f.Runs
	}
	if runs.Count() >= fewestTold {
		ms := func(x float64) time.Duration { return time.Duration(x * float64(time.Millisecond)) }
		o.Run, o.run = forecast.Span{Mean: ms(runs.Mean()), Deviation: ms(runs.Deviation()), N: runs.Count()}, memory.TellSpans(runs, since)
	}
	o.measure()
	o.limit(rules, counts, lately.lanes[q.ID])
	_, by := o.Capacity(o.Slots)
	o.known = o.Measured > 0 || o.Run.Mean > 0 || by == forecast.ByNobody || o.Waiting == 0
	return o
}

// measure takes what finished lately for the capacity, where more jobs waited all the while
// than there are slots.
func (o *outlook) measure() {
	if o.minutes < measured {
		return
	}
	in, out := 0.0, 0.0
	for i := lately - measured; i < lately; i++ {
		in, out = in+o.in[i], out+o.out[i]
	}
	before := float64(o.Waiting) - in - o.nowIn + out + o.nowOut
	if slots := float64(max(o.Slots, 1)); float64(o.Waiting) > slots && before > slots && out >= fewestTold {
		o.Measured = out / measured
	}
}

// limit notes what else bounds how many run at once.
func (o *outlook) limit(rules *api.Rules, counts *memory.ByState, lanesHold bool) {
	if rules.MaxRunning != nil {
		o.MaxRunning = *rules.MaxRunning
	}
	if rules.Rate != nil {
		o.PerSecond = rules.Rate.PerSecond
	}
	if lanesHold && counts[job.Ready]+counts[job.Running] < int64(o.Slots) { // slots are free, and lanes taken
		o.Lanes = int(max(counts[job.Ready]+counts[job.Running], 1))
	}
}

// slotsOf is how many slots of the workers that serve a queue are free for it: those that run
// no job of another. The caller holds the read lock.
func (rd *Reader) slotsOf(q *memory.Named, service memory.Service) (n int) {
	for _, w := range service {
		if !w.Serves(q.Name) {
			continue
		}
		own, others := 0, 0
		for l := range rd.m.Leases.KeptOf(w.UID) {
			if l.Row.Queue == q.ID {
				own++
			} else {
				others++
			}
		}
		if w.Slots == 0 { // it never said; what it runs at once tells
			n += max(own, 1)
			continue
		}
		n += max(w.Slots-others, min(own, w.Slots), 1)
	}
	return n
}

// pace tells how fast a queue can go with a number of slots, and when it is clear.
func (o *outlook) pace(now job.Time, slots int) api.Pace {
	told := api.Pace{Slots: slots}
	if o.paused {
		told.Binds = api.BoundByPause
		told.Clear = &api.Clear{}
		if o.Waiting == 0 {
			told.Clear = clearAt(now, forecast.Clear{})
		}
		return told
	}
	_, by := o.Capacity(slots)
	if told.Binds = string(by); by != forecast.ByNobody && o.Waiting == 0 {
		told.Binds = api.BoundByArrivals
	}
	if !o.known {
		return told
	}
	if capacity, _ := o.Capacity(slots); !math.IsInf(capacity, 0) {
		told.CapacityPerMinute = round(capacity)
	}
	if use := o.Utilisation(slots); !math.IsInf(use, 0) {
		told.Utilisation = round(use)
	}
	told.Clear = clearAt(now, o.Queue.Clear(slots))
	return told
}

func clearAt(now job.Time, c forecast.Clear) *api.Clear {
	at := func(d time.Duration) job.Time {
		if d < 0 {
			return 0
		}
		return now.Add(d)
	}
	return &api.Clear{Likely: at(c.Likely), Earliest: at(c.Earliest), Latest: at(c.Latest)}
}

// Forecast tells how a queue will fare.
func (rd *Reader) Forecast(ctx context.Context, q api.ForecastQuery) (api.Forecast, error) {
	now := rd.clock.Now()
	if err := job.Wrong("nothing was reckoned", checkForecast(&q, now)); err != nil {
		return api.Forecast{}, err
	}
	named, err := rd.keptQueue(scope.Of(ctx), q.Queue)
	if err != nil {
		return api.Forecast{}, err
	}
	all, err := rd.recentOf(ctx)
	if err != nil {
		return api.Forecast{}, err
	}
	service := rd.m.Workers.Presence.Service(now)
	rd.m.RLock()
	o := rd.outlookOf(named, all, service)
	rd.m.RUnlock()
	o.Waiting += q.More
	if _, by := o.Capacity(o.Slots); q.More > 0 {
		o.known = o.known && (o.Measured > 0 || o.Run.Mean > 0 || by == forecast.ByNobody)
	}
	coming, err := rd.comingLumps(ctx, named.Name, now)
	if err != nil {
		return api.Forecast{}, err
	}
	for _, c := range coming {
		o.Coming = append(o.Coming, forecast.Lump{In: c.At.Sub(now), Jobs: c.Jobs})
	}
	told := api.Forecast{Queue: named.Name, AsOf: now, Waiting: o.Waiting, More: q.More, Running: o.Running, Minutes: o.minutes, Run: o.run, Attempts: round(o.Attempts), Pace: o.pace(now, o.Slots), Coming: coming}
	told.In = tellSpread(o.in, o.minutes)
	told.Out = tellSpread(o.out, o.minutes)
	if wait, _ := o.Wait(o.Slots); wait >= 0 && o.known && !o.paused {
		ms := wait.Milliseconds()
		told.WaitMS = &ms
	}
	if q.Slots > 0 {
		with := o.pace(now, q.Slots)
		told.With = &with
	}
	if q.By != 0 {
		told.Needs = &api.Needs{By: q.By}
		if o.known && !o.paused {
			told.Needs.Likely, told.Needs.Sure = o.Queue.Needs(q.By.Sub(now))
		}
	}
	told.Summary = told.Describe()
	return told, nil
}

func checkForecast(q *api.ForecastQuery, now job.Time) (wrong []job.FieldError) {
	if q.Slots < 0 || q.Slots > api.MaxForecastSlots {
		wrong = append(wrong, job.FieldError{Field: "slots", Message: fmt.Sprintf("%d is outside 1 to %d", q.Slots, api.MaxForecastSlots)})
	}
	if q.More < 0 || q.More > api.MaxForecastMore {
		wrong = append(wrong, job.FieldError{Field: "more", Message: fmt.Sprintf("%d is outside 0 to %d", q.More, api.MaxForecastMore)})
	}
	if q.By != 0 && (q.By <= now || q.By > now.Add(forecast.Longest)) {
		wrong = append(wrong, job.FieldError{Field: "by", Message: fmt.Sprintf("%s is not within the next 30 days", q.By)})
	}
	return wrong
}

func tellSpread(all [lately]float64, minutes int) api.Spread {
	mean, variance := spreadOf(all, minutes)
	return api.Spread{PerMinute: round(mean), Deviation: round(math.Sqrt(variance))}
}

// How far ahead jobs are looked for that come beside those that come all the time: jobs that
// wait for their time, and runs of schedules that come too seldom to be seen in the last
// minutes.
const (
	comingWithin = 12 * time.Hour
	mostComingOf = 500
	oftenOf      = int(comingWithin / (lately * time.Minute))
)

func (rd *Reader) comingLumps(ctx context.Context, queue string, now job.Time) ([]api.ComingJobs, error) {
	told, err := rd.Coming(ctx, comingWithin, queue, "", mostComingOf)
	if err != nil {
		return nil, err
	}
	runs := map[string]int{}
	for _, item := range told.Items {
		runs[item.Schedule]++
	}
	lumps := []api.ComingJobs{}
	for _, item := range told.Items {
		if item.Schedule != "" && runs[item.Schedule] >= oftenOf || item.State == job.Backoff {
			continue
		}
		at := item.At - item.At%job.Time(time.Minute.Milliseconds())
		if last := len(lumps) - 1; last >= 0 && lumps[last].At == max(at, now) {
			lumps[last].Jobs++
		} else {
			lumps = append(lumps, api.ComingJobs{At: max(at, now), Jobs: 1})
		}
	}
	return lumps, nil
}
