package memory

import (
	"cmp"
	"fmt"
	"iter"
	"math"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/trend"
	"humblemule.example/job"
)

// History is what of jobs moved over time, by series: those of a queue, of a task, of what a
// version of a worker program or a host has run. What a transaction moves is written with it
// as a single row, a delta. When a minute is over its deltas are folded: they become a row of
// the minute for each kind of series, and count towards the hour and the day, which are
// written when they are over. So a kill loses nothing, and little is read at the start.
type History struct {
	layered
	// names are the series by what they are called, and called the other way round.
	names  Overlay[seriesName, int64]
	called Overlay[int64, seriesName]
	last   Cell[int64]
	// since is when the first thing moved.
	since Cell[job.Time]

	// folded is how far deltas are folded, and n the last delta. Those between, which take so
	// many bytes, are of the minute, and stand in fresh.
	folded  store.Folded
	n       int64
	bytes   int
	minute  job.Time
	fresh   span
	started map[int64]bool // the queues in which jobs have started since the fold
	// hour and day are those under way, without what is fresh.
	hour, day underWay
	// week is what is usual: the days before the one under way.
	week usual

	// moved and failed are of the transaction, by the numbers of queues, tasks and workers;
	// into is what was noted last, and spare what can be used again.
	moved  map[work]*trend.Figures
	failed map[failure]*trend.Deaths
	latest work
	into   *trend.Figures
	spare  []*trend.Figures
	// delta is what it writes, and packed how, in so many bytes. It may fold what is fresh, and
	// turn to another hour.
	delta   trend.Delta
	packed  []byte
	written int
	folds   bool
	turn    *turn
}

type seriesName struct {
	kind trend.Kind
	name string
}

// span is what moved in a span of time.
type span struct {
	series   [trend.NumKinds]trend.Series
	failures trend.Failures
}

func newSpan() (s span) {
	for kind := range s.series {
		s.series[kind] = trend.Series{}
	}
	s.failures = trend.Failures{}
	return s
}

// What is kept apart: so many series of a kind, and twice as many until a step is over; and so
// many failures.
const (
	SeriesKept   = 200
	mostSeries   = 2 * SeriesKept
	mostFailures = 500
	// mostNames is how many series have names before those go sooner that were not used for
	// long, and twice as many are the most.
	mostNames = 10_000
)

func (s *span) merge(o *span) {
	for kind := range s.series {
		s.series[kind].Merge(o.series[kind], mostSeries)
	}
	s.failures.Merge(o.failures, mostFailures)
}

// rows are a span as it is stored: a row for each kind of which something moved.
func (s *span) rows(step trend.Step, at job.Time) (all []store.HistoryRow) {
	for kind, series := range s.series {
		if len(series) > 0 {
			r := store.HistoryRow{Kind: int64(kind), Step: int64(step), At: at}
			r.Counts, r.Spans = series.Trimmed(SeriesKept).Pack(trend.Room(trend.Kind(kind), step))
			all = append(all, r)
		}
	}
	if len(s.failures) > 0 {
		all = append(all, store.HistoryRow{Kind: int64(trend.OfFailure), Step: int64(step), At: at, Counts: s.failures.Pack()})
	}
	return all
}

// add adds a stored row.
func (s *span) add(r store.HistoryRow) error {
	if trend.Kind(r.Kind) == trend.OfFailure {
		return s.failures.Unpack(r.Counts)
	}
	return s.series[r.Kind].Unpack(r.Counts, r.Spans, func(int64) bool { return true })
}

// underWay is an hour or a day that is not over. What was found of it at the start stands for
// what is stored; else it is added to that, since the clock may have been set back.
type underWay struct {
	at    job.Time
	found bool
	span
}

// usual is what the days before the one under way tell of queues and tasks, and since when.
type usual struct {
	series [2]trend.Series
	since  [2]map[int64]job.Time
}

// usualDays is how many days tell what is usual, with the one under way.
const usualDays = 8

// turn is what follows where an hour is over: the hour and the day under way then, and what is
// usual on that day.
type turn struct {
	hour, day underWay
	week      usual
}

