package engine

import (
	"context"
	"slices"
	"sort"
	"time"
	"unicode/utf8"

	"humblemule/internal/core/store"
	"humblemule/internal/core/trend"
	"humblemule/job"
)

// names gives a queue's and a task's name.
func (v *view) names(queueID, taskID int64) (queue, task string) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	if q := v.queueOf[queueID]; q != nil {
		queue = q.name
	}
	return queue, v.taskName[taskID]
}

// keepFor is how long finished jobs of a queue are kept in a state.
func (v *view) keepFor(queue int64, s job.State) time.Duration {
	v.mu.RLock()
	defer v.mu.RUnlock()
	return v.owned.Retention.For(v.queueOf[queue].defaults, s).Go()
}

// tell is a row as it is told outside, without its payload's head, attempts and
// result.
func (e *Engine) tell(r *store.Row) (job.Job, error) {
	policy, err := e.view.policy(e.store, r.Policy)
	if err != nil {
		return job.Job{}, err
	}
	j := job.Job{
		ID: r.ID, State: r.State, Reason: job.Reason(r.Reason), ReasonText: r.ReasonText, Priority: r.Priority,
		Owner: r.Owner, Lane: r.Lane, Key: r.Key, Dedupe: r.Dedupe, Labels: labelsOf(r), Traceparent: r.Traceparent,
		MaxAttempts: policy.MaxAttempts, Retry: &policy.Retry, Timeout: policy.Timeout, KeepResult: policy.KeepResult, PolicyFrom: policy.Origins(),
		Round: r.Round, Attempt: r.Attempt, Tries: r.Tries,
		EnqueuedAt: r.EnqueuedAt, RunAt: r.RunAt, StartBy: r.StartBy, ReadyAt: r.ReadyAt, StartedAt: r.StartedAt, FinishedAt: r.FinishedAt,
		NextAt: r.NextAt, CancelAskedAt: r.CancelAskedAt, Cause: causeOf(r), Payload: r.Payload, PayloadBytes: r.PayloadBytes,
	}
	j.Queue, j.Task = e.view.names(r.Queue, r.Task)
	if r.State.Finished() {
		j.KeptUntil = r.FinishedAt.Add(e.view.keepFor(r.Queue, r.State))
	}
	if policy.KeepResult != nil && r.State == job.Done {
		j.ResultUntil = r.FinishedAt.Add(policy.KeepResult.Go())
	}
	return j, nil
}

// causeOf is the cause of a job that is in backoff or dead.
func causeOf(r *store.Row) int64 {
	if causing(r.State) {
		return r.Cause
	}
	return 0
}

// Job tells everything about one job.
func (e *Engine) Job(ctx context.Context, id int64) (job.Job, error) {
	found, err := e.store.Read(ctx, []int64{id})
	if err != nil {
		return job.Job{}, err
	}
	if len(found) == 0 {
		return job.Job{}, noJob(id)
	}
	r := found[0]
	j, err := e.tell(r)
	if err != nil {
		return j, err
	}
	if r.PayloadBytes > store.InlineBytes {
		if j.Payload, err = e.store.Body(ctx, id, store.PayloadBody, 0); err != nil {
			return j, err
		}
	}
	if j.Result, err = e.store.Body(ctx, id, store.ResultBody, 0); err != nil {
		return j, err
	}
	if err := e.tellAttempts(ctx, r, &j); err != nil {
		return j, err
	}
	if j.Steps, err = e.tellSteps(ctx, r); err != nil {
		return j, err
	}
	if j.Edits, err = e.tellEdits(ctx, &j); err != nil {
		return j, err
	}
	if j.Schedule, err = e.scheduledBy(ctx, r); err != nil {
		return j, err
	}
	if j.Refused, err = e.tellRefused(ctx, r); err != nil {
		return j, err
	}
	j.WaitingBecause, err = e.waitingBecause(ctx, r, &j)
	return j, err
}

// tellEdits tells how a job's payload was edited: each edit led to what the next one
// found.
func (e *Engine) tellEdits(ctx context.Context, j *job.Job) ([]job.Edit, error) {
	edits, err := e.store.Edits(ctx, j.ID)
	for i := range edits {
		edits[i].After = j.Payload
		if i+1 < len(edits) {
			edits[i].After = edits[i+1].Before
		}
	}
	return edits, err
}

