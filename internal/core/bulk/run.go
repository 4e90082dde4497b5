package bulk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/notice"
	"humblemule.example/internal/core/read"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/watch"
	"humblemule.example/job"
)

// run goes through the jobs of an operation, slice by slice, until it is over or the
// engine closes. What has failed for the moment is tried again.
func (op *Operator) run(o *Operation) {
	for {
		wait, err := op.step(o)
		if err == nil && o.over() {
			return
		}
		if err != nil {
			op.c.Log.Warn("an operation could not go on; it will be retried", "operation", o.told.ID, "error", err)
			wait = time.Second
		}
		timer := time.NewTimer(wait)
		select {
		case <-timer.C:
		case <-o.asked:
			timer.Stop()
		case <-op.c.Quit:
			timer.Stop()
			return
		}
	}
}

func (o *Operation) over() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.told.Over()
}

// step does one slice and tells how long to wait before the next.
func (op *Operator) step(o *Operation) (wait time.Duration, err error) {
	ctx := context.Background()
	o.mu.Lock()
	told, stopping := o.told, o.stopping
	o.mu.Unlock()
	if stopping != "" {
		return 0, op.conclude(o, api.OpStopped, stopping)
	}
	if op.c.Now() == told.BeganAt { // what comes of its own doing must be seen to come later; a clock set back holds up nothing
		return time.Millisecond, nil
	}
	others, long, most := o.pace.next(op.c.Worked())
	if told.State == api.OpTrial {
		if len(told.TrialIDs) >= told.Trial || o.position == math.MaxInt64 {
			return op.watchTrial(ctx, o)
		}
		most = told.Trial - len(told.TrialIDs)
	}
	if told.PerSecond > 0 {
		most = min(most, max(int(told.PerSecond/10), 1))
	}
	ids, end, err := op.upcoming(ctx, o, &told, most)
	if err != nil {
		return 0, err
	}
	if len(ids) == 0 && end && told.State == api.OpRunning {
		return 0, op.conclude(o, api.OpFinished, "")
	}
	changed, err := op.slice(o, ids, end, others, long)
	if told.PerSecond > 0 {
		wait = time.Duration(float64(changed) / told.PerSecond * float64(time.Second))
	}
	return wait, err
}

// upcoming gives the next ids of an operation, so many at most; end tells that none follow
// them. What was read and was not come to stays for the next slice.
func (op *Operator) upcoming(ctx context.Context, o *Operation, told *api.Operation, most int) (ids []int64, end bool, err error) {
	if passed, found := slices.BinarySearch(o.ahead, o.position); found {
		o.ahead = o.ahead[passed+1:]
	} else {
		o.ahead = o.ahead[passed:]
	}
	if len(o.ahead) == 0 {
		if o.ahead, o.noMore, err = op.nextOf(ctx, told, o.position, max(most, readAtOnce)); err != nil {
			return nil, false, err
		}
	}
	ids = o.ahead[:min(most, len(o.ahead))]
	return ids, o.noMore && len(ids) == len(o.ahead), nil
}

// nextOf reads the next ids of an operation; end tells that none follow them.
func (op *Operator) nextOf(ctx context.Context, o *api.Operation, position int64, most int) (ids []int64, end bool, err error) {
	if position == math.MaxInt64 {
		return nil, true, nil
	}
	if len(o.IDs) > 0 {
		all := slices.Compact(slices.Sorted(slices.Values(o.IDs)))
		all = slices.DeleteFunc(all, func(id int64) bool { return id <= position })
		return all[:min(most, len(all))], len(all) <= most, nil
	}
	f := o.Filter.Filter()
	for {
		found, last, err := op.read.Matching(ctx, &f, position, max(most, readAtOnce))
		if err != nil || len(found) > 0 {
			return found[:min(most, len(found))], last == 0 && len(found) <= most, err
		}
		if last == 0 {
			return nil, true, nil
		}
		position = last
	}
}

