package command

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// NewJob is a checked spec in the shape in which it is stored.
type NewJob struct {
	// Row is the job's, once it was inserted.
	Row store.Row
	// Earlier is the job that answers for it, where its dedupe has found one, and twin one of
	// the same call that is not written yet.
	Earlier  *store.Row
	twin     *NewJob
	sameSpec bool

	spec         *job.Spec
	task, policy string // policy is what the spec alone makes
	delay        job.Duration
	// needs are jobs of the same call that it waits for.
	needs []*NewJob
	// isLast tells that it is the last job of a batch, and waits for all others.
	isLast bool
}

var defaultPolicy = policyBody((&job.Spec{}).Policy())

func policyBody(p job.Policy) string {
	body, err := json.Marshal(p)
	if err != nil {
		panic(fmt.Sprintf("a policy is always JSON: %v", err))
	}
	return string(body)
}

// Prepare shapes a checked spec. It needs no transaction.
func Prepare(s *job.Spec) (*NewJob, error) {
	n := &NewJob{task: s.Task, policy: defaultPolicy, delay: s.Delay, spec: s}
	if s.MaxAttempts != nil || s.Retry != nil || s.Timeout != 0 || s.KeepResult != nil || s.Notify != nil {
		n.policy = policyBody(s.Policy())
	}
	n.Row = store.Row{
		Round: 1, RunAt: s.RunAt, StartBy: s.StartBy, PayloadBytes: len(s.Payload),
		Owner: s.Owner, Lane: s.Lane, Key: s.Key, Dedupe: s.Dedupe, Traceparent: s.Traceparent, Payload: s.Payload,
	}
	if len(s.Labels) > 0 {
		labels, err := json.Marshal(s.Labels)
		if err != nil {
			return nil, err
		}
		n.Row.Labels = string(labels)
	}
	if s.After != nil {
		n.Row.After = uint8(lifecycle.WantsOf(*s.After))
	}
	if s.Call != nil {
		call, err := json.Marshal(s.Call)
		if err != nil {
			return nil, err
		}
		n.Row.Payload, n.Row.PayloadBytes, n.Row.Host = call, len(call), store.HostHash(s.Call.Host())
	}
	return n, nil
}

// prepareAll shapes checked specs.
func prepareAll(specs []job.Spec) ([]*NewJob, error) {
	news := make([]*NewJob, len(specs))
	for i := range specs {
		n, err := Prepare(&specs[i])
		if err != nil {
			return nil, err
		}
		news[i] = n
	}
	return news, nil
}

// Enqueue takes a job in and tells what became of it.
func (dk *Desk) Enqueue(ctx context.Context, s job.Spec) (api.Enqueued, error) {
	if err := job.Wrong("the job was not enqueued", s.Check(dk.c.MaxPayload)); err != nil {
		return api.Enqueued{}, err
	}
	n, err := Prepare(&s)
	if err != nil {
		return api.Enqueued{}, err
	}
	id := commit.CallOf(ctx).ID()
	var told api.Enqueued
	var policy int64
	err = dk.c.Do(ctx, func(v *commit.View) (commit.Write, error) {
		n.Earlier = nil
		r, err := v.Receipts.Find(id)
		if err != nil {
			return nil, err
		}
		if r != nil {
			told, policy, err = replayOne(v, r)
			return nil, err
		}
		if err := dk.canTakeIn(v, "the job was not enqueued", nowhere, n); err != nil {
			return nil, err
		}
		return func(tx *commit.Tx) error {
			if err := Insert(tx, n); err != nil {
				return err
			}
			told, policy = enqueuedOf(tx.View(), n), n.Row.Policy
			tx.Receipts.Note(id, told.ID)
			return nil
		}, nil
	})
	if err != nil || told.Duplicate {
		return told, err
	}
	if told.Warnings, err = dk.read.Warned(ctx, policy); err != nil {
		return told, err
	}
	if w := dk.read.UnservedAt([2]string{told.Queue, s.Task}); w != nil {
		told.Warnings = append(told.Warnings, *w)
	}
	return told, nil
}

