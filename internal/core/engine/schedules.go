package engine

import (
	"container/heap"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"slices"
	"strings"
	"time"

	"humblemule/internal/core/cron"
	"humblemule/internal/core/store"
	"humblemule/job"
)

// schedule is a schedule as it stands. What is in memory is never changed: a transaction
// puts another in its place.
type schedule struct {
	row    store.Schedule
	is     job.Schedule // as it was given, without name and paused
	rule   cron.Rule
	spread time.Duration // its own part of the spread
	index  int           // in plan
}

// newSchedule makes a schedule of its row.
func newSchedule(row store.Schedule) (*schedule, error) {
	s := &schedule{row: row, index: -1}
	payload, err := job.PayloadOf([]byte(row.Body))
	if err := errors.Join(err, json.Unmarshal([]byte(row.Body), &s.is)); err != nil {
		return nil, err
	}
	if payload != nil {
		s.is.Job.Payload = payload
	}
	if s.rule, _, err = cron.NewRule(&s.is, row.MadeAt); err != nil {
		return nil, err
	}
	s.spread = spreadOf(row.Name, s.is.Spread.Go())
	return s, nil
}

// spreadOf is a schedule's own part of a spread, by its name alone.
func spreadOf(name string, spread time.Duration) time.Duration {
	h := fnv.New64a()
	h.Write([]byte(name))
	return (time.Duration(h.Sum64()%1000) * spread / 1000).Truncate(time.Millisecond)
}

// firesAt is when the next planned time is enqueued; 0 for never.
func (s *schedule) firesAt() job.Time {
	if s.row.NextAt == 0 || s.row.PausedAt != 0 || s.gone() {
		return 0
	}
	return s.row.NextAt.Add(s.spread)
}

// after is the first planned time after an instant; 0 where there is none.
func (s *schedule) after(at job.Time) job.Time {
	next, found := s.rule.Next(at.Go())
	if !found || s.is.Until != 0 && job.At(next) > s.is.Until {
		return 0
	}
	return job.At(next)
}

// plan is a heap of schedules by when they fire.
type plan []*schedule

func (p plan) Len() int           { return len(p) }
func (p plan) Less(i, j int) bool { return p[i].firesAt() < p[j].firesAt() }
func (p plan) Swap(i, j int) {
	p[i], p[j] = p[j], p[i]
	p[i].index, p[j].index = i, j
}

// Push is heap.Interface's.
func (p *plan) Push(x any) {
	s := x.(*schedule)
	s.index = len(*p)
	*p = append(*p, s)
}

// Pop is heap.Interface's.
func (p *plan) Pop() any {
	last := len(*p) - 1
	s := (*p)[last]
	(*p)[last], s.index = nil, -1
	*p = (*p)[:last]
	return s
}

// due gives schedules that fire by a time, at most so many. One's parent in the heap
// fires no later than itself.
func (p plan) due(now job.Time, most int) (all []*schedule) {
	next := []int{0}
	for len(next) > 0 && len(all) < most {
		i := next[0]
		next = next[1:]
		if i < len(p) && p[i].firesAt() <= now {
			all = append(all, p[i])
			next = append(next, 2*i+1, 2*i+2)
		}
	}
	return all
}

func (e *Engine) recoverSchedules() error {
	rows, err := e.store.Schedules()
	if err != nil {
		return err
	}
	v := &e.view
	v.mu.Lock()
	defer v.mu.Unlock()
	v.schedules, v.scheduleOf, e.plan = map[string]*schedule{}, map[int64]*schedule{}, nil
	for _, row := range rows {
		s, err := newSchedule(row)
		if err != nil {
			return fmt.Errorf("schedule %s: %w", row.Name, err)
		}
		v.lastSchedule = max(v.lastSchedule, row.ID)
		e.putSchedule(s)
	}
	return nil
}

