package memory

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"humblemule.example/internal/core/trend"
)

// Dump writes what is kept of the file in a canonical form, a fact a line, and the next rank
// of each queue with how many are reserved: so that tests can hold a memory against what
// another would load from the file. The caller sees to it that nothing changes meanwhile.
func (m *Memory) Dump() (lines []string, ranks map[string][2]int64) {
	add := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	add("store %s, next job %d, settings %d, owned %s", m.Facts.StoreID, m.Facts.NextJob.Kept(), m.Settings.Version(), asJSON(m.Settings.KeptOwned()))
	add("next due %d, late %d, result %d, sweep %d", m.Times.Due.Kept(), m.Times.Late.Kept(), m.Times.Results.Kept(), m.Times.Sweep.Kept())
	ranks = map[string][2]int64{}
	for _, id := range slices.Sorted(maps.Keys(m.Queues.byID.kept)) {
		q := m.Queues.Kept(id)
		set, r := m.Settings.KeptQueue(id), m.Places.ranks.kept[id]
		ranks[q.Name] = [2]int64{max(r.next, 1), max(r.reserved, 1)}
		add("queue %s: %+v, idle since %d, version %d, defaults %s, rules %s, pause %v, walking %v", q.Name, *q, m.Queues.idle.kept[id], set.Version, asJSON(set.Defaults), asJSON(set.Rules), m.Settings.KeptPause(id), m.Places.KeptWalking(id))
		add("queue %s: counts %v, past %v", q.Name, *m.Counts.KeptQueue(id), *m.Counts.KeptPast(id))
		for _, task := range slices.Sorted(slices.Values(m.Counts.KeptTasksOf(id))) {
			if n := m.Counts.KeptGroup(Group{id, task}); !n.None() {
				add("queue %s, task %d: %v", q.Name, task, *n)
			}
		}
		if m.Queues.KeptNamed(q.Name) != q {
			add("queue %s is not found by its name", q.Name)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(m.Tasks.byID.kept)) {
		t, set := m.Tasks.Kept(id), m.Settings.KeptTask(id)
		add("task %s: %+v, idle since %d, version %d, defaults %s, counts %v", t.Name, *t, m.Tasks.idle.kept[id], set.Version, asJSON(set.Defaults), *m.Counts.KeptTask(id))
		if m.Tasks.KeptNamed(t.Name) != t {
			add("task %s is not found by its name", t.Name)
		}
	}
	add("names made: queues %v, tasks %v", made(&m.Queues), made(&m.Tasks))
	add("%d failures whose words are not folded", m.Words.late.kept)
	add("causes %v", slices.Sorted(maps.Keys(m.Causes.known.kept)))
	add("removals %v", m.Removals.all.kept)
	for _, name := range slices.Sorted(maps.Keys(m.Follows.all.kept)) {
		f, n := m.Follows.KeptFollow(name)
		add("follow %+v: %v", *f, *n)
	}
	for _, id := range slices.Sorted(maps.Keys(m.Schedules.byID.kept)) {
		s := m.Schedules.Kept(id)
		_, planned := m.Schedules.plan.Get(id)
		add("schedule %s: %+v, fires at %d, planned %v", s.Row.Name, s.Row, s.FiresAt(), planned)
		if m.Schedules.KeptNamed(s.Row.Name) != s {
			add("schedule %s is not found by its name", s.Row.Name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(m.Hooks.all.kept)) {
		h, n := m.Hooks.Kept(name)
		add("hook %s, version %d, made at %d: %s, delivered %s", name, h.Row.Version, h.Row.MadeAt, asJSON(h.Is), asJSON(n))
	}
	for _, name := range slices.Sorted(maps.Keys(m.Endpoints.all.kept)) {
		e := m.Endpoints.all.kept[name]
		add("endpoint %+v, %s", e.Row, asJSON(e.Is))
	}
	for _, a := range m.Alerts.AllKept() {
		add("alert %s", asJSON(a))
	}
	for _, host := range slices.Sorted(maps.Keys(m.Hosts.silent.kept)) {
		add("silent host %+v", *m.Hosts.silent.kept[host])
	}
	for _, hash := range slices.Sorted(maps.Keys(m.Sessions.all.kept)) {
		add("session %+v", m.Sessions.all.kept[hash].Session)
	}
	add("%d schedules are named, %d planned", len(m.Schedules.byName.kept), m.Schedules.plan.Len())
	lines = append(lines, m.Leases.dump()...)
	lines = append(lines, m.History.dump()...)
	return append(lines, m.Receipts.dump()...), ranks
}

// made are the names by who made them, but for nobody.
func made(p *Names) map[string]int {
	all := maps.Clone(p.made.kept)
	maps.DeleteFunc(all, func(_ string, n int) bool { return n == 0 })
	return all
}

func (p *Leases) dump() (lines []string) {
	ofWorkers := 0
	for _, all := range p.ofWorker {
		ofWorkers += len(all)
	}
	for _, id := range slices.Sorted(maps.Keys(p.live.kept)) {
		l := p.live.kept[id]
		row := *l.Row
		row.Payload = nil
		lines = append(lines, fmt.Sprintf("lease %d of %s: %+v, policy %s, lines %d, indexed %v", id, l.Worker, row, asJSON(l.Policy), l.Lines, p.ofWorker[l.Worker][id] == l))
	}
	return append(lines, fmt.Sprintf("%d leases end, %d are of workers", p.ends.Len(), ofWorkers))
}

// dump tells what is fresh, and the hour and the day under way, with what is fresh of them: how
// much of that was folded in parts is another matter.
func (p *History) dump() (lines []string) {
	lines = append(lines, fmt.Sprintf("history since %d: %d deltas of %d; names %v", p.since.Kept(), p.n, p.minute, p.called.kept))
	for _, part := range []struct {
		name string
		span *span
	}{{"fresh", &p.fresh}, {"hour", &p.hour.span}, {"day", &p.day.span}} {
		for kind, series := range part.span.series {
			for _, id := range slices.Sorted(maps.Keys(series)) {
				f := series[id]
				waits, runs := packSketch(&f.Waits), packSketch(&f.Runs)
				lines = append(lines, fmt.Sprintf("%s of kind %d: %d %v, waits %x, runs %x", part.name, kind, id, f.N, waits, runs))
			}
		}
		var failures []string
		for at, n := range part.span.failures {
			failures = append(failures, fmt.Sprintf("%s failures: %+v %+v", part.name, at, *n))
		}
		slices.Sort(failures)
		lines = append(lines, failures...)
	}
	for kind, series := range p.week.series {
		for _, id := range slices.Sorted(maps.Keys(series)) {
			lines = append(lines, fmt.Sprintf("usual of kind %d: %d %v since %d", kind, id, series[id].N, p.week.since[kind][id]))
		}
	}
	for _, id := range slices.Sorted(maps.Keys(p.m.Limits.starts)) {
		all := p.m.Limits.KeptStarts(id)
		lines = append(lines, fmt.Sprintf("starts of queue %d: %+v", id, all[max(len(all)-startsStored, 0):]))
	}
	return lines
}

func packSketch(s *trend.Sketch) []byte {
	b, err := s.MarshalBinary()
	if err != nil {
		panic(err) // it never fails
	}
	return b
}

func (p *Receipts) dump() (lines []string) {
	lines = append(lines, fmt.Sprintf("receipts reach to %d, kept %d", p.reach, p.kept))
	for _, row := range p.rows {
		for _, call := range row.calls {
			lines = append(lines, fmt.Sprintf("receipts %d of %d, served %d: %x %x %v", row.id, row.at, row.served, call, p.of[call].id.body, p.of[call].IDs))
		}
	}
	return lines
}

func asJSON(v any) string {
	raw, err := json.Marshal(v)
	if err != nil {
		return err.Error()
	}
	return string(raw)
}
