package bulk

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/mergepatch"
	"humblemule.example/job"
)

// An operation works in slices, each of which keeps the committer for no longer than
// that; where others have commands too they go into the transactions of those, and wait so
// long for one, so that others hardly notice them. While nobody else has any they are longer.
const (
	sliceFor    = 500 * time.Microsecond
	waitsFor    = 20 * time.Millisecond
	sliceJobs   = 200
	aloneFor    = 15 * time.Millisecond
	aloneJobs   = 2000
	readAtOnce  = 500 // of the jobs to come, at the least
	refusedTold = 20
)

// pace is how an operation goes on beside others.
type pace struct {
	worked  int64     // what the engine's counter is after the last slice, if others had no commands
	otherAt time.Time // when others were last seen to have commands
}

// next says whether others have had commands lately, and how long the slice that is now to be
// done may be, in time and in jobs.
func (p *pace) next(worked int64) (others bool, long time.Duration, jobs int) {
	const lately = 200 * time.Millisecond
	if worked > p.worked {
		p.otherAt = time.Now()
	}
	p.worked = worked + 1
	if time.Since(p.otherAt) < lately {
		return true, sliceFor, sliceJobs
	}
	return false, aloneFor, aloneJobs
}

// apply applies a slice: with what others have to write, or alone.
func (op *Operator) apply(ctx context.Context, others bool, slice commit.Check) error {
	if others {
		return op.c.DoBeside(ctx, waitsFor, slice)
	}
	return op.c.Do(ctx, slice)
}

// Operation is an action on many jobs that is under way. Its runner alone changes it.
type Operation struct {
	mu       sync.Mutex
	told     api.Operation
	last     int64             // how long the file was served at its last removal; 0 for none
	tells    []memory.Gathered // who is told of what it has ended, once it is over
	action   int64
	position int64 // the last job that was looked at
	pace     pace
	stopping string
	asked    chan struct{} // receives when stopping is set
	// ahead are the next jobs to be looked at, in their order, as they were read; noMore
	// tells that none follow them.
	ahead    []int64
	noMore   bool
	lookedAt time.Time // at why its trial does not go on
	// moved are jobs, among those that are asked for, whose places it has changed by its own
	// doing: they have got the lane of one that it acted on.
	moved map[int64]bool
}

func (o *Operation) tell() api.Operation {
	o.mu.Lock()
	defer o.mu.Unlock()
	told := o.told
	told.Refused = slices.Clone(told.Refused)
	return told
}

// Act applies an action to many jobs. Few are changed at once; for more the answer is
// an operation that goes on by itself, also after a restart. With DryRun it counts and
// changes nothing.
func (op *Operator) Act(ctx context.Context, req api.ActRequest) (api.Operation, error) {
	if err := scope.Whole(ctx); err != nil {
		return api.Operation{}, err
	}
	if err := job.Wrong("nothing was done", req.Check()); err != nil {
		return api.Operation{}, err
	}
	o := op.NewOperation(ctx, req)
	if err := op.notTwice(&req); err != nil {
		return o.told, err
	}
	counted, err := op.count(ctx, &o.told)
	if err != nil {
		return o.told, err
	}
	if req.DryRun {
		o.told.State = api.OpFinished
		if o.told.Follows, err = op.follows(ctx, &o.told, counted); err == nil {
			err = op.exemplify(ctx, &o.told)
		}
		return o.told, err
	}
	if o.told.Matched == 0 {
		return o.told, job.Fault(job.NotFound, "no job matches; nothing was done")
	}
	if req.Trial > 0 {
		o.told.State = api.OpTrial
	}
	replayed, err := op.recordOperation(ctx, o)
	if err != nil || replayed != nil {
		return op.replayedOperation(ctx, replayed, err)
	}
	if o.told.Matched > api.MaxInCall || req.Trial > 0 || req.PerSecond > 0 {
		op.Start(o)
		return op.tellUnderWay(ctx, o)
	}
	op.run(o)
	return op.tellUnderWay(ctx, o)
}

// NewOperation gives an operation that is not recorded yet.
func (op *Operator) NewOperation(ctx context.Context, req api.ActRequest) *Operation {
	return &Operation{asked: make(chan struct{}, 1), told: api.Operation{State: api.OpRunning, ActRequest: req, By: commit.CallOf(ctx).Principal, BeganAt: op.c.Now(), Refused: []api.Refused{}}}
}

// Matches says how many jobs the operation concerns.
func (o *Operation) Matches(n int64) { o.told.Matched, o.told.MatchedIs = n, api.Exact }

