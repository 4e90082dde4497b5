package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sort"

	"humblemule/internal/core/store"
	"humblemule/job"
)

const hour = 3_600_000

// CauseTrend tells the failures of a cause by the hour, the present hour last.
func (e *Engine) CauseTrend(ctx context.Context, cause int64) ([]int64, error) {
	last := int64(e.now()) / hour
	found, err := e.store.CauseHours(ctx, cause, last-trendHours+1)
	return trendOf(found, last, 1, trendHours), err
}

// trendOf adds up failures by so many hours each; the last of them ends with the hour
// last.
func trendOf(found []store.CauseHour, last, each int64, n int) []int64 {
	trend := make([]int64, n)
	for _, h := range found {
		if back := (last - h.Hour) / each; h.Hour <= last && back < int64(n) {
			trend[int64(n)-1-back] += h.N
		}
	}
	return trend
}

// CauseHistory tells when jobs failed by a cause, by which versions of worker programs,
// and what happened meanwhile that may have to do with it.
func (e *Engine) CauseHistory(ctx context.Context, c *job.Cause) error {
	now := e.now()
	last := int64(now) / hour
	found, err := e.store.CauseHours(ctx, c.ID, last-trendDays*24+1)
	if err != nil {
		return err
	}
	c.Hours, c.Days = trendOf(found, last, 1, trendHours), trendOf(found, last, 24, trendDays)
	byVersion := map[string][]store.CauseHour{}
	for _, h := range found {
		if h.Hour > last-trendHours {
			byVersion[h.Version] = append(byVersion[h.Version], h)
		}
	}
	for version, hours := range byVersion {
		c.Versions = append(c.Versions, job.VersionTrend{Version: version, Hours: trendOf(hours, last, 1, trendHours)})
	}
	sort.Slice(c.Versions, func(i, j int) bool { return c.Versions[i].Version < c.Versions[j].Version })
	c.Marks, err = e.marks(ctx, c, job.Time((last-trendHours+1)*hour))
	return err
}

// marks tell what happened since a time that may have to do with a cause: new versions of
// worker programs, and what operators did to its tasks, queues and jobs.
func (e *Engine) marks(ctx context.Context, c *job.Cause, since job.Time) ([]job.Mark, error) {
	versions, err := e.store.VersionsSince(ctx, since)
	if err != nil {
		return nil, err
	}
	marks := []job.Mark{}
	for version, at := range versions {
		marks = append(marks, job.Mark{At: at, Kind: job.MarkDeploy, Text: "workers of version " + version})
	}
	const most = 500
	actions, err := e.Actions(ctx, 0, 0, most)
	if err != nil {
		return nil, err
	}
	for _, a := range slices.Backward(actions) { // the first one first
		if a.At < since {
			continue
		}
		m, err := e.markOf(ctx, c, a)
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
	Task, Queue string
	Filter      *job.Selection
	IDs         []int64
}

// markOf tells an action as a mark, where it may have to do with a cause.
func (e *Engine) markOf(ctx context.Context, c *job.Cause, a job.Action) (*job.Mark, error) {
	var d actionDetail
	if err := json.Unmarshal(a.Detail, &d); err != nil {
		return nil, err
	}
	about := func(task, queue string) bool {
		return slices.ContainsFunc(c.By, func(b job.CauseCount) bool {
			return (task == "" || b.Task == task) && (queue == "" || b.Queue == queue) && task+queue != ""
		})
	}
	m := &job.Mark{At: a.At, By: a.Principal}
	switch {
	case a.Action == "set_task" && about(d.Task, ""):
		m.Kind, m.Text = job.MarkSettings, "defaults of task "+d.Task
	case a.Action == "set_queue" && about("", d.Queue):
		m.Kind, m.Text = job.MarkSettings, "defaults of queue "+d.Queue
	case a.Action == "pause" && about("", d.Queue):
		m.Kind, m.Text = job.MarkPause, "queue "+d.Queue+" paused"
	case a.Action == "resume" && about("", d.Queue):
		m.Kind, m.Text = job.MarkPause, "queue "+d.Queue+" resumed"
	case a.Action == job.ActRequeue && (a.Job != 0 || len(d.IDs) > 0):
		ids := append(d.IDs, a.Job)
		rows, err := e.store.Read(ctx, ids[:1])
		if err != nil || len(rows) == 0 {
			return nil, err
		}
		if task, queue := e.nameOf(rows[0]); !about(task, queue) {
			return nil, nil
		}
		m.Kind, m.Text = job.MarkRequeue, fmt.Sprintf("job %d requeued", ids[0])
		if n := len(d.IDs); n > 1 {
			m.Text = fmt.Sprintf("%d chosen jobs requeued", n)
		}
	case a.Action == job.ActRequeue && d.Filter != nil && d.Filter.Cause == c.ID:
		m.Kind, m.Text = job.MarkRequeue, "jobs of this cause requeued"
	default:
		return nil, nil
	}
	return m, nil
}

func (e *Engine) nameOf(r *store.Row) (task, queue string) {
	queue, task = e.view.names(r.Queue, r.Task)
	return task, queue
}
