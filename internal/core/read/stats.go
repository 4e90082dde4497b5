package read

import (
	"context"
	"sort"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/status"
	"humblemule.example/internal/core/trend"
	"humblemule.example/internal/nearest"
	"humblemule.example/job"
)

// Stats tells how things stand now, of one queue or, where it is empty, of all.
func (rd *Reader) Stats(ctx context.Context, queueName string) (api.Stats, error) {
	now := rd.clock.Now()
	in := scope.Of(ctx)
	queues, err := rd.Queues(ctx)
	if err != nil {
		return api.Stats{}, err
	}
	s := api.Stats{AsOf: now, WindowMS: rd.window(now).Milliseconds(), Counts: everyState(), Moves: []api.MoveCount{}, Queues: queues}
	known := queueName == ""
	var seen []api.Queue
	for _, q := range queues {
		if queueName != "" && q.Name != queueName {
			continue
		}
		known = true
		for state, n := range q.Counts {
			s.Counts[state] += n
		}
		seen = append(seen, q)
	}
	if !known {
		return s, NoQueue(queueName)
	}
	for m, n := range rd.movesOf(in, queueName, now) {
		s.Moves = append(s.Moves, api.MoveCount{From: m.From, To: m.To, Count: n})
	}
	sort.Slice(s.Moves, func(i, j int) bool {
		a, b := s.Moves[i], s.Moves[j]
		return a.From < b.From || a.From == b.From && a.To < b.To
	})
	rd.m.RLock()
	s.Since = rd.m.History.KeptSince()
	rd.m.RUnlock()
	standing, err := rd.standing(ctx, in, queueName, now)
	if err != nil {
		return s, err
	}
	standing.Counts, standing.Queues = s.Counts, seen
	s.Facts = status.Facts(standing)
	return s, nil
}

// standing gathers what the facts are told of, of one queue or of all.
func (rd *Reader) standing(ctx context.Context, in scope.Scope, queueName string, now job.Time) (*status.Standing, error) {
	s := &status.Standing{Now: now, Untaken: rd.untaken(in, queueName, now), Typos: rd.typos(in, now), Schedules: rd.failing(in, now, status.FewestFailed, status.LateBy)}
	var err error
	if s.Causes, err = rd.causes(ctx, api.CauseFilter{Queue: queueName}, 0); err != nil {
		return nil, err
	}
	h, err := rd.History(ctx, api.HistoryQuery{Queue: queueName, Step: job.Duration(time.Minute)})
	if err != nil {
		return nil, err
	}
	sum := h.Total.Sum
	s.Came, s.Finished = sum.Enqueued+sum.Requeued, sum.Done+sum.Dead+sum.Skipped+sum.Cancelled
	if !in.Whole() || queueName != "" {
		return s, nil
	}
	s.Operations, s.Alerts = rd.told.UnderWay(), rd.openAlerts(now)
	return s, rd.ofService(ctx, s)
}

// ofService gathers what is about the service as a whole.
func (rd *Reader) ofService(ctx context.Context, s *status.Standing) error {
	doubt, err := rd.store.InDoubt(ctx, mostInDoubt+1)
	if err != nil {
		return err
	}
	s.InDoubt, s.More = min(doubt, mostInDoubt), doubt > mostInDoubt
	if s.Stuck, err = rd.stuckBatches(ctx); err != nil {
		return err
	}
	s.Silent, s.Endpoints = rd.silentHosts(), rd.pausedEndpoints()
	s.Hooks, _ = rd.hooksWrong()
	s.SetAside, s.RefusingSince, s.Disk = rd.setAside(), rd.told.RefusingSince(), rd.told.DiskFull()
	return nil
}

// mostInDoubt bounds the jobs with steps in doubt that are counted.
const mostInDoubt = 1000

