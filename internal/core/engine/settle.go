package engine

import (
	"context"
	"errors"
	"slices"
	"time"

	"humblemule/internal/core/retry"
	"humblemule/internal/core/store"
	"humblemule/internal/core/triage"
	"humblemule/job"
)

// settlement is a checked settlement with its follow-ups in the shape in which
// they are stored.
type settlement struct {
	job.Settlement
	// refused says why it changes nothing, mended what of it was mended or left out, and
	// badEnqueue why its follow-ups cannot be enqueued.
	refused, mended, badEnqueue []job.FieldError

	followUps []*newJob
	cause     triage.Cause // of an outcome that is a failure
}

// Settle ends leases. Each item has its own result; one that is wrong spoils no
// other.
func (e *Engine) Settle(ctx context.Context, items []job.Settlement) ([]job.SettleResult, error) {
	all, err := e.prepareSettlements(items)
	if err != nil {
		return nil, err
	}
	var results []job.SettleResult
	defer e.renewals.arrived(tokensOf(items))()
	err = e.doFirst(ctx, rowsOf(all), func(tx *txn) error {
		results, err = tx.settleAll(all)
		return err
	})
	return results, err
}

func tokensOf(items []job.Settlement) []string {
	tokens := make([]string, len(items))
	for i := range items {
		tokens[i] = items[i].Token
	}
	return tokens
}

// rowsOf is about how many rows settlements write.
func rowsOf(all []settlement) (n int) {
	for i := range all {
		n += 1 + len(all[i].followUps)
	}
	return n
}

func (e *Engine) prepareSettlements(items []job.Settlement) ([]settlement, error) {
	if len(items) > job.MaxLeaseItems {
		return nil, job.Fault(job.Invalid, "%d settlements in one call are too many; at most %d are taken, nothing was settled", len(items), job.MaxLeaseItems)
	}
	all := make([]settlement, len(items))
	for i, item := range items {
		s := &all[i]
		s.Settlement = item
		if s.refused = append(item.BadOutcome, item.CheckOutcome()...); s.refused != nil {
			continue
		}
		s.mended = append(s.Misread, s.Mend()...)
		if fails(item.Outcome) {
			if item.Error == nil {
				s.Error = &job.Failure{}
			}
			s.cause = e.causer.of(s.Error)
		}
		if s.badEnqueue = s.CheckEnqueue(e.opts.MaxPayload); s.badEnqueue != nil {
			continue
		}
		for k := range item.Enqueue {
			n, err := prepare(&item.Enqueue[k])
			if err != nil {
				return nil, err
			}
			s.followUps = append(s.followUps, n)
		}
	}
	return all, nil
}

func (tx *txn) settleAll(all []settlement) ([]job.SettleResult, error) {
	results := make([]job.SettleResult, len(all))
	for i := range all {
		r, err := tx.settle(&all[i])
		if err != nil {
			return nil, err
		}
		results[i] = r
	}
	return results, nil
}

func (tx *txn) settle(s *settlement) (job.SettleResult, error) {
	res := job.SettleResult{Token: s.Token, Status: job.StatusRefused}
	id, attempt, bits, ok := parseToken(s.Token)
	if !ok {
		res.Errors = append(s.refused, job.FieldError{Field: "token", Message: "is no lease's token; give it back as the lease told it"})
		return res, nil
	}
	l := tx.lease(id)
	if l == nil || l.row.Attempt != attempt || l.row.Token != bits {
		return tx.settleEnded(s, id, attempt, bits)
	}
	if res.Errors = s.refused; res.Errors != nil {
		return res, nil
	}
	bad := s.badEnqueue
	if bad == nil {
		var problem *job.Problem
		if errors.As(tx.canName(s.followUps...), &problem) {
			bad = problem.Fields
		}
	}
	report, dropped := tx.fitReport(l, s.Report)
	if err := tx.report(l, &report); err != nil {
		return res, err
	}
	row, err := tx.endBringing(tx.lease(id), s, bad)
	if err != nil {
		return res, err
	}
	res.Status, res.State, res.NextAt = job.StatusOK, row.State, row.NextAt
	res.Errors = slices.Concat(s.mended, dropped, bad)
	return res, nil
}

