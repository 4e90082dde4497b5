package read

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"sort"
	"unicode/utf8"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// Warned tells what is likely not meant in a policy.
func (rd *Reader) Warned(ctx context.Context, policy int64) ([]job.Warning, error) {
	p, err := rd.m.Policies.Get(ctx, policy)
	if err != nil {
		return nil, err
	}
	return p.Warned(), nil
}

// Tell is a row as it is told outside, without its payload's head, attempts and
// result.
func (rd *Reader) Tell(ctx context.Context, r *store.Row) (job.Job, error) {
	policy, err := rd.m.Policies.Get(ctx, r.Policy)
	if err != nil {
		return job.Job{}, err
	}
	j := job.Job{
		ID: r.ID, State: r.State, Reason: job.Reason(r.Reason), ReasonText: r.ReasonText, Priority: r.Priority,
		Owner: r.Owner, Lane: r.Lane, Key: r.Key, Dedupe: r.Dedupe, Labels: r.LabelMap(), Traceparent: r.Traceparent,
		MaxAttempts: policy.MaxAttempts, Retry: &policy.Retry, Timeout: policy.Timeout, KeepResult: policy.KeepResult, PolicyFrom: policy.Origins(),
		Round: r.Round, Attempt: r.Attempt, Tries: r.Tries,
		EnqueuedAt: r.EnqueuedAt, RunAt: r.RunAt, StartBy: r.StartBy, ReadyAt: r.ReadyAt, StartedAt: r.StartedAt, FinishedAt: r.FinishedAt,
		NextAt: r.NextAt, CancelAskedAt: r.CancelAskedAt, Cause: causeOf(r), Payload: r.Payload, PayloadBytes: r.PayloadBytes,
	}
	j.Queue, j.Task = rd.Names(r.Queue, r.Task)
	if r.State.Finished() {
		j.KeptUntil = r.FinishedAt.Add(rd.keptFor(r.Queue, r.State).Go())
	}
	if r.Batch != 0 {
		j.Batch = &job.InBatch{ID: r.Batch, Ref: r.Ref}
	}
	if policy.KeepResult != nil && r.State == job.Done {
		j.ResultUntil = r.FinishedAt.Add(policy.KeepResult.Go())
	}
	return j, nil
}

// causeOf is the cause of a job that is in backoff or dead.
func causeOf(r *store.Row) int64 {
	if memory.Causing(r.State) {
		return r.Cause
	}
	return 0
}

// Job tells everything about one job.
func (rd *Reader) Job(ctx context.Context, id int64) (job.Job, error) {
	in := scope.Of(ctx)
	found, err := rd.store.Read(ctx, []int64{id})
	if err != nil {
		return job.Job{}, err
	}
	if len(found) == 0 {
		return job.Job{}, NoJob(id)
	}
	r := found[0]
	if !in.Sees(rd.Names(r.Queue, r.Task)) {
		return job.Job{}, NoJob(id)
	}
	told, err := rd.whole(ctx, r)
	if err != nil {
		return job.Job{}, err
	}
	j := told[0]
	r.Payload = j.Payload
	j.Version = r.Version()
	if j.Edits, err = rd.tellEdits(ctx, &j); err != nil {
		return j, err
	}
	if rd.imports() {
		from, err := rd.store.ImportedFrom(ctx, id)
		if err != nil {
			return j, err
		}
		if from.Job != 0 {
			j.ImportedFrom = &from
		}
	}
	if err := rd.tellTies(ctx, r, &j); err != nil {
		return j, err
	}
	if j.WaitingBecause, err = rd.waitingBecause(ctx, r, &j); err != nil {
		return j, err
	}
	j.Summary = sentence.Because(&j, rd.clock.Now())
	rd.veil(ctx, &j)
	return j, nil
}

