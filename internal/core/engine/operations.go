package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"humblemule/internal/core/store"
	"humblemule/job"
)

// An operation works in slices, each of which keeps the committer for no longer than
// that; where others have commands too it steps back between them, so that they hardly
// notice it.
const (
	sliceFor    = 500 * time.Microsecond
	stepBackFor = 3 * sliceFor
	sliceJobs   = 200
	refusedTold = 20
)

// operation is an action on many jobs that is under way. Its runner alone changes it.
type operation struct {
	mu       sync.Mutex
	told     job.Operation
	last     int64 // how long the file was served at its last removal; 0 for none
	action   int64
	position int64 // the last job that was looked at
	worked   int64 // what the engine's counter was after the last slice
	stopping string
	lookedAt time.Time // at why its trial does not go on
	// moved are jobs, among those that are asked for, whose places it has changed by its own
	// doing: they have got the lane of one that it acted on.
	moved map[int64]bool
}

func (o *operation) tell() job.Operation {
	o.mu.Lock()
	defer o.mu.Unlock()
	told := o.told
	told.Refused = slices.Clone(told.Refused)
	return told
}

// Act applies an action to many jobs. Few are changed at once; for more the answer is
// an operation that goes on by itself, also after a restart. With DryRun it counts and
// changes nothing.
func (e *Engine) Act(ctx context.Context, req job.ActRequest) (job.Operation, error) {
	if err := job.Wrong("nothing was done", req.Check()); err != nil {
		return job.Operation{}, err
	}
	o := e.newOperation(ctx, req)
	if err := e.notTwice(&req); err != nil {
		return o.told, err
	}
	if err := e.count(ctx, &o.told); err != nil {
		return o.told, err
	}
	if req.DryRun {
		o.told.State = job.OpFinished
		err := e.exemplify(ctx, &o.told)
		return o.told, err
	}
	if o.told.Matched == 0 {
		return o.told, job.Fault(job.NotFound, "no job matches; nothing was done")
	}
	if req.Trial > 0 {
		o.told.State = job.OpTrial
	}
	replayed, err := e.recordOperation(ctx, o)
	if err != nil || replayed != nil {
		return e.replayedOperation(ctx, replayed, err)
	}
	if o.told.Matched > job.MostAtOnce || req.Trial > 0 || req.PerSecond > 0 {
		e.start(o)
		return e.tellUnderWay(ctx, o)
	}
	e.run(o)
	return e.tellUnderWay(ctx, o)
}

func (e *Engine) newOperation(ctx context.Context, req job.ActRequest) *operation {
	return &operation{told: job.Operation{State: job.OpRunning, ActRequest: req, By: callOf(ctx).Principal, BeganAt: e.now(), Refused: []job.Refused{}}}
}

// notTwice refuses to requeue jobs of a cause while another operation does.
func (e *Engine) notTwice(req *job.ActRequest) (err error) {
	if req.Action != job.ActRequeue || req.DryRun || req.Filter == nil || req.Filter.Cause == 0 {
		return nil
	}
	e.operations.Range(func(_, x any) bool {
		o := x.(*operation).tell()
		if o.Action == job.ActRequeue && o.Filter != nil && o.Filter.Cause == req.Filter.Cause {
			err = job.Fault(job.WrongState, "operation %d requeues jobs of this cause already: stop it first, or wait for its end", o.ID)
		}
		return err == nil
	})
	return err
}

// exemplify shows what a request's patch would make of the first payload.
func (e *Engine) exemplify(ctx context.Context, o *job.Operation) error {
	if o.PayloadPatch == nil {
		return nil
	}
	ids, _, err := e.nextOf(ctx, o, 0, 1)
	if err != nil || len(ids) == 0 {
		return err
	}
	first, err := e.Job(ctx, ids[0])
	if err != nil {
		return err
	}
	edited, err := job.MergePatch(first.Payload, o.PayloadPatch)
	if err != nil {
		return job.Wrong("nothing would be done", []job.FieldError{{Field: "payload_patch", Message: fmt.Sprintf("does not fit the payload of job %d: %v", first.ID, err)}})
	}
	o.Example = &job.Edit{Job: first.ID, Before: first.Payload, After: edited}
	return nil
}