// putSchedule makes a schedule known. The caller holds the view's lock.
func (e *Engine) putSchedule(s *schedule) {
	v := &e.view
	e.dropSchedule(v.scheduleOf[s.row.ID])
	v.schedules[s.row.Name], v.scheduleOf[s.row.ID] = s, s
	if s.firesAt() != 0 {
		heap.Push(&e.plan, s)
	}
}

func (e *Engine) dropSchedule(s *schedule) {
	if s == nil {
		return
	}
	delete(e.view.schedules, s.row.Name)
	delete(e.view.scheduleOf, s.row.ID)
	if s.index >= 0 {
		heap.Remove(&e.plan, s.index)
	}
}

func (tx *txn) publishSchedules() {
	if len(tx.schedules) == 0 {
		return
	}
	v := &tx.e.view
	v.mu.Lock()
	defer v.mu.Unlock()
	v.lastSchedule = tx.lastSchedule
	for id, s := range tx.schedules {
		if s == nil {
			tx.e.dropSchedule(v.scheduleOf[id])
		} else {
			tx.e.putSchedule(s)
		}
	}
}

// schedule finds a schedule by its id as the transaction sees it; nil where there is none.
func (tx *txn) schedule(id int64) *schedule {
	if s, touched := tx.schedules[id]; touched {
		return s
	}
	return tx.e.view.scheduleOf[id]
}

func (tx *txn) scheduleNamed(name string) *schedule {
	if id, touched := tx.scheduleIDs[name]; touched {
		return tx.schedules[id] // nil for one that was removed
	}
	if s := tx.e.view.schedules[name]; s != nil {
		return tx.schedule(s.row.ID)
	}
	return nil
}

// keepSchedule writes a schedule and puts it in the place of the one of its id.
func (tx *txn) keepSchedule(s *schedule) error {
	s.index = -1
	tx.overlaySchedule(s.row.ID, s.row.Name, s)
	return tx.e.store.PutSchedule(&s.row)
}

// overlaySchedule notes what a schedule is by now; nil for none.
func (tx *txn) overlaySchedule(id int64, name string, s *schedule) {
	if tx.schedules == nil {
		tx.schedules, tx.scheduleIDs = map[int64]*schedule{}, map[string]int64{}
	}
	was := tx.scheduleNamed(name) != nil
	tx.schedules[id], tx.scheduleIDs[name] = s, id
	switch is := s != nil; {
	case is && !was:
		tx.moreSchedules++
	case was && !is:
		tx.moreSchedules--
	}
}

// copyOf is a schedule that a transaction may change.
func copyOf(s *schedule) *schedule {
	next := *s
	return &next
}

func noSchedule(name string) error { return job.Fault(job.NotFound, "there is no schedule %q", name) }

// checkSchedule answers what is wrong with a schedule of a name.
func (e *Engine) checkSchedule(name string, s *job.Schedule, now job.Time) []job.FieldError {
	return append(job.CheckName("name", name), cron.Check(s, e.opts.MaxPayload, now)...)
}

// SetSchedule makes a schedule what is given, new or not. The same again changes nothing.
// version, where it is not 0, must be the present one.
func (e *Engine) SetSchedule(ctx context.Context, name string, given job.Schedule, version int64) (job.ScheduleTold, error) {
	if err := job.Wrong("the schedule stays as it was", e.checkSchedule(name, &given, e.now())); err != nil {
		return job.ScheduleTold{}, err
	}
	detail := map[string]any{"schedule": name, "after": given}
	err := e.record(ctx, "set_schedule", 0, detail, func(tx *txn) (_ func(int64) error, err error) {
		if err := tx.isVersion(name, version); err != nil {
			return nil, err
		}
		if s := tx.scheduleNamed(name); s != nil {
			detail["before"] = s.is
		}
		changed, err := tx.setSchedule(name, given, callOf(ctx).Principal)
		if err == nil && !changed {
			err = errSame
		}
		return nil, err
	})
	if err != nil && !errors.Is(err, errSame) {
		return job.ScheduleTold{}, err
	}
	told, err := e.Schedule(ctx, name)
	told.Warnings = given.Warnings()
	return told, err
}