// slice changes jobs for so long at most.
func (op *Operator) slice(o *Operation, ids []int64, end, others bool, long time.Duration) (changed int64, err error) {
	var next api.Operation
	var position, last int64
	var moved map[int64]bool
	var tells []memory.Gathered
	err = op.apply(context.Background(), others, commit.Unchecked(func(tx *commit.Tx) error {
		next, position, last = o.tell(), o.position, o.last
		if moved = maps.Clone(o.moved); moved == nil {
			moved = map[int64]bool{}
		}
		before := next.Changed
		began := time.Now()
		all, ended := true, len(tx.Endpoints.Ended)
		rows := rowsAhead{tx: tx, ids: ids}
		for _, id := range ids {
			if time.Since(began) > long {
				all = false
				break
			}
			r, err := rows.next()
			if err == nil {
				err = actOn(tx, &next, o.action, id, r, moved)
			}
			if err != nil {
				return err
			}
			position = id
		}
		if changed = next.Changed - before; all && end {
			position = math.MaxInt64
		}
		if changed > 0 && removes(next.Action) {
			last = tx.Served()
			tx.Removals.Set(o.action, memory.Removal{Last: last, UnderWay: true})
		}
		tells = notice.Gather(tx, ended, o.tells)
		return putOperation(tx, memory.StoredOperation{Operation: next, LastRemoval: last, Tells: tells}, position)
	}))
	if err == nil {
		o.mu.Lock()
		o.told, o.position, o.last, o.moved, o.tells = next, position, last, moved, tells
		o.mu.Unlock()
	}
	return changed, err
}

func putOperation(tx *commit.Tx, o memory.StoredOperation, position int64) error {
	body, err := json.Marshal(o)
	if err != nil {
		return err
	}
	return tx.Store.PutOperation(store.Operation{ID: o.ID, State: o.State, Body: string(body), Position: position})
}

// rowsAhead reads the rows of a slice some at a time.
type rowsAhead struct {
	tx   *commit.Tx
	ids  []int64
	read map[int64]*store.Row
	// left is how many of the next ids were read, and since what had been changed by then.
	left, since int
}

// next gives the row of the next job; nil where there is none.
func (a *rowsAhead) next() (*store.Row, error) {
	if a.left == 0 {
		some := a.ids[:min(len(a.ids), store.AtOnce)]
		rows, err := a.tx.Store.Rows(some)
		if err != nil {
			return nil, err
		}
		a.read, a.left, a.since = rows, len(some), len(a.tx.News.Moved)
	}
	id := a.ids[0]
	a.ids, a.left = a.ids[1:], a.left-1
	for _, m := range a.tx.News.Moved[a.since:] {
		if m.Job == id { // by what was done to one before it
			return a.tx.Store.Row(id)
		}
	}
	return a.read[id], nil
}

// actOn applies an operation's action to one job. A job that may not be acted on is noted as
// refused; of a filter, one that was not among those that were shown is passed over.
func actOn(tx *commit.Tx, o *api.Operation, action, id int64, r *store.Row, moved map[int64]bool) error {
	act, err := mayActOn(tx.View(), o, id, r, moved)
	var p *job.Problem
	if errors.As(err, &p) {
		o.RefusedCount++
		if len(o.Refused) < refusedTold {
			o.Refused = append(o.Refused, api.Refused{ID: id, Message: p.Error()})
		}
		return nil
	}
	if err != nil || act == nil {
		return err
	}
	before := len(tx.News.Moved)
	if err := act(tx, action); err != nil {
		return err
	}
	for _, m := range tx.News.Moved[before:] {
		if slices.Contains(o.Filter.States, m.From) {
			moved[m.Job] = true
		}
	}
	delete(moved, id)
	o.Changed++
	if o.State == api.OpTrial {
		o.TrialIDs = append(o.TrialIDs, id)
	}
	return nil
}

// mayActOn gives what is to be done to a job, if it was in an asked state before the operation
// began; nil where a filter would not have shown it.
func mayActOn(v *commit.View, o *api.Operation, id int64, r *store.Row, moved map[int64]bool) (commit.Act, error) {
	switch {
	case r == nil:
		return nil, read.NoJob(id)
	case !slices.Contains(o.Filter.States, r.State):
		return nil, job.Fault(job.WrongState, "job %d is now %s", id, r.State)
	case r.EnqueuedAt <= o.BeganAt && (since(r) <= o.BeganAt || moved[id]):
		return actFor(v, o, r)
	case len(o.IDs) == 0:
		return nil, nil
	}
	return nil, job.Fault(job.WrongState, "job %d became %s only after this operation began", id, r.State)
}

