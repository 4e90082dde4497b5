package engine

import (
	"container/heap"
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// lease is a live lease. Its row is the job's, without the payload.
type lease struct {
	row    *store.Row
	policy job.Policy
	worker string
	// progress, reportedAt and lines are what its handler has told.
	progress   *job.Progress
	reportedAt job.Time
	lines      int
	// ends is judged by the monotonic clock, as is begun, since when the service has
	// served the lease.
	ends, begun time.Time
	// next is when something is to be done: at its end, or when its attempt has overrun
	// its timeout.
	next  time.Time
	index int // in leaseEnds
}

func (l *lease) token() string { return formatToken(l.row.ID, l.row.Attempt, l.row.Token) }

func (l *lease) length() time.Duration { return time.Duration(l.row.LeaseMS) * time.Millisecond }

func (l *lease) renew() {
	l.ends = time.Now().Add(l.length())
	if l.next = l.ends; l.overruns().Before(l.next) {
		l.next = l.overruns()
	}
}

// overruns is when the service ends an attempt that its worker has let run over its
// timeout by more than the lease's length.
func (l *lease) overruns() time.Time {
	if l.policy.Timeout <= 0 {
		return l.begun.Add(longestRun)
	}
	return l.begun.Add(l.policy.Timeout.Go() + l.length())
}

// longestRun is later than every end of a lease.
const longestRun = 100 * 365 * 24 * time.Hour

func formatToken(id int64, attempt int, bits int64) string {
	return fmt.Sprintf("%d.%d.%016x", id, attempt, uint64(bits))
}

func parseToken(token string) (id int64, attempt int, bits int64, ok bool) {
	parts := strings.Split(token, ".")
	if len(parts) != 3 || len(parts[2]) != 16 {
		return 0, 0, 0, false
	}
	id, err1 := strconv.ParseInt(parts[0], 10, 64)
	attempt, err2 := strconv.Atoi(parts[1])
	raw, err3 := strconv.ParseUint(parts[2], 16, 64)
	return id, attempt, int64(raw), err1 == nil && err2 == nil && err3 == nil
}

func newTokenBits() int64 {
	var b [8]byte
	rand.Read(b[:]) // never fails
	return int64(binary.LittleEndian.Uint64(b[:]))
}

// leaseEnds is a heap of leases by their end.
type leaseEnds []*lease

func (h leaseEnds) Len() int           { return len(h) }
func (h leaseEnds) Less(i, j int) bool { return h[i].next.Before(h[j].next) }
func (h leaseEnds) Swap(i, j int) {
	h[i], h[j] = h[j], h[i]
	h[i].index, h[j].index = i, j
}

// Push is heap.Interface's.
func (h *leaseEnds) Push(x any) {
	l := x.(*lease)
	l.index = len(*h)
	*h = append(*h, l)
}

// Pop is heap.Interface's.
func (h *leaseEnds) Pop() any {
	last := len(*h) - 1
	l := (*h)[last]
	(*h)[last] = nil
	*h = (*h)[:last]
	return l
}

// before gives leases with which something is to be done by a time, at most so many. A
// lease's parent in the heap comes no later than itself.
func (h leaseEnds) before(now time.Time, most int) (ended []*lease) {
	next := []int{0}
	for len(next) > 0 && len(ended) < most {
		i := next[0]
		next = next[1:]
		if i < len(h) && !h[i].next.After(now) {
			ended = append(ended, h[i])
			next = append(next, 2*i+1, 2*i+2)
		}
	}
	return ended
}

func (h *leaseEnds) add(l *lease)     { heap.Push(h, l) }
func (h *leaseEnds) remove(l *lease)  { heap.Remove(h, l.index) }
func (h *leaseEnds) renewed(l *lease) { heap.Fix(h, l.index) }

// lease finds a live lease as the transaction sees it.
func (tx *txn) lease(id int64) *lease {
	if l, touched := tx.leases[id]; touched {
		return l
	}
	return tx.e.leases[id]
}

func (tx *txn) putLease(id int64, l *lease) {
	if tx.leases == nil {
		tx.leases = map[int64]*lease{}
	}
	tx.leases[id] = l
}

// Extend renews leases by the length asked when they were taken.
func (e *Engine) Extend(ctx context.Context, req job.ExtendRequest) (job.ExtendAnswer, error) {
	items := req.Leases
	if len(items) > job.MaxLeaseItems {
		return job.ExtendAnswer{}, job.Fault(job.Invalid, "%d renewals in one call are too many; at most %d are taken, nothing was renewed", len(items), job.MaxLeaseItems)
	}
	answer := job.ExtendAnswer{Results: make([]job.ExtendResult, len(items)), Wanted: job.WantRun}
	workers := map[string]bool{}
	tokens := make([]string, len(items))
	for i := range items {
		tokens[i] = items[i].Token
	}
	defer e.renewals.arrived(tokens)()
	err := e.doFirst(ctx, len(items), func(tx *txn) error {
		for i, item := range items {
			var l *lease
			var errs error
			answer.Results[i], l, errs = tx.extend(item)
			if errs != nil {
				return errs
			}
			if l != nil {
				workers[l.worker] = true
			}
		}
		if !e.registry.isOf(req.Worker, callOf(ctx).Principal) {
			return nil
		}
		var err error
		answer.Leases, err = tx.unknownTo(req.Worker, tokens)
		return err
	})
	for uid := range workers {
		e.registry.saw(uid, e.now(), 0)
		if answer.Wanted == job.WantRun {
			answer.Wanted, _ = e.registry.wants(uid)
		}
	}
	return answer, err
}

// extend renews one lease and takes what its handler tells. The renewal is not
// stored: after a restart every live lease has its full length anyway.
func (tx *txn) extend(item job.Extension) (job.ExtendResult, *lease, error) {
	res := job.ExtendResult{Token: item.Token, Status: job.StatusLost}
	id, attempt, bits, ok := parseToken(item.Token)
	l := tx.lease(id)
	if !ok || l == nil || l.row.Attempt != attempt || l.row.Token != bits {
		return res, nil, nil
	}
	l.renew()
	if tx.e.leases[id] == l {
		tx.e.ends.renewed(l)
	}
	res.Status, res.ExpiresAt = job.StatusOK, tx.now.Add(l.length())
	if l.row.CancelAskedAt != 0 {
		res.Status = job.StatusCancelled
	}
	wrong, err := tx.checkSteps(l, &item)
	if err != nil {
		return res, l, err
	}
	mended := item.Report.Mend()
	report, dropped := tx.fitReport(l, item.Report)
	res.Errors = slices.Concat(item.Misread, mended, dropped, wrong)
	if wrong == nil {
		err = tx.takeSteps(l, &item)
	}
	return res, l, errors.Join(err, tx.report(l, &report))
}

// endLeases ends what was not renewed: a failed attempt of type lease_lost; and what has
// overrun its timeout though it was renewed: one of type timeout.
func (tx *txn) endLeases() error {
	const most = 500
	now := time.Now()
	for _, l := range tx.e.ends.before(now, most+tx.room(thingLeaseEnd)) {
		if tx.lease(l.row.ID) != l || tx.passes(thingLeaseEnd, l.row.ID) {
			continue
		}
		s := job.Settlement{Outcome: job.OutcomeFailed, Error: &job.Failure{
			Type: job.LeaseLost, Message: fmt.Sprintf("the lease was not renewed for %s", job.Roughly(l.length())),
		}}
		if !l.overruns().After(now) {
			s.Error = &job.Failure{Type: job.TimedOut, Message: fmt.Sprintf("the attempt ran longer than the job's timeout (%s), and its worker did not end it", l.policy.Timeout)}
		} else if tx.e.renewals.wait(l.row.ID) {
			continue
		}
		if _, err := tx.end(l, &settlement{Settlement: s, cause: tx.e.causer.of(s.Error)}, job.ByLeaseEnd); err != nil {
			return err
		}
	}
	return nil
}

// due moves jobs whose time has come to where they belong.
func (tx *txn) due() error {
	if tx.nextDue == 0 || tx.nextDue > tx.now {
		return nil
	}
	const most = 500
	rows, err := tx.e.store.Due(tx.now, most+tx.room(thingDue))
	if err != nil {
		return err
	}
	tx.staleDue = true
	for _, r := range rows {
		if tx.passes(thingDue, r.ID) {
			continue
		}
		if err := tx.place(r, job.ByDue); err != nil {
			return err
		}
		if err := tx.e.store.Wait(r); err != nil {
			return err
		}
	}
	return nil
}

// renewals counts, by job, the commands that wait and renew or end its lease. A lease
// is not ended while one does: a call counts from its arrival, however long the
// committer takes to come to it.
type renewals struct {
	mu sync.Mutex
	of map[int64]int
}

// arrived notes the tokens of a call, and gives what takes that back.
func (rs *renewals) arrived(tokens []string) (answered func()) {
	ids := make([]int64, 0, len(tokens))
	for _, t := range tokens {
		if id, _, _, ok := parseToken(t); ok {
			ids = append(ids, id)
		}
	}
	rs.add(ids, +1)
	return func() { rs.add(ids, -1) }
}

func (rs *renewals) add(ids []int64, by int) {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if rs.of == nil {
		rs.of = map[int64]int{}
	}
	for _, id := range ids {
		if rs.of[id] += by; rs.of[id] == 0 {
			delete(rs.of, id)
		}
	}
}

func (rs *renewals) wait(id int64) bool {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	return rs.of[id] > 0
}
