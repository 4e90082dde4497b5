package engine

import (
	"errors"
	"time"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// What is enqueued of many schedules that are due at once keeps the committer for no longer
// than fireFor; the next transaction goes on.
const (
	mostFired = 500
	fireFor   = 2 * time.Millisecond
)

// fireDue enqueues the runs of schedules that are due.
func (tx *txn) fireDue() error {
	began := time.Now()
	for i, s := range tx.e.plan.due(tx.now, mostFired+tx.room(thingSchedule)) {
		if i > 0 && time.Since(began) > fireFor {
			return nil
		}
		if tx.passes(thingSchedule, s.row.ID) {
			continue
		}
		if s = tx.schedule(s.row.ID); s == nil || s.firesAt() == 0 || s.firesAt() > tx.now {
			continue // the batch has changed it
		}
		if err := tx.fire(copyOf(s)); err != nil {
			return err
		}
	}
	return nil
}

// fire enqueues the runs of one schedule: those that are in time, and of those that were
// missed what its rule says.
func (tx *txn) fire(s *schedule) error {
	times := tx.pending(s)
	if times.missed > 0 {
		if err := tx.makeUp(s, &times); err != nil {
			return err
		}
	}
	for _, at := range times.inTime {
		if err := tx.enqueueRun(s, &job.Run{PlannedAt: at}); err != nil {
			return err
		}
	}
	s.row.NextAt = times.next
	return tx.keepSchedule(s)
}

// pending are planned times that have come.
type pending struct {
	inTime []job.Time
	// latest are the latest of those that were missed, oldest first.
	latest []job.Time
	missed int64
	next   job.Time // the first that has not come
}

// mostCounted bounds the missed times that are counted one by one.
const mostCounted = 100_000

// pending finds the planned times of a schedule that have come, from its next one on.
func (tx *txn) pending(s *schedule) (p pending) {
	late := s.is.Whole().LateLimit.Go()
	at := s.row.NextAt
	for ; at != 0 && at.Add(s.spread) <= tx.now; at = s.after(at) {
		if tx.now.Sub(at.Add(s.spread)) <= late && len(p.inTime) < job.MostMissed {
			p.inTime = append(p.inTime, at)
			continue
		}
		if p.latest = append(p.latest, at); len(p.latest) > 2*job.MostMissed {
			p.latest = append(p.latest[:0], p.latest[len(p.latest)-job.MostMissed:]...)
		}
		if p.missed++; p.missed == mostCounted { // the rest is left uncounted
			before, _ := s.rule.Prev(tx.now.Add(-s.spread - late).Go())
			at = max(at, job.At(before)-1)
		}
	}
	p.next, p.latest = at, p.latest[max(len(p.latest)-job.MostMissed, 0):]
	return p
}

// makeUp enqueues what the rule on missed times says, and notes the rest in one line.
func (tx *txn) makeUp(s *schedule, p *pending) error {
	made := p.latest
	switch s.is.Whole().Missed {
	case job.MissedSkip:
		made = nil
	case job.MissedOnce:
		made = made[len(made)-1:]
	}
	if rest := p.missed - int64(len(made)); rest > 0 {
		last := p.latest[len(p.latest)-1]
		if len(made) > 0 {
			last = made[0] - 1
		}
		if err := tx.e.store.AddRun(s.row.ID, &job.Run{PlannedAt: last, Reason: job.RunMissed, Times: rest}); err != nil {
			return err
		}
	}
	for _, at := range made {
		if err := tx.enqueueRun(s, &job.Run{PlannedAt: at}); err != nil {
			return err
		}
	}
	return nil
}

// enqueueRun enqueues a run of a schedule, where its last one lets it, and notes what
// became of the planned time.
func (tx *txn) enqueueRun(s *schedule, r *job.Run) error {
	behind, blocked, err := tx.lastRun(s)
	if err != nil {
		return err
	}
	if blocked {
		r.Reason = job.RunStillRunning
		return tx.noteRun(s, r)
	}
	n, err := prepare(&s.is.Job)
	if err != nil {
		return err
	}
	n.row.Schedule = s.row.ID
	if behind != 0 {
		s.row.Waiting, s.row.Behind = tx.nextJob, behind
		if err := tx.keepSchedule(s); err != nil {
			return err
		}
	}
	if err := tx.insert(n); err != nil {
		return err
	}
	if n.earlier != nil {
		r.Job, r.Reason, s.row.Waiting, s.row.Behind = n.earlier.ID, job.RunDuplicate, 0, 0
		return tx.noteRun(s, r)
	}
	s.row.Runs++
	s.row.Last, r.Number, r.Job, r.EnqueuedAt = n.row.ID, s.row.Runs, n.row.ID, tx.now
	return tx.noteRun(s, r)
}

func (tx *txn) noteRun(s *schedule, r *job.Run) error {
	if r.Asked && r.Reason != "" {
		return nil // refused
	}
	return tx.e.store.AddRun(s.row.ID, r)
}

// lastRun tells what the unfinished runs of a schedule mean for a new one: the job that it
// waits behind, or that it cannot come. A last run that waits for its next attempt gives
// way. An older one that was requeued counts as the last one does.
func (tx *txn) lastRun(s *schedule) (behind int64, blocked bool, err error) {
	rule := s.is.Whole().IfStillRunning
	if rule == job.RunsAlso || s.row.Last == 0 {
		return 0, false, nil
	}
	last, err := tx.e.store.Row(s.row.Last)
	if err != nil {
		return 0, false, err
	}
	if last == nil || last.State.Finished() {
		held, err := tx.e.store.HeldOf(s.row.ID, 0)
		if err != nil || held != nil {
			return 0, true, err
		}
		active, err := tx.e.store.ActiveOf(s.row.ID, 0)
		if err != nil || active == 0 {
			return 0, false, err
		}
		if last, err = tx.e.store.Row(active); err != nil || last == nil {
			return 0, true, err
		}
	}
	switch {
	case last.State == job.Backoff:
		return 0, false, tx.supersede(s, last)
	case rule == job.RunSkips || s.row.Waiting == last.ID || last.State == job.Held:
		return 0, true, nil
	}
	return last.ID, false, nil
}

// supersededKept is how many jobs of one schedule stay dead whose places later runs took.
const supersededKept = 20

// supersede makes a run dead that waits for its next attempt when the next one takes its
// place. Of one schedule the newest stay dead, so that one that always fails is seen;
// older ones become cancelled.
func (tx *txn) supersede(s *schedule, r *store.Row) error {
	if err := tx.finish(r, job.Dead, job.Superseded, "a later run of schedule "+s.row.Name+" took its place", job.BySuperseded); err != nil {
		return err
	}
	old, err := tx.e.store.SupersededOf(s.row.ID, supersededKept)
	for _, r := range old {
		if err == nil {
			err = tx.finish(r, job.Cancelled, job.Superseded, r.ReasonText, job.BySuperseded)
		}
	}
	return err
}

// heldByRun tells whether a job waits for the end of another run of its schedule: the one
// that the schedule has put behind its last one, and one that was requeued while another
// is unfinished.
func (tx *txn) heldByRun(r *store.Row) (bool, error) {
	if r.Schedule == 0 {
		return false, nil
	}
	s := tx.schedule(r.Schedule)
	switch {
	case s == nil || s.is.Whole().IfStillRunning == job.RunsAlso:
		return false, nil
	case s.row.Waiting == r.ID:
		return true, nil
	case s.row.Last == r.ID && !r.Requeued():
		return false, nil // it came by the rule
	}
	active, err := tx.e.store.ActiveOf(r.Schedule, r.ID)
	if err != nil || active != 0 {
		return active != 0, err
	}
	first, err := tx.e.store.HeldOf(r.Schedule, r.ID)
	return first != nil && first.ID < r.ID && r.State != job.Held, err
}

// endedRun is a run of a schedule that has left the states in which others wait for it: it
// waits for its next attempt, has ended, or was removed before that.
type endedRun struct {
	store.Row
	removed bool
}

func (r *endedRun) over() bool { return r.State.Finished() || r.removed }

// freed notes that a job of a schedule has left the states in which others wait for it.
func (tx *txn) freed(r *store.Row, removed bool) {
	if r.Schedule != 0 {
		tx.ended = append(tx.ended, endedRun{*r, removed})
	}
}

// letRunsGo lets those runs go on that waited for the end of one that has ended; one that
// waits for its next attempt gives way.
func (tx *txn) letRunsGo() error {
	for len(tx.ended) > 0 {
		r := tx.ended[0]
		tx.ended = tx.ended[1:]
		if r.State.Finished() {
			if err := tx.e.store.EndRun(&r.Row); err != nil {
				return err
			}
		}
		s := tx.schedule(r.Schedule)
		if s == nil {
			continue
		}
		if err := tx.noteEnd(s, &r.Row); err != nil {
			return err
		}
		if s = tx.schedule(r.Schedule); s.row.Waiting == 0 || r.ID != s.row.Behind && r.ID != s.row.Waiting {
			if err := tx.letRequeuedGo(s, &r); err != nil {
				return err
			}
			continue
		}
		if err := tx.letWaitingGo(copyOf(s), &r); err != nil {
			return err
		}
	}
	return nil
}

// noteEnd keeps how many runs of a schedule have died in a row, and when one was done.
func (tx *txn) noteEnd(s *schedule, r *store.Row) error {
	next := copyOf(s)
	switch r.State {
	case job.Done:
		next.row.Failed, next.row.LastDone = 0, tx.now
	case job.Dead:
		next.row.Failed++
	default:
		return nil
	}
	return tx.keepSchedule(next)
}

// letRequeuedGo lets the first of those runs go on that were requeued and wait for the
// end of the others.
func (tx *txn) letRequeuedGo(s *schedule, ended *endedRun) error {
	if !ended.over() || s.is.Whole().IfStillRunning == job.RunsAlso {
		return nil
	}
	held, err := tx.e.store.HeldOf(s.row.ID, s.row.Waiting)
	if err != nil || held == nil {
		return err
	}
	return tx.letGo(held.ID)
}

func (tx *txn) letWaitingGo(s *schedule, ended *endedRun) error {
	waiting := s.row.Waiting
	if ended.ID != waiting && ended.over() { // perhaps one that was requeued is not over
		other, err := tx.e.store.ActiveOf(s.row.ID, waiting)
		if err != nil {
			return err
		}
		if other != 0 {
			s.row.Behind = other
			return tx.keepSchedule(s)
		}
	}
	if ended.ID == waiting { // the one that it waited for is the last again
		s.row.Last = s.row.Behind
	}
	s.row.Waiting, s.row.Behind = 0, 0
	if err := tx.keepOrDrop(s); err != nil {
		return err
	}
	if ended.ID == waiting {
		return nil // it was ended itself
	}
	if ended.State == job.Backoff {
		row, err := tx.e.store.Row(ended.ID)
		if err != nil {
			return err
		}
		if row != nil && row.State == job.Backoff {
			err = tx.supersede(s, row)
		}
		return errors.Join(err, tx.letGo(waiting))
	}
	return tx.letGo(waiting)
}

// letGo places a job that was held by its schedule; 0 for none.
func (tx *txn) letGo(id int64) error {
	if id == 0 {
		return nil
	}
	r, err := tx.e.store.Row(id)
	if err != nil || r == nil || r.State != job.Held {
		return err
	}
	if err := tx.place(r, job.ByUnheld); err != nil {
		return err
	}
	return tx.e.store.Wait(r)
}
