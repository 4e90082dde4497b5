package memory

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"encoding/hex"
	"iter"
	"maps"
	"strconv"
	"strings"
	"time"

	"humblemule.example/internal/core/order"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Leases are the live leases, by their jobs, with what comes next of each; and which jobs
// were given back of late.
type Leases struct{ LeasesView }

// LeasesView is what of them can be seen, and not changed.
type LeasesView struct {
	layered
	live Overlay[int64, *Lease]
	// ends are the leases by when something is to be done with them, and ofWorker those of
	// each worker, as they were committed.
	ends     *order.Heap[int64, *Lease]
	ofWorker map[string]map[int64]*Lease
	released Overlay[int64, Release]
}

// Lease is a live lease: the right to run one job until a time. It is never altered; a
// renewed one is another.
type Lease struct {
	// Row is the job's, without the payload.
	Row    *store.Row
	Policy job.Policy
	// Worker is the id by which the worker names itself.
	Worker string
	// Progress, ReportedAt and Lines are what its handler has told: how far it is, when it
	// said something last, and how many lines of its log there are.
	Progress   *job.Progress
	ReportedAt job.Time
	Lines      int
	// Ends is judged by the monotonic clock, as is Begun, since when the service has served
	// the lease.
	Ends, Begun time.Time
}

// Release is how often in a row a worker has given a job back, and since when.
type Release struct {
	Worker string
	Times  int
	Since  time.Time
}

// Token is what a worker shows to renew or end the lease.
func (l *Lease) Token() string {
	b := make([]byte, 0, 48)
	b = append(strconv.AppendInt(b, l.Row.ID, 10), '.')
	b = append(strconv.AppendInt(b, int64(l.Row.Attempt), 10), '.')
	var bits [8]byte
	binary.BigEndian.PutUint64(bits[:], uint64(l.Row.Token))
	return string(hex.AppendEncode(b, bits[:]))
}

// ParseToken reads a token.
func ParseToken(token string) (id int64, attempt int, bits int64, ok bool) {
	number, rest, _ := strings.Cut(token, ".")
	count, secret, _ := strings.Cut(rest, ".")
	if len(secret) != 16 {
		return 0, 0, 0, false
	}
	id, err1 := strconv.ParseInt(number, 10, 64)
	attempt, err2 := strconv.Atoi(count)
	raw, err3 := strconv.ParseUint(secret, 16, 64)
	return id, attempt, int64(raw), err1 == nil && err2 == nil && err3 == nil
}

// NewTokenBits draws the part of a token that nobody guesses.
func NewTokenBits() int64 {
	var b [8]byte
	rand.Read(b[:]) // never fails
	return int64(binary.LittleEndian.Uint64(b[:]))
}

// Length is for how long the lease is renewed each time.
func (l *Lease) Length() time.Duration { return time.Duration(l.Row.LeaseMS) * time.Millisecond }

// Renewed is the lease with its full length from now on.
func (l *Lease) Renewed() *Lease {
	next := *l
	next.Ends = time.Now().Add(l.Length())
	return &next
}

// Overruns is when the service ends an attempt that its worker has let run over its timeout
// by more than the lease's length.
func (l *Lease) Overruns() time.Time {
	if l.Policy.Timeout <= 0 {
		return l.Begun.Add(longestRun)
	}
	return l.Begun.Add(l.Policy.Timeout.Go() + l.Length())
}

// longestRun is later than every end of a lease.
const longestRun = 100 * 365 * 24 * time.Hour

// Next is when something is to be done: at its end, or when its attempt has overrun its
// timeout.
func (l *Lease) Next() time.Time {
	if at := l.Overruns(); at.Before(l.Ends) {
		return at
	}
	return l.Ends
}

func (p *Leases) load(f *file) error {
	keep(&p.layered, &p.live, map[int64]*Lease{})
	keep(&p.layered, &p.released, map[int64]Release{})
	p.ends = order.NewHeap[int64](func(a, b *Lease) bool { return a.Next().Before(b.Next()) })
	p.ofWorker = map[string]map[int64]*Lease{}
	rows, err := p.m.store.RunningNow(f.counts)
	if err != nil {
		return err
	}
	numbers := make([]int64, len(rows))
	for i, r := range rows {
		numbers[i] = r.Worker
	}
	workers, err := p.m.store.Workers(context.Background(), numbers)
	if err != nil {
		return err
	}
	for _, r := range rows {
		l := &Lease{Row: r, Worker: workers[r.Worker].ID, Begun: time.Now()}
		if l.Policy, err = p.m.Policies.Get(context.Background(), r.Policy); err != nil {
			return err
		}
		l.Row.Payload = nil
		if l.Lines, err = p.m.store.LogLines(r.ID, r.Attempt); err != nil {
			return err
		}
		l = l.Renewed()
		p.live.kept[r.ID] = l
		p.index(l)
	}
	return nil
}