// count counts what a request matches, up to what a call may look at.
func (e *Engine) count(ctx context.Context, o *job.Operation) error {
	if len(o.IDs) > 0 {
		o.Matched, o.MatchedIs = int64(len(slices.Compact(slices.Sorted(slices.Values(o.IDs))))), "exact"
		return nil
	}
	f := o.Filter.Filter()
	n, err := e.matchedNow(ctx, &f)
	if err != nil {
		return err
	}
	if n != nil {
		o.Matched, o.MatchedIs = *n, "exact"
		return nil
	}
	ids, last, err := e.matching(ctx, &f, 0, job.MaxSearched)
	o.Matched, o.MatchedIs = int64(len(ids)), "exact"
	if last != 0 {
		o.MatchedIs = "at_least"
	}
	return err
}

// matching reads ids of jobs that match, beyond one, looking at no more than most; last
// is where it stopped, 0 at the end.
func (e *Engine) matching(ctx context.Context, f *job.Filter, after int64, most int) (ids []int64, last int64, err error) {
	from := *f
	if after > 0 {
		from.Cursor = place{id: after}.cursor()
	}
	s, err := e.searchFor(ctx, &from)
	if err != nil {
		return nil, 0, err
	}
	next, err := e.source(&s)
	if err != nil {
		return nil, 0, err
	}
	for looked := 0; looked < most; {
		places, err := next(ctx, min(500, most-looked))
		if err != nil || len(places) == 0 {
			return ids, 0, err
		}
		looked += len(places)
		part := make([]int64, len(places))
		for i, p := range places {
			part[i] = p.id
		}
		rows, err := e.store.Read(ctx, part)
		if err == nil {
			rows, err = e.keep(ctx, &s, rows)
		}
		if err != nil {
			return nil, 0, err
		}
		for _, r := range rows {
			ids = append(ids, r.ID)
		}
		last = part[len(part)-1]
	}
	return ids, last, nil
}

// recordOperation records the action and its operation; replayed is the operation of the same
// call where it is made again.
func (e *Engine) recordOperation(ctx context.Context, o *operation) (replayed *int64, err error) {
	call := callOf(ctx)
	same := identify(call)
	err = e.do(ctx, func(tx *txn) error {
		r, err := tx.replayed(same)
		if err != nil {
			return err
		}
		if r != nil {
			replayed = &r.ids[0]
			return nil
		}
		if err := tx.addOperation(o, call.Principal); err != nil {
			return err
		}
		tx.note(same, o.told.ID)
		return nil
	})
	return replayed, err
}

func (e *Engine) replayedOperation(ctx context.Context, id *int64, err error) (job.Operation, error) {
	if err != nil {
		return job.Operation{}, err
	}
	return e.Operation(ctx, *id)
}

// start runs an operation by itself.
func (e *Engine) start(o *operation) {
	e.operations.Store(o.told.ID, o)
	holds := int64(0)
	if shortens(&o.told) {
		holds = 1
	}
	e.shortenings.Add(holds)
	e.operating.Go(func() {
		defer func() {
			e.operations.Delete(o.told.ID)
			e.shortenings.Add(-holds)
		}()
		e.run(o)
	})
}

// resumeOperations goes on with what a restart has interrupted.
func (e *Engine) resumeOperations() error {
	all, err := e.store.OperationsIn(job.OpRunning, job.OpTrial)
	if err != nil {
		return err
	}
	for _, row := range all {
		o := &operation{action: row.Action, position: row.Position}
		if o.told, o.last, err = readOperation(&row); err != nil {
			return fmt.Errorf("operation %d: %w", row.ID, err)
		}
		e.start(o)
	}
	return nil
}

// run goes through the jobs of an operation, slice by slice, until it is over or the
// engine closes. What has failed for the moment is tried again.
func (e *Engine) run(o *operation) {
	for {
		wait, err := e.step(o)
		if err == nil && o.over() {
			return
		}
		if err != nil {
			e.log.Warn("an operation could not go on; it is tried again", "operation", o.told.ID, "error", err)
			wait = time.Second
		}
		timer := time.NewTimer(wait)
		select {
		case <-timer.C:
		case <-e.quit:
			timer.Stop()
			return
		}
	}
}

func (o *operation) over() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.told.Over()
}

