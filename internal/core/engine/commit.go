package engine

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"runtime/debug"
	"time"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// command is a function on a transaction, and where its answer goes. It checks
// first and writes after: a *job.Problem says that it has written nothing, and the
// committer holds it to that. It may be applied again, when a transaction failed.
type command struct {
	apply func(*txn) error
	// rows is about how many rows it writes, and by who gave it.
	rows int
	by   string
	done chan error
}

// What one transaction holds at most: a single command, or several up to so many
// rows.
const (
	mostTogether = 1024
	mostRows     = 5000
)

// BulkRows is from how many rows on a command is a bulk: it goes when the small ones that
// waited have gone, and of bulks one at a time.
const BulkRows = 500

// waits are the commands that wait, in order of their arrival. What ends or renews a
// lease goes first: its worker must not lose a job because others write much.
type waits struct {
	urgent, ordinary, bulk chan *command
	// next is a bulk whose turn has come.
	next *command
}

func newWaits() waits {
	return waits{make(chan *command, 8192), make(chan *command, 8192), make(chan *command, 256), nil}
}

// do applies a command that writes a few rows and answers after it is on disk.
func (e *Engine) do(ctx context.Context, apply func(*txn) error) error {
	return e.send(ctx, e.commands.ordinary, 1, apply)
}

// doRows applies a command that writes about so many rows.
func (e *Engine) doRows(ctx context.Context, rows int, apply func(*txn) error) error {
	if rows >= BulkRows {
		return e.send(ctx, e.commands.bulk, rows, apply)
	}
	return e.send(ctx, e.commands.ordinary, rows, apply)
}

// doFirst applies a command that ends or renews leases.
func (e *Engine) doFirst(ctx context.Context, rows int, apply func(*txn) error) error {
	if rows > mostRows {
		return e.send(ctx, e.commands.bulk, rows, apply)
	}
	return e.send(ctx, e.commands.urgent, rows, apply)
}