func (p *Leases) index(l *Lease) {
	p.ends.Put(l.Row.ID, l)
	if p.ofWorker[l.Worker] == nil {
		p.ofWorker[l.Worker] = map[int64]*Lease{}
	}
	p.ofWorker[l.Worker][l.Row.ID] = l
}

func (p *Leases) unindex(l *Lease) {
	p.ends.Remove(l.Row.ID)
	if of := p.ofWorker[l.Worker]; len(of) > 1 {
		delete(of, l.Row.ID)
	} else {
		delete(p.ofWorker, l.Worker)
	}
}

// Get finds the lease of a job; nil where it has none.
func (p *LeasesView) Get(id int64) *Lease { return p.live.At(id) }

// Find finds the live lease that a token names; nil where it is none.
func (p *LeasesView) Find(token string) *Lease {
	id, attempt, bits, ok := ParseToken(token)
	if l := p.Get(id); ok && l != nil && l.Row.Attempt == attempt && l.Row.Token == bits {
		return l
	}
	return nil
}

// Put gives a job a lease, in the place of the one that it has.
func (p *Leases) Put(l *Lease) { p.live.Put(l.Row.ID, l) }

// End takes the lease of a job away.
func (p *Leases) End(id int64) { p.live.Delete(id) }

// Of gives the leases of a worker that were committed and still live.
func (p *LeasesView) Of(worker string) (all []*Lease) {
	for id := range p.ofWorker[worker] {
		if l := p.Get(id); l != nil && l.Worker == worker {
			all = append(all, l)
		}
	}
	return all
}

// Over gives leases that were committed and with which something is to be done by a time,
// at most so many.
func (p *LeasesView) Over(now time.Time, most int) []*Lease {
	return p.ends.While(func(l *Lease) bool { return !l.Next().After(now) }, most)
}

// NextEnd is when something is next to be done with a lease that was committed; the zero
// time where there is none.
func (p *LeasesView) NextEnd() time.Time {
	if _, l, found := p.ends.First(); found {
		return l.Next()
	}
	return time.Time{}
}

// Released tells how often in a row a job was given back.
func (p *LeasesView) Released(id int64) Release { return p.released.At(id) }

// SetReleased notes it.
func (p *Leases) SetReleased(id int64, r Release) { p.released.Put(id, r) }

func (p *Leases) publish() {
	for id := range p.live.changed {
		if was := p.live.kept[id]; was != nil && p.live.At(id) == nil {
			p.unindex(was)
		}
	}
	for id, l := range p.live.Changed() {
		if was := p.live.kept[id]; was != nil && was.Worker != l.Worker {
			p.unindex(was)
		}
		p.index(l)
	}
	p.layered.publish()
	p.forgetReleases()
}

// ReleasesWithin is how long it counts that a job was given back.
const ReleasesWithin = 10 * time.Second

// forgetReleases drops what no longer decides anything, where it has become much.
func (p *Leases) forgetReleases() {
	const many = 1000
	if len(p.released.changed) == 0 || len(p.released.kept) < many {
		return
	}
	maps.DeleteFunc(p.released.kept, func(_ int64, r Release) bool { return time.Since(r.Since) > ReleasesWithin })
}

// Kept finds the lease of a job; nil where it has none.
func (p *LeasesView) Kept(id int64) *Lease {
	l, _ := p.live.Kept(id)
	return l
}

// KeptOf visits the leases of a worker.
func (p *LeasesView) KeptOf(worker string) iter.Seq[*Lease] { return maps.Values(p.ofWorker[worker]) }

// AllKept visits all leases.
func (p *LeasesView) AllKept() iter.Seq[*Lease] {
	return func(yield func(*Lease) bool) {
		for _, l := range p.live.AllKept() {
			if !yield(l) {
				return
			}
		}
	}
}

// NumKept counts the live leases.
func (p *LeasesView) NumKept() int { return p.live.NumKept() }
