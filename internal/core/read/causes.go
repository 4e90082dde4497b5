package read

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"sort"

	"humblemule.example/api"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

// Causes lists the causes of jobs that are dead, or in backoff, most jobs first, where the
// superseded runs of one schedule count as one; of those whose error holds a text where one
// is given.
func (rd *Reader) Causes(ctx context.Context, f api.CauseFilter) ([]api.Cause, error) {
	all, err := rd.causes(ctx, f, 0)
	if err == nil {
		err = rd.tellTrends(ctx, all)
	}
	return all, err
}

// causes lists causes, or one alone where it is not 0.
func (rd *Reader) causes(ctx context.Context, f api.CauseFilter, one int64) ([]api.Cause, error) {
	if f.State == job.Unplaced {
		f.State = job.Dead
	}
	in := scope.Of(ctx)
	counts, err := rd.store.CauseCounts(ctx, one)
	if err != nil {
		return nil, err
	}
	var only []int64
	if f.Error != "" {
		if only, err = rd.causesWith(ctx, f); err != nil {
			return nil, err
		}
	}
	by := map[int64]*api.Cause{}
	for _, c := range counts {
		queue, task := rd.Names(c.Queue, c.Task)
		if !in.Sees(queue, task) || c.State != f.State || f.Queue != "" && queue != f.Queue || f.Task != "" && task != f.Task || f.Error != "" && !slices.Contains(only, c.Cause) {
			continue
		}
		if by[c.Cause] == nil {
			by[c.Cause] = &api.Cause{ID: c.Cause}
		}
		told := by[c.Cause]
		told.Count += c.N
		told.By = append(told.By, api.CauseCount{Task: task, Queue: queue, Version: c.Version, Host: c.Host, Count: c.N})
	}
	if f.State == job.Dead {
		if err := rd.countSchedules(ctx, by, f); err != nil {
			return nil, err
		}
	}
	return rd.tellCauses(ctx, by)
}

// countSchedules tells how many of the jobs of each cause are runs of schedules that were
// superseded.
func (rd *Reader) countSchedules(ctx context.Context, by map[int64]*api.Cause, f api.CauseFilter) error {
	runs, err := rd.store.SupersededRuns(ctx)
	if err != nil {
		return err
	}
	seen := map[[2]int64]bool{}
	for _, r := range runs {
		queue, task := rd.Names(r.Queue, r.Task)
		told := by[r.Cause]
		if told == nil || f.Queue != "" && queue != f.Queue || f.Task != "" && task != f.Task {
			continue
		}
		told.Superseded++
		if at := [2]int64{r.Cause, r.Schedule}; !seen[at] {
			seen[at] = true
			told.Schedules++
		}
	}
	return nil
}

// tellCauses adds what the causes' rows tell, and puts the causes in order.
func (rd *Reader) tellCauses(ctx context.Context, by map[int64]*api.Cause) ([]api.Cause, error) {
	ids := make([]int64, 0, len(by))
	for id := range by {
		ids = append(ids, id)
	}
	rows, err := rd.store.Causes(ctx, ids)
	if err != nil {
		return nil, err
	}
	texts, err := rd.store.TextsOfCauses(ctx, ids)
	if err != nil {
		return nil, err
	}
	for _, t := range texts { // the latest first
		c := by[t.Cause]
		if queue, task := rd.Names(t.Queue, t.Task); !told(c, queue, task) {
			continue
		}
		if c.Job == 0 {
			c.Job = t.Job
		}
		c.Samples = store.LatestTexts(c.Samples, t.Texts)
	}
	all := make([]api.Cause, 0, len(by))
	for id, c := range by {
		r := rows[id]
		c.Type, c.Template, c.Total, c.FirstAt, c.LastAt = r.Type, r.Template, r.Total, r.FirstAt, r.LastAt
		if len(c.Samples) > 0 {
			c.Sample = c.Samples[0]
		}
		sort.Slice(c.By, func(i, j int) bool { return c.By[i].Count > c.By[j].Count })
		all = append(all, *c)
	}
	sort.Slice(all, func(i, j int) bool {
		a, b := weight(&all[i]), weight(&all[j])
		return a > b || a == b && all[i].LastAt > all[j].LastAt
	})
	return all, nil
}

// weight is how much a cause counts beside others: its jobs, of which all superseded runs
// of one schedule count as one.
func weight(c *api.Cause) int64 { return c.Count - c.Superseded + c.Schedules }

// told tells whether jobs of a queue and task are among those that a cause is told of.
func told(c *api.Cause, queue, task string) bool {
	return slices.ContainsFunc(c.By, func(n api.CauseCount) bool { return n.Queue == queue && n.Task == task })
}