// endBringing ends a lease with its outcome and enqueues its follow-ups. Where these are
// bad the work of a job that is done is done all the same: it becomes dead and keeps what
// it brought, until an operator has accepted it or requeued it.
func (tx *txn) endBringing(l *lease, s *settlement, bad []job.FieldError) (*store.Row, error) {
	if bad != nil && s.Outcome == job.OutcomeDone {
		return tx.endRefused(l, s, bad)
	}
	row, err := tx.end(l, s, job.BySettle)
	if err != nil || bad != nil {
		return row, err
	}
	for _, n := range s.followUps {
		if err := tx.insert(n); err != nil {
			return row, err
		}
	}
	return row, nil
}

// settleEnded answers a settle whose lease has ended: repeated where it was the
// same settle that ended it, lost otherwise.
func (tx *txn) settleEnded(s *settlement, id int64, attempt int, bits int64) (job.SettleResult, error) {
	res := job.SettleResult{Token: s.Token, Status: job.StatusLost}
	ended, err := tx.e.store.EndedAttempt(id, attempt)
	if err != nil || ended == nil || ended.Token != bits || ended.Outcome != s.Outcome || ended.ErrorType == job.LeaseLost {
		return res, err
	}
	res.Status, res.Repeated = job.StatusOK, true
	row, err := tx.e.store.Row(id)
	if row != nil {
		res.State, res.NextAt = row.State, row.NextAt
	}
	return res, err
}

// end ends a live lease with an outcome, moves its job to where it belongs then
// and answers the job's row. The lease itself stays as it is: the transaction
// may fail.
func (tx *txn) end(l *lease, s *settlement, by job.By) (*store.Row, error) {
	ended, err := tx.endAttempt(l, s)
	if err != nil {
		return nil, err
	}
	row := ended.row
	if !s.Outcome.Counts() {
		row.Tries--
	}
	if fails(s.Outcome) {
		if err := tx.sawCause(row, s.cause, s.Error.Message); err != nil {
			return nil, err
		}
	}
	return row, tx.follow(ended, s, by)
}

// endAttempt ends a lease and keeps its attempt. It answers a copy of the lease, with a
// row that may be changed.
func (tx *txn) endAttempt(l *lease, s *settlement) (*lease, error) {
	row := *l.row
	row.Cause = 0
	ended := *l
	ended.row = &row
	tx.putLease(row.ID, nil)
	return &ended, tx.e.store.InsertAttempt(endedAttempt(&ended, s, tx.now))
}

// fails tells whether an outcome is a failure, which has a cause.
func fails(o job.Outcome) bool { return o == job.OutcomeFailed || o == job.OutcomeGiveUp }

// follow moves the job of an ended lease to where its outcome leads.
func (tx *txn) follow(l *lease, s *settlement, by job.By) error {
	r := l.row
	if r.CancelAskedAt != 0 && s.Outcome != job.OutcomeDone {
		return tx.finish(r, job.Cancelled, job.Asked, r.ReasonText, by)
	}
	switch s.Outcome {
	case job.OutcomeDone:
		if err := tx.keepResult(l, s.Result); err != nil {
			return err
		}
		tx.runs = append(tx.runs, taskRun{r.Task, runMS(s.RunMS, r.LeasedAt, tx.now)})
		return tx.finish(r, job.Done, "", "", by)
	case job.OutcomeSkipped:
		return tx.finish(r, job.Skipped, job.ByHandler, job.Cut(s.ReasonText, job.MaxReasonText), by)
	case job.OutcomeGiveUp:
		return tx.finish(r, job.Dead, job.GaveUp, job.Cut(s.ReasonText, job.MaxReasonText), by)
	case job.OutcomeFailed:
		return tx.failed(l, s, by)
	case job.OutcomePostponed:
		r.Rank = 0
		return errors.Join(tx.wait(r, job.Scheduled, s.Delay.Go(), by), tx.leaveLane(r))
	default:
		return tx.givenBack(l, by)
	}
}

// keepResult stores a result for as long as the job's policy says.
func (tx *txn) keepResult(l *lease, result []byte) error {
	kept := l.policy.KeepResult
	if len(result) == 0 || kept != nil && *kept == 0 {
		return nil
	}
	if kept != nil {
		until := tx.now.Add(kept.Go())
		if tx.nextDrop == 0 || until < tx.nextDrop {
			tx.nextDrop = until
		}
		if err := tx.e.store.KeepResult(l.row.ID, until); err != nil {
			return err
		}
	}
	return tx.e.store.Result(l.row.ID, result)
}

