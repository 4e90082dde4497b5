package deal

import (
	"cmp"
	"context"
	"slices"
	"sync/atomic"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/job"
)

// What may have become of a take.
const (
	waiting int32 = iota
	claimed       // the committer is dealing to it: its caller waits for the answer
	over          // answered, or its caller has gone
)

// take is a request for jobs. One that finds nothing is parked until there is something for
// it or its caller has gone.
type take struct {
	ctx    context.Context
	req    *api.LeaseRequest
	worker memory.WorkerRef
	call   memory.CallID
	park   bool
	// replays says that the worker takes no more jobs: a call that is made again
	// brings what it has brought.
	replays bool
	// home says that the take is to wait no longer. The committer alone reads and writes it;
	// park is its caller's once the take is dealt.
	home bool
	// own tells that it is for the service's own slots, which take calls alone.
	own bool
	// arrived orders the takes, and round is the deal that it is part of.
	arrived, round int64
	state          atomic.Int32
	leases         []api.Lease
	// lines are those of its queues, in the deal that it is part of.
	lines []line
	err   error
	done  chan struct{}
}

// live tells whether somebody still waits for the take.
func (t *take) live() bool { return t.state.Load() != over && t.ctx.Err() == nil }

// claim has the caller wait for the answer; false where it has gone.
func (t *take) claim() bool {
	return t.state.Load() == claimed || t.state.CompareAndSwap(waiting, claimed)
}

// leave ends a take from the caller's side; false where the answer is on its
// way.
func (t *take) leave() bool { return t.state.CompareAndSwap(waiting, over) }

func (t *take) answer(err error) {
	t.err = err
	t.state.Store(over)
	close(t.done)
}

// waitsIn are the queues for which it is parked.
func (t *take) waitsIn() []string {
	if t.own {
		return []string{callsWaitIn}
	}
	return t.req.Queues
}

// tasks are those that it may have; nil for all. What makes calls may have changed since it was parked.
func (t *take) tasks() []string {
	if t.own {
		return nil
	}
	return t.req.Tasks
}

func (t *take) weight(queue string) int { return max(t.req.Weights[queue], 1) }

// settled answers a take after its transaction, where it was served, was claimed by one that
// failed, does not wait, or its caller has gone; and tells whether it is over.
func (t *take) settled() bool {
	switch {
	case t.state.Load() == over:
		return true
	case len(t.leases) == 0 && t.state.Load() == waiting && t.park && !t.home && t.ctx.Err() == nil:
		return false
	case t.claim():
		t.answer(nil)
	}
	return true
}

// await waits for a take's answer, at most as long as asked, and tells whether
// there is one.
func (de *Dealer) await(t *take, wait time.Duration) (answered bool) {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	var timeout <-chan time.Time
	if t.park {
		timeout = timer.C
	}
	select {
	case <-t.done:
		return true
	case <-timeout:
	case <-t.ctx.Done():
	case <-de.c.Stopped:
	}
	if t.leave() {
		de.parked.left.Add(1)
		return false
	}
	<-t.done
	return true
}

// parked are the takes that wait, found by the queues they wait for and by their workers, so
// that a transaction looks at those alone for which it may have brought something.
type parked struct {
	arrivals int64
	rounds   int64
	byQueue  map[string]map[*take]bool
	byWorker map[string]map[*take]bool
	all      map[*take]bool
	// fresh are the takes of the transaction, and touched those that it, or one before it
	// that failed, has dealt to.
	fresh, touched []*take
	// stirred are queues in which something may go on by now; stirredAll says that of all.
	stirred    map[string]bool
	stirredAll bool
	// dealt is how much of the transaction's news was dealt.
	dealt int
	// calling are the queues that have calls for the service's own slots.
	calling calling
	// left counts the takes whose callers have gone since those were last looked for.
	left atomic.Int64
	// waiting is how many there are, for whoever asks.
	waiting atomic.Int64
}

func newParked() *parked {
	return &parked{byQueue: map[string]map[*take]bool{}, byWorker: map[string]map[*take]bool{}, all: map[*take]bool{}, stirred: map[string]bool{}}
}

// Parked counts the requests for jobs that wait until there is one.
func (de *Dealer) Parked() int64 { return max(de.parked.waiting.Load()-de.parked.left.Load(), 0) }

// add brings a take before the transaction.
func (p *parked) add(t *take) {
	p.arrivals++
	t.arrived = p.arrivals
	p.fresh = append(p.fresh, t)
}

// stir notes that something may go on in a queue.
func (p *parked) stir(queue string) {
	p.stirred[queue] = true
	if p.calling.queues[queue] {
		p.stirred[callsWaitIn] = true
	}
}

