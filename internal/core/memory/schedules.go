package memory

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"iter"
	"strings"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/cron"
	"humblemule.example/internal/core/order"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Schedules are the schedules, and which of them fires next.
type Schedules struct {
	SchedulesView
	// Ended are jobs of schedules that have left, in this transaction, the states in which
	// others wait for them.
	Ended []EndedRun
}

// SchedulesView is what of them can be seen, and not changed.
type SchedulesView struct {
	layered
	byID   Overlay[int64, *Schedule]
	byName Overlay[string, *Schedule]
	last   Cell[int64] // the highest number that was ever given
	// plan are the schedules by when they fire, as they were committed.
	plan *order.Heap[int64, *Schedule]
}

// Schedule is a schedule as it stands. It is never altered: a transaction puts a copy in
// its place.
type Schedule struct {
	Row store.Schedule
	// Is is the schedule as it was given, without name and paused.
	Is   api.Schedule
	Rule cron.Rule
	// Spread is its own part of the spread.
	Spread time.Duration
}

// EndedRun is a run of a schedule that has left the states in which others wait for it: it
// waits for its next attempt, has ended, or was removed before that.
type EndedRun struct {
	store.Row
	Removed bool
}

// Over tells whether the run will not go on by itself.
func (r *EndedRun) Over() bool { return r.State.Finished() || r.Removed }

// NewSchedule makes a schedule of its row.
func NewSchedule(row store.Schedule) (*Schedule, error) {
	s := &Schedule{Row: row}
	err := json.Unmarshal([]byte(row.Body), &s.Is)
	if err != nil {
		return nil, err
	}
	if s.Rule, _, err = cron.NewRule(&s.Is, row.MadeAt); err != nil {
		return nil, err
	}
	s.Spread = spreadOf(row.Name, s.Is.Spread.Go())
	return s, nil
}

// spreadOf is a schedule's own part of a spread, by its name alone.
func spreadOf(name string, spread time.Duration) time.Duration {
	h := fnv.New64a()
	h.Write([]byte(name))
	return (time.Duration(h.Sum64()%1000) * spread / 1000).Truncate(time.Millisecond)
}

// FiresAt is when the next planned time is enqueued; 0 for never.
func (s *Schedule) FiresAt() job.Time {
	if s.Row.NextAt == 0 || s.Row.PausedAt != 0 || s.Gone() {
		return 0
	}
	return s.Row.NextAt.Add(s.Spread)
}

// After is the first planned time after an instant; 0 where there is none.
func (s *Schedule) After(at job.Time) job.Time {
	next, found := s.Rule.Next(at.Go())
	if !found || s.Is.Until != 0 && job.At(next) > s.Is.Until {
		return 0
	}
	return job.At(next)
}

// Copy is a schedule that may be altered until it is put.
func (s *Schedule) Copy() *Schedule {
	next := *s
	return &next
}

// goneMark begins the name under which a schedule is kept that was deleted while a run of
// it waits for another to end; nobody can name one so. It is kept for no longer.
const goneMark = "~"

// Gone tells whether the schedule was deleted, and is kept for a run that waits.
func (s *Schedule) Gone() bool { return strings.HasPrefix(s.Row.Name, goneMark) }

func (p *Schedules) load(*file) error {
	keep(&p.layered, &p.byID, map[int64]*Schedule{})
	keep(&p.layered, &p.byName, map[string]*Schedule{})
	p.plan = NewPlan()
	p.Ended = nil
	rows, err := p.m.store.Schedules()
	if err != nil {
		return err
	}
	last := int64(0)
	for _, row := range rows {
		s, err := NewSchedule(row)
		if err != nil {
			return fmt.Errorf("schedule %s: %w", row.Name, err)
		}
		last = max(last, row.ID)
		p.byID.kept[row.ID], p.byName.kept[row.Name] = s, s
		p.index(s)
	}
	keepOne(&p.layered, &p.last, last)
	return nil
}

// NewPlan is an empty heap of schedules by when they fire.
func NewPlan() *order.Heap[int64, *Schedule] {
	return order.NewHeap[int64](func(a, b *Schedule) bool { return a.FiresAt() < b.FiresAt() })
}

func (p *Schedules) index(s *Schedule) {
	if s.FiresAt() != 0 {
		p.plan.Put(s.Row.ID, s)
	} else {
		p.plan.Remove(s.Row.ID)
	}
}

// Get finds a schedule by its number; nil where there is none.
func (p *SchedulesView) Get(id int64) *Schedule { return p.byID.At(id) }

// Find finds one by its name.
func (p *SchedulesView) Find(name string) *Schedule { return p.byName.At(name) }

// Len counts the schedules.
func (p *SchedulesView) Len() int { return p.byID.Len() }

// All visits the schedules.
func (p *SchedulesView) All() iter.Seq2[int64, *Schedule] { return p.byID.All() }

// DrawID gives the number of a new schedule.
func (p *Schedules) DrawID() int64 {
	p.last.Set(p.last.Get() + 1)
	return p.last.Get()
}

// Put writes a schedule, and puts it in the place of the one of its number.
func (p *Schedules) Put(s *Schedule) error {
	if was := p.Get(s.Row.ID); was != nil && was.Row.Name != s.Row.Name {
		p.byName.Delete(was.Row.Name)
	}
	p.byID.Put(s.Row.ID, s)
	p.byName.Put(s.Row.Name, s)
	return p.m.store.PutSchedule(&s.Row)
}

// Delete removes a schedule and its history; one for which a run waits is kept until that
// goes on, under another name.
func (p *Schedules) Delete(s *Schedule) error {
	if s.Row.Waiting != 0 {
		gone := s.Copy()
		gone.Row.Name, gone.Row.NextAt = fmt.Sprintf("%s%d", goneMark, s.Row.ID), 0
		return p.Put(gone)
	}
	p.byID.Delete(s.Row.ID)
	p.byName.Delete(s.Row.Name)
	return p.m.store.DropSchedule(s.Row.ID)
}

// Due gives schedules that were committed and fire by a time, at most so many.
func (p *SchedulesView) Due(now job.Time, most int) []*Schedule {
	return p.plan.While(func(s *Schedule) bool { return s.FiresAt() <= now }, most)
}

// NextFire is when the next schedule fires that was committed; 0 for never.
func (p *SchedulesView) NextFire() job.Time {
	if _, s, found := p.plan.First(); found {
		return s.FiresAt()
	}
	return 0
}

// Freed notes that a job of a schedule has left the states in which others wait for it.
func (p *Schedules) Freed(r *store.Row, removed bool) {
	if r.Schedule != 0 {
		p.Ended = append(p.Ended, EndedRun{*r, removed})
	}
}

func (p *Schedules) publish() {
	for id, c := range p.byID.changed {
		if c.gone {
			p.plan.Remove(id)
		} else {
			p.index(c.value)
		}
	}
	p.layered.publish()
}

func (p *Schedules) drop() {
	p.layered.drop()
	p.Ended = nil
}

// Kept finds a schedule by its number, and KeptNamed by its name; nil where there is none.
func (p *SchedulesView) Kept(id int64) *Schedule {
	s, _ := p.byID.Kept(id)
	return s
}

// KeptNamed goes with [Schedules.Kept].
func (p *SchedulesView) KeptNamed(name string) *Schedule {
	s, _ := p.byName.Kept(name)
	return s
}

// AllKept visits the schedules by their names.
func (p *SchedulesView) AllKept() iter.Seq2[string, *Schedule] { return p.byName.AllKept() }
