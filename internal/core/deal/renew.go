package deal

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Extend renews leases by the length asked when they were taken.
func (de *Dealer) Extend(ctx context.Context, req api.ExtendRequest) (api.ExtendAnswer, error) {
	items := req.Leases
	if len(items) > api.MaxLeaseItems {
		return api.ExtendAnswer{}, job.Fault(job.Invalid, "%d renewals in one call are too many; at most %d are taken, nothing was renewed", len(items), api.MaxLeaseItems)
	}
	answer := api.ExtendAnswer{Results: make([]api.ExtendResult, len(items)), Wanted: api.WantRun}
	workers := map[string]bool{}
	tokens := make([]string, len(items))
	for i := range items {
		tokens[i] = items[i].Token
	}
	defer de.renewals.arrived(tokens)()
	err := de.c.DoFirst(ctx, len(items), commit.Unchecked(func(tx *commit.Tx) error {
		for i, item := range items {
			var l *memory.Lease
			var errs error
			answer.Results[i], l, errs = extend(tx, item)
			if errs != nil {
				return errs
			}
			if l != nil {
				workers[l.Worker] = true
			}
		}
		if !de.m.Workers.Presence.IsOf(req.Worker, commit.CallOf(ctx).Principal) {
			return nil
		}
		var err error
		answer.Leases, err = unknownTo(tx, req.Worker, tokens)
		return err
	}))
	for uid := range workers {
		de.m.Workers.Presence.Saw(uid, de.c.Now(), 0)
		if answer.Wanted == api.WantRun {
			answer.Wanted, _ = de.m.Workers.Presence.Wants(uid)
		}
	}
	return answer, err
}

// extend renews one lease and takes what its handler tells. The renewal is not
// stored: after a restart every live lease has its full length anyway.
func extend(tx *commit.Tx, item api.Extension) (api.ExtendResult, *memory.Lease, error) {
	res := api.ExtendResult{Token: item.Token, Status: api.StatusLost}
	l := tx.Leases.Find(item.Token)
	if l == nil {
		return res, nil, nil
	}
	l = l.Renewed()
	tx.Leases.Put(l)
	res.Status, res.ExpiresAt = api.StatusOK, tx.Now.Add(l.Length())
	if l.Row.CancelAskedAt != 0 {
		res.Status = api.StatusCancelled
	}
	wrong, err := command.CheckSteps(tx, l, &item)
	if err != nil {
		return res, l, err
	}
	mended := item.Report.Mend()
	report, dropped := command.FitReport(tx, l, item.Report)
	res.Errors = slices.Concat(item.Misread, mended, dropped, wrong)
	if wrong == nil {
		err = command.TakeSteps(tx, l, &item)
	}
	return res, l, errors.Join(err, command.Report(tx, l, &report))
}

// endLeases ends what was not renewed: a failed attempt of type lease_lost; and what has
// overrun its timeout though it was renewed: one of type timeout.
func (de *Dealer) endLeases(tx *commit.Tx) error {
	const most = 500
	now := time.Now()
	for _, l := range tx.Leases.Over(now, most+tx.Room(commit.ThingLeaseEnd)) {
		if tx.Leases.Get(l.Row.ID) != l || tx.Passes(commit.ThingLeaseEnd, l.Row.ID) {
			continue
		}
		why := &job.Failure{Type: job.LeaseLost, Message: fmt.Sprintf("the lease was not renewed for %s", sentence.Roughly(l.Length()))}
		if !l.Overruns().After(now) {
			why = &job.Failure{Type: job.TimedOut, Message: fmt.Sprintf("the attempt ran longer than the job's timeout (%s), and its worker did not end it", l.Policy.Timeout)}
		} else if de.renewals.wait(l.Row.ID) {
			continue
		}
		if _, err := command.End(tx, l, command.FailedBy(tx, why), lifecycle.ByLeaseEnd); err != nil {
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
		if id, _, _, ok := memory.ParseToken(t); ok {
			ids = append(ids, id)
		}
	}
	rs.add(ids, +1)
	return func() { rs.add(ids, -1) }
}

func (rs *renewals) add(ids []int64, by int) {
	rs.mu.Lock()
	defer rs.mu.Unlock()
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
