package read

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/fields"
	"humblemule.example/job"
)

// Workers lists the worker processes with what each of their slots runs.
func (rd *Reader) Workers(ctx context.Context) []api.Worker {
	in := scope.Of(ctx)
	all := slices.DeleteFunc(rd.m.Workers.Presence.List(rd.clock.Now()), func(w api.Worker) bool { return !servesIn(in, &w) })
	for i := range all {
		rd.tellJobs(&all[i])
	}
	return all
}

// Worker tells about one worker process.
func (rd *Reader) Worker(ctx context.Context, uid string) (api.Worker, error) {
	in := scope.Of(ctx)
	w, known := rd.m.Workers.Presence.Get(uid, rd.clock.Now())
	if !known || !servesIn(in, &w) {
		return w, memory.NoWorker(uid)
	}
	rd.tellJobs(&w)
	return w, nil
}

// servesIn tells whether all that a worker serves is in a scope.
func servesIn(in scope.Scope, w *api.Worker) bool {
	return in.Whole() || len(w.Queues) > 0 && !slices.ContainsFunc(w.Queues, func(q string) bool { return !in.Sees(q, "") })
}

// tellJobs tells what each of a worker's slots runs.
func (rd *Reader) tellJobs(w *api.Worker) {
	rd.m.RLock()
	for l := range rd.m.Leases.KeptOf(w.ID) {
		w.Jobs = append(w.Jobs, rd.tellSlot(l))
	}
	rd.m.RUnlock()
	w.Running = len(w.Jobs)
	w.Outdated = w.Running > 0 && w.Settings != 0 && w.Settings < rd.m.Settings.Version()
	w.Summary = w.Describe()
	usual := rd.usuals()
	for k := range w.Jobs {
		s := &w.Jobs[k]
		s.UsualMS, s.LongMS = usual(s.Task)
	}
	slices.SortFunc(w.Jobs, func(a, b api.Slot) int { return cmp.Compare(a.Job, b.Job) })
}

// SlowJobs lists the jobs that run longer than usual.
func (rd *Reader) SlowJobs(ctx context.Context) api.SlowJobs {
	in, now := scope.Of(ctx), rd.clock.Now()
	var running []api.SlowJob
	rd.m.RLock()
	for l := range rd.m.Leases.AllKept() {
		if s := rd.tellSlot(l); in.Sees(s.Queue, s.Task) {
			running = append(running, api.SlowJob{Slot: s, Worker: l.Worker, TookMS: int64(now - s.Since)})
		}
	}
	rd.m.RUnlock()
	told := api.SlowJobs{AsOf: now, Jobs: []api.SlowJob{}}
	usual := rd.usuals()
	for _, s := range running {
		switch s.UsualMS, s.LongMS = usual(s.Task); {
		case s.UsualMS == 0 && s.LongMS == 0:
			told.Unjudged++
		case s.TookMS > s.LongMS:
			told.Jobs = append(told.Jobs, s)
		}
	}
	slices.SortFunc(told.Jobs, func(a, b api.SlowJob) int {
		return cmp.Or(cmp.Compare(beyondUsual(&b), beyondUsual(&a)), cmp.Compare(a.Job, b.Job))
	})
	told.Total = len(told.Jobs)
	told.Jobs = told.Jobs[:min(told.Total, api.MaxSlowJobs)]
	for i := range told.Jobs {
		s := &told.Jobs[i]
		if w, known := rd.m.Workers.Presence.Get(s.Worker, now); known {
			s.Name, s.Host = w.Name, w.Host
		}
	}
	return told
}

// beyondUsual tells by how many times a job runs longer than is usual.
func beyondUsual(s *api.SlowJob) float64 { return float64(s.TookMS) / float64(max(s.LongMS, 1)) }

// tellSlot tells what a lease's slot does. The caller holds the read lock.
func (rd *Reader) tellSlot(l *memory.Lease) api.Slot {
	r := l.Row
	return api.Slot{
		Job: r.ID, Task: rd.m.Tasks.KeptName(r.Task), Queue: rd.m.Queues.KeptName(r.Queue), Attempt: r.Attempt, Since: r.LeasedAt,
		Progress: l.Progress, ReportedAt: l.ReportedAt, LeaseEndsAt: rd.clock.Now().Add(time.Until(l.Ends)), CancelAskedAt: r.CancelAskedAt,
	}
}

// Settings tells all that is in force in the data file, and where each comes from: what
// is built in, what was set for single queues and tasks, retention, triage and alerts.
func (rd *Reader) Settings(ctx context.Context) (api.Settings, error) {
	if err := scope.Whole(ctx); err != nil {
		return api.Settings{}, err
	}
	m := rd.m
	m.RLock()
	defer m.RUnlock()
	owned := m.Settings.KeptOwned()
	all := fields.SettingsOf("queues", builtInQueue(), api.SettingBuiltIn, "")
	all = append(all, fields.SettingsOf("tasks", builtInTask(), api.SettingBuiltIn, "")...)
	add := func(of string, d *api.Defaults, defined bool) {
		for _, s := range fields.SettingsOf(of, d, api.SettingByHand, "") {
			if defined && !slices.Contains(owned.ByHand[of], s.Name) {
				s.From = api.SettingByFile
			}
			all = append(all, s)
		}
	}
	for _, q := range byName(m.Queues.AllKept()) {
		add("queue "+q.Name, m.Settings.KeptQueue(q.ID).Defaults, slices.Contains(owned.Queues, q.Name))
	}
	for _, t := range byName(m.Tasks.AllKept()) {
		add("task "+t.Name, m.Settings.KeptTask(t.ID).Defaults, slices.Contains(owned.Tasks, t.Name))
	}
	set := map[string]bool{}
	for _, s := range fields.SettingsOf("retention", owned.Retention, api.SettingByFile, "") {
		all, set[s.Name] = append(all, s), true
	}
	for _, s := range fields.SettingsOf("retention", owned.Retention.WithDefaults(), api.SettingBuiltIn, "") {
		if !set[s.Name] {
			all = append(all, s)
		}
	}
	for i, r := range owned.Triage {
		all = append(all, api.Setting{Of: "triage", Name: fmt.Sprintf("rule %d", i+1), Value: fields.ValueOf(r), From: api.SettingByFile})
	}
	all = append(all, fields.SettingsOf("alerts", owned.Alerts, api.SettingByFile, "")...)
	return api.Settings{Version: m.Settings.Version(), Settings: all}, nil
}

// byName gives names in their order.
func byName(all iter.Seq2[int64, *memory.Named]) (sorted []*memory.Named) {
	for _, n := range all {
		sorted = append(sorted, n)
	}
	slices.SortFunc(sorted, func(a, b *memory.Named) int { return cmp.Compare(a.Name, b.Name) })
	return sorted
}

// builtInQueue is what holds for queues that say nothing themselves, and builtInTask for
// the jobs of tasks.
func builtInQueue() *api.Defaults { return &api.Defaults{Rules: api.Rules{}.WithDefaults()} }

// builtInTask goes with builtInQueue.
func builtInTask() *api.Defaults {
	priority, policy := job.DefaultPriority, (&job.Spec{}).Policy()
	return &api.Defaults{Queue: job.DefaultQueue, Priority: &priority, MaxAttempts: &policy.MaxAttempts, Retry: &policy.Retry}
}