func (e *Engine) send(ctx context.Context, to chan *command, rows int, apply func(*txn) error) error {
	c := &command{apply: apply, rows: max(rows, 1), by: callOf(ctx).Principal, done: make(chan error, 1)}
	select {
	case <-e.quit:
		return errStopping
	default:
	}
	select {
	case to <- c:
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
	work := func(first *command) {
		batch := e.gather(first)
		e.worked.Add(int64(len(batch)))
		e.apply(batch)
		busy = time.Now()
	}
	w := &e.commands
	for {
		if w.next != nil {
			bulk := w.next
			w.next = nil
			work(bulk)
		}
		select {
		case c := <-w.urgent:
			work(c)
		case c := <-w.ordinary:
			work(c)
		case c := <-w.bulk:
			work(c)
		case <-timer.C:
			e.apply(nil)
			e.checkpoint(time.Since(busy) >= whenIdle)
		case <-e.quit:
			for c := w.any(); c != nil; c = w.any() {
				if e.refusing.Load() != 0 {
					c.done <- errStopping
					continue
				}
				e.apply([]*command{c})
			}
			e.dropParked()
			return
		}
		if e.refusing.Load() != 0 { // closed while the disk takes no writes
			continue
		}
		e.checkpoint(false)
		timer.Reset(min(e.untilNext(), whenIdle))
	}
}

// any takes a command that waits; nil where none does.
func (w *waits) any() (c *command) {
	if c, w.next = w.next, nil; c != nil {
		return c
	}
	for _, from := range []chan *command{w.urgent, w.ordinary, w.bulk} {
		select {
		case c = <-from:
			return c
		default:
		}
	}
	return nil
}

// gather takes the commands that wait, as many as a transaction may hold. Where there
// are several it lets those run who are about to give theirs, a few times: a commit
// costs the disk as much for one as for many. A command that is alone waits for
// nobody. A bulk that finds no room is next.
func (e *Engine) gather(first *command) []*command {
	const yields = 5
	w := &e.commands
	batch, rows := []*command{first}, first.rows
	add := func(from chan *command) {
		for len(batch) < mostTogether && rows < mostRows {
			select {
			case c := <-from:
				batch, rows = append(batch, c), rows+c.rows
			default:
				return
			}
		}
	}
	if first.rows >= BulkRows && len(w.urgent)+len(w.ordinary) > 0 && !e.bulkWent {
		w.next, batch, rows = first, nil, 0 // what is small does not wait for it
	}
	for range yields {
		add(w.urgent)
		add(w.ordinary)
		if len(batch) == 1 {
			break
		}
		runtime.Gosched()
	}
	if w.next == nil && rows < mostRows {
		select {
		case w.next = <-w.bulk:
		default:
		}
	}
	if b := w.next; b != nil && rows+b.rows <= mostRows {
		batch, w.next = append(batch, b), nil
	}
	e.bulkWent = w.next != nil // then its turn is the next one
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
	for _, next := range []job.Time{e.nextDue, e.nextDrop, e.nextLate} {
		if next != 0 {
			sleep = min(sleep, time.Second, next.Sub(e.now()))
		}
	}
	if e.nextSweep != 0 {
		sleep = min(sleep, time.Duration(e.nextSweep-e.served())*time.Millisecond)
	}
	sleep = min(sleep, time.Until(e.nextRetain), time.Until(e.nextForget))
	if len(e.walking) > 0 {
		sleep = min(sleep, walkSoon)
	}
	if e.again {
		sleep = 0
	}
	if len(e.plan) > 0 {
		sleep = min(sleep, time.Second, e.plan[0].firesAt().Sub(e.now()))
	}
	if !e.nextStart.IsZero() {
		sleep = min(sleep, time.Until(e.nextStart))
	}
	if len(e.ends) > 0 {
		sleep = min(sleep, time.Until(e.ends[0].next))
	}
	if e.aside.any() { // what is set aside stays due
		sleep = max(sleep, lookAsideEvery)
	}
	return max(sleep, time.Until(e.retryAt), 0)
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
func (e *Engine) apply(batch []*command) {
	timed := time.Until(e.retryAt) <= 0
	e.watchClock()
	for {
		f := e.transact(batch, timed)
		switch {
		case f == nil:
			e.sendEmptyHome()
			return
		case f.disk:
			e.diskFailed(batch, f)
			return
		case f.command >= 0:
			c := batch[f.command]
			if !isProblem(f.error) {
				e.log.Error("a command failed; it was left out", "error", f.error)
			}
			c.done <- e.refusal(f.error)
			batch = append(batch[:f.command:f.command], batch[f.command+1:]...)
		case f.thing != thing{}:
			e.setAside(f.thing, f.error)
		case timed:
			e.log.Error("timed work failed; it is tried again in a second", "error", f.error)
			timed, e.retryAt = false, time.Now().Add(time.Second)
		case len(batch) > 1:
			e.log.Error("a transaction failed; its commands are tried one by one", "commands", len(batch), "error", f.error)
			for _, c := range batch {
				e.apply([]*command{c})
			}
			return
		default:
			e.log.Error("a transaction failed", "error", f.error)
			e.refuse(batch, f.error)
			e.dropClaimed(e.refusal(f.error))
			return
		}
	}
}

// transact applies the batch. It answers every command where it succeeds, and
// changes nothing where it does not.
func (e *Engine) transact(batch []*command, timed bool) *fault {
	tx := e.begin()
	answers := make([]error, len(batch))
	f := tx.run(batch, answers, timed)
	if f == nil {
		if err := tx.flush(); err != nil {
			f = &fault{error: err, command: -1}
		}
	}
	wrote := e.store.Writing()
	if f == nil && wrote {
		if err := e.store.Commit(); err != nil {
			f = &fault{error: err, command: -1, disk: !store.IsFull(err), unknown: !store.IsFull(err)}
		}
	}
	if f != nil {
		if e.store.Writing() {
			if undo := e.store.Rollback(); undo != nil {
				e.log.Error("a transaction could not be undone", "error", undo)
				f.disk = true
			}
		}
		f.disk = f.disk || store.IsDiskFault(f.error) && f.command < 0 && f.thing == thing{}
		return f
	}
	tx.publish(wrote)
	for i, c := range batch {
		c.done <- answers[i]
	}
	if timed {
		e.turned.Store(time.Now().UnixNano())
	}
	return nil
}

// run applies the commands, then what is due, then deals.
func (tx *txn) run(batch []*command, answers []error, timed bool) *fault {
	for i, c := range batch {
		wrote := tx.e.store.Writes()
		tx.by = c.by
		err := guarded(func() error { return c.apply(tx) })
		if answers[i] = err; err != nil && (!isProblem(err) || tx.e.store.Writes() != wrote) {
			if isProblem(err) {
				tx.e.log.Error("a command was refused after it had written; what it wrote is undone", "error", err)
				tx.e.tornRefusals.Add(1)
			}
			return &fault{error: err, command: i}
		}
	}
	tx.by = ""
	if timed {
		for _, work := range timedWork {
			if err := guarded(func() error { return work(tx) }); err != nil {
				return &fault{error: err, command: -1, thing: tx.doing}
			}
		}
	}
	tx.doing = thing{}
	err := guarded(func() error {
		if err := errors.Join(tx.letRunsGo(), tx.deal()); err != nil || len(tx.ended) == 0 {
			return err
		}
		tx.again = true // what was skipped as too late has let a run go on, which is dealt next
		return tx.letRunsGo()
	})
	if err != nil {
		return &fault{error: err, command: -1, thing: tx.doing}
	}
	return nil
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

// refuse answers commands whose transaction failed.
func (e *Engine) refuse(batch []*command, err error) {
	for _, c := range batch {
		c.done <- e.refusal(err)
	}
}

// refusal is what a caller is told of a fault; how it came about is in the log.
func (e *Engine) refusal(err error) error {
	switch {
	case isProblem(err):
		return err
	case store.IsFull(err):
		return job.Fault(job.NoSpace, "the disk is full: nothing of this was kept, and what was acknowledged before is safe; free some space and try again")
	case store.IsCorrupt(err):
		return job.Fault(job.Broken, "the data file %s is damaged (more is in the service's log); nothing of this was kept: stop the service, copy the file away, and restore a backup", e.store.Path())
	case store.IsDiskFault(err):
		return job.Fault(job.Busy, "the disk failed; nothing of this was kept, try again in a moment")
	}
	return job.Fault(job.Broken, "the service made a mistake, which is in its log; nothing of this was kept")
}

// diskFailed answers a batch whose commit failed, and waits until the disk takes writes
// again. The writing connection stays open, and nothing is checkpointed: its index of
// the log ends with the last commit that was acknowledged, so that the next one writes
// over what may or may not have reached the disk. Closing it would read that back as
// committed. Only a damaged file is opened again.
func (e *Engine) diskFailed(batch []*command, f *fault) {
	cause, told := f.error, e.refusal(f.error)
	e.log.Error("the disk failed; nothing is written until it takes writes again", "error", cause)
	if f.unknown {
		told = job.Fault(job.Uncertain, "the disk failed while this was written: whether it was kept is not known; the same call with the same Idempotency-Key brings the truth once the disk is back")
	}
	since := e.now()
	e.refusing.Store(int64(since)) // before anyone is answered, who may ask whether it is ready
	for _, c := range batch {
		c.done <- told
	}
	e.dropClaimed(told)
	pause, most := 100*time.Millisecond, 2*time.Second
	for {
		if e.refuseFor(pause) {
			return
		}
		if e.probe(cause) == nil {
			break
		}
		pause = min(2*pause, most)
	}
	e.refusing.Store(0)
	e.log.Info("the disk takes writes again", "refused_for", e.now().Sub(since))
}

// probe tries a small commit of new content; of a damaged file it opens it again.
func (e *Engine) probe(cause error) error {
	if store.IsCorrupt(cause) {
		err := e.store.Reopen()
		if err == nil {
			err = e.recover()
		}
		if err != nil {
			e.log.Error("the data file cannot be opened; no command is taken until it can", "error", err)
			return err
		}
		e.watchers.reset()
	}
	err := e.store.Probe(e.opts.Wall().UnixNano())
	if err != nil {
		if e.store.Writing() {
			e.store.Rollback()
		}
		e.log.Warn("the disk still takes no writes", "error", err)
	}
	return err
}

// refuseFor answers commands with a refusal for a while; true when the engine
// is closed meanwhile.
func (e *Engine) refuseFor(d time.Duration) (closed bool) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	w := &e.commands
	refused := job.Fault(job.Busy, "the disk takes no writes now; nothing of this was kept, try again in a moment")
	for {
		select {
		case c := <-w.urgent:
			c.done <- refused
		case c := <-w.ordinary:
			c.done <- refused
		case c := <-w.bulk:
			c.done <- refused
		case <-timer.C:
			return false
		case <-e.quit:
			return true
		}
	}
}