// enqueuedOf tells what became of a new job, or which earlier one answers for it.
func enqueuedOf(v *commit.View, n *NewJob) api.Enqueued {
	if n.Earlier != nil {
		told := enqueuedAs(v, n.Earlier)
		told.Duplicate, told.SameSpec = true, n.sameSpec
		return told
	}
	return enqueuedAs(v, &n.Row)
}

// enqueuedAs tells how a job stands. Of an earlier one that has been removed no queue is known.
func enqueuedAs(v *commit.View, r *store.Row) api.Enqueued {
	return api.Enqueued{ID: r.ID, State: r.State, Queue: v.Queues.Name(r.Queue), NextAt: r.NextAt}
}

// replayOne tells of a call that is repeated how its job stands now.
func replayOne(v *commit.View, r *memory.Receipt) (told api.Enqueued, policy int64, err error) {
	found, err := v.Store.Row(r.IDs[0])
	switch {
	case err != nil:
		return told, 0, err
	case found == nil:
		return told, 0, job.Fault(job.NotFound, "the same call has taken effect before, on job %d, which has been removed since", r.IDs[0])
	}
	return enqueuedAs(v, found), found.Policy, nil
}

// EnqueueMany takes all jobs in, or none. at gives the place of the i-th spec
// for messages, such as "line 501: ".
func (dk *Desk) EnqueueMany(ctx context.Context, specs []job.Spec, at func(i int) string) ([]api.Enqueued, error) {
	if len(specs) > job.MaxSpecs {
		return nil, job.Fault(job.Invalid, "%d jobs in one call are too many; at most %d are taken, none was", len(specs), job.MaxSpecs)
	}
	if err := job.Wrong("no job was enqueued", job.CheckAll(specs, dk.c.MaxPayload, at)); err != nil {
		return nil, err
	}
	news, err := prepareAll(specs)
	if err != nil {
		return nil, err
	}
	id := commit.CallOf(ctx).ID()
	var jobs []api.Enqueued
	err = dk.c.DoRows(ctx, len(news), func(v *commit.View) (commit.Write, error) {
		r, err := v.Receipts.Find(id)
		if err != nil {
			return nil, err
		}
		if r != nil {
			jobs, err = replayMany(v, r)
			return nil, err
		}
		if err := dk.canTakeIn(v, "no job was enqueued", at, news...); err != nil {
			return nil, err
		}
		if err := dedupeAll(v, news); err != nil {
			return nil, err
		}
		return func(tx *commit.Tx) (err error) {
			if jobs, err = insertAll(tx, news); err == nil {
				noteMany(tx, id, jobs)
			}
			return err
		}, nil
	})
	return jobs, err
}

// insertAll writes the new jobs of a call, of which it is known which others answer for, and
// tells them in their order.
func insertAll(tx *commit.Tx, news []*NewJob) ([]api.Enqueued, error) {
	jobs := make([]api.Enqueued, len(news))
	for i, n := range news {
		if n.twin != nil {
			n.Earlier = &n.twin.Row
		}
		if n.Earlier == nil {
			if err := placeNew(tx, n); err != nil {
				return nil, err
			}
			if err := tx.Store.InsertJob(&n.Row); err != nil {
				return nil, err
			}
		}
		jobs[i] = enqueuedOf(tx.View(), n)
	}
	return jobs, nil
}

// noteMany keeps a receipt of a bulk: the first id and their number or, where earlier
// jobs have answered for some, 0 and every id.
func noteMany(tx *commit.Tx, id memory.CallID, jobs []api.Enqueued) {
	if len(jobs) == 0 {
		return
	}
	if !slices.ContainsFunc(jobs, func(j api.Enqueued) bool { return j.Duplicate }) {
		tx.Receipts.Note(id, jobs[0].ID, int64(len(jobs)))
		return
	}
	ids := []int64{0}
	for _, j := range jobs {
		ids = append(ids, j.ID)
	}
	tx.Receipts.Note(id, ids...)
}