// whole tells of rows all that was asked for, and all that the jobs have gone through.
func (rd *Reader) whole(ctx context.Context, rows ...*store.Row) ([]job.Job, error) {
	var ids, long []int64
	for _, r := range rows {
		ids = append(ids, r.ID)
		if r.PayloadBytes > store.InlineBytes {
			long = append(long, r.ID)
		}
	}
	payloads, err := rd.store.Payloads(ctx, long, math.MaxInt32)
	if err != nil {
		return nil, err
	}
	results, err := rd.store.Results(ctx, ids)
	if err != nil {
		return nil, err
	}
	attempts, err := rd.store.Attempts(ctx, rows)
	if err != nil {
		return nil, err
	}
	steps, err := rd.store.Steps(ctx, ids)
	if err != nil {
		return nil, err
	}
	workers, err := rd.workersOf(ctx, rows, attempts)
	if err != nil {
		return nil, err
	}
	all := make([]job.Job, len(rows))
	for i, r := range rows {
		j := &all[i]
		if *j, err = rd.Tell(ctx, r); err != nil {
			return nil, err
		}
		if r.PayloadBytes > store.InlineBytes {
			j.Payload = payloads[r.ID]
		}
		if r.Host != 0 {
			j.Calls = store.CalledBy(j.Payload)
		}
		j.Result, j.Steps = results[r.ID], tellSteps(r, steps[r.ID])
		rd.tellAttempts(r, j, attempts[r.ID], workers)
		if j.Schedule, err = rd.scheduledBy(ctx, r); err != nil {
			return nil, err
		}
		if j.Refused, err = rd.tellRefused(ctx, r); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// workersOf tells who the workers of attempts are, and of the ones that run.
func (rd *Reader) workersOf(ctx context.Context, rows []*store.Row, attempts map[int64][]store.Attempt) (map[int64]api.Worker, error) {
	var numbers []int64
	for _, r := range rows {
		if r.Worker != 0 {
			numbers = append(numbers, r.Worker)
		}
		for _, a := range attempts[r.ID] {
			numbers = append(numbers, a.Worker)
		}
	}
	return rd.store.Workers(ctx, numbers)
}

// tellEdits tells how a job's payload was edited: each edit led to what the next one
// found.
func (rd *Reader) tellEdits(ctx context.Context, j *job.Job) ([]job.Edit, error) {
	edits, err := rd.store.Edits(ctx, j.ID)
	for i := range edits {
		edits[i].After = j.Payload
		if i+1 < len(edits) {
			edits[i].After = edits[i+1].Before
		}
	}
	return edits, err
}

// tellAttempts tells the attempts of a job, the one that runs last.
func (rd *Reader) tellAttempts(r *store.Row, j *job.Job, ended []store.Attempt, workers map[int64]api.Worker) {
	for _, a := range ended {
		told := job.Attempt{
			Number: a.N, Round: a.Round, Worker: workers[a.Worker].ID, WorkerName: workers[a.Worker].Name, WorkerVersion: workers[a.Worker].Version, StartedAt: a.StartedAt, EndedAt: a.EndedAt,
			Outcome: a.Outcome, Counted: a.Counted, RunMS: a.RunMS, Error: failureOf(a), LogLines: a.LogLines,
		}
		if a.Percent >= 0 {
			told.Progress = &job.Progress{Percent: a.Percent, Note: a.Note}
		}
		j.Attempts = append(j.Attempts, told)
	}
	j.AttemptsFolded = r.Attempt - len(ended)
	if r.State == job.Running {
		j.AttemptsFolded--
		j.Attempts = append(j.Attempts, job.Attempt{Number: r.Attempt, Round: r.Round, Worker: workers[r.Worker].ID, WorkerName: workers[r.Worker].Name, WorkerVersion: workers[r.Worker].Version, StartedAt: r.LeasedAt, Counted: true})
		rd.tellRunning(r, j)
	}
}

// tellRunning tells of a running job what its lease knows.
func (rd *Reader) tellRunning(r *store.Row, j *job.Job) {
	j.UsualMS, j.LongMS = rd.usuals()(j.Task)
	rd.m.RLock()
	defer rd.m.RUnlock()
	if l := rd.m.Leases.Kept(r.ID); l != nil && l.Row.Attempt == r.Attempt {
		s := rd.tellSlot(l)
		j.LeaseEndsAt, j.Progress, j.ReportedAt = s.LeaseEndsAt, s.Progress, s.ReportedAt
		last := &j.Attempts[len(j.Attempts)-1]
		last.Progress, last.LogLines = l.Progress, l.Lines
	}
}

// keptFor is how long finished jobs of a queue are kept in a state.
func (rd *Reader) keptFor(queue int64, s job.State) job.Duration {
	rd.m.RLock()
	defer rd.m.RUnlock()
	return rd.m.Settings.KeptOwned().Retention.For(rd.m.Settings.KeptQueue(queue).Defaults, s)
}

func failureOf(a store.Attempt) *job.Failure {
	if a.ErrorType == "" && a.ErrorMessage == "" && a.Stack == "" {
		return nil
	}
	return &job.Failure{Type: a.ErrorType, Message: a.ErrorMessage, Stack: a.Stack}
}

// payloadHead is how much of a payload lists show, in bytes.
const payloadHead = 200

// tellInList tells rows as lists tell them: a payload's head and the latest failure instead
// of payload, attempts and result.
func (rd *Reader) tellInList(ctx context.Context, rows []*store.Row) ([]job.Job, error) {
	var long, tried []int64
	for _, r := range rows {
		if r.PayloadBytes > store.InlineBytes {
			long = append(long, r.ID)
		}
		if r.Attempt > 0 && r.State != job.Done {
			tried = append(tried, r.ID)
		}
	}
	heads, err := rd.store.Payloads(ctx, long, payloadHead)
	if err != nil {
		return nil, err
	}
	failed, err := rd.store.LastFailures(ctx, tried)
	if err != nil {
		return nil, err
	}
	jobs := make([]job.Job, len(rows))
	for i, r := range rows {
		j := &jobs[i]
		if *j, err = rd.Tell(ctx, r); err != nil {
			return nil, err
		}
		head := r.Payload
		if r.PayloadBytes > store.InlineBytes {
			head = heads[r.ID]
		}
		if r.Host != 0 {
			j.Calls = store.CalledBy(r.Payload)
		}
		j.Payload, j.PayloadHead, j.LastError = nil, headOf(head), failed[r.ID]
		if hidden := rd.hides(ctx, j.Task); len(hidden) > 0 && len(head) > 0 {
			j.PayloadHead = veiledHead(head, r.PayloadBytes <= store.InlineBytes, hidden)
		}
	}
	return jobs, nil
}

// headOf is as much of a payload as lists show, in whole characters.
func headOf(payload []byte) string {
	if len(payload) < payloadHead {
		return string(payload)
	}
	head := payload[:payloadHead]
	for len(head) > 0 && !utf8.Valid(head) {
		head = head[:len(head)-1]
	}
	return string(head)
}

// tellRefused tells what the handler of a job brought that was refused.
func (rd *Reader) tellRefused(ctx context.Context, r *store.Row) (*job.RefusedOutcome, error) {
	if r.State != job.Dead || r.Reason != string(job.OutcomeRefused) {
		return nil, nil
	}
	body, err := rd.store.Body(ctx, r.ID, store.RefusedBody, 0)
	if err != nil || body == nil {
		return nil, err
	}
	told := new(job.RefusedOutcome)
	return told, json.Unmarshal(body, told)
}

// tellSteps tells the steps of a job.
func tellSteps(r *store.Row, all []store.Step) (told []job.Step) {
	for _, s := range all {
		state := job.StepInDoubt
		switch {
		case s.DoneAt != 0:
			state = job.StepDone
		case r.State == job.Running && r.Attempt == s.Attempt:
			state = job.StepBegun
		}
		told = append(told, job.Step{Name: s.Name, State: state, Attempt: s.Attempt, BegunAt: s.BegunAt, DoneAt: s.DoneAt, Result: s.Result})
	}
	sort.SliceStable(told, func(i, j int) bool { return told[i].BegunAt < told[j].BegunAt })
	return told
}

// scheduleOf is the schedule of which a job is a run; nil where it is none.
func (rd *Reader) scheduleOf(r *store.Row) *memory.Schedule {
	rd.m.RLock()
	defer rd.m.RUnlock()
	return rd.m.Schedules.Kept(r.Schedule)
}

// scheduledBy tells which run of which schedule a job is; nil where it is none.
func (rd *Reader) scheduledBy(ctx context.Context, r *store.Row) (*job.ScheduledBy, error) {
	s := rd.scheduleOf(r)
	if s == nil {
		return nil, nil
	}
	number, planned, err := rd.store.ReadRunOf(ctx, r.ID)
	return &job.ScheduledBy{Name: s.Row.Name, Run: number, PlannedAt: planned}, err
}

// LogQuery says which lines of a job's log are asked for.
type LogQuery struct {
	// Attempt is the one whose lines are asked for; 0 means all.
	Attempt int
	// AfterAttempt and After are where the lines begin: behind line AfterLine of that
	// attempt.
	AfterAttempt, AfterLine int
}

// linesAtOnce bounds a page of a log.
const linesAtOnce = 1000

// Log reads what the handlers of a job wrote.
func (rd *Reader) Log(ctx context.Context, id int64, q LogQuery) (api.Log, error) {
	in := scope.Of(ctx)
	found, err := rd.store.Read(ctx, []int64{id})
	if err == nil && (len(found) == 0 || !in.Sees(rd.Names(found[0].Queue, found[0].Task))) {
		err = NoJob(id)
	}
	if err != nil {
		return api.Log{}, err
	}
	attempt, after := q.AfterAttempt, q.AfterLine
	if q.Attempt != 0 {
		if attempt != q.Attempt {
			after = 0
		}
		attempt = q.Attempt
	}
	lines, err := rd.store.Log(ctx, id, attempt, after, q.Attempt != 0, linesAtOnce+1)
	log := api.Log{Lines: append([]api.LogLine{}, lines[:min(len(lines), linesAtOnce)]...)}
	if len(lines) > linesAtOnce || !found[0].State.Finished() {
		attempt, after = q.AfterAttempt, q.AfterLine
		if n := len(log.Lines); n > 0 {
			attempt, after = log.Lines[n-1].Attempt, log.Lines[n-1].Line
		}
		log.NextCursor = fmt.Sprintf("%d.%d", attempt, after)
	}
	return log, err
}
