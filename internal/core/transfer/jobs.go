package transfer

import (
	"encoding/json"
	"fmt"

	"humblemule.example/api"
	"humblemule.example/internal/core/command"
	"humblemule.example/internal/core/commit"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/place"
	"humblemule.example/internal/core/plan"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/triage"
	"humblemule.example/internal/text"
	"humblemule.example/job"
)

// item is a line of an export in the shape in which it is stored.
type item struct {
	number int
	line   *api.ExportLine
	// id is that of the line's job, where it was exported.
	id    int64
	wrong []job.FieldError
	// rows is about how many it writes.
	rows int

	row    store.Row
	state  job.State // that it has here, or has to find a place for
	policy string
	causes map[int]triage.Cause // of its failed attempts, by their places
}

// prepare checks and shapes a line. It needs no transaction.
func (im *Importer) prepare(number int, l *api.ExportLine) *item {
	it := &item{number: number, line: l, rows: 1}
	switch {
	case l.Job != nil:
		it.id = l.Job.ID
		for _, w := range l.CheckJob(im.c.MaxPayload) {
			w.Field = "job." + w.Field
			it.wrong = append(it.wrong, w)
		}
		it.rows += len(l.Job.Attempts) + len(l.Job.Steps)
		if it.wrong == nil {
			it.shape(im.c.Memory)
		}
	case l.Log != nil:
		it.id, it.wrong = l.Log.Job, l.CheckLog()
		it.rows = len(l.Log.Lines)
	default:
		it.wrong = []job.FieldError{{Field: "job", Message: "is missing; lines with a job or a log are imported here"}}
	}
	return it
}

// shape gives the row of a job, as far as it is known without the file. What ran when it was exported
// waits, since how that attempt ends is not known here; where it was to be cancelled, it is.
func (it *item) shape(m *memory.Memory) {
	j := it.line.Job
	it.row = store.Row{
		Priority: j.Priority, Round: j.Round, Attempt: j.Attempt, Tries: j.Tries, EnqueuedAt: j.EnqueuedAt, RunAt: j.RunAt, ReadyAt: j.ReadyAt, StartedAt: j.StartedAt,
		FinishedAt: j.FinishedAt, NextAt: j.NextAt, StartBy: j.StartBy, PayloadBytes: len(j.Payload), Owner: j.Owner, Lane: j.Lane, Key: j.Key, Dedupe: j.Dedupe,
		CancelAskedAt: j.CancelAskedAt, Traceparent: j.Traceparent, Reason: string(j.Reason), ReasonText: text.Cut(j.ReasonText, api.MaxReasonText), Payload: j.Payload,
	}
	it.state = j.State
	if j.State == job.Running {
		it.state, it.row.Attempt, it.row.Tries = job.Ready, it.row.Attempt-1, max(it.row.Tries-1, 0)
	}
	if j.State == job.Running && j.CancelAskedAt != 0 {
		it.state, it.row.Reason, it.row.FinishedAt = job.Cancelled, string(job.Asked), max(j.CancelAskedAt, j.StartedAt)
	}
	if j.Calls != "" {
		it.row.Host = store.HostHash(store.CalledBy(j.Payload))
	}
	if len(j.Labels) > 0 {
		labels, _ := json.Marshal(j.Labels) // texts always are JSON
		it.row.Labels = string(labels)
	}
	body, _ := json.Marshal(policyOf(j)) // as it came
	it.policy = string(body)
	it.causes = map[int]triage.Cause{}
	for i, a := range j.Attempts {
		if a.Outcome == job.OutcomeFailed || a.Outcome == job.OutcomeGiveUp {
			it.causes[i] = m.Causes.Rules.Of(failureOf(&a))
		}
	}
}

// policyOf is the policy of a job, with the origins of its parts.
func policyOf(j *job.Job) job.Policy {
	p := job.Policy{Retry: *j.Retry, MaxAttempts: j.MaxAttempts, Timeout: j.Timeout, KeepResult: j.KeepResult, From: map[string]job.Origin{}}
	for part, from := range map[string]job.Origin{"max_attempts": j.PolicyFrom.MaxAttempts, "retry": j.PolicyFrom.Retry, "timeout": j.PolicyFrom.Timeout, "keep_result": j.PolicyFrom.KeepResult} {
		if from == job.FromJob || from == job.FromTask || from == job.FromQueue {
			p.From[part] = from
		}
	}
	return p
}

func failureOf(a *job.Attempt) *job.Failure {
	if a.Error == nil {
		return &job.Failure{}
	}
	return a.Error
}