// work is what jobs belong to, with who runs them: 0 for nobody; or a label that is followed.
type work struct {
	queue, task, worker int64
	follow              string
}

type failure struct {
	work
	cause int64
}

// note gives the figures of a row in the transaction; of its worker too while it runs.
func (p *History) note(at work) *trend.Figures {
	if p.into != nil && at == p.latest {
		return p.into
	}
	f := p.moved[at]
	if f == nil {
		if n := len(p.spare); n > 0 {
			f, p.spare = p.spare[n-1], p.spare[:n-1]
		} else {
			f = new(trend.Figures)
		}
		if p.moved == nil {
			p.moved = map[work]*trend.Figures{}
		}
		p.moved[at] = f
	}
	p.latest, p.into = at, f
	return f
}

// counted is what a move counts as, if anything.
func counted(from, to job.State) (trend.Count, bool) {
	switch {
	case from == job.Unplaced:
		return trend.Enqueued, true
	case from.Finished():
		return trend.Requeued, !to.Finished()
	case to == job.Running:
		return trend.Started, true
	case to == job.Done:
		return trend.Done, true
	case to == job.Dead:
		return trend.Dead, true
	case to == job.Skipped:
		return trend.Skipped, true
	case to == job.Cancelled:
		return trend.Cancelled, true
	}
	return 0, false
}

// Moved notes that a row, which tells the state it leaves, moves to another.
func (p *History) Moved(r *store.Row, to job.State) {
	c, counts := counted(r.State, to)
	if !counts {
		return
	}
	worker := nobody
	if r.State == job.Running || to == job.Running {
		worker = r.Worker
	}
	for f := range p.figures(r, worker) {
		f.N[c]++
		if to == job.Running && r.ReadyAt != 0 {
			f.Waits.Add(float64(max(p.m.now-r.ReadyAt, 0)))
		}
	}
	if c == trend.Dead && r.Cause != 0 {
		p.deaths(r, worker).Dead++
	}
}

// nobody is the worker of a job that nobody runs.
const nobody = int64(0)

// figures are those to which a row counts: of its queue, its task and a worker, and of the labels
// that are followed.
func (p *History) figures(r *store.Row, worker int64) iter.Seq[*trend.Figures] {
	return func(yield func(*trend.Figures) bool) {
		if !yield(p.note(work{queue: r.Queue, task: r.Task, worker: worker})) {
			return
		}
		for _, followed := range p.m.Follows.Of(r) {
			if !yield(p.note(work{follow: followed.Name})) {
				return
			}
		}
	}
}

// Add adds figures of a queue, a task and a worker, 0 for none, as a past is written.
func (p *History) Add(queue, task, worker int64, f *trend.Figures) {
	p.note(work{queue: queue, task: task, worker: worker}).Merge(f)
}

// AddFailures adds failures by a cause of a queue, a task and a worker, as a past is written.
func (p *History) AddFailures(queue, task, worker, cause int64, d trend.Deaths) {
	into := p.deaths(&store.Row{Queue: queue, Task: task, Cause: cause}, worker)
	into.Failed += d.Failed
	into.Dead += d.Dead
}

// Purged notes that a job which had not finished is gone for good.
func (p *History) Purged(r *store.Row) {
	for f := range p.figures(r, nobody) {
		f.N[trend.Cancelled]++
	}
}

// Ran notes how long the attempt took that got a job done, in ms.
func (p *History) Ran(r *store.Row, ms float64) {
	for f := range p.figures(r, r.Worker) {
		f.Runs.Add(ms)
	}
}

// Failed notes that an attempt of a job failed, by its cause.
func (p *History) Failed(r *store.Row) {
	for f := range p.figures(r, r.Worker) {
		f.N[trend.Failed]++
	}
	p.deaths(r, r.Worker).Failed++
}