// actFor checks an operation's action on a job.
func actFor(v *commit.View, o *api.Operation, r *store.Row) (commit.Act, error) {
	switch o.Action {
	case api.ActCancel:
		return command.Cancel(v, r)
	case api.ActRequeue:
		return command.Requeue(v, r, api.Requeue{PayloadPatch: o.PayloadPatch}, o.ID)
	case api.ActPatch:
		p, err := job.ReadPatch(o.Patch)
		if err != nil {
			return nil, err
		}
		act, _, err := command.Edit(v, r, p)
		return act, err
	case api.ActStartNow:
		return command.StartNow(v, r)
	case api.ActDiscard:
		return command.Discard(v, r)
	default:
		return command.Purge(v, r)
	}
}

// since tells when a job came into its state, as far as its row tells.
func since(r *store.Row) job.Time {
	switch {
	case r.State.Finished():
		return r.FinishedAt
	case r.State == job.Ready:
		return r.ReadyAt
	case r.State == job.Running, r.State == job.Backoff:
		return r.LeasedAt
	}
	return r.EnqueuedAt
}

// conclude ends an operation.
func (op *Operator) conclude(o *Operation, state, why string) error {
	next := o.tell()
	next.State, next.Why, next.EndedAt = state, why, op.c.Now()
	err := op.c.Do(context.Background(), commit.Unchecked(func(tx *commit.Tx) error {
		switch {
		case !removes(next.Action):
		case state == api.OpUndone || o.last == 0:
			tx.Removals.End(o.action)
		default:
			tx.Removals.Set(o.action, memory.Removal{Last: o.last})
		}
		if state != api.OpUndone {
			if err := notice.TellMany(tx, next.ID, next.By, o.tells); err != nil {
				return err
			}
		}
		return putOperation(tx, memory.StoredOperation{Operation: next, LastRemoval: o.last}, o.position)
	}))
	if err == nil {
		o.mu.Lock()
		o.told = next
		o.mu.Unlock()
		op.watchers.Nudge(watch.Changes{Queues: true})
	}
	return err
}

// trialEvery is how often the jobs of a trial are looked at.
const trialEvery = 200 * time.Millisecond

// watchTrial looks whether the jobs of a trial are done: then the rest follows; where
// one has failed nothing more does.
func (op *Operator) watchTrial(ctx context.Context, o *Operation) (wait time.Duration, err error) {
	told := o.tell()
	rows, err := op.c.Store.Read(ctx, told.TrialIDs)
	if err != nil {
		return 0, err
	}
	done := 0
	for _, r := range rows {
		switch r.State {
		case job.Done:
			done++
		case job.Dead, job.Backoff, job.Skipped, job.Cancelled:
			return 0, op.conclude(o, api.OpStopped, fmt.Sprintf("job %d of the trial is %s; the rest stays as it is", r.ID, r.State))
		}
	}
	switch {
	case len(told.TrialIDs) == 0:
		return 0, op.conclude(o, api.OpStopped, "no job of the trial could be requeued")
	case len(rows) < len(told.TrialIDs):
		return 0, op.conclude(o, api.OpStopped, "a job of the trial was removed; the rest stays as it is")
	case done < len(rows):
		return trialEvery, op.tellTrial(ctx, o, rows)
	case o.position == math.MaxInt64:
		return 0, op.conclude(o, api.OpFinished, "")
	}
	told.State = api.OpRunning
	told.Why = ""
	err = op.c.Do(ctx, commit.Unchecked(func(tx *commit.Tx) error {
		return putOperation(tx, memory.StoredOperation{Operation: told, LastRemoval: o.last, Tells: o.tells}, o.position)
	}))
	if err == nil {
		o.mu.Lock()
		o.told = told
		o.mu.Unlock()
	}
	return 0, err
}

// lookAtTrialEvery is how often it is looked why a trial does not go on.
const lookAtTrialEvery = time.Second

// tellTrial says why the jobs of a trial are not taken, where none of them is.
func (op *Operator) tellTrial(ctx context.Context, o *Operation, rows []*store.Row) error {
	if time.Since(o.lookedAt) < lookAtTrialEvery {
		return nil
	}
	o.lookedAt = time.Now()
	why := ""
	for _, r := range rows {
		if r.State == job.Running || r.State == job.Done {
			why = ""
			break
		}
		if why == "" && !r.State.Finished() {
			j, err := op.read.Job(ctx, r.ID)
			if err != nil {
				return err
			}
			why = fmt.Sprintf("the trial waits for job %d: %s", r.ID, j.WaitingBecause)
		}
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.told.Why = why
	return nil
}
