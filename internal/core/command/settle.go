package command

import (
	"errors"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/retry"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/triage"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// Settlement is a checked settlement with its follow-ups in the shape in which
// they are stored.
type Settlement struct {
	api.Settlement
	// refused says why it changes nothing, mended what of it was mended or left out, and
	// badEnqueue why its follow-ups cannot be enqueued.
	refused, mended, badEnqueue []job.FieldError

	followUps *followUps
	cause     triage.Cause // of an outcome that is a failure
}

// FailedBy is the outcome of an attempt that the service itself ends, as failed.
func FailedBy(tx *commit.Tx, f *job.Failure) *Settlement {
	return &Settlement{Settlement: api.Settlement{Outcome: job.OutcomeFailed, Error: f}, cause: tx.Causes.Rules.Of(f)}
}

// RowsOf is about how many rows settlements write.
func RowsOf(all []Settlement) (n int) {
	for i := range all {
		n += 1 + all[i].followUps.num()
	}
	return n
}

// PrepareSettlements checks and mends settlements. It needs no transaction.
func (dk *Desk) PrepareSettlements(items []api.Settlement) ([]Settlement, error) {
	if len(items) > api.MaxLeaseItems {
		return nil, job.Fault(job.Invalid, "%d settlements in one call are too many; at most %d are taken, nothing was settled", len(items), api.MaxLeaseItems)
	}
	all := make([]Settlement, len(items))
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
			s.cause = dk.c.Memory.Causes.Rules.Of(s.Error)
		}
		if s.badEnqueue = s.CheckEnqueue(dk.c.MaxPayload); s.badEnqueue != nil {
			continue
		}
		var err error
		if s.followUps, err = prepareFollowUps(item.Enqueue); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// SettleAll ends leases with what their handlers bring. Each settlement has its own result;
// one that is wrong spoils no other.
func SettleAll(tx *commit.Tx, all []Settlement) ([]api.SettleResult, error) {
	results := make([]api.SettleResult, len(all))
	for i := range all {
		r, err := settle(tx, &all[i])
		if err != nil {
			return nil, err
		}
		results[i] = r
	}
	return results, nil
}

// settle ends one lease.
func settle(tx *commit.Tx, s *Settlement) (api.SettleResult, error) {
	res := api.SettleResult{Token: s.Token, Status: api.StatusRefused}
	id, attempt, bits, ok := memory.ParseToken(s.Token)
	if !ok {
		res.Errors = append(s.refused, job.FieldError{Field: "token", Message: "is not a token of a lease; send it exactly as the lease call answered it"})
		return res, nil
	}
	l := tx.Leases.Get(id)
	if l == nil || l.Row.Attempt != attempt || l.Row.Token != bits {
		return settleEnded(tx, s, id, attempt, bits)
	}
	if res.Errors = s.refused; res.Errors != nil {
		return res, nil
	}
	bad := s.badEnqueue
	if bad == nil {
		var err error
		if bad, err = canFollowUp(tx.View(), l.Row, s.followUps); err != nil {
			return res, err
		}
	}
	report, dropped := FitReport(tx, l, s.Report)
	if err := Report(tx, l, &report); err != nil {
		return res, err
	}
	row, err := endBringing(tx, tx.Leases.Get(id), s, bad)
	if err != nil {
		return res, err
	}
	res.Status, res.State, res.NextAt = api.StatusOK, row.State, row.NextAt
	res.Errors = slices.Concat(s.mended, dropped, bad)
	return res, nil
}

// endBringing ends a lease with its outcome and enqueues its follow-ups. Where these are
// bad the work of a job that is done is done all the same: it becomes dead and keeps what
// it brought, until an operator has accepted it or requeued it.
func endBringing(tx *commit.Tx, l *memory.Lease, s *Settlement, bad []job.FieldError) (*store.Row, error) {
	if bad != nil && s.Outcome == job.OutcomeDone {
		return endRefused(tx, l, s, bad)
	}
	row, err := End(tx, l, s, lifecycle.BySettle)
	if err != nil || bad != nil {
		return row, err
	}
	return row, s.followUps.insert(tx, row)
}

// settleEnded answers a settle whose lease has ended: repeated where it was the
// same settle that ended it, lost otherwise.
func settleEnded(tx *commit.Tx, s *Settlement, id int64, attempt int, bits int64) (api.SettleResult, error) {
	res := api.SettleResult{Token: s.Token, Status: api.StatusLost}
	ended, err := tx.Store.EndedAttempt(id, attempt)
	if err != nil || ended == nil || ended.Token != bits || ended.Outcome != s.Outcome || ended.ErrorType == job.LeaseLost {
		return res, err
	}
	res.Status, res.Repeated = api.StatusOK, true
	row, err := tx.Store.Row(id)
	if row != nil {
		res.State, res.NextAt = row.State, row.NextAt
	}
	return res, err
}

// End ends a live lease with an outcome, moves its job to where it belongs then
// and answers the job's row. The lease itself stays as it is: the transaction
// may fail.
func End(tx *commit.Tx, l *memory.Lease, s *Settlement, by lifecycle.By) (*store.Row, error) {
	ended, err := endAttempt(tx, l, s)
	if err != nil {
		return nil, err
	}
	row := ended.Row
	if !s.Outcome.Counts() {
		row.Tries--
	}
	if fails(s.Outcome) {
		if err := tx.Causes.Saw(row, s.cause, s.Error.Message); err != nil {
			return nil, err
		}
		tx.History.Failed(row)
	}
	return row, follow(tx, ended, s, by)
}

// endAttempt ends a lease and keeps its attempt. It answers a copy of the lease, with a
// row that may be changed.
func endAttempt(tx *commit.Tx, l *memory.Lease, s *Settlement) (*memory.Lease, error) {
	row := *l.Row
	row.Cause = 0
	ended := *l
	ended.Row = &row
	tx.Leases.End(row.ID)
	errorType := ""
	if s.Error != nil {
		errorType = s.Error.Type
	}
	tx.Tallies.Ended(&row, s.Outcome, errorType == job.LeaseLost, tx.Now)
	tx.Spans.Ended(&row, s.Outcome, errorType)
	if leavesOnlyTimes(l, s) {
		row.RunMS = s.RunMS
		return &ended, nil
	}
	a := endedAttempt(&ended, s, tx.Now)
	row.Token = 0
	return &ended, tx.Store.InsertAttempt(a)
}

// leavesOnlyTimes tells whether an attempt is kept in its job's row: the last one of a job
// that is done, of which there is nothing to tell but its times.
func leavesOnlyTimes(l *memory.Lease, s *Settlement) bool {
	return s.Outcome == job.OutcomeDone && s.Error == nil && l.Progress == nil && l.Lines == 0 && l.Row.Attempt <= store.FirstKept+store.LastKept
}

// fails tells whether an outcome is a failure, which has a cause.
func fails(o job.Outcome) bool { return o == job.OutcomeFailed || o == job.OutcomeGiveUp }

// follow moves the job of an ended lease to where its outcome leads.
func follow(tx *commit.Tx, l *memory.Lease, s *Settlement, by lifecycle.By) error {
	r := l.Row
	if r.CancelAskedAt != 0 && s.Outcome != job.OutcomeDone {
		return place.Finish(tx, r, job.Cancelled, job.Asked, r.ReasonText, by)
	}
	switch s.Outcome {
	case job.OutcomeDone:
		if err := keepResult(tx, l, s.Result); err != nil {
			return err
		}
		tx.History.Ran(r, runMS(s.RunMS, r.LeasedAt, tx.Now))
		return place.Finish(tx, r, job.Done, "", "", by)
	case job.OutcomeSkipped:
		return place.Finish(tx, r, job.Skipped, job.SaidByHandler, text.Cut(s.ReasonText, api.MaxReasonText), by)
	case job.OutcomeGiveUp:
		return place.Finish(tx, r, job.Dead, job.GaveUp, text.Cut(s.ReasonText, api.MaxReasonText), by)
	case job.OutcomeFailed:
		return failed(tx, l, s, by)
	case job.OutcomePostponed:
		r.Rank = 0
		return errors.Join(place.Wait(tx, r, job.Scheduled, s.Delay.Go(), by), place.LeaveLane(tx, r))
	default:
		return givenBack(tx, l, by)
	}
}

// keepResult stores a result for as long as the job's policy says.
func keepResult(tx *commit.Tx, l *memory.Lease, result []byte) error {
	kept := l.Policy.KeepResult
	if len(result) == 0 || kept != nil && *kept == 0 {
		return nil
	}
	if kept != nil {
		until := tx.Now.Add(kept.Go())
		tx.Times.Results.By(until)
		if err := tx.Store.KeepResult(l.Row.ID, until); err != nil {
			return err
		}
	}
	return tx.Store.Result(l.Row.ID, result)
}

// endedAttempt is an attempt as it is stored when it has ended.
func endedAttempt(l *memory.Lease, s *Settlement, now job.Time) *store.Attempt {
	r := l.Row
	a := &store.Attempt{
		Job: r.ID, N: r.Attempt, Round: r.Round, Worker: r.Worker, Token: r.Token, StartedAt: r.LeasedAt, EndedAt: now,
		RunMS: s.RunMS, Outcome: s.Outcome, Counted: s.Outcome.Counts(), Percent: -1, LogLines: l.Lines,
	}
	if l.Progress != nil {
		a.Percent, a.Note = l.Progress.Percent, l.Progress.Note
	}
	if s.Error != nil {
		a.ErrorType = text.Cut(s.Error.Type, api.MaxErrorType)
		a.ErrorMessage = text.Cut(s.Error.Message, api.MaxErrorMessage)
		a.Stack = text.Cut(s.Error.Stack, api.MaxStack)
	}
	return a
}

// runMS is how long an attempt took: as its handler has measured it, or else from
// the lease to its end.
func runMS(measured int64, leasedAt, endedAt job.Time) float64 {
	if measured > 0 {
		return float64(measured)
	}
	return float64(max(endedAt-leasedAt, 0))
}

// failed tries the job again by its policy, or makes it dead.
func failed(tx *commit.Tx, l *memory.Lease, s *Settlement, by lifecycle.By) error {
	r := l.Row
	v := retry.Judge(retry.Failed{
		Policy: l.Policy, Tries: r.Tries, RoundStartedAt: r.StartedAt, Now: tx.Now, Delay: s.Delay.Go(), Draw: tx.Options().Draw(),
	})
	if v.Reason != "" {
		return place.Finish(tx, r, job.Dead, v.Reason, "", by)
	}
	r.Rank = 0
	return errors.Join(place.Wait(tx, r, job.Backoff, v.NextAt.Sub(tx.Now), by), place.LeaveLaneFrom(tx, job.Running, r))
}

// A job that one worker gives back so often within [memory.ReleasesWithin] waits before
// it is leased again, so that the two do not turn in a circle.
const (
	releasesInARow = 3
	releasedWait   = 5 * time.Second
)

// givenBack puts a job back to its old place.
func givenBack(tx *commit.Tx, l *memory.Lease, by lifecycle.By) error {
	r := l.Row
	last := tx.Leases.Released(r.ID)
	if last.Worker != l.Worker || time.Since(last.Since) > memory.ReleasesWithin {
		last = memory.Release{Worker: l.Worker, Since: time.Now()}
	}
	last.Times++
	circling := last.Times >= releasesInARow
	if circling {
		last = memory.Release{}
	}
	tx.Leases.SetReleased(r.ID, last)
	if circling {
		return place.Wait(tx, r, job.Scheduled, releasedWait, by)
	}
	r.NextAt = 0
	if err := place.Put(tx, r, by); err != nil {
		return err
	}
	return tx.Store.Wait(r)
}