func (p *History) deaths(r *store.Row, worker int64) *trend.Deaths {
	at := failure{work{queue: r.Queue, task: r.Task, worker: worker}, r.Cause}
	d := p.failed[at]
	if d == nil {
		if p.failed == nil {
			p.failed = map[failure]*trend.Deaths{}
		}
		d = new(trend.Deaths)
		p.failed[at] = d
	}
	return d
}

// seriesOf gives the number of a series, which is written where it is new.
func (p *History) seriesOf(kind trend.Kind, name string) (int64, error) {
	if name == "" {
		return trend.None, nil
	}
	at := seriesName{kind, name}
	if id, known := p.names.Get(at); known {
		return id, nil
	}
	if p.names.Len() >= 2*mostNames {
		return trend.Rest, nil
	}
	id := p.last.Get() + 1
	p.last.Set(id)
	p.names.Put(at, id)
	p.called.Put(id, at)
	return id, p.m.store.AddSeries(store.SeriesName{ID: id, Kind: int64(kind), Name: name}, p.m.now)
}

// seriesOfWork gives the numbers of the series that work belongs to, by their kinds.
func (p *History) seriesOfWork(at work) (ids [trend.NumKinds]int64, err error) {
	if at.follow != "" {
		ids[trend.OfLabel], err = p.seriesOf(trend.OfLabel, at.follow)
		return ids, err
	}
	names := [...]string{trend.OfQueue: p.m.Queues.Name(at.queue), trend.OfTask: p.m.Tasks.Name(at.task), trend.OfHost: ""}
	if at.worker != 0 {
		program, err := p.m.Workers.Program(at.worker)
		if err != nil {
			return ids, err
		}
		names[trend.OfVersion], names[trend.OfHost] = program.Version, program.Host
	}
	for kind, name := range names {
		if ids[kind], err = p.seriesOf(trend.Kind(kind), name); err != nil {
			return ids, err
		}
	}
	return ids, nil
}

// What waits to be folded takes so many rows and bytes at most.
const (
	mostDeltas = 4096
	mostBytes  = 8 << 20
)

// flush folds what is to be folded, and writes what the transaction has moved.
func (p *History) flush() error {
	moves := len(p.moved)+len(p.failed) > 0
	at := p.minuteOf(p.m.now)
	p.folds = p.n > p.folded.N && (at != p.minute || moves && (p.n-p.folded.N >= mostDeltas || p.bytes >= mostBytes))
	if p.folds {
		if err := p.writeFold(); err != nil {
			return err
		}
	}
	if (p.folds || moves) && p.hour.at != 0 && trend.Hour.Begins(at) != p.hour.at {
		if err := p.turnTo(at); err != nil {
			return err
		}
	}
	if p.folds || p.turn != nil {
		if err := p.m.store.PutFolded(p.foldedThen()); err != nil {
			return err
		}
	}
	if !moves {
		return nil
	}
	if p.since.Get() == 0 {
		p.since.Set(p.m.now)
		if err := p.m.store.PutHistorySince(p.m.now); err != nil {
			return err
		}
	}
	if err := p.gather(); err != nil {
		return err
	}
	p.packed = p.delta.Append(p.packed[:0])
	slot := p.n - p.folded.N
	if p.written = len(p.packed); p.folds {
		slot = 0
	}
	return p.m.store.PutDelta(slot, p.packed)
}

// setBackFar is how far a clock must be set back for history to go back with it.
const setBackFar = job.Time(3_600_000)

// minuteOf is the minute into which goes what moves at a time.
func (p *History) minuteOf(at job.Time) job.Time {
	if at < p.minute && p.minute-at < setBackFar {
		return p.minute
	}
	return trend.Minute.Begins(at)
}

// gather finds the series of what the transaction has moved.
func (p *History) gather() (err error) {
	p.delta.N, p.delta.At = p.n+1, p.m.now
	p.delta.Starts = p.m.Limits.appendStarted(p.delta.Starts)
	if len(p.failed) > 0 {
		p.delta.Failures = trend.Failures{}
	}
	for at, f := range p.moved {
		m := trend.Moved{Figures: f}
		if m.Of, err = p.seriesOfWork(at); err != nil {
			return err
		}
		p.delta.Moved = append(p.delta.Moved, m)
	}
	for at, n := range p.failed {
		of, err := p.seriesOfWork(at.work)
		if err != nil {
			return err
		}
		into := p.delta.Failures.Of(trend.Failure{Cause: at.cause, Queue: of[trend.OfQueue], Task: of[trend.OfTask], Version: of[trend.OfVersion], Host: of[trend.OfHost]}, mostFailures)
		into.Failed += n.Failed
		into.Dead += n.Dead
	}
	return nil
}