// notTwice refuses to requeue jobs of a cause while another operation does.
func (op *Operator) notTwice(req *api.ActRequest) (err error) {
	if req.Action != api.ActRequeue || req.DryRun || req.Filter == nil || req.Filter.Cause == 0 {
		return nil
	}
	op.running.Range(func(_, x any) bool {
		o := x.(*Operation).tell()
		if o.Action == api.ActRequeue && o.Filter != nil && o.Filter.Cause == req.Filter.Cause {
			err = job.Fault(job.WrongState, "operation %d is already requeuing jobs of this cause: stop it first, or wait for its end", o.ID)
		}
		return err == nil
	})
	return err
}

// exemplify shows what a request's patch would make of the first payload.
func (op *Operator) exemplify(ctx context.Context, o *api.Operation) error {
	if o.PayloadPatch == nil {
		return nil
	}
	ids, _, err := op.nextOf(ctx, o, 0, 1)
	if err != nil || len(ids) == 0 {
		return err
	}
	first, err := op.read.Job(ctx, ids[0])
	if err != nil {
		return err
	}
	edited, err := mergepatch.Apply(first.Payload, o.PayloadPatch)
	if err != nil {
		return job.Wrong("nothing would be done", []job.FieldError{{Field: "payload_patch", Message: fmt.Sprintf("does not fit the payload of job %d: %v", first.ID, err)}})
	}
	o.Example = &job.Edit{Job: first.ID, Before: first.Payload, After: edited}
	return nil
}

// count counts what a request matches, up to what a call may look at.
func (op *Operator) count(ctx context.Context, o *api.Operation) (counted api.Count, err error) {
	if len(o.IDs) > 0 {
		counted, err = op.read.CountOf(ctx, o.IDs)
		// Those that are gone are refused, each by its id.
		counted.Matched = int64(len(slices.Compact(slices.Sorted(slices.Values(o.IDs)))))
	} else {
		counted, err = op.read.Count(ctx, o.Filter.Filter())
	}
	o.Matched, o.MatchedIs = counted.Matched, counted.MatchedIs
	return counted, err
}

// recordOperation records the action and its operation; replayed is the operation of the same
// call where it is made again.
func (op *Operator) recordOperation(ctx context.Context, o *Operation) (replayed *int64, err error) {
	call := commit.CallOf(ctx)
	same := call.ID()
	err = op.c.Do(ctx, func(v *commit.View) (commit.Write, error) {
		r, err := v.Receipts.Find(same)
		if err != nil {
			return nil, err
		}
		if r != nil {
			replayed = &r.IDs[0]
			return nil, nil
		}
		return func(tx *commit.Tx) error {
			if err := o.Add(tx, call.Principal); err != nil {
				return err
			}
			tx.Receipts.Note(same, o.told.ID)
			return nil
		}, nil
	})
	return replayed, err
}

// Add records the operation and its action.
func (o *Operation) Add(tx *commit.Tx, by string) error {
	detail, err := json.Marshal(o.told.ActRequest)
	if err != nil {
		return err
	}
	if o.action, err = tx.Store.InsertAction(tx.Now, by, o.told.Action, 0, string(detail)); err != nil {
		return err
	}
	body, err := json.Marshal(o.told)
	if err != nil {
		return err
	}
	if o.told.ID, err = tx.Store.AddOperation(o.action, o.told.State, string(body)); err != nil {
		return err
	}
	if removes(o.told.Action) {
		tx.Removals.Set(o.action, memory.Removal{Last: tx.Served(), UnderWay: true})
	}
	return nil
}

// ID is the operation's number, once it was added; 0 before.
func (o *Operation) ID() int64 {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.told.ID
}

func (op *Operator) replayedOperation(ctx context.Context, id *int64, err error) (api.Operation, error) {
	if err != nil {
		return api.Operation{}, err
	}
	return op.Operation(ctx, *id)
}

// Start runs an operation by itself.
func (op *Operator) Start(o *Operation) {
	op.running.Store(o.told.ID, o)
	release := func() {}
	if shortens(&o.told) {
		release = op.c.Memory.Retention.Hold()
	}
	op.runners.Go(func() {
		defer release()
		defer op.running.Delete(o.told.ID)
		op.run(o)
	})
}

// shortens tells whether an operation removes what settings keep no longer.
func shortens(o *api.Operation) bool { return o.Filter != nil && o.Filter.FinishedBy != nil }