// concerned are the takes to which the transaction may have something to deal, in order of
// their arrival: its own, and those that wait for what it has stirred.
func (p *parked) concerned(tx *commit.Tx) (found []*take) {
	p.stirredAll = p.stirredAll || tx.News.Settings || tx.Settings.LimitsChanged() || tx.HasAside()
	p.stirBy(tx)
	p.rounds++
	add := func(t *take) {
		if t.round != p.rounds {
			t.round = p.rounds
			found = append(found, t)
		}
	}
	if p.stirredAll {
		for t := range p.all {
			add(t)
		}
	}
	for queue := range p.stirred {
		for t := range p.byQueue[queue] {
			add(t)
		}
	}
	for _, t := range p.fresh {
		add(t)
	}
	slices.SortFunc(found, func(a, b *take) int { return cmp.Compare(a.arrived, b.arrived) })
	p.touched = append(p.touched, found...)
	return found
}

// stirBy notes in which queues something may go on by what has moved: a job became ready, or
// one that a limit counts is no longer running.
func (p *parked) stirBy(tx *commit.Tx) {
	for _, m := range tx.News.Moved[p.dealt:] {
		if m.To == job.Ready && tx.Settings.MakesCalls(m.At.Task) {
			p.calling.seen(tx.Queues.Name(m.At.Queue))
		}
		if m.To == job.Ready || m.From == job.Running {
			p.stir(tx.Queues.Name(m.At.Queue))
		}
		if d := tx.Settings.Task(m.At.Task); m.From == job.Running && d != nil && d.MaxRunning != nil {
			p.stirredAll = true // its jobs may be ready anywhere
		}
	}
	p.dealt = len(tx.News.Moved)
}

// keep parks a take, and drop takes it out of those that are parked.
func (p *parked) keep(t *take) {
	p.all[t] = true
	p.waiting.Store(int64(len(p.all)))
	into(p.byWorker, t.worker.UID)[t] = true
	for _, queue := range t.waitsIn() {
		into(p.byQueue, queue)[t] = true
	}
}

// drop goes with [parked.keep].
func (p *parked) drop(t *take) {
	if !p.all[t] {
		return
	}
	delete(p.all, t)
	p.waiting.Store(int64(len(p.all)))
	outOf(p.byWorker, t.worker.UID, t)
	for _, queue := range t.waitsIn() {
		outOf(p.byQueue, queue, t)
	}
}

func into(all map[string]map[*take]bool, key string) map[*take]bool {
	if all[key] == nil {
		all[key] = map[*take]bool{}
	}
	return all[key]
}

func outOf(all map[string]map[*take]bool, key string, t *take) {
	if delete(all[key], t); len(all[key]) == 0 {
		delete(all, key)
	}
}

// Begin forgets the takes that a transaction brought which failed.
func (de *Dealer) Begin() {
	p := de.parked
	p.fresh, p.dealt = nil, 0
	for _, t := range p.touched {
		t.leases = nil
	}
}

// Published answers the takes that were served, and parks those that were not.
func (de *Dealer) Published(tx *commit.Tx) {
	p := de.parked
	for uid := range tx.Workers.Asked() {
		de.answerParked(uid)
	}
	for _, t := range p.touched {
		if t.settled() {
			p.drop(t)
		}
	}
	for _, t := range p.fresh {
		if !t.settled() {
			p.keep(t)
		}
	}
	clear(p.touched)
	clear(p.stirred)
	p.stirredAll, p.fresh, p.touched = false, nil, p.touched[:0]
	if p.calling.more {
		p.stir(callsWaitIn)
	}
	p.stirBy(tx) // what has moved after the deal is dealt next
	p.forgetGone()
}

// answerParked lets the parked takes of a worker that takes no more jobs wait no longer.
func (de *Dealer) answerParked(uid string) {
	takes := de.parked.byWorker[uid]
	if len(takes) == 0 {
		return
	}
	if _, more := de.m.Workers.Presence.Wants(uid); more {
		return
	}
	for t := range takes {
		t.home = true
		de.parked.touched = append(de.parked.touched, t)
	}
}

// forgetGone drops takes whose callers have gone, once they are many.
func (p *parked) forgetGone() {
	const few = 64
	if n := int(p.left.Load()); n < few || 2*n < len(p.all) {
		return
	}
	p.left.Store(0)
	for t := range p.all {
		if t.state.Load() == over {
			p.drop(t)
		}
	}
}

// Failed answers takes that were being dealt to when the transaction failed.
func (de *Dealer) Failed(told error) {
	p := de.parked
	for _, t := range p.touched {
		if t.state.Load() == claimed {
			t.leases = nil
			t.answer(told)
			p.drop(t)
		}
	}
	clear(p.touched)
	p.touched = p.touched[:0]
}

// Loaded has every take looked at: anything may be there.
func (de *Dealer) Loaded() { de.parked.stirredAll, de.parked.calling = true, calling{} }

// Closed answers all takes.
func (de *Dealer) Closed() {
	for t := range de.parked.all {
		if t.claim() {
			t.answer(commit.ErrStopping)
		}
	}
	de.parked = newParked()
}