// failing finds the schedules of which so many latest runs have died, the most first, and those that are late
// by more.
func (rd *Reader) failing(in scope.Scope, now job.Time, fewest int64, lateBy time.Duration) (all []status.Schedule) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	for name, s := range rd.m.Schedules.AllKept() {
		if s.Gone() || s.Row.PausedAt != 0 || !in.Sees(rd.keptGoesTo(s)) {
			continue
		}
		late := time.Duration(0)
		if at := s.FiresAt(); at != 0 {
			late = now.Sub(at)
		}
		if s.Row.Failed >= fewest || late > lateBy {
			all = append(all, status.Schedule{Name: name, Failed: s.Row.Failed, LastDone: s.Row.LastDone, LateBy: late})
		}
	}
	sort.Slice(all, func(i, j int) bool {
		return all[i].Failed > all[j].Failed || all[i].Failed == all[j].Failed && all[i].Name < all[j].Name
	})
	return all
}

// movesOf counts the moves of one queue's jobs or, without a name, of all in the scope.
func (rd *Reader) movesOf(in scope.Scope, queueName string, now job.Time) map[trend.Move]int64 {
	rd.m.RLock()
	defer rd.m.RUnlock()
	if queueName == "" && !in.Whole() {
		all := map[trend.Move]int64{}
		for id, q := range rd.m.Queues.AllKept() {
			if in.Sees(q.Name, "") {
				for m, n := range rd.m.Trends.KeptMoves(now, id) {
					all[m] += n
				}
			}
		}
		return all
	}
	return rd.m.Trends.KeptMoves(now, rd.m.Queues.KeptID(queueName))
}

// untaken finds ready jobs that no living worker takes, most jobs first. A queue
// that nobody serves is one entry; in one that is served, each task is.
func (rd *Reader) untaken(in scope.Scope, queueName string, now job.Time) (all []status.Untaken) {
	service := rd.m.Workers.Presence.Service(now)
	unserved := map[string]int64{}
	rd.m.RLock()
	for id, q := range rd.m.Queues.AllKept() {
		if queueName != "" && q.Name != queueName || rd.m.Settings.KeptPause(id).At != 0 {
			continue
		}
		for _, task := range rd.m.Counts.KeptTasksOf(id) {
			ready, name := rd.m.Counts.KeptGroup(memory.Group{Queue: id, Task: task})[job.Ready], rd.m.Tasks.KeptName(task)
			if ready == 0 || !in.Sees(q.Name, name) {
				continue
			}
			served, does := service.Serves(q.Name, name)
			if served == 0 {
				unserved[q.Name] += ready
			} else if does == 0 {
				all = append(all, status.Untaken{Queue: q.Name, Task: name, Ready: ready, Served: true, Nearest: service.Nearest(q.Name, name)})
			}
		}
	}
	rd.m.RUnlock()
	for name, n := range unserved {
		all = append(all, status.Untaken{Queue: name, Ready: n})
	}
	sort.Slice(all, func(i, j int) bool {
		a, b := all[i], all[j]
		if a.Ready != b.Ready {
			return a.Ready > b.Ready
		}
		return a.Queue+a.Task < b.Queue+b.Task
	})
	return all
}

// typos finds queues that a living worker serves and that are not there, where
// one that is there is perhaps meant.
func (rd *Reader) typos(in scope.Scope, now job.Time) (all []status.Typo) {
	rd.m.RLock()
	defer rd.m.RUnlock()
	names := make([]string, 0, rd.m.Queues.NumKept())
	for _, q := range rd.m.Queues.AllKept() {
		if in.Sees(q.Name, "") {
			names = append(names, q.Name)
		}
	}
	for _, w := range rd.m.Workers.Presence.Service(now) {
		for _, name := range memory.Unique(w.Queues()) {
			if rd.m.Queues.KeptNamed(name) != nil || !in.Sees(name, "") {
				continue
			}
			if nearest := nearest.To(name, names); nearest != "" {
				all = append(all, status.Typo{Worker: w.Name, Queue: name, Nearest: nearest})
			}
		}
	}
	return all
}