// Resume goes on with what a restart has interrupted.
func (op *Operator) Resume() error {
	all, err := op.c.Store.OperationsIn(api.OpRunning, api.OpTrial)
	if err != nil {
		return err
	}
	for i := range all {
		stored, err := memory.ReadOperation(&all[i])
		if err != nil {
			return err
		}
		op.Start(&Operation{asked: make(chan struct{}, 1), told: stored.Operation, last: stored.LastRemoval, tells: stored.Tells, action: all[i].Action, position: all[i].Position})
	}
	return nil
}

// Operation tells how an operation stands.
func (op *Operator) Operation(ctx context.Context, id int64) (api.Operation, error) {
	if err := scope.Whole(ctx); err != nil {
		return api.Operation{}, err
	}
	if o, running := op.running.Load(id); running {
		return op.tellUnderWay(ctx, o.(*Operation))
	}
	row, err := op.c.Store.Operation(ctx, id)
	if err != nil || row == nil {
		return api.Operation{}, errors.Join(err, job.Fault(job.NotFound, "there is no operation %d", id))
	}
	stored, err := memory.ReadOperation(row)
	if err != nil {
		return api.Operation{}, err
	}
	return op.tellOperation(ctx, stored.Operation, stored.LastRemoval)
}

// tellUnderWay tells an operation as its runner has left it.
func (op *Operator) tellUnderWay(ctx context.Context, o *Operation) (api.Operation, error) {
	told := o.tell()
	o.mu.Lock()
	last := o.last
	o.mu.Unlock()
	return op.tellOperation(ctx, told, last)
}

// tellOperation adds what changes after an operation is over: until when it can be undone,
// counted from its last removal, and what became of the jobs that it has requeued.
func (op *Operator) tellOperation(ctx context.Context, o api.Operation, last int64) (_ api.Operation, err error) {
	if o.UndoUntil = 0; removes(o.Action) && o.State != api.OpUndone {
		left := memory.RestorableFor.Milliseconds()
		if last != 0 && o.Over() {
			left -= op.c.Clock.Served() - last
		}
		o.UndoUntil = op.c.Now() + job.Time(left)
	}
	if o.Action == api.ActRequeue && o.ID != 0 {
		o.Became, err = op.c.Store.Became(ctx, o.ID)
	}
	if _, under := op.undos.Load(o.ID); under {
		o.State = api.OpUndoing
	}
	op.read.VeilOperation(ctx, &o)
	return o, err
}

// UnderWay lists the operations that are not over, as their runners have left them.
func (op *Operator) UnderWay() (all []api.Operation) {
	op.running.Range(func(_, o any) bool {
		all = append(all, o.(*Operation).tell())
		return true
	})
	slices.SortFunc(all, func(a, b api.Operation) int { return cmp.Compare(a.ID, b.ID) })
	return all
}

// Operations lists the latest operations.
func (op *Operator) Operations(ctx context.Context, before int64, most int) ([]api.Operation, error) {
	if err := scope.Whole(ctx); err != nil {
		return nil, err
	}
	rows, err := op.c.Store.Operations(ctx, before, most)
	all := make([]api.Operation, len(rows))
	for i := range rows {
		stored, err := memory.ReadOperation(&rows[i])
		if err != nil {
			return nil, err
		}
		if all[i], err = op.tellOperation(ctx, stored.Operation, stored.LastRemoval); err != nil {
			return nil, err
		}
	}
	return all, err
}

// StopOperation stops an operation; what it has changed stays so.
func (op *Operator) StopOperation(ctx context.Context, id int64) (api.Operation, error) {
	if err := scope.Whole(ctx); err != nil {
		return api.Operation{}, err
	}
	o, running := op.running.Load(id)
	if !running {
		told, err := op.Operation(ctx, id)
		if err == nil {
			err = job.Fault(job.WrongState, "operation %d is already %s", id, told.State)
		}
		return told, err
	}
	one := o.(*Operation)
	one.stop("stopped by " + commit.CallOf(ctx).Principal)
	err := op.c.Record(ctx, "stop_operation", 0, map[string]int64{"operation": id}, func(*commit.View) (commit.Act, error) {
		return func(tx *commit.Tx, _ int64) error {
			told := one.tell()
			leaveKept(tx, &told, "stopped")
			return nil
		}, nil
	})
	for err == nil && !one.over() {
		select {
		case <-time.After(sliceFor):
		case <-ctx.Done():
			return one.tell(), ctx.Err()
		case <-op.c.Quit:
			return one.tell(), commit.ErrStopping
		}
	}
	return one.tell(), err
}