// count counts a delta.
func (s *span) count(d *trend.Delta) {
	for _, m := range d.Moved {
		for kind, id := range m.Of {
			if id != trend.None {
				s.series[kind].Of(id, mostSeries).Merge(m.Figures)
			}
		}
	}
	s.failures.Merge(d.Failures, mostFailures)
}

// writeFold writes what is fresh as a part of its minute.
func (p *History) writeFold() error {
	if err := p.add(trend.Minute, p.minute, &p.fresh); err != nil {
		return err
	}
	for queue := range p.started {
		if p.m.Queues.Get(queue) == nil {
			continue
		}
		if err := p.m.store.PutStarts(queue, p.m.Limits.packLatest(queue)); err != nil {
			return err
		}
	}
	return nil
}

// foldedThen is how far the deltas are folded after the transaction.
func (p *History) foldedThen() store.Folded {
	f := p.folded
	if p.folds {
		f.N, f.Minute = p.n, p.minute
	}
	if f.Hour = p.hour.at; p.turn != nil {
		f.Hour = p.turn.hour.at
	}
	return f
}

// turnTo writes the hour that was under way, and the day where it is over, and begins those in
// which a time lies.
func (p *History) turnTo(at job.Time) error {
	p.turn = &turn{hour: underWay{at: trend.Hour.Begins(at), span: newSpan()}, day: p.day, week: p.week}
	if err := p.end(trend.Hour, &p.hour); err != nil {
		return err
	}
	day := trend.Day.Begins(at)
	if day == p.day.at {
		return nil
	}
	if err := p.end(trend.Day, &p.day); err != nil {
		return err
	}
	p.turn.day = underWay{at: day, span: newSpan()}
	week, err := p.usualAt(day)
	p.turn.week = week
	return err
}

// end writes an hour or a day that is over.
func (p *History) end(step trend.Step, u *underWay) error {
	whole := newSpan()
	whole.merge(&u.span)
	if p.folds {
		whole.merge(&p.fresh)
	}
	if step == trend.Day {
		for _, series := range whole.series {
			for id := range series {
				if err := p.m.store.SawSeries(id, u.at); err != nil { // that of the rest has no row
					return err
				}
			}
		}
	}
	if !u.found {
		return p.add(step, u.at, &whole)
	}
	return p.put(whole.rows(step, u.at))
}

// add adds a span to what is stored of a step, which is nothing but after the clock was set
// back, or where a minute is folded in parts.
func (p *History) add(step trend.Step, at job.Time, s *span) error {
	before, err := p.stored(step, at, at+1, allKinds)
	if err != nil {
		return err
	}
	before.merge(s)
	return p.put(before.rows(step, at))
}

func (p *History) put(rows []store.HistoryRow) error {
	for _, r := range rows {
		if err := p.m.store.PutHistory(r); err != nil {
			return err
		}
	}
	return nil
}

var allKinds = []trend.Kind{trend.OfQueue, trend.OfTask, trend.OfVersion, trend.OfHost, trend.OfLabel, trend.OfFailure}

// stored adds up what is stored by a step from a time on and before another.
func (p *History) stored(step trend.Step, from, to job.Time, kinds []trend.Kind) (span, error) {
	s := newSpan()
	for _, kind := range kinds {
		if err := p.m.store.HistoryRows(int64(kind), int64(step), from, to, s.add); err != nil {
			return s, fmt.Errorf("history: %w", err)
		}
	}
	return s, nil
}

