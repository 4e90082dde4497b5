package commit

import (
	"errors"
	"time"

	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// IsProblem tells whether err is the answer to a command that has changed nothing, rather
// than a fault of the store.
func IsProblem(err error) bool {
	var p *job.Problem
	return errors.As(err, &p)
}

// refuse answers commands whose transaction failed.
func (c *Committer) refuse(batch []*command, err error) { c.answer(batch, c.refusal(err)) }

func (c *Committer) answer(batch []*command, told error) {
	for _, one := range batch {
		one.done <- told
	}
	for _, l := range c.work.Listeners {
		l.Failed(told)
	}
}

// refusal is what a caller is told of a fault; how it came about is in the log.
func (c *Committer) refusal(err error) error {
	switch {
	case IsProblem(err):
		return err
	case store.IsFull(err):
		return job.Fault(job.NoSpace, "the disk is full: nothing of this was kept, and what was acknowledged before is safe; free some space and try again")
	case store.IsCorrupt(err):
		return job.Fault(job.Broken, "the data file %s is damaged (more is in the service's log); nothing of this was kept: stop the service, copy the file away, and restore a backup", c.Store.Path())
	case store.IsDiskFault(err):
		return job.Fault(job.Busy, "the disk failed; nothing of this was kept, try again in a moment")
	}
	return job.Fault(job.Broken, "internal error; the service's log has it, and nothing of this was kept")
}

// diskFailed answers a batch whose commit failed, and waits until the disk takes writes
// again. The writing connection stays open, and nothing is checkpointed: its index of
// the log ends with the last commit that was acknowledged, so that the next one writes
// over what may or may not have reached the disk. Closing it would read that back as
// committed. Only a damaged file is opened again.
func (c *Committer) diskFailed(batch []*command, f *fault) {
	cause, told := f.error, c.refusal(f.error)
	c.Log.Error("the disk failed; nothing is written until it takes writes again", "error", cause)
	if f.unknown {
		told = job.Fault(job.Uncertain, "the disk failed while this was written: whether it was kept is not known; the same call with the same Idempotency-Key brings the truth once the disk is back")
	}
	since := c.Now()
	c.refusing.Store(int64(since)) // before anyone is answered, who may ask whether it is ready
	c.answer(batch, told)
	pause, most := 100*time.Millisecond, 2*time.Second
	for {
		if c.refuseFor(pause) {
			return
		}
		if c.probe(cause) == nil {
			break
		}
		pause = min(2*pause, most)
	}
	c.refusing.Store(0)
	c.Log.Info("the disk takes writes again", "refused_for", c.Now().Sub(since))
}

// probe tries a small commit of new content; a damaged file is opened again.
func (c *Committer) probe(cause error) error {
	if store.IsCorrupt(cause) {
		err := c.Store.Reopen()
		if err == nil {
			err = c.load()
		}
		if err != nil {
			c.Log.Error("the data file cannot be opened; no command is taken until it can", "error", err)
			return err
		}
		for _, l := range c.work.Listeners {
			l.Loaded()
		}
	}
	err := c.Store.Probe(c.Wall().UnixNano())
	if err != nil {
		if c.Store.Writing() {
			err = errors.Join(err, c.Store.Rollback())
		}
		c.Log.Warn("the disk still takes no writes", "error", err)
	}
	return err
}

// refuseFor answers commands with a refusal for a while; true when the engine
// is closed meanwhile.
func (c *Committer) refuseFor(d time.Duration) (closed bool) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	w := &c.commands
	refused := job.Fault(job.Busy, "the disk takes no writes now; nothing of this was kept, try again in a moment")
	for {
		select {
		case one := <-w.urgent:
			one.done <- refused
		case one := <-w.ordinary:
			one.done <- refused
		case one := <-w.bulk:
			one.done <- refused
		case <-timer.C:
			return false
		case <-c.Quit:
			return true
		}
	}
}