// stop asks the runner of an operation to end it, also while that waits for its next slice.
func (o *Operation) stop(why string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.stopping = why
	select {
	case o.asked <- struct{}{}:
	default:
	}
}

// leaveKept lets retention rest after such an operation was stopped or undone.
func leaveKept(tx *commit.Tx, o *api.Operation, what string) {
	if shortens(o) {
		tx.Options().Log.Warn(tx.Retention.Rest(fmt.Sprintf("operation %d, which removes what is kept no longer, was %s: what is left of its jobs goes for good then, unless it is set to be kept for longer", o.ID, what)))
	}
}

// bringBack takes back removals by an action for so long at most, and tells whether more may
// be left.
func (op *Operator) bringBack(ctx context.Context, action int64, others bool, long time.Duration) (left bool, err error) {
	err = op.apply(ctx, others, commit.Unchecked(func(tx *commit.Tx) error {
		began := time.Now()
		for left = true; left && time.Since(began) < long; {
			rows, err := tx.Store.RemovedBy(action, store.AtOnce)
			left = len(rows) > 0
			for _, r := range rows {
				if err == nil {
					err = command.BringBack(tx, r)
				}
			}
			if err != nil {
				return err
			}
		}
		return nil
	}))
	return left, err
}

// undo is the taking back of an operation's removals.
type undo struct {
	done chan struct{}
	err  error // once it is done
}

// answeredWithin is how long an undo is waited for; it goes on by itself.
const answeredWithin = 5 * time.Second

// UndoOperation takes back the removals of an operation, until its time for that is over;
// one that is under way is stopped first. Where that takes long the operation is answered
// while it is being undone. To undo one again changes nothing.
func (op *Operator) UndoOperation(ctx context.Context, id int64) (api.Operation, error) {
	if err := scope.Whole(ctx); err != nil {
		return api.Operation{}, err
	}
	if x, running := op.running.Load(id); running && removes(x.(*Operation).tell().Action) {
		if _, err := op.StopOperation(ctx, id); err != nil {
			return x.(*Operation).tell(), err
		}
	}
	row, err := op.c.Store.Operation(ctx, id)
	if err != nil || row == nil {
		return api.Operation{}, errors.Join(err, job.Fault(job.NotFound, "there is no operation %d", id))
	}
	stored, err := memory.ReadOperation(row)
	told, last := stored.Operation, stored.LastRemoval
	if err == nil {
		told, err = op.tellOperation(ctx, told, last)
	}
	switch {
	case err != nil:
		return told, err
	case !removes(told.Action):
		return told, job.Fault(job.WrongState, "only removals can be undone; operation %d is a %s", id, told.Action)
	case told.State == api.OpUndone:
		return told, nil
	case op.c.Now() >= told.UndoUntil:
		return told, job.Fault(job.WrongState, "operation %d could be undone until %s; its jobs have been swept", id, told.UndoUntil)
	}
	u := &undo{done: make(chan struct{})}
	if other, under := op.undos.LoadOrStore(id, u); under {
		u = other.(*undo)
	} else {
		op.runners.Go(func() {
			defer close(u.done)
			defer op.undos.Delete(id)
			u.err = op.undo(context.WithoutCancel(ctx), &Operation{told: told, action: row.Action, position: row.Position, last: last, tells: stored.Tells})
		})
	}
	select {
	case <-u.done:
		err = u.err
	case <-time.After(answeredWithin):
	case <-ctx.Done():
		err = ctx.Err()
	}
	if err != nil {
		return told, err
	}
	return op.Operation(ctx, id)
}

// undo takes back the removals of an operation, some at a time. One that is cut short by a
// stop of the service has brought some back, and can be done again.
func (op *Operator) undo(ctx context.Context, o *Operation) error {
	err := op.c.Record(ctx, "undo", 0, map[string]int64{"operation": o.told.ID}, func(*commit.View) (commit.Act, error) {
		return func(tx *commit.Tx, _ int64) error {
			leaveKept(tx, &o.told, "undone")
			return nil
		}, nil
	})
	p := pace{worked: op.c.Worked()}
	for left := true; left && err == nil; {
		others, long, _ := p.next(op.c.Worked())
		left, err = op.bringBack(ctx, o.action, others, long)
	}
	if err != nil {
		return err
	}
	return op.conclude(o, api.OpUndone, "")
}

// removes tells whether an action takes jobs out of every list, which can be undone for
// some minutes.
func removes(action string) bool { return action == api.ActDiscard || action == api.ActPurge }