// Cause tells about one cause: of its dead jobs.
func (rd *Reader) Cause(ctx context.Context, id int64) (api.Cause, error) {
	found, err := rd.causes(ctx, api.CauseFilter{}, id)
	if err != nil {
		return api.Cause{}, err
	}
	if id > 0 && len(found) > 0 {
		if found[0].AwaitedBy, err = rd.awaitingCause(ctx, id); err != nil {
			return api.Cause{}, err
		}
		return found[0], rd.tellTrends(ctx, found)
	}
	return api.Cause{}, job.Fault(job.NotFound, "no dead job has the cause %d; its jobs were requeued or removed, or the cause never existed", id)
}

// marks tell what happened since a time that may have to do with a cause: new versions of
// worker programs, and what operators did to its tasks, queues and jobs.
func (rd *Reader) marks(ctx context.Context, c *api.Cause, since job.Time) ([]api.Mark, error) {
	noted, err := rd.store.Marks(ctx, since, math.MaxInt64, mostMarks)
	if err != nil {
		return nil, err
	}
	marks := []api.Mark{}
	for _, m := range noted {
		if m.Kind == api.MarkDeploy || m.Kind == api.MarkNote {
			marks = append(marks, api.Mark{At: m.At, Kind: m.Kind, Text: m.Text, By: m.Principal})
		}
	}
	const most = 500
	actions, err := rd.actions(ctx, 0, 0, most)
	if err != nil {
		return nil, err
	}
	for _, a := range slices.Backward(actions) { // the first one first
		if a.At < since {
			continue
		}
		m, err := rd.markOf(ctx, c, a)
		if err != nil {
			return nil, err
		}
		if m != nil {
			marks = append(marks, *m)
		}
	}
	sort.SliceStable(marks, func(i, j int) bool { return marks[i].At < marks[j].At })
	return marks, nil
}

// actionDetail is what of an action's detail tells what it was about.
type actionDetail struct {
	Task, Queue, Schedule, Hook, Endpoint, Lane, Text, Worker, Name string
	Operation, Batch                                                int64
	Filter                                                          *api.Selection
	IDs                                                             []int64
	Set                                                             []string
}

// markOf tells an action as a mark, where it may have to do with a cause.
func (rd *Reader) markOf(ctx context.Context, c *api.Cause, a api.Action) (*api.Mark, error) {
	var d actionDetail
	if err := json.Unmarshal(a.Detail, &d); err != nil {
		return nil, err
	}
	about := func(task, queue string) bool {
		return slices.ContainsFunc(c.By, func(b api.CauseCount) bool {
			return (task == "" || b.Task == task) && (queue == "" || b.Queue == queue) && task+queue != ""
		})
	}
	if m, drawn := drawnAction(a, d); drawn && m.Kind != api.MarkRequeue {
		if !about(d.Task, d.Queue) {
			return nil, nil
		}
		return &m, nil
	}
	m := &api.Mark{At: a.At, By: a.Principal, Kind: api.MarkRequeue}
	switch {
	case a.Action == api.ActRequeue && (a.Job != 0 || len(d.IDs) > 0):
		ids := append(d.IDs, a.Job)
		rows, err := rd.store.Read(ctx, ids[:1])
		if err != nil || len(rows) == 0 {
			return nil, err
		}
		if task, queue := rd.nameOf(rows[0]); !about(task, queue) {
			return nil, nil
		}
		m.Text = fmt.Sprintf("job %d requeued", ids[0])
		if n := len(d.IDs); n > 1 {
			m.Text = fmt.Sprintf("%d chosen jobs requeued", n)
		}
	case a.Action == api.ActRequeue && d.Filter != nil && d.Filter.Cause == c.ID:
		m.Text = "jobs of this cause requeued"
	default:
		return nil, nil
	}
	return m, nil
}

func (rd *Reader) nameOf(r *store.Row) (task, queue string) {
	queue, task = rd.Names(r.Queue, r.Task)
	return task, queue
}

// Actions lists what operators did, the latest first, before an action's number; to one
// job where it is not 0.
func (rd *Reader) Actions(ctx context.Context, before, id int64, limit int) ([]api.Action, error) {
	if err := scope.Whole(ctx); err != nil {
		return nil, err
	}
	return rd.actions(ctx, before, id, limit)
}

func (rd *Reader) actions(ctx context.Context, before, id int64, limit int) ([]api.Action, error) {
	if before == 0 {
		before = math.MaxInt64
	}
	hidden := rd.hiddenAnywhere(ctx)
	all, err := rd.store.Actions(ctx, before, id, limit)
	for i := range all {
		all[i].Summary = sayAction(&all[i])
		all[i].Detail = veilDetail(all[i].Detail, hidden)
	}
	return all, err
}