// usualAt adds up the days before one that tell what is usual on it.
func (p *History) usualAt(day job.Time) (u usual, err error) {
	for kind := range u.series {
		u.series[kind], u.since[kind] = trend.Series{}, map[int64]job.Time{}
		from := day.Add(-(usualDays - 1) * trend.Day.Length())
		err := p.m.store.HistoryRows(int64(kind), int64(trend.Day), from, day, func(r store.HistoryRow) error {
			return u.series[kind].Unpack(r.Counts, r.Spans, func(id int64) bool {
				if _, known := u.since[kind][id]; !known {
					u.since[kind][id] = max(r.At, p.since.Get())
				}
				return id != trend.Rest
			})
		})
		if err != nil {
			return u, fmt.Errorf("history: %w", err)
		}
	}
	return u, nil
}

func (p *History) publish() {
	p.folded = p.foldedThen()
	if p.folds {
		p.hour.merge(&p.fresh)
		p.day.merge(&p.fresh)
		p.bytes, p.fresh, p.started = 0, newSpan(), map[int64]bool{}
	}
	if t := p.turn; t != nil {
		if p.hour = t.hour; t.day.at != p.day.at {
			p.day = t.day
		}
		p.week = t.week
	}
	if p.written > 0 {
		p.begins(p.minuteOf(p.m.now))
		p.n++
		p.bytes += p.written
		p.fresh.count(&p.delta)
		for queue := range p.m.Limits.started {
			p.started[queue] = true
		}
	}
	p.layered.publish()
}

// begins notes the minute of what is fresh. The first one begins the hour and the day too.
func (p *History) begins(minute job.Time) {
	if p.minute = minute; p.day.at == 0 {
		p.hour.at, p.day.at = trend.Hour.Begins(minute), trend.Day.Begins(minute)
	}
}

func (p *History) drop() {
	p.layered.drop()
	for _, f := range p.moved {
		f.Reset()
		p.spare = append(p.spare, f)
	}
	clear(p.moved)
	clear(p.failed)
	p.into, p.delta, p.written, p.folds, p.turn = nil, trend.Delta{Moved: p.delta.Moved[:0], Starts: p.delta.Starts[:0]}, 0, false, nil
}

func (p *History) load(*file) error {
	keep(&p.layered, &p.names, map[seriesName]int64{})
	keep(&p.layered, &p.called, map[int64]seriesName{})
	names, err := p.m.store.SeriesNames()
	if err != nil {
		return err
	}
	last := trend.Rest
	for _, n := range names {
		at := seriesName{trend.Kind(n.Kind), n.Name}
		p.names.kept[at], p.called.kept[n.ID], last = n.ID, at, max(last, n.ID)
	}
	keepOne(&p.layered, &p.last, last)
	folded, since, err := p.m.store.Folded()
	if err != nil {
		return err
	}
	keepOne(&p.layered, &p.since, since)
	p.moved, p.failed, p.spare = nil, nil, nil
	p.drop()
	p.folded, p.n, p.bytes, p.minute, p.fresh, p.started = folded, folded.N, 0, folded.Minute, newSpan(), map[int64]bool{}
	if err := p.loadDeltas(); err != nil {
		return err
	}
	return p.loadUnderWay()
}

// loadDeltas reads what waits to be folded.
func (p *History) loadDeltas() error {
	stored, err := p.m.store.Deltas()
	if err != nil {
		return err
	}
	var all []trend.Delta
	sizes := map[int64]int{}
	for _, moved := range stored {
		var d trend.Delta
		if err := d.Unpack(moved); err != nil {
			return fmt.Errorf("delta %d: %w", d.N, err)
		}
		if d.N > p.folded.N {
			all = append(all, d)
			sizes[d.N] = len(moved)
		}
	}
	slices.SortFunc(all, func(a, b trend.Delta) int { return cmp.Compare(a.N, b.N) })
	for _, d := range all {
		if p.n == p.folded.N {
			p.minute = p.minuteOf(d.At)
		}
		p.n = d.N
		p.bytes += sizes[d.N]
		p.fresh.count(&d)
		queues, err := p.m.Limits.unpackStarted(d.Starts)
		if err != nil {
			return fmt.Errorf("delta %d: %w", d.N, err)
		}
		for _, queue := range queues {
			p.started[queue] = true
		}
	}
	return nil
}