// replayMany rebuilds the answer to a bulk, in its order; what was removed since has no
// state.
func replayMany(v *commit.View, r *memory.Receipt) ([]api.Enqueued, error) {
	ids := r.IDs[1:]
	if r.IDs[0] != 0 {
		ids = nil
		for id := r.IDs[0]; id < r.IDs[0]+r.IDs[1]; id++ {
			ids = append(ids, id)
		}
	}
	jobs := make([]api.Enqueued, len(ids))
	for i, id := range ids {
		row, err := v.Store.Row(id)
		if err != nil {
			return nil, err
		}
		if row != nil {
			jobs[i] = enqueuedAs(v, row)
		} else {
			jobs[i] = api.Enqueued{ID: id, Removed: true}
		}
	}
	return jobs, nil
}

// canTakeIn refuses jobs that are well-formed and cannot be taken in now, before anything
// is written. A call that has taken effect before does not come to it: it is answered as
// it was then, whatever time it is by now and however full the disk.
func (dk *Desk) canTakeIn(v *commit.View, title string, at func(i int) string, news ...*NewJob) error {
	if err := dk.hasRoom(); err != nil {
		return err
	}
	var late []job.FieldError
	for i, n := range news {
		for _, w := range n.spec.CheckStart(v.Now) {
			late = append(late, job.FieldError{Field: at(i) + w.Field, Message: w.Message})
		}
	}
	if err := job.Wrong(title, late); err != nil {
		return err
	}
	if err := inScope(v, title, at, news...); err != nil {
		return err
	}
	if err := canName(v, news...); err != nil {
		return err
	}
	if err := job.Wrong(title, append(canFollow(v, at, news...), canCall(v, at, news...)...)); err != nil {
		return err
	}
	return canWait(v, news...)
}

// inScope refuses jobs of queues and tasks that whoever gives the command may not see.
func inScope(v *commit.View, title string, at func(i int) string, news ...*NewJob) error {
	if v.Scope.Whole() {
		return nil
	}
	var wrong []job.FieldError
	for i, n := range news {
		if queue := queueFor(v, n); !v.Scope.Sees(queue, n.task) {
			wrong = append(wrong, job.FieldError{Field: at(i) + "task", Message: fmt.Sprintf("%s in queue %s is not for this token", n.task, queue)})
		}
	}
	return job.Wrong(title, wrong)
}

// nowhere is the place of a job that came by itself.
func nowhere(int) string { return "" }

// Insert writes a new job, or finds the earlier one that answers for it.
func Insert(tx *commit.Tx, n *NewJob) error {
	if err := Dedupe(tx.View(), n, nil); err != nil || n.Earlier != nil {
		return err
	}
	if err := placeNew(tx, n); err != nil {
		return err
	}
	return tx.Store.InsertJob(&n.Row)
}

// placeNew gives a new job its id and its place, all but its row in the file. It may be
// called again in a later transaction.
func placeNew(tx *commit.Tx, n *NewJob) error { return placeAs(tx, n, tx.Facts.DrawID()) }

// placeAs is placeNew where the id is drawn.
func placeAs(tx *commit.Tx, n *NewJob, id int64) error {
	r := &n.Row
	q, err := tx.Queues.Use(queueFor(tx.View(), n), tx.By)
	if err != nil {
		return err
	}
	t, err := tx.Tasks.Use(n.task, tx.By)
	if err != nil {
		return err
	}
	r.State, r.ID, r.Queue, r.Task, r.EnqueuedAt, r.NextAt = job.Unplaced, id, q.ID, t.ID, tx.Now, r.RunAt
	r.Rank, r.Level, r.Turn, r.ReadyAt = 0, 0, false, 0 // not those of a transaction that failed
	body, priority := resolve(tx.View(), n, q)
	if r.Policy, err = tx.Policies.Use(body); err != nil {
		return err
	}
	r.Priority = priority
	if n.delay > 0 {
		r.RunAt = runAtOf(n, tx.Now)
		r.NextAt = r.RunAt
	}
	if err := tie(tx, n); err != nil {
		return err
	}
	return place.Put(tx, r, lifecycle.ByEnqueue)
}
