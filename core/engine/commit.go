package engine

import (
	"context"
	"errors"
	"runtime"
	"time"

	"humblemule/core/job"
	"humblemule/core/store"
)

// command is a function on a transaction, and where its answer goes. It checks
// first and writes after; a *job.Problem says that it has written nothing. It
// may be applied twice, when the first transaction failed.
type command struct {
	apply func(*txn) error
	done  chan error
}

// mostTogether bounds the commands of one transaction.
const mostTogether = 1024

// do applies a command and answers after it is on disk.
func (e *Engine) do(ctx context.Context, apply func(*txn) error) error {
	c := &command{apply: apply, done: make(chan error, 1)}
	select {
	case <-e.quit:
		return errStopping
	default:
	}
	select {
	case e.commands <- c:
	default:
		return job.Fault(job.Busy, "the service has more to write than it can at once; try again in a second, nothing was changed")
	}
	// A command that was taken is always answered, unless the committer stopped
	// before it took it; ctx cannot call it back.
	select {
	case err := <-c.done:
		return err
	case <-e.stopped:
		select {
		case err := <-c.done:
			return err
		default:
			return errStopping
		}
	}
}

var errStopping = job.Fault(job.Busy, "the service is stopping; try again when it is back, nothing was changed")

// commit is the committer's loop.
func (e *Engine) commit() {
	defer close(e.stopped)
	timer := time.NewTimer(0)
	defer timer.Stop()
	const whenIdle = 2 * time.Second
	busy := time.Now()
	for {
		select {
		case c := <-e.commands:
			batch := e.gather(c)
			e.worked.Add(int64(len(batch)))
			e.apply(batch)
			busy = time.Now()
		case <-timer.C:
			e.apply(nil)
			e.checkpoint(time.Since(busy) >= whenIdle)
		case <-e.quit:
			for len(e.commands) > 0 {
				e.apply(e.gather(<-e.commands))
			}
			e.dropParked()
			return
		}
		e.checkpoint(false)
		timer.Reset(min(e.untilNext(), whenIdle))
	}
}

// gather takes the commands that wait. Where there are several it lets those run
// who are about to give theirs, a few times: a commit costs the disk as much for
// one as for many. A command that is alone waits for nobody.
func (e *Engine) gather(first *command) []*command {
	const yields = 5
	batch := []*command{first}
	for range yields {
		for range min(len(e.commands), mostTogether-len(batch)) {
			batch = append(batch, <-e.commands)
		}
		if len(batch) == 1 {
			break
		}
		runtime.Gosched()
	}
	return batch
}

func (e *Engine) checkpoint(idle bool) {
	if err := e.store.Checkpoint(idle); err != nil {
		e.log.Warn("the log could not be moved into the data file; it is tried again", "error", err)
	}
}

// untilNext tells how long nothing is to be done: until the next lease end or
// due job. While anything is due by the wall clock, which may jump, that is at
// most a second.
func (e *Engine) untilNext() time.Duration {
	const longest = time.Minute
	sleep := longest
	for _, next := range []job.Time{e.nextDue, e.nextSweep, e.nextDrop, e.nextRetain, e.nextLate} {
		if next != 0 {
			sleep = min(sleep, time.Second, next.Sub(e.now()))
		}
	}
	if len(e.walking) > 0 {
		sleep = min(sleep, walkSoon)
	}
	if len(e.plan) > 0 {
		sleep = min(sleep, time.Second, e.plan[0].firesAt().Sub(e.now()))
	}
	if !e.nextStart.IsZero() {
		sleep = min(sleep, time.Until(e.nextStart))
	}
	if len(e.ends) > 0 {
		sleep = min(sleep, time.Until(e.ends[0].ends))
	}
	return max(sleep, time.Until(e.retryAt), 0)
}

// apply runs commands and whatever is due in one transaction, commits it and
// answers. Where that fails, each command is tried again by itself, and timed
// work a second later.
func (e *Engine) apply(batch []*command) {
	err := e.transact(batch, true)
	if err == nil {
		return
	}
	if store.IsDiskFault(err) {
		e.refuse(batch, err)
		e.reopen(err)
		return
	}
	e.log.Error("a transaction failed; its commands are tried one by one", "commands", len(batch), "error", err)
	e.retryAt = time.Now().Add(time.Second)
	for _, c := range batch {
		if err := e.transact([]*command{c}, false); err != nil {
			e.refuse([]*command{c}, err)
		}
	}
	e.dropClaimed(refusal(err))
}

// transact applies the batch. It answers every command where it succeeds, and
// changes nothing where it does not.
func (e *Engine) transact(batch []*command, timed bool) error {
	tx := e.begin()
	answers := make([]error, len(batch))
	err := tx.run(batch, answers, timed)
	if err == nil {
		err = tx.flush()
	}
	if err == nil && e.store.Writing() {
		err = e.store.Commit()
	}
	if err != nil {
		if e.store.Writing() {
			if undo := e.store.Rollback(); undo != nil {
				e.log.Error("a transaction could not be undone", "error", undo)
			}
		}
		return err
	}
	tx.publish()
	for i, c := range batch {
		c.done <- answers[i]
	}
	return nil
}

func (tx *txn) run(batch []*command, answers []error, timed bool) error {
	for i, c := range batch {
		if answers[i] = c.apply(tx); answers[i] != nil && !isProblem(answers[i]) {
			return answers[i]
		}
	}
	if timed && time.Until(tx.e.retryAt) <= 0 {
		if err := tx.endLeases(); err != nil {
			return err
		}
		if err := errors.Join(tx.due(), tx.fireDue()); err != nil {
			return err
		}
		if err := errors.Join(tx.late(), tx.walkOn()); err != nil {
			return err
		}
		if err := tx.sweep(); err != nil {
			return err
		}
		if err := tx.dropResults(); err != nil {
			return err
		}
		if err := tx.retain(); err != nil {
			return err
		}
	}
	if err := errors.Join(tx.letRunsGo(), tx.deal()); err != nil || len(tx.ended) == 0 {
		return err
	}
	tx.awaits(tx.now) // what was skipped as too late has let a run go on, which is dealt next
	return tx.letRunsGo()
}

// refuse answers commands whose transaction failed.
func (e *Engine) refuse(batch []*command, err error) {
	for _, c := range batch {
		c.done <- refusal(err)
	}
}

func refusal(err error) error {
	if store.IsFull(err) {
		return job.Fault(job.Broken, "the disk is full: nothing of this was kept, and what was acknowledged before is safe; free some space and try again")
	}
	return job.Fault(job.Broken, "the write failed (%v); nothing of it was kept", err)
}

// reopen closes the connection after a fault of the disk and reads everything
// from the file again. An fsync is never tried twice: after a failed one, what
// the system shows is not what the disk holds.
func (e *Engine) reopen(cause error) {
	e.log.Error("the disk failed; the data file is opened again", "error", cause)
	e.dropClaimed(refusal(cause))
	for {
		err := e.store.Reopen()
		if err == nil {
			err = e.recover()
		}
		if err == nil {
			e.watchers.reset()
			return
		}
		e.log.Error("the data file cannot be opened; no command is taken until it can", "error", err)
		if e.refuseFor(time.Second, cause) {
			return
		}
	}
}

// refuseFor answers commands with a refusal for a while; true when the engine
// is closed meanwhile.
func (e *Engine) refuseFor(d time.Duration, cause error) (closed bool) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	for {
		select {
		case c := <-e.commands:
			e.refuse([]*command{c}, cause)
		case <-timer.C:
			return false
		case <-e.quit:
			return true
		}
	}
}