// loadUnderWay adds up the hour and the day under way.
func (p *History) loadUnderWay() (err error) {
	p.hour, p.day = underWay{span: newSpan()}, underWay{span: newSpan()}
	hour, day := p.folded.Hour, trend.Day.Begins(p.folded.Hour)
	if hour == 0 && p.n > 0 {
		p.begins(p.minute)
	}
	if p.week, err = p.usualAt(trend.Day.Begins(max(hour, p.hour.at))); err != nil || hour == 0 {
		return err
	}
	nextHour, nextDay := hour.Add(trend.Hour.Length()), day.Add(trend.Day.Length())
	for _, part := range []struct {
		step     trend.Step
		from, to job.Time
		into     []*span
	}{
		{trend.Minute, hour, nextHour, []*span{&p.hour.span, &p.day.span}},
		{trend.Hour, day, hour, []*span{&p.day.span}},
		{trend.Hour, nextHour, nextDay, []*span{&p.day.span}}, // the clock was set back
	} {
		s, err := p.stored(part.step, part.from, part.to, allKinds)
		if err != nil {
			return err
		}
		for _, into := range part.into {
			into.merge(&s)
		}
	}
	p.hour.at, p.hour.found, p.day.at, p.day.found = hour, true, day, true
	return nil
}

// FoldsAt is when the minute is over of which something waits to be folded; 0 where nothing
// does.
func (p *History) FoldsAt() job.Time {
	if p.n == p.folded.N {
		return 0
	}
	return p.minute.Add(trend.Minute.Length())
}

// Names that nothing was called by for so long go; where there are too many, those of a shorter
// while.
const (
	namesKept     = 60 * 24 * time.Hour
	manyNamesKept = 2 * 24 * time.Hour
)

// Forget drops history that was kept long enough, and the names of series in which nothing has
// moved for long, so many at most. The figures of those belong to the rest from then on.
func (p *History) Forget(most int) error {
	for _, kind := range allKinds {
		for step := range trend.NumSteps {
			if err := p.m.store.DropHistory(int64(kind), int64(step), p.m.now.Add(-step.Kept())); err != nil {
				return err
			}
		}
	}
	keep := namesKept
	if p.names.Len() > mostNames {
		keep = manyNamesKept
	}
	for kind := range trend.NumKinds {
		old, err := p.m.store.OldSeries(int64(kind), p.m.now.Add(-keep), most)
		if err != nil {
			return err
		}
		for _, id := range old {
			name := p.called.At(id)
			if p.uses(kind, id) || id == p.last.Get() || kind == trend.OfLabel {
				continue
			}
			p.names.Delete(name)
			p.called.Delete(id)
			if err := p.m.store.DropSeries(id); err != nil {
				return err
			}
		}
	}
	return p.m.store.DropMarks(p.m.now.Add(-trend.Day.Kept()))
}

// uses tells whether something of a series has moved today.
func (p *History) uses(kind trend.Kind, id int64) bool {
	return p.day.series[kind][id] != nil || p.fresh.series[kind][id] != nil
}

// fewestRuns is how many runs must be known before there is a usual run time, or any other
// that is usual.
const fewestRuns = 30

// KeptSpans tells how long the runs of a task usually take; nil where too few are known.
func (p *History) KeptSpans(task string) *api.Spans {
	f, since := p.KeptUsual(trend.OfTask, task)
	if f.Runs.Count() < fewestRuns {
		return nil
	}
	return TellSpans(&f.Runs, since)
}

// KeptWaits tells how long jobs of a task usually wait, and how many of its attempts fail; nothing
// where too few are known.
func (p *History) KeptWaits(task string) (wait *api.Spans, failing *api.Failing) {
	f, since := p.KeptUsual(trend.OfTask, task)
	if f.Waits.Count() >= fewestRuns {
		wait = TellSpans(&f.Waits, since)
	}
	if n := f.N[trend.Started]; n >= fewestRuns {
		failing = &api.Failing{Failed: f.N[trend.Failed], Started: n, Since: since}
	}
	return wait, failing
}