// dropResults removes results that are no longer kept.
func (tx *txn) dropResults() error {
	if tx.nextDrop == 0 || tx.nextDrop > tx.now {
		return nil
	}
	const most = 200
	over, err := tx.e.store.ResultsOver(tx.now, most+tx.room(thingResult))
	if err != nil {
		return err
	}
	tx.staleDrop = true
	for _, id := range over {
		if tx.passes(thingResult, id) {
			continue
		}
		if err := tx.e.store.DropResult(id); err != nil {
			return err
		}
		tx.touched = append(tx.touched, id)
	}
	return nil
}

func endedAttempt(l *lease, s *settlement, now job.Time) *store.Attempt {
	r := l.row
	a := &store.Attempt{
		Job: r.ID, N: r.Attempt, Round: r.Round, Worker: r.Worker, Token: r.Token, StartedAt: r.LeasedAt, EndedAt: now,
		RunMS: s.RunMS, Outcome: s.Outcome, Counted: s.Outcome.Counts(), Percent: -1, LogLines: l.lines,
	}
	if l.progress != nil {
		a.Percent, a.Note = l.progress.Percent, l.progress.Note
	}
	if s.Error != nil {
		a.ErrorType = job.Cut(s.Error.Type, job.MaxErrorType)
		a.ErrorMessage = job.Cut(s.Error.Message, job.MaxErrorMessage)
		a.Stack = job.Cut(s.Error.Stack, job.MaxStack)
	}
	return a
}

// failed tries the job again by its policy, or makes it dead.
func (tx *txn) failed(l *lease, s *settlement, by job.By) error {
	r := l.row
	v := retry.Judge(retry.Failed{
		Policy: l.policy, Tries: r.Tries, RoundStartedAt: r.StartedAt, Now: tx.now, Delay: s.Delay.Go(), Draw: tx.e.opts.Draw(),
	})
	if v.Reason != "" {
		return tx.finish(r, job.Dead, v.Reason, "", by)
	}
	r.Rank = 0
	return errors.Join(tx.wait(r, job.Backoff, v.NextAt.Sub(tx.now), by), tx.leaveLaneFrom(job.Running, r))
}

func (tx *txn) finish(r *store.Row, to job.State, reason job.Reason, text string, by job.By) error {
	if err := tx.leaveTurn(r); err != nil {
		return err
	}
	was := r.State
	r.FinishedAt, r.Reason, r.ReasonText = tx.now, string(reason), text
	if err := tx.change(r, to, by); err != nil {
		return err
	}
	return errors.Join(tx.e.store.Finish(r), tx.leaveLaneFrom(was, r))
}

func (tx *txn) wait(r *store.Row, to job.State, d time.Duration, by job.By) error {
	r.NextAt, r.ReadyAt = tx.now.Add(d), 0
	tx.awaits(r.NextAt)
	if err := tx.change(r, to, by); err != nil {
		return err
	}
	return tx.e.store.Wait(r)
}

// release is how often in a row a worker has given a job back, and since when.
type release struct {
	worker string
	times  int
	since  time.Time
}

// A job that one worker gives back so often within so short a time waits before
// it is leased again, so that the two do not turn in a circle.
const (
	releasesInARow = 3
	releasesWithin = 10 * time.Second
	releasedWait   = 5 * time.Second
)

// givenBack puts a job back to its old place.
func (tx *txn) givenBack(l *lease, by job.By) error {
	r := l.row
	last, known := tx.released[r.ID]
	if !known {
		last = tx.e.released[r.ID]
	}
	if last.worker != l.worker || time.Since(last.since) > releasesWithin {
		last = release{worker: l.worker, since: time.Now()}
	}
	last.times++
	circling := last.times >= releasesInARow
	if circling {
		last = release{}
	}
	if tx.released == nil {
		tx.released = map[int64]release{}
	}
	tx.released[r.ID] = last
	if circling {
		return tx.wait(r, job.Scheduled, releasedWait, by)
	}
	r.NextAt = 0
	if err := tx.place(r, by); err != nil {
		return err
	}
	return tx.e.store.Wait(r)
}

// forgetReleases drops what no longer decides anything. It runs after the
// commit.
func (tx *txn) forgetReleases() {
	const many = 1000
	if len(tx.released) == 0 || len(tx.e.released) < many {
		return
	}
	for id, r := range tx.e.released {
		if time.Since(r.since) > releasesWithin {
			delete(tx.e.released, id)
		}
	}
}
