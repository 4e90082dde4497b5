package read

import (
	"context"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// waitingBecause says why a job does not run yet.
func (rd *Reader) waitingBecause(ctx context.Context, r *store.Row, j *job.Job) (string, error) {
	w := sentence.Wait{State: r.State, Now: rd.clock.Now(), NextAt: r.NextAt, Queue: j.Queue, Task: j.Task, Tries: r.Tries, MaxAttempts: j.MaxAttempts}
	if r.State == job.Ready {
		service := rd.m.Workers.Presence.Service(w.Now)
		served, does := service.Serves(j.Queue, j.Task)
		w.QueueServed, w.TaskDone, w.Nearest = served > 0, does > 0, service.Nearest(j.Queue, j.Task)
		var err error
		if w.StartsPerMinute, err = rd.speedOf(ctx, r.Queue, service); err != nil {
			return "", err
		}
		if err := rd.readyWait(ctx, r, &w); err != nil {
			return "", err
		}
		expect(j, &w)
	}
	if r.State == job.Held {
		if err := rd.laneWait(ctx, r, j, &w); err != nil {
			return "", err
		}
	}
	return sentence.WaitingBecause(w), nil
}

// expect tells the place of a ready job, and when it starts at the present speed of its queue.
func expect(j *job.Job, w *sentence.Wait) {
	if w.TakesTurns || w.Ahead > sentence.AheadCounted {
		return
	}
	j.Position = int64(w.Ahead) + 1
	if w.TaskDone && w.PausedAt == 0 && w.StartsPerMinute > 0 {
		in := time.Duration(float64(j.Position) / w.StartsPerMinute * float64(time.Minute))
		j.ExpectedStart = max(w.Now.Add(in), w.NextStart)
	}
}

// readyWait tells what else a ready job may wait for: limits, turns, and those ahead.
func (rd *Reader) readyWait(ctx context.Context, r *store.Row, w *sentence.Wait) (err error) {
	rd.limitsWait(r, w)
	if w.Ahead, err = rd.ahead(ctx, r); err != nil || !w.TakesTurns {
		return err
	}
	w.OwnerAhead, err = rd.store.AheadOfOwner(ctx, r, sentence.AheadCounted+1)
	return err
}

// limitsWait tells what pauses and limits hold a ready job back.
func (rd *Reader) limitsWait(r *store.Row, w *sentence.Wait) {
	m := rd.m
	m.RLock()
	defer m.RUnlock()
	pause := m.Settings.KeptPause(r.Queue)
	w.PausedAt, w.PausedBy = pause.At, pause.By
	rules := m.Settings.KeptQueue(r.Queue).Rules
	if rules.Full(m.Counts.KeptQueue(r.Queue)[job.Running]) {
		w.MaxRunning = *rules.MaxRunning
	}
	if rules.Rate != nil {
		w.NextStart = m.Limits.KeptWait(r.Queue)
	}
	if d := m.Settings.KeptTask(r.Task).Defaults; d != nil && d.Full(m.Counts.KeptTask(r.Task)[job.Running]) {
		w.TaskMax = *d.MaxRunning
	}
	w.TakesTurns, w.Owner = rules.Turns != "" && r.Turn, r.Owner
}

// laneWait tells what a held job waits for: other jobs, an earlier run, or its lane.
func (rd *Reader) laneWait(ctx context.Context, r *store.Row, j *job.Job, w *sentence.Wait) error {
	if r.Unmet > 0 {
		w.After = afterWait(r, j)
		return nil
	}
	if s := rd.scheduleOf(r); s != nil && s.Row.Waiting == r.ID {
		w.Schedule, w.Holder = s.Row.Name, s.Row.Behind
		return nil
	}
	if h := rd.silentHost(r); h != nil {
		w.SilentHost, w.SilentSince, w.ProbeAt = h.Name, h.Since, max(h.ProbeAt, w.Now)
	}
	if r.Lane == "" {
		return nil
	}
	holder, ahead, err := rd.store.LaneOf(ctx, r, sentence.AheadCounted+1)
	if err != nil || holder == 0 || holder == r.ID {
		return err
	}
	w.SilentHost = ""
	found, err := rd.store.Read(ctx, []int64{holder})
	if err != nil || len(found) == 0 {
		return err
	}
	w.Lane, w.Holder, w.HolderState, w.HolderNext, w.LaneAhead = r.Lane, holder, found[0].State, found[0].NextAt, ahead
	return nil
}

// silentHost is the host that a job calls, where it gives no answer; nil where it does.
func (rd *Reader) silentHost(r *store.Row) *store.SilentHost {
	if r.Host == 0 {
		return nil
	}
	rd.m.RLock()
	defer rd.m.RUnlock()
	return rd.m.Hosts.Kept(r.Host)
}

// ahead counts the ready jobs of the row's queue that go before it, up to one
// more than is told.
func (rd *Reader) ahead(ctx context.Context, r *store.Row) (total int, err error) {
	const most = sentence.AheadCounted + 1
	for _, g := range rd.ready(r.Queue) {
		n, err := rd.store.Ahead(ctx, r.Queue, g.Task, r.Level, r.Rank, r.ID, most-total)
		if err != nil {
			return 0, err
		}
		if total += n; total >= most {
			break
		}
	}
	return total, nil
}

// Starts tells the latest starts of a queue, the latest first, and what each overtook, of
// jobs that were started later and of the oldest that still wait.
func (rd *Reader) Starts(ctx context.Context, queue string) ([]api.Start, error) {
	q, err := rd.keptQueue(scope.Of(ctx), queue)
	if err != nil {
		return nil, err
	}
	rd.m.RLock()
	all := slices.Clone(rd.m.Limits.KeptStarts(q.ID))
	rd.m.RUnlock()
	started := len(all)
	for _, g := range rd.ready(q.ID) {
		waiting, err := rd.store.OldestWaiting(ctx, g.Queue, g.Task, 2*memory.StartsKept-len(all))
		if err != nil {
			return nil, err
		}
		all = append(all, waiting...)
	}
	overtakings(all[:started], all[started:])
	all = all[:started]
	slices.Reverse(all)
	return all, nil
}

// overtakings tells of starts in their order which of them overtook which, and which of
// the jobs that still wait.
func overtakings(starts, waiting []api.Start) {
	const told = 3
	for i := range starts {
		s := &starts[i]
		s.WaitedMS = s.StartedAt.Sub(s.ReadyAt).Milliseconds()
		for _, behind := range [][]api.Start{starts[i+1:], waiting} {
			for _, later := range behind {
				if later.ReadyAt < s.ReadyAt || later.ReadyAt == s.ReadyAt && later.Job < s.Job { // many are ready in one millisecond
					if s.Overtook++; len(s.First) < told {
						s.First = append(s.First, later.Job)
					}
				}
			}
		}
	}
}
