package commit

import (
	"errors"
	"fmt"
	"runtime/debug"
	"time"

	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
)

// commit is the committer's loop.
func (c *Committer) commit() {
	defer close(c.Stopped)
	timer := time.NewTimer(0)
	defer timer.Stop()
	const whenIdle = 2 * time.Second
	busy := time.Now()
	work := func(first *command) {
		batch := c.gather(first)
		c.worked.Add(int64(len(batch)))
		c.apply(batch)
		busy = time.Now()
	}
	w := &c.commands
	for {
		if w.next != nil {
			bulk := w.next
			w.next = nil
			work(bulk)
		}
		select {
		case one := <-w.urgent:
			work(one)
		case one := <-w.ordinary:
			work(one)
		case one := <-w.bulk:
			work(one)
		case <-timer.C:
			c.apply(nil)
			c.checkpoint(time.Since(busy) >= whenIdle)
		case <-c.Quit:
			c.applyLast()
			return
		}
		if c.refusing.Load() != 0 { // closed while the disk takes no writes
			continue
		}
		c.checkpoint(false)
		for _, b := range c.work.Between {
			if b.Next() <= 0 {
				b.Do()
			}
		}
		timer.Reset(min(c.untilNext(), whenIdle))
	}
}

// applyLast answers the commands that wait when no more are taken.
func (c *Committer) applyLast() {
	for one := c.commands.any(); one != nil; one = c.commands.any() {
		if c.refusing.Load() != 0 {
			one.done <- ErrStopping
			continue
		}
		c.apply([]*command{one})
	}
	for _, l := range c.work.Listeners {
		l.Closed()
	}
}

func (c *Committer) checkpoint(idle bool) {
	if err := c.Store.Checkpoint(idle); err != nil {
		c.Log.Warn("the log could not be moved into the data file; it will be retried", "error", err)
	}
}

// untilNext tells how long nothing is to be done.
func (c *Committer) untilNext() time.Duration {
	sleep := Never
	if c.again {
		sleep = 0
	}
	tx := &Tx{Memory: c.Memory, c: c}
	for _, t := range c.work.Timed {
		sleep = min(sleep, t.Next(tx))
	}
	for _, b := range c.work.Between {
		sleep = min(sleep, b.Next())
	}
	if c.aside.any() { // what is set aside stays due
		sleep = max(sleep, lookAsideEvery)
	}
	return max(sleep, time.Until(c.retryAt), 0)
}

// fault is what has made a transaction fail.
type fault struct {
	error
	// command is the place in the batch of the command at fault, -1 for none.
	command int
	// thing is the timed work at fault; the zero thing for none.
	thing thing
	// disk says that the commit failed, or the file could not be read or written.
	disk bool
	// unknown says that the commit failed, so that the disk may hold it or not.
	unknown bool
}

// apply runs commands and whatever is due in one transaction, commits it and
// answers. What fails is left out and all else is applied again without it: a
// command is answered with its fault, timed work is set aside for a while.
func (c *Committer) apply(batch []*command) {
	timed := time.Until(c.retryAt) <= 0
	for {
		f := c.transact(batch, timed)
		switch {
		case f == nil:
			return
		case f.disk:
			c.diskFailed(batch, f)
			return
		case f.command >= 0:
			one := batch[f.command]
			if !IsProblem(f.error) {
				c.Log.Error("a command failed; it was left out", "error", f.error)
			}
			one.done <- c.refusal(f.error)
			batch = append(batch[:f.command:f.command], batch[f.command+1:]...)
		case f.thing != thing{}:
			c.setAside(f.thing, f.error)
		case timed:
			c.Log.Error("timed work failed; it will be retried in a second", "error", f.error)
			timed, c.retryAt = false, time.Now().Add(time.Second)
		case len(batch) > 1:
			c.Log.Error("a transaction failed; its commands are tried one by one", "commands", len(batch), "error", f.error)
			for _, one := range batch {
				c.apply([]*command{one})
			}
			return
		default:
			c.Log.Error("a transaction failed", "error", f.error)
			c.refuse(batch, f.error)
			return
		}
	}
}

// transact applies the batch. It answers every command where it succeeds, and
// changes nothing where it does not.
func (c *Committer) transact(batch []*command, timed bool) *fault {
	began := time.Now()
	tx := c.begin()
	answers := make([]error, len(batch))
	f := tx.run(batch, answers, timed)
	if f == nil {
		if err := tx.Flush(); err != nil {
			f = faultOf(err, -1, thing{})
		} else if err := c.Store.WriteLate(); err != nil {
			f = faultOf(err, -1, thing{})
		}
	}
	applied := time.Now()
	c.working.Add(int64(applied.Sub(began)))
	if f == nil && c.Store.Writing() {
		if err := c.Store.Commit(); err != nil {
			f = &fault{error: err, command: -1, disk: !store.IsFull(err), unknown: !store.IsFull(err)}
		}
		synced := time.Since(applied)
		c.commits.Add(1)
		c.syncing.Add(int64(synced))
		c.meters.add(len(batch), applied.Sub(began), synced)
	}
	if f != nil {
		if c.Store.Writing() {
			if undo := c.Store.Rollback(); undo != nil {
				c.Log.Error("a transaction could not be undone", "error", undo)
				f.disk = true
			}
		}
		c.Memory.Begin(tx.Now) // forgets it
		f.disk = f.disk || store.IsDiskFault(f.error) && f.command < 0 && f.thing == thing{}
		return f
	}
	tx.publish()
	for i, one := range batch {
		one.done <- answers[i]
	}
	if timed {
		c.turned.Store(time.Now().UnixNano())
	}
	return nil
}

// run applies the commands, then what is due, then what follows.
func (tx *Tx) run(batch []*command, answers []error, timed bool) *fault {
	for i, one := range batch {
		tx.doneBy(one.by, one.scope)
		var write Write
		err := guarded(func() (err error) {
			write, err = one.check(tx.View())
			return err
		})
		if answers[i] = err; err != nil {
			if IsProblem(err) {
				continue
			}
			return faultOf(err, i, thing{})
		}
		if write == nil {
			continue
		}
		if err := guarded(func() error { return write(tx) }); err != nil {
			if IsProblem(err) {
				tx.c.Log.Error("a command was refused after it was found to be right; what it has changed is undone", "error", err)
				tx.c.torn.Add(1)
			}
			return faultOf(err, i, thing{})
		}
	}
	tx.doneBy("", scope.Scope{})
	if timed {
		for _, t := range tx.c.work.Timed {
			if f := tx.do(t.Do); f != nil {
				return f
			}
		}
	}
	for _, do := range tx.c.work.Finally {
		if f := tx.do(do); f != nil {
			return f
		}
	}
	return nil
}

// do does a piece of the work.
func (tx *Tx) do(work func(*Tx) error) *fault {
	tx.Done()
	if err := guarded(func() error { return work(tx) }); err != nil {
		return faultOf(err, -1, tx.doing)
	}
	return nil
}

// faultOf lays an error to a command, or to timed work. A write that waited to go out with
// others fails while something else is done: it is laid to the job whose lease it was, or to
// nobody, so that each command is tried alone.
func faultOf(err error, command int, by thing) *fault {
	var late *store.LateError
	if !errors.As(err, &late) {
		return &fault{error: err, command: command, thing: by}
	}
	if late.Job == 0 {
		return &fault{error: err, command: -1}
	}
	return &fault{error: err, command: -1, thing: thing{ThingStart, late.Job}}
}

// guarded makes an error of a panic.
func guarded(do func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("panic: %v\n%s", p, debug.Stack())
		}
	}()
	return do()
}
