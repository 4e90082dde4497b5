package plan

import (
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// What is enqueued of many schedules that are due at once keeps the committer for no longer
// than fireFor; the next transaction goes on.
const (
	mostFired = 500
	fireFor   = 2 * time.Millisecond
)

// fireDue enqueues the runs of schedules that are due.
func fireDue(tx *commit.Tx) error {
	began := time.Now()
	for i, s := range tx.Schedules.Due(tx.Now, mostFired+tx.Room(commit.ThingSchedule)) {
		if i > 0 && time.Since(began) > fireFor {
			return nil
		}
		if tx.Passes(commit.ThingSchedule, s.Row.ID) {
			continue
		}
		if s = tx.Schedules.Get(s.Row.ID); s == nil || s.FiresAt() == 0 || s.FiresAt() > tx.Now {
			continue // the batch has changed it
		}
		if err := fire(tx, s.Copy()); err != nil {
			return err
		}
	}
	return nil
}

// fire enqueues the runs of one schedule: those that are in time, and of those that were
// missed what its rule says.
func fire(tx *commit.Tx, s *memory.Schedule) error {
	times := pendingOf(tx, s)
	if times.unknown > 0 {
		if err := tx.Store.AddRun(s.Row.ID, &api.Run{PlannedAt: times.lastUnknown, Reason: api.RunRestored, Times: times.unknown}); err != nil {
			return err
		}
	}
	if times.missed > 0 {
		if err := makeUp(tx, s, &times); err != nil {
			return err
		}
	}
	for _, at := range times.inTime {
		if err := enqueueRun(tx, s, &api.Run{PlannedAt: at}); err != nil {
			return err
		}
	}
	s.Row.NextAt = times.next
	return tx.Schedules.Put(s)
}

// pending are planned times that have come.
type pending struct {
	inTime []job.Time
	// latest are the latest of those that were missed, oldest first.
	latest []job.Time
	missed int64
	// unknown counts those of which nobody knows whether they were enqueued, since the file was
	// restored from a backup after they came: they are not enqueued again. lastUnknown is the last.
	unknown     int64
	lastUnknown job.Time
	next        job.Time // the first that has not come
}

// mostCounted bounds the missed times that are counted one by one.
const mostCounted = 100_000

// pendingOf finds the planned times of a schedule that have come, from its next one on.
func pendingOf(tx *commit.Tx, s *memory.Schedule) (p pending) {
	late := s.Is.WithDefaults().LateLimit.Go()
	at := s.Row.NextAt
	for restored := min(tx.Facts.RestoredAt, tx.Now); at != 0 && at.Add(s.Spread) <= restored; at = s.After(at) {
		p.lastUnknown = at
		if p.unknown++; p.unknown == mostCounted {
			before, _ := s.Rule.Prev(restored.Add(-s.Spread).Go())
			at = max(at, job.At(before)-1)
		}
	}
	for ; at != 0 && at.Add(s.Spread) <= tx.Now; at = s.After(at) {
		if tx.Now.Sub(at.Add(s.Spread)) <= late && len(p.inTime) < api.MaxMissed {
			p.inTime = append(p.inTime, at)
			continue
		}
		if p.latest = append(p.latest, at); len(p.latest) > 2*api.MaxMissed {
			p.latest = append(p.latest[:0], p.latest[len(p.latest)-api.MaxMissed:]...)
		}
		if p.missed++; p.missed == mostCounted { // the rest is left uncounted
			before, _ := s.Rule.Prev(tx.Now.Add(-s.Spread - late).Go())
			at = max(at, job.At(before)-1)
		}
	}
	p.next, p.latest = at, p.latest[max(len(p.latest)-api.MaxMissed, 0):]
	return p
}

// makeUp enqueues what the rule on missed times says, and notes the rest in one line.
func makeUp(tx *commit.Tx, s *memory.Schedule, p *pending) error {
	made := p.latest
	switch s.Is.WithDefaults().Missed {
	case api.MissedSkip:
		made = nil
	case api.MissedOnce:
		made = made[len(made)-1:]
	}
	if rest := p.missed - int64(len(made)); rest > 0 {
		last := p.latest[len(p.latest)-1]
		if len(made) > 0 {
			last = made[0] - 1
		}
		if err := tx.Store.AddRun(s.Row.ID, &api.Run{PlannedAt: last, Reason: api.RunMissed, Times: rest}); err != nil {
			return err
		}
	}
	for _, at := range made {
		if err := enqueueRun(tx, s, &api.Run{PlannedAt: at}); err != nil {
			return err
		}
	}
	return nil
}

// enqueueRun enqueues a run of a schedule, where its last one lets it, and notes what
// became of the planned time.
func enqueueRun(tx *commit.Tx, s *memory.Schedule, r *api.Run) error {
	last, err := lastRun(tx.View(), s)
	if err != nil {
		return err
	}
	if last.blocks {
		r.Reason = api.RunStillRunning
		return tx.Store.AddRun(s.Row.ID, r)
	}
	if last.givesWay != nil {
		if err := supersede(tx, s, last.givesWay); err != nil {
			return err
		}
	}
	if s.Is.Batch != nil {
		if r.Job, err = command.StartBatch(tx, s, last.goesBefore); err != nil {
			return err
		}
		return noteRun(tx, s, r)
	}
	n, err := command.Prepare(&s.Is.Job)
	if err != nil {
		return err
	}
	n.Row.Schedule = s.Row.ID
	if last.goesBefore != 0 {
		s.Row.Waiting, s.Row.Behind = tx.Facts.NextJob.Get(), last.goesBefore
		if err := tx.Schedules.Put(s); err != nil {
			return err
		}
	}
	if err := command.Insert(tx, n); err != nil {
		return err
	}
	if n.Earlier != nil {
		r.Job, r.Reason, s.Row.Waiting, s.Row.Behind = n.Earlier.ID, api.RunDuplicate, 0, 0
		return tx.Store.AddRun(s.Row.ID, r)
	}
	r.Job = n.Row.ID
	return noteRun(tx, s, r)
}

// noteRun notes a run that was enqueued.
func noteRun(tx *commit.Tx, s *memory.Schedule, r *api.Run) error {
	s.Row.Runs++
	s.Row.Last, r.Number, r.EnqueuedAt = r.Job, s.Row.Runs, tx.Now
	return tx.Store.AddRun(s.Row.ID, r)
}

// last is what the unfinished runs of a schedule mean for a new one.
type last struct {
	// blocks says that the new run cannot come.
	blocks bool
	// goesBefore is the job that the new one waits behind; 0 for none.
	goesBefore int64
	// givesWay is a run that waits for its next attempt, whose place the new one takes.
	givesWay *store.Row
}

// lastRun finds what the last run of a schedule means for a new one. An older run that was
// requeued counts as the last one does.
func lastRun(v *commit.View, s *memory.Schedule) (last, error) {
	rule := s.Is.WithDefaults().IfStillRunning
	if rule == api.RunsAlso || s.Row.Last == 0 {
		return last{}, nil
	}
	r, err := v.Store.Row(s.Row.Last)
	if err != nil {
		return last{}, err
	}
	if r == nil || r.State.Finished() {
		held, err := v.Store.HeldOf(s.Row.ID, 0)
		if err != nil || held != nil && s.Is.Batch == nil {
			return last{blocks: true}, err
		}
		if held != nil {
			return behind(v, s, rule, held)
		}
		active, err := v.Store.ActiveOf(s.Row.ID, 0)
		if err != nil || active == 0 {
			return last{}, err
		}
		if r, err = v.Store.Row(active); err != nil || r == nil {
			return last{blocks: true}, err
		}
	}
	if s.Is.Batch != nil {
		return behind(v, s, rule, r)
	}
	switch {
	case r.State == job.Backoff:
		return last{givesWay: r}, nil
	case rule == api.RunSkips || s.Row.Waiting == r.ID || r.State == job.Held:
		return last{blocks: true}, nil
	}
	return last{goesBefore: r.ID}, nil
}

// behind is what an unfinished run of a schedule that starts batches means for a new one, by its last
// job. It is held as long as others of its batch have not ended, which are waited for like any others;
// one more run at most waits.
func behind(v *commit.View, s *memory.Schedule, rule string, r *store.Row) (last, error) {
	if r.State == job.Backoff {
		return last{givesWay: r}, nil
	}
	if rule == api.RunSkips {
		return last{blocks: true}, nil
	}
	held, err := v.Store.HeldOf(s.Row.ID, r.ID)
	if err != nil || held != nil {
		return last{blocks: true}, err
	}
	active, err := v.Store.ActiveOf(s.Row.ID, r.ID)
	if err != nil || active != 0 {
		return last{blocks: true}, err
	}
	return last{goesBefore: r.ID}, nil
}

// supersededKept is how many jobs of one schedule stay dead whose places later runs took.
const supersededKept = 20

// supersede makes a run dead that waits for its next attempt when the next one takes its
// place. Of one schedule the newest stay dead, so that one that always fails is seen;
// older ones become cancelled.
func supersede(tx *commit.Tx, s *memory.Schedule, r *store.Row) error {
	if err := place.Finish(tx, r, job.Dead, job.Superseded, "a later run of schedule "+s.Row.Name+" took its place", lifecycle.BySuperseded); err != nil {
		return err
	}
	old, err := tx.Store.SupersededOf(s.Row.ID, supersededKept)
	for _, r := range old {
		if err == nil {
			err = place.Finish(tx, r, job.Cancelled, job.Superseded, r.ReasonText, lifecycle.BySuperseded)
		}
	}
	return err
}
