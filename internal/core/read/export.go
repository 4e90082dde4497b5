package read

import (
	"context"
	"slices"

	"humblemule.example/api"
	"humblemule.example/internal/core/lifecycle"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// exportedAtOnce is how many jobs of an export are read at once.
const exportedAtOnce = 100

// ExportHead is the head of an export that begins now.
func (rd *Reader) ExportHead(version, filter string) api.ExportHead {
	rd.m.RLock()
	defer rd.m.RUnlock()
	return api.ExportHead{
		Format: api.ExportFormat, Store: rd.m.Facts.StoreID, Version: version, At: rd.clock.Now(), Filter: filter, Through: rd.m.Facts.NextJob.Kept() - 1,
	}
}

// ExportSetup gives the line of an export that has the set-up.
func (rd *Reader) ExportSetup(ctx context.Context) (line api.ExportLine, err error) {
	if err := scope.Whole(ctx); err != nil {
		return line, err
	}
	s := &api.Setup{Queues: map[string]api.Defaults{}, Tasks: map[string]api.Defaults{}, Schedules: map[string]api.Schedule{}, Hooks: map[string]api.Hook{}, Endpoints: map[string]api.Endpoint{}}
	rd.m.RLock()
	defer rd.m.RUnlock()
	for _, q := range rd.m.Queues.AllKept() {
		if d := rd.m.Settings.KeptQueue(q.ID).Defaults; d != nil {
			s.Queues[q.Name] = *d
		}
		if rd.m.Settings.KeptPause(q.ID).At != 0 {
			line.Paused = append(line.Paused, q.Name)
		}
	}
	for _, t := range rd.m.Tasks.AllKept() {
		if d := rd.m.Settings.KeptTask(t.ID).Defaults; d != nil {
			s.Tasks[t.Name] = *d
		}
	}
	for name, x := range rd.m.Schedules.AllKept() {
		if !x.Gone() {
			is := x.Is
			if x.Row.PausedAt != 0 {
				is.Paused = new(true)
			}
			s.Schedules[name] = is
		}
	}
	for name, h := range rd.m.Hooks.AllKept() {
		s.Hooks[name] = h.Is
	}
	for name, e := range rd.m.Endpoints.AllKept() {
		s.Endpoints[name] = e.Is
	}
	owned := rd.m.Settings.KeptOwned()
	s.Retention, s.Triage, s.Alerts = owned.Retention, owned.Triage, owned.Alerts
	slices.Sort(line.Paused)
	line.Setup = s
	return line, nil
}

// Export gives the next lines of an export: of jobs beyond after, up to through, that match a
// filter, each as it stands when it is read. last is the id up to which jobs were looked at, and n
// how many there are; with more false there are no others.
func (rd *Reader) Export(ctx context.Context, f api.Filter, after, through int64) (lines []api.ExportLine, last int64, n int, more bool, err error) {
	f.Order, f.Cursor = api.OldestFirst, place{id: after}.cursor()
	s, err := rd.searchFor(ctx, &f)
	if err != nil {
		return nil, after, 0, false, err
	}
	next, err := rd.source(ctx, &s)
	if err != nil {
		return nil, after, 0, false, err
	}
	places, err := next(ctx, exportedAtOnce)
	if err != nil || len(places) == 0 {
		return nil, after, 0, false, err
	}
	last, more = places[len(places)-1].id, true
	if last >= through {
		more = false
		places = slices.DeleteFunc(places, func(p place) bool { return p.id > through })
	}
	ids := make([]int64, len(places))
	for i, p := range places {
		ids[i] = p.id
	}
	rows, err := rd.store.Read(ctx, ids)
	if err == nil {
		rows, err = rd.keep(ctx, &s, rows)
	}
	if err != nil {
		return nil, after, 0, false, err
	}
	jobs, err := rd.whole(ctx, rows...)
	for i := range jobs {
		if err == nil {
			lines, err = rd.exported(ctx, rows[i], &jobs[i], lines)
		}
	}
	return lines, last, len(rows), more, err
}

// exported adds the lines of a job to others.
func (rd *Reader) exported(ctx context.Context, r *store.Row, j *job.Job, lines []api.ExportLine) ([]api.ExportLine, error) {
	// What only holds here and now is left out.
	j.KeptUntil, j.Cause, j.LeaseEndsAt, j.Progress, j.ReportedAt, j.UsualMS, j.LongMS, j.AttemptsFolded = 0, 0, 0, nil, 0, 0, 0, 0
	if r.State == job.Running { // how it ends is not known
		j.Attempts = j.Attempts[:len(j.Attempts)-1]
	}
	if len(j.Attempts) == 0 {
		j.Attempts = nil
	}
	if len(j.Labels) == 0 {
		j.Labels = nil
	}
	line := api.ExportLine{Job: j}
	if !r.State.Finished() {
		line.Rank = r.Rank
	}
	if s := rd.scheduleOf(r); s != nil && s.Row.Waiting == r.ID {
		line.Behind = s.Row.Behind
	}
	if r.Unmet > 0 && !r.State.Finished() {
		var err error
		if line.After, err = rd.stillAfter(ctx, r); err != nil {
			return lines, err
		}
	}
	if r.Lane != "" {
		holder, err := rd.store.ReadLaneHolder(ctx, r.Queue, r.Lane)
		if err != nil {
			return lines, err
		}
		line.HasLane = holder == r.ID
	}
	lines = append(lines, line)
	if !slices.ContainsFunc(j.Attempts, func(a job.Attempt) bool { return a.LogLines > 0 }) {
		return lines, nil
	}
	for attempt, after := 0, 0; ; {
		log, err := rd.store.Log(ctx, r.ID, attempt, after, false, linesAtOnce)
		more := len(log) == linesAtOnce
		if r.State == job.Running {
			log = slices.DeleteFunc(log, func(l api.LogLine) bool { return l.Attempt == r.Attempt })
		}
		if len(log) > 0 {
			lines = append(lines, api.ExportLine{Log: &api.ExportLog{Job: r.ID, Lines: log}})
			attempt, after = log[len(log)-1].Attempt, log[len(log)-1].Line
		}
		if err != nil || !more || len(log) == 0 {
			return lines, err
		}
	}
}

// stillAfter tells what a job still waits for; of the last one of a batch these are the others that have
// not ended as it asks for.
func (rd *Reader) stillAfter(ctx context.Context, r *store.Row) (*job.After, error) {
	a := new(job.After)
	a.When, a.IfNot = lifecycle.Wants(r.After).Rule()
	edges, _, err := rd.store.ReadEdges(ctx, r.ID, job.MaxAfter)
	for _, e := range edges {
		if e.State == store.EdgeUnmet || e.State == store.EdgeGone {
			a.Jobs = append(a.Jobs, e.Needs)
		}
	}
	if len(a.Jobs) > 0 || err != nil {
		return a, err
	}
	members, err := rd.store.BatchMembers(ctx, r.Batch, job.MaxAfter)
	for _, m := range members {
		if m.ID != r.ID && m.State != job.Done && m.State != job.Skipped {
			a.Jobs = append(a.Jobs, m.ID)
		}
	}
	return a, err
}

// Imports lists the stores of which jobs were imported, the latest first.
func (rd *Reader) Imports(ctx context.Context) (all api.Imports, err error) {
	if err := scope.Whole(ctx); err != nil {
		return all, err
	}
	all.Imports = []api.Import{}
	rd.m.RLock()
	defer rd.m.RUnlock()
	for _, i := range rd.m.Imports.AllKept() {
		all.Imports = append(all.Imports, TellImport(i))
	}
	slices.SortFunc(all.Imports, func(a, b api.Import) int { return int(b.BegunAt - a.BegunAt) })
	return all, nil
}

// TellImport is an import as it is told outside.
func TellImport(i *memory.Import) api.Import {
	told := api.Import{Store: i.Store, IDs: api.IDsNew, BegunAt: i.MadeAt, BegunBy: i.MadeBy, Jobs: i.Jobs}
	if i.Below != 0 {
		told.IDs = api.IDsKeep
	}
	return told
}

// ImportedAs tells which job here one of another store has become.
func (rd *Reader) ImportedAs(ctx context.Context, from string, id int64) (is api.ImportedAs, err error) {
	if err := scope.Whole(ctx); err != nil {
		return is, err
	}
	rd.m.RLock()
	i := rd.m.Imports.Kept(from)
	rd.m.RUnlock()
	if i == nil {
		return is, noImport(from)
	}
	is.Job, err = rd.store.ReadImportedAs(ctx, i.ID, id)
	if err == nil && is.Job == 0 {
		err = job.Fault(job.NotFound, "job %d of store %s was not imported", id, from)
	}
	return is, err
}

func noImport(from string) error {
	return job.Fault(job.NotFound, "nothing was imported of a store %q; hmule import without a file lists of which", from)
}