// canTakeIn refuses a job that is well-formed and cannot be taken in.
func (it *item) canTakeIn(v *commit.View, source *memory.Import) error {
	if err := command.CanMake(v, []string{it.line.Job.Queue}, []string{it.line.Job.Task}); err != nil {
		return err
	}
	if makes := v.Settings.MakesCalls(v.Tasks.ID(it.line.Job.Task)); !job.IsOwn(it.line.Job.Task) && !it.state.Finished() && makes != (it.row.Host != 0) {
		return job.Wrong("nothing was imported", []job.FieldError{{Field: "job.calls", Message: fmt.Sprintf("does not go with task %s here, which %s; set its calls as they are set there", it.line.Job.Task, map[bool]string{true: "makes calls", false: "workers do"}[makes])}})
	}
	if source == nil || source.Below == 0 {
		return nil
	}
	r, err := v.Store.Row(it.id)
	if err == nil && (r != nil || it.id >= source.Below) {
		err = job.Wrong("nothing was imported", []job.FieldError{{Field: "job.id", Message: fmt.Sprintf("%d is the id of another job here", it.id)}})
	}
	return err
}

// takeIn writes jobs, what they have gone through, and lines of logs.
func takeIn(tx *commit.Tx, from string, jobs, logs []*item, now *api.Imported) error {
	source, ranks, workers := tx.Imports.Find(from), map[string]int64{}, map[string]int64{}
	var fresh []api.ImportedIDs
	made, here := make([]*store.Row, len(jobs)), map[int64]int64{}
	for i, it := range jobs {
		r, err := it.place(tx, source, ranks, workers, here)
		if err == nil {
			err = tx.Store.InsertJob(r)
		}
		if err == nil {
			err = tx.Finding.Dated(r.ID, r.EnqueuedAt)
		}
		if err != nil {
			return err
		}
		here[it.id] = r.ID
		made[i], fresh = r, addIDs(fresh, api.ImportedIDs{First: it.id, Last: it.id, Job: r.ID})
		if isShort(tx, r) {
			now.Short++
		}
	}
	for _, ids := range fresh {
		if err := tx.Store.AddImported(source.ID, store.Imported(ids)); err != nil {
			return err
		}
		now.IDs = addIDs(now.IDs, ids)
	}
	for i, it := range jobs {
		if err := it.writeLife(tx, source, workers, made[i]); err != nil {
			return err
		}
	}
	now.Jobs = int64(len(jobs))
	if now.Jobs > 0 {
		if err := tx.Imports.Imported(source, now.Jobs, ranks); err != nil {
			return err
		}
	}
	return writeLogs(tx, source, logs)
}

// place gives a job its id, its queue and its place; here are those of the same part that have theirs. What it has failed by is seen first, since jobs
// are counted under their causes. A rank that it had goes before and behind the same others.
func (it *item) place(tx *commit.Tx, source *memory.Import, ranks, workers map[string]int64, here map[int64]int64) (*store.Row, error) {
	j, r := it.line.Job, it.row
	q, err := tx.Queues.Use(j.Queue, tx.By)
	if err != nil {
		return nil, err
	}
	t, err := tx.Tasks.Use(j.Task, tx.By)
	if err != nil {
		return nil, err
	}
	if r.ID, r.Queue, r.Task, r.State = it.id, q.ID, t.ID, job.Unplaced; source.Below == 0 {
		r.ID = tx.Facts.DrawID()
	}
	if r.Policy, err = tx.Policies.Use(it.policy); err != nil {
		return nil, err
	}
	if r.Rank = it.line.Rank; r.Rank < place.LeastTime { // else it is a time
		r.Rank = rankOf(tx, source, ranks, q, r.Rank)
	}
	if j.Schedule != nil {
		if s := tx.Schedules.Find(j.Schedule.Name); s != nil {
			r.Schedule = s.Row.ID
		}
	}
	if err := it.sawFailures(tx, workers, &r); err != nil {
		return nil, err
	}
	if err := it.tie(tx, source, &r, here); err != nil {
		return nil, err
	}
	return &r, place.Import(tx, &r, place.Elsewhere{State: it.state, HadLane: it.line.HasLane, Waited: it.state == job.Held && it.line.Rank == 0})
}

// tie has a job wait here for what it still waited for there; made are those of the same part. What was
// not imported before it is taken as deleted: the job is held until somebody acts, and never starts without a word.
func (it *item) tie(tx *commit.Tx, source *memory.Import, r *store.Row, made map[int64]int64) error {
	a := it.line.After
	if a == nil || it.state.Finished() {
		return nil
	}
	r.After = uint8(lifecycle.WantsOf(*a))
	var here []int64
	for _, there := range a.Jobs {
		id := made[there]
		if id == 0 {
			var err error
			if id, err = tx.Store.ImportedAs(source.ID, there); err != nil {
				return err
			}
		}
		if id != 0 {
			here = append(here, id)
		}
	}
	return command.TieImported(tx, r, here, len(here) < len(a.Jobs))
}

// mostRank is the highest rank that is taken over: no queue has come so far, and the ranks of new
// jobs go on above it.
const mostRank = place.LeastTime / 10

// rankOf is the rank of a job that had one there; 0 where a new one has to be drawn.
func rankOf(tx *commit.Tx, source *memory.Import, ranks map[string]int64, q *memory.Named, there int64) int64 {
	rank := there + addedRank(tx, source, ranks, q)
	if there == 0 || rank > mostRank {
		return 0
	}
	tx.Places.RaiseRank(q.ID, rank+1)
	return rank
}

