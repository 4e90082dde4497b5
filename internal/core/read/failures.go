package read

import (
	"cmp"
	"context"
	"slices"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/trend"
	"humblemule.example/job"
)

// How far back the trend of a cause is told, and how long before and after a moment its failures
// are compared.
const (
	trendHours = 48
	trendDays  = 31
	compared   = time.Hour
)

// failures gives the failures of each step from a time on, the present one last. What is given
// must not be kept; begin is called before the first, and again where all begins anew.
func (rd *Reader) failures(ctx context.Context, step trend.Step, steps int, begin func(), tell func(i int, s trend.Failures)) error {
	now, length := rd.clock.Now(), job.Time(step.Length().Milliseconds())
	last := now - now%length
	from := last - job.Time(steps-1)*length
	const tries = 5 // as with the rest of history
	for range tries {
		begin()
		rd.m.RLock()
		way := rd.m.History.KeptFailures(step)
		rd.m.RUnlock()
		place := func(at job.Time) int { return int((at - from) / length) }
		if i := place(way.At); way.At >= from && i < steps {
			tell(i, way.Failures)
		}
		folded, err := rd.store.History(ctx, int64(trend.OfFailure), int64(step), from, last+length, false, func(r store.HistoryRow) error {
			if way.Instead && r.At == way.At {
				return nil
			}
			one := trend.Failures{}
			err := one.Unpack(r.Counts)
			tell(place(r.At), one)
			return err
		})
		if err != nil || folded == way.Folded {
			return err
		}
	}
	return nil
}

// seesFailures tells which failures may be seen: those of queues and tasks in the scope.
func (rd *Reader) seesFailures(ctx context.Context) func(at trend.Failure) bool {
	in := scope.Of(ctx)
	if in.Whole() {
		return func(trend.Failure) bool { return true }
	}
	return func(at trend.Failure) bool {
		rd.m.RLock()
		queue, task := rd.m.History.KeptSeriesName(at.Queue), rd.m.History.KeptSeriesName(at.Task)
		rd.m.RUnlock()
		return queue != "" && task != "" && in.Sees(queue, task)
	}
}

// tellTrends tells of causes how many attempts failed by the hour and by the day.
func (rd *Reader) tellTrends(ctx context.Context, all []api.Cause) error {
	by, sees := map[int64]*api.Cause{}, rd.seesFailures(ctx)
	for i := range all {
		by[all[i].ID] = &all[i]
	}
	for _, span := range []struct {
		step  trend.Step
		steps int
		of    func(*api.Cause) *[]int64
	}{
		{trend.Hour, trendHours, func(c *api.Cause) *[]int64 { return &c.Hours }},
		{trend.Day, trendDays, func(c *api.Cause) *[]int64 { return &c.Days }},
	} {
		err := rd.failures(ctx, span.step, span.steps, func() {
			for i := range all {
				*span.of(&all[i]) = make([]int64, span.steps)
			}
		}, func(i int, s trend.Failures) {
			for at, n := range s {
				if c := by[at.Cause]; c != nil && sees(at) {
					(*span.of(c))[i] += n.Failed
				}
			}
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// CauseHistory tells when jobs failed by a cause, by which versions of worker programs, on which
// hosts, and what happened meanwhile that may have to do with it, with the failures before and
// after.
func (rd *Reader) CauseHistory(ctx context.Context, c *api.Cause) error {
	var versions, hosts map[int64][]int64
	sees := rd.seesFailures(ctx)
	err := rd.failures(ctx, trend.Hour, trendHours, func() { versions, hosts = map[int64][]int64{}, map[int64][]int64{} }, func(i int, s trend.Failures) {
		for at, n := range s {
			if at.Cause != c.ID || !sees(at) {
				continue
			}
			for _, part := range []struct {
				of map[int64][]int64
				id int64
			}{{versions, at.Version}, {hosts, at.Host}} {
				if part.of[part.id] == nil {
					part.of[part.id] = make([]int64, trendHours)
				}
				part.of[part.id][i] += n.Failed
			}
		}
	})
	if err != nil {
		return err
	}
	for id, hours := range versions {
		c.Versions = append(c.Versions, api.VersionTrend{Version: rd.seriesName(id), Hours: hours})
	}
	slices.SortFunc(c.Versions, func(a, b api.VersionTrend) int { return cmp.Compare(a.Version, b.Version) })
	for id, hours := range hosts {
		c.Hosts = append(c.Hosts, api.HostTrend{Host: rd.seriesName(id), Hours: hours})
	}
	slices.SortFunc(c.Hosts, func(a, b api.HostTrend) int {
		return cmp.Or(cmp.Compare(sum(b.Hours), sum(a.Hours)), cmp.Compare(a.Host, b.Host))
	})
	const hour = job.Time(time.Hour / time.Millisecond)
	now := rd.clock.Now()
	if c.Marks, err = rd.marks(ctx, c, now-now%hour-(trendHours-1)*hour); err != nil || len(c.Marks) == 0 {
		return err
	}
	return rd.compare(ctx, c)
}

func sum(all []int64) (n int64) {
	for _, x := range all {
		n += x
	}
	return n
}

func (rd *Reader) seriesName(id int64) string {
	rd.m.RLock()
	defer rd.m.RUnlock()
	return rd.m.History.KeptSeriesName(id)
}

// compare tells of each mark how many attempts failed by the cause in the hour before it and in
// the hour after it, and of how many that its tasks began.
func (rd *Reader) compare(ctx context.Context, c *api.Cause) error {
	const steps = trendHours * 60
	failed, started := make([]int64, steps), make([]int64, steps)
	sees := rd.seesFailures(ctx)
	err := rd.failures(ctx, trend.Minute, steps, func() { clear(failed) }, func(i int, s trend.Failures) {
		for at, n := range s {
			if at.Cause == c.ID && sees(at) {
				failed[i] += n.Failed
			}
		}
	})
	if err != nil {
		return err
	}
	now, minute := rd.clock.Now(), job.Time(time.Minute.Milliseconds())
	last := now - now%minute
	span := historySpan{from: last - (steps-1)*minute, to: last + minute, step: time.Minute, of: trend.Minute}
	tasks := map[int64]bool{}
	rd.m.RLock()
	for _, b := range c.By {
		tasks[rd.m.History.KeptSeries(trend.OfTask, b.Task)] = true
	}
	rd.m.RUnlock()
	err = rd.readHistory(ctx, span, trend.OfTask, false, func(id int64) bool { return tasks[id] }, func() { clear(started) }, func(i int, s trend.Series) {
		for _, f := range s {
			started[i] += f.N[trend.Started]
		}
	})
	if err != nil {
		return err
	}
	over := func(from, to int) *api.FailureShare {
		from, to = max(from, 0), min(to, steps)
		if from >= to {
			return nil
		}
		return &api.FailureShare{Failed: sum(failed[from:to]), Started: sum(started[from:to]), Minutes: to - from}
	}
	for i := range c.Marks {
		m := &c.Marks[i]
		at := int((m.At - span.from) / minute)
		m.Before, m.After = over(at-int(compared/time.Minute), at), over(at, at+int(compared/time.Minute))
	}
	return nil
}