// step does one slice and tells how long to wait before the next.
func (e *Engine) step(o *operation) (wait time.Duration, err error) {
	ctx := context.Background()
	o.mu.Lock()
	told, stopping := o.told, o.stopping
	o.mu.Unlock()
	if stopping != "" {
		return 0, e.conclude(o, job.OpStopped, stopping)
	}
	if e.now() == told.BeganAt { // what comes of its own doing must be seen to come later; a clock set back holds up nothing
		return time.Millisecond, nil
	}
	most := sliceJobs
	if told.State == job.OpTrial {
		if len(told.TrialIDs) >= told.Trial || o.position == math.MaxInt64 {
			return e.watchTrial(ctx, o)
		}
		most = told.Trial - len(told.TrialIDs)
	}
	if told.PerSecond > 0 {
		most = min(most, max(int(told.PerSecond/10), 1))
	}
	ids, end, err := e.nextOf(ctx, &told, o.position, most)
	if err != nil {
		return 0, err
	}
	if len(ids) == 0 && end && told.State == job.OpRunning {
		return 0, e.conclude(o, job.OpFinished, "")
	}
	others := e.worked.Load() > o.worked
	changed, err := e.slice(o, ids, end)
	o.worked = e.worked.Load()
	if told.PerSecond > 0 {
		wait = time.Duration(float64(changed) / told.PerSecond * float64(time.Second))
	}
	if others {
		wait = max(wait, stepBackFor)
	}
	return wait, err
}

// nextOf reads the next ids of an operation; end tells that none follow them.
func (e *Engine) nextOf(ctx context.Context, o *job.Operation, position int64, most int) (ids []int64, end bool, err error) {
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
		found, last, err := e.matching(ctx, &f, position, max(most, 500))
		if err != nil || len(found) > 0 {
			return found[:min(most, len(found))], last == 0 && len(found) <= most, err
		}
		if last == 0 {
			return nil, true, nil
		}
		position = last
	}
}

// slice changes jobs for as long as a slice may take.
func (e *Engine) slice(o *operation, ids []int64, end bool) (changed int64, err error) {
	var next job.Operation
	var position, last int64
	var moved map[int64]bool
	err = e.do(context.Background(), func(tx *txn) error {
		next, position, last = o.tell(), o.position, o.last
		if moved = maps.Clone(o.moved); moved == nil {
			moved = map[int64]bool{}
		}
		before := next.Changed
		began := time.Now()
		all := true
		for _, id := range ids {
			if time.Since(began) > sliceFor {
				all = false
				break
			}
			if err := tx.actOn(&next, o.action, id, moved); err != nil {
				return err
			}
			position = id
		}
		if changed = next.Changed - before; all && end {
			position = math.MaxInt64
		}
		if changed > 0 && job.Removes(next.Action) {
			last = tx.e.served()
			tx.setRemoval(o.action, removal{last: last, underWay: true})
		}
		return tx.putOperation(&next, position, last)
	})
	if err == nil {
		o.mu.Lock()
		o.told, o.position, o.last, o.moved = next, position, last, moved
		o.mu.Unlock()
	}
	return changed, err
}

// storedOperation is an operation as its row holds it.
type storedOperation struct {
	job.Operation
	// LastRemoval is how long the file was served at its last removal.
	LastRemoval int64 `json:"last_removal,omitempty"`
}

func (tx *txn) putOperation(o *job.Operation, position, last int64) error {
	body, err := json.Marshal(storedOperation{*o, last})
	if err != nil {
		return err
	}
	return tx.e.store.PutOperation(store.Operation{ID: o.ID, State: o.State, Body: string(body), Position: position})
}

// actOn applies an operation's action to one job, if it was in an asked state before the
// operation began. Of a filter all others were not among those that were shown.
func (tx *txn) actOn(o *job.Operation, action, id int64, moved map[int64]bool) error {
	r, err := tx.e.store.Row(id)
	if err != nil {
		return err
	}
	switch {
	case r == nil:
		err = noJob(id)
	case !slices.Contains(o.Filter.States, r.State):
		err = job.Fault(job.WrongState, "job %d is %s by now", id, r.State)
	case r.EnqueuedAt <= o.BeganAt && (since(r) <= o.BeganAt || moved[id]):
		before := len(tx.moves)
		err = tx.applyTo(o, action, r)
		for _, m := range tx.moves[before:] {
			if slices.Contains(o.Filter.States, m.from) {
				moved[m.job] = true
			}
		}
		delete(moved, id)
	case len(o.IDs) == 0:
		return nil
	default:
		err = job.Fault(job.WrongState, "job %d became %s only after this began", id, r.State)
	}
	var p *job.Problem
	if errors.As(err, &p) {
		o.RefusedCount++
		if len(o.Refused) < refusedTold {
			o.Refused = append(o.Refused, job.Refused{ID: id, Message: p.Error()})
		}
		return nil
	}
	if err == nil {
		o.Changed++
		if o.State == job.OpTrial {
			o.TrialIDs = append(o.TrialIDs, id)
		}
	}
	return err
}