// errSame ends a command that changes nothing, and leaves no action behind.
var errSame = job.Fault(job.Invalid, "nothing differs")

// isVersion refuses a change that was meant for another version; 0 stands for any.
func (tx *txn) isVersion(name string, version int64) error {
	if version == 0 {
		return nil
	}
	s := tx.scheduleNamed(name)
	if s == nil || s.row.Version != version {
		return job.Fault(job.Outdated, "schedule %s was changed since: it is not of version %d any more; read it again, nothing was changed", name, version)
	}
	return nil
}

// setSchedule makes a schedule what is given, and tells whether that changed anything.
func (tx *txn) setSchedule(name string, given job.Schedule, by string) (changed bool, err error) {
	given.Name = ""
	paused := given.Paused
	given.Paused = nil
	body, err := json.Marshal(given)
	if err != nil {
		return false, err
	}
	row, rule := store.Schedule{Name: name, MadeAt: tx.now}, ""
	if old := tx.scheduleNamed(name); old != nil {
		row, rule = old.row, timesOf(&old.is)
		if row.Body == string(body) && (paused == nil || *paused == (row.PausedAt != 0)) {
			return false, nil
		}
	} else if len(tx.e.view.schedules)+tx.moreSchedules >= job.MostSchedules {
		return false, job.Fault(job.Invalid, "there are %d schedules, the most that are kept; delete one first", job.MostSchedules)
	} else {
		tx.lastSchedule++
		row.ID = tx.lastSchedule
	}
	row.Body, row.Version = string(body), row.Version+1
	s, err := newSchedule(row)
	if err != nil {
		return false, err
	}
	if paused != nil {
		s.pause(*paused, by, tx.now)
	}
	if rule != timesOf(&s.is) {
		s.row.NextAt = s.after(tx.now)
	}
	return true, tx.keepSchedule(s)
}

// timesOf is what of a schedule decides when its times are.
func timesOf(s *job.Schedule) string {
	return fmt.Sprintf("%s %d %d %s %d", s.Cron, s.Every, s.From, s.Zone, s.Until)
}

// pause pauses or resumes a schedule. Times inside a pause are not missed.
func (s *schedule) pause(pause bool, by string, now job.Time) {
	switch {
	case pause == (s.row.PausedAt != 0):
	case pause:
		s.row.PausedAt, s.row.PausedBy = now, by
	default:
		s.row.PausedAt, s.row.PausedBy = 0, ""
		s.row.NextAt = s.after(now)
	}
}

// PauseSchedule stops a schedule from being enqueued, or lets it go on.
func (e *Engine) PauseSchedule(ctx context.Context, name string, pause bool) (job.ScheduleTold, error) {
	action := map[bool]string{true: "pause_schedule", false: "resume_schedule"}[pause]
	return e.changeSchedule(ctx, action, name, func(tx *txn, s *schedule) error {
		s.pause(pause, callOf(ctx).Principal, tx.now)
		return nil
	})
}

// RunSchedule enqueues a run of a schedule now, beside its planned times.
func (e *Engine) RunSchedule(ctx context.Context, name string) (job.ScheduleTold, error) {
	return e.changeSchedule(ctx, "run_schedule", name, func(tx *txn, s *schedule) error {
		at, err := tx.timeForAsked(s)
		if err != nil {
			return err
		}
		r := job.Run{PlannedAt: at, Asked: true}
		if err := tx.enqueueRun(s, &r); err != nil {
			return err
		}
		if r.Reason == job.RunStillRunning {
			return job.Fault(job.WrongState, "the last run of %s, job %d, is not over; cancel it, or let runs wait or come also (if_still_running)", name, s.row.Last)
		}
		if r.Reason != "" {
			return job.Fault(job.WrongState, "job %d has the same key and answers for the run", r.Job)
		}
		return nil
	})
}