// addedRank is what is added to the ranks of a queue's jobs: as many as were drawn here when the
// first of them came.
func addedRank(tx *commit.Tx, source *memory.Import, ranks map[string]int64, q *memory.Named) int64 {
	if add, known := source.Ranks[q.Name]; known {
		return add
	}
	if _, known := ranks[q.Name]; !known {
		ranks[q.Name] = tx.Places.NextRank(q.ID) - 1
	}
	return ranks[q.Name]
}

// sawFailures notes by what the attempts of a job have failed, and which worker had the last one. A
// job that has not died and is not in backoff has no cause.
func (it *item) sawFailures(tx *commit.Tx, workers map[string]int64, r *store.Row) (err error) {
	for i, a := range it.line.Job.Attempts {
		w := workerOf(&a)
		if workers[w.ID] == 0 {
			if workers[w.ID], err = tx.Workers.Remember(w, a.StartedAt); err != nil {
				return err
			}
		}
		r.Worker, r.Cause = workers[w.ID], 0
		if c, failed := it.causes[i]; failed {
			if err := tx.Causes.SawAt(r, c, failureOf(&a).Message, a.EndedAt); err != nil {
				return err
			}
		}
	}
	if !memory.Causing(it.state) {
		r.Cause = 0
	}
	return nil
}

func workerOf(a *job.Attempt) api.Worker {
	return api.Worker{ID: text.Cut(a.Worker, job.MaxWordBytes), Name: text.Cut(a.WorkerName, job.MaxWordBytes), Version: text.Cut(a.WorkerVersion, job.MaxWordBytes)}
}

// writeLife writes what a job has gone through, beside its row.
func (it *item) writeLife(tx *commit.Tx, source *memory.Import, workers map[string]int64, r *store.Row) error {
	j := it.line.Job
	if err := tx.Store.PutLived(r); err != nil {
		return err
	}
	if j.Result != nil {
		if err := keepResult(tx, r, j); err != nil {
			return err
		}
	}
	for _, a := range j.Attempts {
		if err := writeAttempt(tx, r.ID, workers[workerOf(&a).ID], &a); err != nil {
			return err
		}
	}
	for _, s := range j.Steps {
		if err := tx.Store.PutStep(&store.Step{Job: r.ID, Name: s.Name, Attempt: s.Attempt, BegunAt: s.BegunAt, DoneAt: s.DoneAt, Result: s.Result}); err != nil {
			return err
		}
	}
	if j.Refused != nil {
		body, err := json.Marshal(j.Refused)
		if err == nil {
			err = tx.Store.KeepRefused(r.ID, body)
		}
		if err != nil {
			return err
		}
	}
	if r.Schedule == 0 {
		return nil
	}
	behind := int64(0)
	if it.line.Behind != 0 {
		var err error
		if behind, err = tx.Store.ImportedAs(source.ID, it.line.Behind); err != nil {
			return err
		}
	}
	return plan.ImportRun(tx, r, j.Schedule, behind)
}

func keepResult(tx *commit.Tx, r *store.Row, j *job.Job) error {
	if j.ResultUntil != 0 {
		tx.Times.Results.By(j.ResultUntil)
		if err := tx.Store.KeepResult(r.ID, j.ResultUntil); err != nil {
			return err
		}
	}
	return tx.Store.Result(r.ID, j.Result)
}

func writeAttempt(tx *commit.Tx, id, worker int64, a *job.Attempt) error {
	row := &store.Attempt{
		Job: id, N: a.Number, Round: a.Round, Worker: worker, StartedAt: a.StartedAt, EndedAt: a.EndedAt, RunMS: a.RunMS, Outcome: a.Outcome, Counted: a.Counted,
		Percent: -1, LogLines: a.LogLines,
	}
	if a.Progress != nil {
		row.Percent, row.Note = a.Progress.Percent, text.Cut(a.Progress.Note, api.MaxNote)
	}
	if f := a.Error; f != nil {
		row.ErrorType, row.ErrorMessage, row.Stack = text.Cut(f.Type, api.MaxErrorType), text.Cut(f.Message, api.MaxErrorMessage), text.Cut(f.Stack, api.MaxStack)
	}
	return tx.Store.PutAttempt(row)
}

// writeLogs writes lines of logs of jobs that are here. The same again changes nothing.
func writeLogs(tx *commit.Tx, source *memory.Import, logs []*item) error {
	for _, it := range logs {
		id, err := tx.Store.ImportedAs(source.ID, it.id)
		if err != nil {
			return err
		}
		for _, line := range it.line.Log.Lines {
			if id == 0 {
				break
			}
			if err := tx.Store.InsertLine(id, line); err != nil {
				return err
			}
		}
	}
	return nil
}

// isShort tells whether a job has been finished for longer than such jobs are kept here.
func isShort(tx *commit.Tx, r *store.Row) bool {
	if !r.State.Finished() {
		return false
	}
	keep := tx.Settings.Owned().Retention.For(tx.Settings.Queue(tx.Queues.Get(r.Queue)), r.State)
	return r.FinishedAt.Add(keep.Go()) < tx.Now
}