// KeptUsual adds up what is usual for a queue or a task, and tells since when it is known.
func (p *History) KeptUsual(kind trend.Kind, name string) (f trend.Figures, since job.Time) {
	id, known := p.names.Kept(seriesName{kind, name})
	if !known {
		return f, 0
	}
	if week := p.week.series[kind][id]; week != nil {
		f.Merge(week)
		since = p.week.since[kind][id]
	} else {
		since = max(p.day.at, p.since.Kept())
	}
	for _, s := range []*span{&p.day.span, &p.fresh} {
		if today := s.series[kind][id]; today != nil {
			f.Merge(today)
		}
	}
	return f, since
}

// TellSpans tells of a sketch what the wire tells; nil where it is empty.
func TellSpans(s *trend.Sketch, since job.Time) *api.Spans {
	if s.Count() == 0 {
		return nil
	}
	ms := func(x float64) int64 { return int64(math.Ceil(x)) }
	return &api.Spans{Count: s.Count(), P50MS: ms(s.Quantile(0.5)), P95MS: ms(s.Quantile(0.95)), MaxMS: ms(s.Max()), Since: since}
}

// KeptSince is since when anything is known of what moved; 0 where nothing has moved yet.
func (p *History) KeptSince() job.Time { return p.since.Kept() }

// KeptSeries finds a series by its name; [trend.None] where there is none.
func (p *History) KeptSeries(kind trend.Kind, name string) int64 {
	id, _ := p.names.Kept(seriesName{kind, name})
	return id
}

// KeptSeriesName is the name of a series; empty where it is not known, or is the rest.
func (p *History) KeptSeriesName(id int64) string {
	at, _ := p.called.Kept(id)
	return at.name
}

// KeptSeriesOf visits the series of a kind that have names.
func (p *History) KeptSeriesOf(kind trend.Kind) iter.Seq2[int64, string] {
	return func(yield func(int64, string) bool) {
		for id, at := range p.called.AllKept() {
			if at.kind == kind && !yield(id, at.name) {
				return
			}
		}
	}
}

// UnderWay is what of a step of history is not stored yet.
type UnderWay struct {
	trend.Series
	At job.Time
	// Instead says that it stands for what is stored of the same time; else it adds to that.
	Instead bool
	// Folded is how far deltas were folded.
	Folded int64
}

// KeptUnderWay gives what is not stored yet of the step of history that is under way, of the
// series that are wanted.
func (p *History) KeptUnderWay(kind trend.Kind, step trend.Step, wanted func(id int64) bool) UnderWay {
	u := UnderWay{Series: trend.Series{}, At: p.minute, Folded: p.folded.N}
	parts := []*span{&p.fresh}
	if step != trend.Minute {
		way := &p.hour
		if step == trend.Day {
			way = &p.day
		}
		u.At, u.Instead = way.at, way.found
		parts = append(parts, &way.span)
	}
	for _, part := range parts {
		for id, f := range part.series[kind] {
			if wanted(id) {
				u.Of(id, mostSeries).Merge(f)
			}
		}
	}
	return u
}

// FailuresUnderWay is what of a step of the history of failures is not stored yet; see
// [UnderWay].
type FailuresUnderWay struct {
	trend.Failures
	At      job.Time
	Instead bool
	Folded  int64
}

// KeptFailures gives what is not stored yet of the step of the history of failures that is under
// way.
func (p *History) KeptFailures(step trend.Step) FailuresUnderWay {
	u := FailuresUnderWay{Failures: trend.Failures{}, At: p.minute, Folded: p.folded.N}
	if step != trend.Minute {
		way := &p.hour
		if step == trend.Day {
			way = &p.day
		}
		u.At, u.Instead = way.at, way.found
		u.Merge(way.failures, mostFailures)
	}
	u.Merge(p.fresh.failures, mostFailures)
	return u
}