// timeForAsked is the time under which a run that somebody asks for now stands in the
// history: the first from now on, to the millisecond, that no other run has and that is not
// planned.
func (tx *txn) timeForAsked(s *schedule) (job.Time, error) {
	for at := tx.now; ; at++ {
		taken, err := tx.e.store.HasRun(s.row.ID, at)
		if err != nil || !taken && s.after(at-1) != at {
			return at, err
		}
	}
}

func (e *Engine) changeSchedule(ctx context.Context, action, name string, change func(tx *txn, s *schedule) error) (job.ScheduleTold, error) {
	err := e.record(ctx, action, 0, map[string]string{"schedule": name}, func(tx *txn) (func(int64) error, error) {
		s := tx.scheduleNamed(name)
		if s == nil {
			return nil, noSchedule(name)
		}
		s = copyOf(s)
		if err := change(tx, s); err != nil {
			return nil, err
		}
		return nil, tx.keepSchedule(s)
	})
	if err != nil {
		return job.ScheduleTold{}, err
	}
	return e.Schedule(ctx, name)
}

// DeleteSchedule removes a schedule and its history. Its jobs stay.
func (e *Engine) DeleteSchedule(ctx context.Context, name string, version int64) error {
	return e.record(ctx, "delete_schedule", 0, map[string]string{"schedule": name}, func(tx *txn) (func(int64) error, error) {
		if tx.scheduleNamed(name) == nil {
			return nil, noSchedule(name)
		}
		if err := tx.isVersion(name, version); err != nil {
			return nil, err
		}
		if slices.Contains(tx.owned().Schedules, name) {
			return nil, job.Fault(job.WrongState, "schedule %s comes from a set-up file, whose next load would bring it back; take it out there and load the file, or pause it", name)
		}
		return nil, tx.deleteSchedule(name)
	})
}

// deleteSchedule removes a schedule, where it is there; a run that waits goes on.
func (tx *txn) deleteSchedule(name string) error {
	s := tx.scheduleNamed(name)
	if s == nil {
		return nil
	}
	if s.row.Waiting == 0 {
		return tx.dropSchedule(s)
	}
	gone := copyOf(s)
	tx.overlaySchedule(s.row.ID, name, nil)
	gone.row.Name, gone.row.NextAt = fmt.Sprintf("%s%d", goneMark, s.row.ID), 0
	return tx.keepSchedule(gone)
}

// goneMark begins the name under which a schedule is kept that was deleted while a run of
// it waits for another to end; nobody can name one so. It is kept for no longer.
const goneMark = "~"

func (s *schedule) gone() bool { return strings.HasPrefix(s.row.Name, goneMark) }

func (tx *txn) dropSchedule(s *schedule) error {
	tx.overlaySchedule(s.row.ID, s.row.Name, nil)
	return tx.e.store.DropSchedule(s.row.ID)
}

// keepOrDrop keeps a schedule, or drops one that was deleted and for which nothing waits
// any more.
func (tx *txn) keepOrDrop(s *schedule) error {
	if s.gone() && s.row.Waiting == 0 {
		return tx.dropSchedule(s)
	}
	return tx.keepSchedule(s)
}

// Schedule tells a schedule as it stands.
func (e *Engine) Schedule(ctx context.Context, name string) (job.ScheduleTold, error) {
	e.view.mu.RLock()
	s, own := e.view.schedules[name], e.view.owned.Schedules
	e.view.mu.RUnlock()
	if s == nil {
		return job.ScheduleTold{}, noSchedule(name)
	}
	return e.tellSchedule(ctx, s, slices.Contains(own, name), timesTold)
}

// timesTold is how many times to come are told of one schedule, and fewTold of each in a
// list.
const (
	timesTold = 10
	fewTold   = 3
)