func (tx *txn) applyTo(o *job.Operation, action int64, r *store.Row) (err error) {
	switch o.Action {
	case job.ActCancel:
		err = tx.cancel(r)
	case job.ActRequeue:
		var before json.RawMessage
		if before, err = tx.requeue(r, Requeuing{PayloadPatch: o.PayloadPatch}, o.ID); before != nil {
			err = errors.Join(err, tx.e.store.KeepEdited(r.ID, action, before))
		}
	case job.ActPatch:
		err = tx.patchOne(o, action, r)
	case job.ActStartNow:
		err = tx.startNow(r)
	case job.ActDiscard:
		err = tx.discard(r, action)
	case job.ActPurge:
		err = tx.purge(r, action)
	}
	return err
}

func (tx *txn) patchOne(o *job.Operation, action int64, r *store.Row) error {
	p, err := job.ReadPatch(o.Patch)
	if err != nil {
		return err
	}
	was, err := tx.edit(r, p)
	if err != nil || !slices.Contains(p.Named, "payload") {
		return err
	}
	return tx.e.store.KeepEdited(r.ID, action, payloadOf(was))
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
func (e *Engine) conclude(o *operation, state, why string) error {
	next := o.tell()
	next.State, next.Why, next.EndedAt = state, why, e.now()
	err := e.do(context.Background(), func(tx *txn) error {
		switch {
		case !job.Removes(next.Action):
		case state == job.OpUndone || o.last == 0:
			tx.setRemoval(o.action, removal{})
		default:
			tx.setRemoval(o.action, removal{last: o.last})
		}
		return tx.putOperation(&next, o.position, o.last)
	})
	if err == nil {
		o.mu.Lock()
		o.told = next
		o.mu.Unlock()
		e.watchers.nudge(Changes{Queues: true})
	}
	return err
}

// trialEvery is how often the jobs of a trial are looked at.
const trialEvery = 200 * time.Millisecond

// watchTrial looks whether the jobs of a trial are done: then the rest follows; where
// one has failed nothing more does.
func (e *Engine) watchTrial(ctx context.Context, o *operation) (wait time.Duration, err error) {
	told := o.tell()
	rows, err := e.store.Read(ctx, told.TrialIDs)
	if err != nil {
		return 0, err
	}
	done := 0
	for _, r := range rows {
		switch r.State {
		case job.Done:
			done++
		case job.Dead, job.Backoff, job.Skipped, job.Cancelled:
			return 0, e.conclude(o, job.OpStopped, fmt.Sprintf("job %d of the trial is %s; the rest stays as it is", r.ID, r.State))
		}
	}
	switch {
	case len(told.TrialIDs) == 0:
		return 0, e.conclude(o, job.OpStopped, "no job of the trial could be requeued")
	case len(rows) < len(told.TrialIDs):
		return 0, e.conclude(o, job.OpStopped, "a job of the trial was removed; the rest stays as it is")
	case done < len(rows):
		return trialEvery, e.tellTrial(ctx, o, rows)
	case o.position == math.MaxInt64:
		return 0, e.conclude(o, job.OpFinished, "")
	}
	told.State = job.OpRunning
	told.Why = ""
	err = e.do(ctx, func(tx *txn) error { return tx.putOperation(&told, o.position, o.last) })
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
func (e *Engine) tellTrial(ctx context.Context, o *operation, rows []*store.Row) error {
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
			j, err := e.Job(ctx, r.ID)
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

// Operation tells how an operation stands.
func (e *Engine) Operation(ctx context.Context, id int64) (job.Operation, error) {
	if o, running := e.operations.Load(id); running {
		return e.tellUnderWay(ctx, o.(*operation))
	}
	row, err := e.store.Operation(ctx, id)
	if err != nil || row == nil {
		return job.Operation{}, errors.Join(err, job.Fault(job.NotFound, "there is no operation %d", id))
	}
	told, last, err := readOperation(row)
	if err != nil {
		return told, err
	}
	return e.tellOperation(ctx, told, last)
}

// tellUnderWay tells an operation as its runner has left it.
func (e *Engine) tellUnderWay(ctx context.Context, o *operation) (job.Operation, error) {
	told := o.tell()
	o.mu.Lock()
	last := o.last
	o.mu.Unlock()
	return e.tellOperation(ctx, told, last)
}

// tellOperation adds what changes after an operation is over: until when it can be undone,
// counted from its last removal, and what became of the jobs that it has requeued.
func (e *Engine) tellOperation(ctx context.Context, o job.Operation, last int64) (_ job.Operation, err error) {
	if o.UndoUntil = 0; job.Removes(o.Action) && o.State != job.OpUndone {
		left := restorableFor.Milliseconds()
		if last != 0 && o.Over() {
			left -= e.served() - last
		}
		o.UndoUntil = e.now() + job.Time(left)
	}
	if o.Action == job.ActRequeue && o.ID != 0 {
		o.Became, err = e.store.Became(ctx, o.ID)
	}
	return o, err
}

func readOperation(row *store.Operation) (o job.Operation, last int64, err error) {
	var stored storedOperation
	err = json.Unmarshal([]byte(row.Body), &stored)
	stored.ID = row.ID
	return stored.Operation, stored.LastRemoval, err
}

// Operations lists the latest operations.
func (e *Engine) Operations(ctx context.Context) ([]job.Operation, error) {
	const most = 100
	rows, err := e.store.Operations(ctx, most)
	all := make([]job.Operation, len(rows))
	for i := range rows {
		var last int64
		if all[i], last, err = readOperation(&rows[i]); err != nil {
			return nil, err
		}
		if all[i], err = e.tellOperation(ctx, all[i], last); err != nil {
			return nil, err
		}
	}
	return all, err
}

// StopOperation stops an operation; what it has changed stays so.
func (e *Engine) StopOperation(ctx context.Context, id int64) (job.Operation, error) {
	o, running := e.operations.Load(id)
	if !running {
		told, err := e.Operation(ctx, id)
		if err == nil {
			err = job.Fault(job.WrongState, "operation %d is %s already", id, told.State)
		}
		return told, err
	}
	one := o.(*operation)
	one.mu.Lock()
	one.stopping = "stopped by " + callOf(ctx).Principal
	one.mu.Unlock()
	err := e.record(ctx, "stop_operation", 0, map[string]int64{"operation": id}, func(tx *txn) (func(int64) error, error) {
		told := one.tell()
		tx.leaveKept(&told, "stopped")
		return nil, nil
	})
	for err == nil && !one.over() {
		select {
		case <-time.After(sliceFor):
		case <-ctx.Done():
			return one.tell(), ctx.Err()
		case <-e.quit:
			return one.tell(), errStopping
		}
	}
	return one.tell(), err
}

// UndoOperation takes back the removals of an operation, until its time for that is over;
// one that is under way is stopped first.
func (e *Engine) UndoOperation(ctx context.Context, id int64) (job.Operation, error) {
	if x, running := e.operations.Load(id); running && job.Removes(x.(*operation).tell().Action) {
		if _, err := e.StopOperation(ctx, id); err != nil {
			return x.(*operation).tell(), err
		}
	}
	row, err := e.store.Operation(ctx, id)
	if err != nil || row == nil {
		return job.Operation{}, errors.Join(err, job.Fault(job.NotFound, "there is no operation %d", id))
	}
	told, last, err := readOperation(row)
	if err == nil {
		told, err = e.tellOperation(ctx, told, last)
	}
	switch {
	case err != nil:
		return told, err
	case !job.Removes(told.Action):
		return told, job.Fault(job.WrongState, "only removals can be undone; operation %d is a %s", id, told.Action)
	case told.State == job.OpUndone:
		return told, job.Fault(job.WrongState, "operation %d is undone already", id)
	case e.now() >= told.UndoUntil:
		return told, job.Fault(job.WrongState, "operation %d could be undone until %s; its jobs have been swept", id, told.UndoUntil)
	}
	o := &operation{told: told, action: row.Action, position: row.Position, last: last}
	err = e.record(ctx, "undo", 0, map[string]int64{"operation": id}, func(tx *txn) (func(int64) error, error) {
		tx.leaveKept(&told, "undone")
		return nil, nil
	})
	for left := true; left && err == nil; {
		err = e.do(ctx, func(tx *txn) error {
			rows, err := tx.e.store.RemovedBy(row.Action, sliceJobs)
			left = len(rows) > 0
			for _, r := range rows {
				if err == nil {
					err = tx.bringBack(r)
				}
			}
			return err
		})
	}
	if err != nil {
		return told, err
	}
	err = e.conclude(o, job.OpUndone, "")
	return o.tell(), err
}

// Actions lists what operators did, the latest first, before an action's number; to one
// job where it is not 0.
func (e *Engine) Actions(ctx context.Context, before, id int64, limit int) ([]job.Action, error) {
	if before == 0 {
		before = math.MaxInt64
	}
	return e.store.Actions(ctx, before, id, limit)
}