func (e *Engine) tellAttempts(ctx context.Context, r *store.Row, j *job.Job) error {
	ended, err := e.store.Attempts(ctx, r.ID, 0)
	if err != nil {
		return err
	}
	numbers := []int64{r.Worker}
	for _, a := range ended {
		numbers = append(numbers, a.Worker)
	}
	workers, err := e.store.WorkerUIDs(numbers)
	if err != nil {
		return err
	}
	for _, a := range ended {
		told := job.Attempt{
			N: a.N, Round: a.Round, Worker: workers[a.Worker].ID, WorkerName: workers[a.Worker].Name, WorkerVersion: workers[a.Worker].Version, StartedAt: a.StartedAt, EndedAt: a.EndedAt,
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
		j.Attempts = append(j.Attempts, job.Attempt{N: r.Attempt, Round: r.Round, Worker: workers[r.Worker].ID, WorkerName: workers[r.Worker].Name, WorkerVersion: workers[r.Worker].Version, StartedAt: r.LeasedAt, Counted: true})
		return e.tellRunning(ctx, r, j)
	}
	return nil
}

// tellRunning tells of a running job what its lease knows.
func (e *Engine) tellRunning(ctx context.Context, r *store.Row, j *job.Job) error {
	j.UsualMS, j.LongMS = e.usuals()(j.Task)
	return e.do(ctx, func(tx *txn) error {
		if l := tx.lease(r.ID); l != nil && l.row.Attempt == r.Attempt {
			s := tx.tellSlot(l)
			j.LeaseEndsAt, j.Progress, j.ReportedAt = s.LeaseEndsAt, s.Progress, s.ReportedAt
			last := &j.Attempts[len(j.Attempts)-1]
			last.Progress, last.LogLines = l.progress, l.lines
		}
		return nil
	})
}

func failureOf(a store.Attempt) *job.Failure {
	if a.ErrorType == "" && a.ErrorMessage == "" && a.Stack == "" {
		return nil
	}
	return &job.Failure{Type: a.ErrorType, Message: a.ErrorMessage, Stack: a.Stack}
}

func (e *Engine) waitingBecause(ctx context.Context, r *store.Row, j *job.Job) (string, error) {
	w := job.Wait{State: r.State, Now: e.now(), NextAt: r.NextAt, Queue: j.Queue, Task: j.Task, Tries: r.Tries, MaxAttempts: j.MaxAttempts}
	if r.State == job.Ready {
		p := e.view.pauseOf(j.Queue)
		w.PausedAt, w.PausedBy = p.at, p.by
		service := e.registry.service(w.Now)
		served, does := service.serves(j.Queue, j.Task)
		w.QueueServed, w.TaskDone, w.Nearest = served > 0, does > 0, service.nearest(j.Queue, j.Task)
		if err := e.readyWait(ctx, r, &w); err != nil {
			return "", err
		}
	}
	if r.State == job.Held {
		if err := e.laneWait(ctx, r, &w); err != nil {
			return "", err
		}
	}
	return job.WaitingBecause(w), nil
}

// readyWait tells what else a ready job may wait for: limits, turns, and those ahead.
func (e *Engine) readyWait(ctx context.Context, r *store.Row, w *job.Wait) (err error) {
	v := &e.view
	v.mu.RLock()
	q := v.queueOf[r.Queue]
	if q.rules.Full(q.running) {
		w.MaxRunning = *q.rules.MaxRunning
	}
	if q.rules.Rate != nil {
		w.NextStart = job.Time(q.nextStart.Load())
	}
	if d := v.taskDefaults[r.Task]; d != nil && d.Full(v.taskRunning[r.Task]) {
		w.TaskMax = *d.MaxRunning
	}
	w.TakesTurns, w.Owner = q.rules.Turns != "" && r.Turn, r.Owner
	for m, n := range v.moves.Sum(w.Now, q.id) {
		if m.To == job.Running {
			w.StartsPerMinute += e.perMinute(w.Now) * float64(n)
		}
	}
	v.mu.RUnlock()
	if w.Ahead, err = e.ahead(ctx, r); err != nil || !w.TakesTurns {
		return err
	}
	w.OwnerAhead, err = e.store.AheadOfOwner(ctx, r, job.AheadCounted+1)
	return err
}

// laneWait tells what a held job waits for: an earlier run, or its lane.
func (e *Engine) laneWait(ctx context.Context, r *store.Row, w *job.Wait) error {
	if s := e.scheduleOf(r); s != nil && s.row.Waiting == r.ID {
		w.Schedule, w.Holder = s.row.Name, s.row.Behind
		return nil
	}
	holder, ahead, err := e.store.LaneOf(ctx, r, job.AheadCounted+1)
	if err != nil || holder == 0 {
		return err
	}
	found, err := e.store.Read(ctx, []int64{holder})
	if err != nil || len(found) == 0 {
		return err
	}
	w.Lane, w.Holder, w.HolderState, w.HolderNext, w.LaneAhead = r.Lane, holder, found[0].State, found[0].NextAt, ahead
	return nil
}

// ahead counts the ready jobs of the row's queue that go before it, up to one
// more than is told.
func (e *Engine) ahead(ctx context.Context, r *store.Row) (total int, err error) {
	const most = job.AheadCounted + 1
	for _, g := range e.groups(func(g store.Group) bool { return g.Queue == r.Queue && g.State == job.Ready }) {
		n, err := e.store.Ahead(ctx, r.Queue, g.Task, r.Level, r.Rank, r.ID, most-total)
		if err != nil {
			return 0, err
		}
		if total += n; total >= most {
			break
		}
	}
	return total, nil
}

// groups lists the queues, tasks and states that have jobs and are wanted.
func (e *Engine) groups(want func(store.Group) bool) (found []store.Group) {
	v := &e.view
	v.mu.RLock()
	defer v.mu.RUnlock()
	for _, q := range v.queueOf {
		for task, counts := range q.tasks {
			for _, s := range job.States() {
				if g := (store.Group{Queue: q.id, Task: task, State: s}); counts[s] > 0 && want(g) {
					found = append(found, g)
				}
			}
		}
	}
	sort.Slice(found, func(i, j int) bool {
		a, b := found[i], found[j]
		if a.Queue != b.Queue {
			return a.Queue < b.Queue
		}
		if a.Task != b.Task {
			return a.Task < b.Task
		}
		return a.State < b.State
	})
	return found
}

// payloadHead is how much of a payload lists show, in bytes.
const payloadHead = 200

// tellInList is a row as lists tell it: a payload's head and the latest failure
// instead of payload, attempts and result.
func (e *Engine) tellInList(ctx context.Context, r *store.Row) (job.Job, error) {
	j, err := e.tell(r)
	if err != nil {
		return j, err
	}
	head := r.Payload
	if r.PayloadBytes > store.InlineBytes {
		if head, err = e.store.Body(ctx, r.ID, store.PayloadBody, 0); err != nil {
			return j, err
		}
	}
	if len(head) > payloadHead {
		head = head[:payloadHead]
		for len(head) > 0 && !utf8.Valid(head) {
			head = head[:len(head)-1]
		}
	}
	j.Payload, j.PayloadHead = nil, string(head)
	if r.Attempt == 0 || r.State == job.Done {
		return j, nil
	}
	last, err := e.store.Attempts(ctx, r.ID, 1)
	if len(last) > 0 {
		if j.LastError = failureOf(last[0]); j.LastError != nil {
			j.LastError.Stack = ""
		}
	}
	return j, err
}

// Queues lists the queues with their counts.
func (e *Engine) Queues(ctx context.Context) ([]job.Queue, error) {
	now := e.now()
	service := e.registry.service(now)
	a := e.perMinute(now)
	e.view.mu.RLock()
	flows := e.view.moves.Flows(now)
	all := make([]job.Queue, 0, len(e.view.queues))
	ready := map[string][]groupID{}
	for _, q := range e.view.queues {
		all = append(all, job.Queue{
			Name: q.name, Rules: *q.rules, Version: q.version, FromFile: slices.Contains(e.view.owned.Queues, q.name), NewPlaces: q.walking, Running: q.running, Counts: q.byState(), Paused: q.pause.at != 0, PausedAt: q.pause.at, PausedBy: q.pause.by, Defaults: q.defaults, Keep: q.keeps(e.view.owned.Retention), Past: q.pastByState(),
			InPerMinute: round(a * float64(flows[q.id].In)), OutPerMinute: round(a * float64(flows[q.id].Out)),
		})
		for task, counts := range q.tasks {
			if counts[job.Ready] > 0 {
				ready[q.name] = append(ready[q.name], groupID{q.id, task})
			}
		}
	}
	e.view.mu.RUnlock()
	sort.Slice(all, func(i, j int) bool { return all[i].Name < all[j].Name })
	for i := range all {
		q := &all[i]
		q.Workers, _ = service.serves(q.Name, "")
		for _, g := range ready[q.Name] {
			since, err := e.store.OldestReady(ctx, g.queue, g.task)
			if err != nil {
				return nil, err
			}
			if since != 0 {
				q.OldestReadyMS = max(q.OldestReadyMS, int64(now-since))
			}
		}
	}
	return all, nil
}

// perMinute is what a count of moves has to be multiplied by to become a rate a minute.
func (e *Engine) perMinute(now job.Time) float64 {
	return float64(time.Minute) / float64(e.window(now))
}

// window is the span over which moves are counted.
func (e *Engine) window(now job.Time) time.Duration {
	return trend.Window(now, time.Since(e.opened))
}

// byState adds up the counts of a queue's tasks.
func (q *queue) byState() map[job.State]int64 {
	total := everyState()
	for _, counts := range q.tasks {
		for _, s := range job.States() {
			total[s] += counts[s]
		}
	}
	return total
}

func everyState() map[job.State]int64 {
	counts := make(map[job.State]int64, job.NumStates)
	for _, s := range job.States() {
		counts[s] = 0
	}
	return counts
}

// Stats tells how things stand now, of one queue or, where it is empty, of all.
func (e *Engine) Stats(ctx context.Context, queueName string) (job.Stats, error) {
	now := e.now()
	queues, err := e.Queues(ctx)
	if err != nil {
		return job.Stats{}, err
	}
	s := job.Stats{AsOf: now, WindowMS: e.window(now).Milliseconds(), Counts: everyState(), Moves: []job.MoveCount{}, Queues: queues}
	known := queueName == ""
	for _, q := range queues {
		if queueName == "" || q.Name == queueName {
			known = true
			for state, n := range q.Counts {
				s.Counts[state] += n
			}
		}
	}
	if !known {
		return s, noQueue(queueName)
	}
	said := standing{counts: s.Counts, untaken: e.untaken(queueName, now), typos: e.typos(now), failing: e.failing()}
	for _, q := range queues {
		if q.Paused && (queueName == "" || q.Name == queueName) {
			said.paused = append(said.paused, q)
		}
	}
	for m, n := range e.movesOf(queueName, now) {
		s.Moves = append(s.Moves, job.MoveCount{From: m.From, To: m.To, Count: n})
		if m.From == job.Running && (m.To == job.Backoff || m.To == job.Dead) {
			said.failed += n
		}
	}
	sort.Slice(s.Moves, func(i, j int) bool {
		a, b := s.Moves[i], s.Moves[j]
		return a.From < b.From || a.From == b.From && a.To < b.To
	})
	s.Says = says(said)
	return s, nil
}

// failing finds the schedules whose latest runs have died, the most first.
func (e *Engine) failing() (all []failing) {
	e.view.mu.RLock()
	defer e.view.mu.RUnlock()
	for name, s := range e.view.schedules {
		if s.row.Failed >= fewestFailed && !s.gone() && s.row.PausedAt == 0 {
			all = append(all, failing{name, s.row.Failed, s.row.LastDone})
		}
	}
	sort.Slice(all, func(i, j int) bool {
		return all[i].runs > all[j].runs || all[i].runs == all[j].runs && all[i].schedule < all[j].schedule
	})
	return all
}

func (e *Engine) movesOf(queueName string, now job.Time) map[trend.Move]int64 {
	e.view.mu.RLock()
	defer e.view.mu.RUnlock()
	id := int64(0)
	if q := e.view.queues[queueName]; q != nil {
		id = q.id
	}
	return e.view.moves.Sum(now, id)
}

// untaken finds ready jobs that no living worker takes, most jobs first. A queue
// that nobody serves is one entry; in one that is served, each task is.
func (e *Engine) untaken(queueName string, now job.Time) (all []untaken) {
	service := e.registry.service(now)
	unserved := map[string]int64{}
	e.view.mu.RLock()
	for _, q := range e.view.queues {
		if queueName != "" && q.name != queueName {
			continue
		}
		for task, counts := range q.tasks {
			if counts[job.Ready] == 0 || q.pause.at != 0 {
				continue
			}
			served, does := service.serves(q.name, e.view.taskName[task])
			if served == 0 {
				unserved[q.name] += counts[job.Ready]
			} else if does == 0 {
				name := e.view.taskName[task]
				all = append(all, untaken{queue: q.name, task: name, ready: counts[job.Ready], queueServed: true, nearest: service.nearest(q.name, name)})
			}
		}
	}
	e.view.mu.RUnlock()
	for name, n := range unserved {
		all = append(all, untaken{queue: name, ready: n})
	}
	sort.Slice(all, func(i, j int) bool {
		a, b := all[i], all[j]
		if a.ready != b.ready {
			return a.ready > b.ready
		}
		return a.queue+a.task < b.queue+b.task
	})
	return all
}

// Counts gives every queue's jobs by state.
func (e *Engine) Counts() map[string]map[job.State]int64 {
	e.view.mu.RLock()
	defer e.view.mu.RUnlock()
	all := make(map[string]map[job.State]int64, len(e.view.queues))
	for _, q := range e.view.queues {
		all[q.name] = q.byState()
	}
	return all
}