// Schedules tells schedules by name, those beyond a name, to at most most.
func (e *Engine) Schedules(ctx context.Context, after string, most int) (all []job.ScheduleTold, more bool, err error) {
	e.view.mu.RLock()
	own := e.view.owned.Schedules
	var some []*schedule
	for _, name := range slices.Sorted(maps.Keys(e.view.schedules)) {
		if name > after && !e.view.schedules[name].gone() {
			some = append(some, e.view.schedules[name])
		}
	}
	e.view.mu.RUnlock()
	all = []job.ScheduleTold{}
	for _, s := range some[:min(len(some), most)] {
		_, fromFile := slices.BinarySearch(own, s.row.Name)
		told, err := e.tellSchedule(ctx, s, fromFile, fewTold)
		if err != nil {
			return nil, false, err
		}
		all = append(all, told)
	}
	return all, len(some) > most, nil
}

func (e *Engine) tellSchedule(ctx context.Context, s *schedule, fromFile bool, times int) (job.ScheduleTold, error) {
	told := job.ScheduleTold{Schedule: s.is.Whole(), Version: s.row.Version, DefinedBy: job.SettingByHand, Waiting: s.row.Waiting, SpreadMS: s.spread.Milliseconds(), PausedAt: s.row.PausedAt, PausedBy: s.row.PausedBy}
	told.Name = s.row.Name
	paused := s.row.PausedAt != 0
	told.Paused = &paused
	if fromFile {
		told.DefinedBy = job.SettingByFile
	}
	if s.is.Every != 0 && s.is.From == 0 {
		told.From = s.row.MadeAt
	}
	told.Says, told.Next = s.rule.Says(), []job.Instant{}
	if !paused {
		from := e.now()
		if s.row.NextAt != 0 {
			from = min(from, s.row.NextAt-1)
		}
		t := s.rule.Tell(from.Go(), times, s.is.Until)
		told.Next = t.Next
		if times == timesTold {
			told.Notes = t.Notes
		}
	}
	runs, err := e.store.Runs(ctx, s.row.ID, always, true, 1)
	s.tellLate(runs)
	if len(runs) > 0 {
		told.Last = &runs[0]
	}
	told.FailedInARow, told.LastDoneAt = s.row.Failed, s.row.LastDone
	return told, err
}

// always is later than every planned time.
const always = job.Time(1 << 62)

// Runs tells the history of a schedule before a planned time, 0 for all, the latest first.
func (e *Engine) Runs(ctx context.Context, name string, before job.Time, most int) ([]job.Run, error) {
	e.view.mu.RLock()
	s := e.view.schedules[name]
	e.view.mu.RUnlock()
	if s == nil {
		return nil, noSchedule(name)
	}
	if before == 0 {
		before = always
	}
	runs, err := e.store.Runs(ctx, s.row.ID, before, false, most)
	s.tellLate(runs)
	return runs, err
}

// tellLate tells how late runs were started: behind the time at which they were to be
// enqueued, so that the schedule's part of its spread is no lateness.
func (s *schedule) tellLate(runs []job.Run) {
	for i := range runs {
		r := &runs[i]
		due := r.PlannedAt
		if !r.Asked {
			due = due.Add(s.spread)
		}
		if r.StartedAt != 0 {
			r.LateMS = max(int64(r.StartedAt-due), 0)
		}
	}
}

func (e *Engine) scheduleOf(r *store.Row) *schedule {
	e.view.mu.RLock()
	defer e.view.mu.RUnlock()
	return e.view.scheduleOf[r.Schedule]
}

// scheduledBy tells which run of which schedule a job is; nil where it is none.
func (e *Engine) scheduledBy(ctx context.Context, r *store.Row) (*job.ScheduledBy, error) {
	s := e.scheduleOf(r)
	if s == nil {
		return nil, nil
	}
	number, planned, err := e.store.ReadRunOf(ctx, r.ID)
	return &job.ScheduledBy{Name: s.row.Name, Run: number, PlannedAt: planned}, err
}
