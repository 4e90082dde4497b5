package read

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"humblemule.example/api"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/scope"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/trend"
	"humblemule.example/internal/sentence"
	"humblemule.example/job"
)

// History is told in at most so many steps, and in about as many as are best drawn where
// nobody asks for a step.
const (
	mostSteps = 3000
	fitSteps  = 300
)

// goodSteps are the steps that are taken where nobody asks for one.
var goodSteps = []time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour, 3 * time.Hour, 6 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour}

// byKinds are what history can be listed by.
var byKinds = map[string]trend.Kind{api.ByQueue: trend.OfQueue, api.ByTask: trend.OfTask, api.ByVersion: trend.OfVersion, api.ByHost: trend.OfHost, api.ByFollow: trend.OfLabel}

// historySpan is a span of time in steps, and the steps of history that they are made of.
type historySpan struct {
	from, to job.Time
	step     time.Duration
	of       trend.Step
}

func (s *historySpan) steps() int { return int(s.to.Sub(s.from) / s.step) }

// spanOf checks a query and gives its span, of whole steps.
func spanOf(q *api.HistoryQuery, now job.Time) (s historySpan, err error) {
	wrong := func(field, format string, args ...any) error {
		return job.Wrong("history cannot be told so", []job.FieldError{{Field: field, Message: fmt.Sprintf(format, args...)}})
	}
	s = historySpan{from: q.From, to: q.To, step: q.Step.Go()}
	if s.to == 0 {
		s.to = now
	}
	if s.from == 0 {
		s.from = s.to.Add(-time.Hour)
	}
	if s.from < 0 || s.from >= s.to {
		return s, wrong("from", "%s is not before to, which is %s", s.from, s.to)
	}
	const century = job.Time(100 * 365 * 24 * 3_600_000)
	if s.to-s.from > century {
		return s, wrong("to", "%s is more than a hundred years after from, which is %s", s.to, s.from)
	}
	old := max(now, s.from).Sub(s.from)
	if s.step == 0 {
		at := slices.IndexFunc(goodSteps, func(d time.Duration) bool {
			return s.to.Sub(s.from)/d <= fitSteps && (d >= time.Hour || old <= trend.Minute.Kept()) && (d >= 24*time.Hour || old <= trend.Hour.Kept())
		})
		if at < 0 {
			at = len(goodSteps) - 1
		}
		s.step = goodSteps[at]
	}
	switch {
	case s.step < time.Minute || s.step%time.Minute != 0:
		return s, wrong("step", "%s is not in whole minutes; ask for 1m, 5m, 1h or 1d, for example", q.Step)
	case s.to.Sub(s.from)/s.step > mostSteps:
		return s, wrong("step", "%s gives more than %d steps from %s to %s; ask for a longer one", q.Step, mostSteps, s.from, s.to)
	}
	// The coarsest that the steps can be made of, so that the least is read.
	for s.of = trend.Day; s.step%s.of.Length() != 0; s.of-- {
	}
	if old > s.of.Kept()+s.step && s.of < trend.Day {
		return s, wrong("step", "%s is too short: by the %s, history is kept for %s; ask for a longer step, or a later from", q.Step, []string{"minute", "hour"}[s.of], sentence.Roughly(s.of.Kept()))
	}
	step := job.Time(s.step.Milliseconds())
	s.from -= s.from % step
	s.to += (step - s.to%step) % step
	if s.to.Go().Year() > job.LastYear {
		return s, wrong("to", "%s is too late for steps of %s: the last would end after the year %d", q.To, job.Duration(s.step), job.LastYear)
	}
	return s, nil
}

// History tells what moved over time.
func (rd *Reader) History(ctx context.Context, q api.HistoryQuery) (api.History, error) {
	now, in := rd.clock.Now(), scope.Of(ctx)
	span, err := spanOf(&q, now)
	if err != nil {
		return api.History{}, err
	}
	kind, err := kindOf(ctx, &q)
	if err != nil {
		return api.History{}, err
	}
	marks, err := rd.Marks(ctx, span.from, span.to)
	if err != nil {
		return api.History{}, err
	}
	rd.m.RLock()
	since := rd.m.History.KeptSince()
	rd.m.RUnlock()
	dark := darkSteps(span, since, now, marks)
	var total *teller
	parts := map[int64]*teller{}
	err = rd.readHistory(ctx, span, kind, q.Times, rd.wants(in, kind, &q), func() {
		total = newTeller(dark, q.Times)
		clear(parts)
	}, func(i int, series trend.Series) {
		var whole trend.Figures
		for id, f := range series {
			whole.Merge(f)
			if q.By == "" {
				continue
			}
			if parts[id] == nil {
				parts[id] = newTeller(dark, q.Times)
			}
			parts[id].tell(i, f)
		}
		total.tell(i, &whole)
	})
	if err != nil {
		return api.History{}, err
	}
	told := api.History{AsOf: now, Since: since, From: span.from, To: span.to, StepMS: span.step.Milliseconds(), By: q.By, Series: []api.Series{}, Total: total.done(), Marks: marks}
	for id, part := range parts {
		s := part.done()
		rd.m.RLock()
		s.Name = rd.m.History.KeptSeriesName(id)
		rd.m.RUnlock()
		s.Rest = id == trend.Rest
		told.Series = append(told.Series, s)
	}
	slices.SortFunc(told.Series, func(a, b api.Series) int {
		return cmp.Or(cmp.Compare(b2i(a.Rest), b2i(b.Rest)), cmp.Compare(b.Sum.Started+b.Sum.Enqueued, a.Sum.Started+a.Sum.Enqueued), cmp.Compare(a.Name, b.Name))
	})
	return told, nil
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

// kindOf checks what history is asked for, and gives the kind of its series.
func kindOf(ctx context.Context, q *api.HistoryQuery) (trend.Kind, error) {
	kind, known := byKinds[q.By]
	wrong := func(field, message string) error {
		return job.Wrong("history cannot be told so", []job.FieldError{{Field: field, Message: message}})
	}
	switch {
	case q.By != "" && !known:
		return 0, wrong("by", fmt.Sprintf("%q is not queue, task, version, host or follow", q.By))
	case q.Queue != "" && q.Task != "":
		return 0, wrong("task", "cannot be combined with queue: history is kept by queue and by task, not by pairs of them")
	case q.Queue != "" && q.By != "" && q.By != api.ByQueue, q.Task != "" && q.By != "" && q.By != api.ByTask:
		return 0, wrong("by", "cannot be combined with one queue or task: history is kept by each alone")
	case q.Follow != "" && q.Queue+q.Task != "":
		return 0, wrong("follow", "cannot be combined with queue or task: history is kept by each alone")
	case q.Follow != "" && q.By != "" && q.By != api.ByFollow:
		return 0, wrong("by", "cannot be combined with one label that is followed: history is kept by each alone")
	case kind == trend.OfVersion || kind == trend.OfHost || kind == trend.OfLabel || q.Follow != "":
		if q.Follow != "" {
			kind = trend.OfLabel
		}
		return kind, scope.Whole(ctx)
	case q.Task != "":
		kind = trend.OfTask
	}
	return kind, nil
}

// wants tells which series are asked for, and may be seen.
func (rd *Reader) wants(in scope.Scope, kind trend.Kind, q *api.HistoryQuery) func(id int64) bool {
	rd.m.RLock()
	defer rd.m.RUnlock()
	if name := q.Queue + q.Task + q.Follow; name != "" {
		only := rd.m.History.KeptSeries(kind, name)
		if kind == trend.OfQueue && !in.Sees(name, "") || kind == trend.OfTask && !in.Sees("", name) {
			only = trend.None
		}
		return func(id int64) bool { return id == only && only != trend.None }
	}
	if in.Whole() {
		return func(int64) bool { return true }
	}
	seen := map[int64]bool{}
	for id, name := range rd.m.History.KeptSeriesOf(kind) {
		if kind == trend.OfQueue && in.Sees(name, "") || kind == trend.OfTask && in.Sees("", name) {
			seen[id] = true
		}
	}
	return func(id int64) bool { return seen[id] }
}

// readHistory adds up what is stored, and what is not stored yet, and gives it step by step to
// tell, which must not keep it; begin is called before the first, and again where all begins
// anew.
func (rd *Reader) readHistory(ctx context.Context, span historySpan, kind trend.Kind, times bool, wanted func(int64) bool, begin func(), tell func(i int, s trend.Series)) error {
	const tries = 5 // between the two questions a minute may be folded, which comes once a minute
	for range tries {
		begin()
		rd.m.RLock()
		way := rd.m.History.KeptUnderWay(kind, span.of, wanted)
		rd.m.RUnlock()
		left := way.At >= span.from && way.At < span.to
		at, step := 0, trend.Series{}
		flush := func() {
			if left && int(way.At.Sub(span.from)/span.step) == at {
				step.Merge(way.Series, math.MaxInt32)
				left = false
			}
			tell(at, step)
			for _, f := range step {
				f.Reset()
			}
		}
		folded, err := rd.store.History(ctx, int64(kind), int64(span.of), span.from, span.to, times, func(r store.HistoryRow) error {
			for i := int(r.At.Sub(span.from) / span.step); at < i; at++ {
				flush()
			}
			if way.Instead && r.At == way.At {
				return nil
			}
			return step.Unpack(r.Counts, r.Spans, wanted)
		})
		if err != nil {
			return err
		}
		for ; at < span.steps(); at++ {
			flush()
		}
		if folded == way.Folded {
			break
		}
	}
	return nil
}

// darkSteps tells in which steps nothing was recorded: those before anything is known, those to
// come, and those in which the service was not running.
func darkSteps(span historySpan, since, now job.Time, marks []api.Mark) []bool {
	dark := make([]bool, span.steps())
	for i := range dark {
		from := span.from.Add(time.Duration(i) * span.step)
		to := from.Add(span.step)
		dark[i] = since == 0 || to <= since || from > now
		for _, m := range marks {
			if m.Kind == api.MarkRestart && m.Since <= from && m.At >= to {
				dark[i] = true
			}
		}
	}
	return dark
}

// teller gathers what is told of a series, step by step.
type teller struct {
	api.Series
	dark  []bool
	times bool
	sum   trend.Figures
}

func newTeller(dark []bool, times bool) *teller {
	t := &teller{dark: dark, times: times}
	all := t.counts()
	if times {
		all = append(all, t.spans()...)
	}
	for i, points := range all {
		*points = make(api.Points, len(dark))
		for step := range dark {
			if dark[step] || i >= int(trend.NumCounts) {
				(*points)[step] = -1
			}
		}
	}
	return t
}

func (t *teller) counts() []*api.Points {
	p := &t.Points
	return []*api.Points{trend.Enqueued: &p.Enqueued, trend.Requeued: &p.Requeued, trend.Started: &p.Started, trend.Done: &p.Done, trend.Failed: &p.Failed, trend.Dead: &p.Dead, trend.Skipped: &p.Skipped, trend.Cancelled: &p.Cancelled}
}

func (t *teller) spans() []*api.Points {
	p := &t.Points
	return []*api.Points{&p.WaitP50MS, &p.WaitP95MS, &p.RunP50MS, &p.RunP95MS}
}

// tell tells a step.
func (t *teller) tell(i int, f *trend.Figures) {
	if f.N == [trend.NumCounts]int64{} {
		return
	}
	t.sum.Merge(f)
	for c, points := range t.counts() {
		(*points)[i] = f.N[c]
	}
	if !t.times {
		return
	}
	for k, sketch := range []*trend.Sketch{&f.Waits, &f.Runs} {
		if sketch.Count() > 0 {
			(*t.spans()[2*k])[i] = int64(math.Ceil(sketch.Quantile(0.5)))
			(*t.spans()[2*k+1])[i] = int64(math.Ceil(sketch.Quantile(0.95)))
		}
	}
}

// done gives what was told, with the sum.
func (t *teller) done() api.Series {
	if t.Sum = tellFlow(&t.sum); !t.times { // only some of them are known
		t.Sum.Wait, t.Sum.Run = nil, nil
	} else {
		t.Sum.Unmeasured = max(t.Sum.Started-int64(t.sum.Waits.Count()), 0)
	}
	return t.Series
}

func tellFlow(f *trend.Figures) api.Flow {
	return api.Flow{
		Enqueued: f.N[trend.Enqueued], Requeued: f.N[trend.Requeued], Started: f.N[trend.Started], Done: f.N[trend.Done],
		Failed: f.N[trend.Failed], Dead: f.N[trend.Dead], Skipped: f.N[trend.Skipped], Cancelled: f.N[trend.Cancelled],
		Wait: memory.TellSpans(&f.Waits, 0), Run: memory.TellSpans(&f.Runs, 0),
	}
}

// mostMarks is how many marks of a kind are told of a span, the latest.
const mostMarks = 500

// Marks tells the moments of a span that are drawn on charts, the first one first: what was
// noted, and what operators did that changes what comes.
func (rd *Reader) Marks(ctx context.Context, from, to job.Time) ([]api.Mark, error) {
	noted, err := rd.store.Marks(ctx, from, to, mostMarks)
	if err != nil {
		return nil, err
	}
	all := []api.Mark{}
	for _, m := range noted {
		told := api.Mark{At: m.At, Kind: m.Kind, Text: m.Text, By: m.Principal, Since: m.Since}
		if m.Kind == api.MarkNote {
			told.ID = m.ID
		}
		all = append(all, told)
	}
	if !scope.Of(ctx).Whole() { // what was done may concern what it does not see
		return all, nil
	}
	actions, err := rd.store.ActionsBetween(ctx, from, to, mostMarks)
	if err != nil {
		return nil, err
	}
	for _, a := range actions {
		var d actionDetail
		if err := json.Unmarshal(a.Detail, &d); err != nil {
			return nil, err
		}
		if m, drawn := drawnAction(a, d); drawn {
			all = append(all, m)
		}
	}
	slices.SortStableFunc(all, func(a, b api.Mark) int { return cmp.Compare(a.At, b.At) })
	return all, nil
}

// drawnAction tells an action as a mark, where it concerns more than a job.
func drawnAction(a api.Action, d actionDetail) (api.Mark, bool) {
	m := api.Mark{At: a.At, By: a.Principal}
	switch {
	case a.Action == "set_task":
		m.Kind, m.Text = api.MarkSettings, "defaults of task "+d.Task
	case a.Action == "set_queue":
		m.Kind, m.Text = api.MarkSettings, "settings of queue "+d.Queue
	case a.Action == "set_schedule":
		m.Kind, m.Text = api.MarkSettings, "schedule "+d.Schedule
	case a.Action == "pause" && d.Queue != "":
		m.Kind, m.Text = api.MarkPause, "queue "+d.Queue+" paused"
	case a.Action == "resume" && d.Queue != "":
		m.Kind, m.Text = api.MarkPause, "queue "+d.Queue+" resumed"
	case a.Action == api.ActRequeue && len(d.IDs) > 1:
		m.Kind, m.Text = api.MarkRequeue, fmt.Sprintf("%d jobs requeued", len(d.IDs))
	case a.Action == api.ActRequeue && d.Filter != nil:
		m.Kind, m.Text = api.MarkRequeue, "jobs requeued"
	default:
		return m, false
	}
	return m, true
}

// did are what an action does to a job, or to jobs.
var did = map[string]string{
	api.ActCancel: "cancelled", api.ActRequeue: "requeued", api.ActStartNow: "started", api.ActDiscard: "discarded", api.ActPatch: "edited", api.ActPurge: "removed",
	"undiscard": "brought back", "accept": "accepted the outcome of", "end_lease": "ended the lease of",
}

// sayAction tells who did what in a sentence.
func sayAction(a *api.Action) string {
	var d actionDetail
	if json.Unmarshal(a.Detail, &d) != nil {
		return fmt.Sprintf("%s did %s.", a.Principal, a.Action)
	}
	what := ""
	switch verb := did[a.Action]; {
	case verb != "" && a.Job != 0:
		what = fmt.Sprintf("%s job %d", verb, a.Job)
	case verb != "" && len(d.IDs) > 0:
		what = verb + " " + sentence.Count(int64(len(d.IDs)), "chosen job", "chosen jobs")
	case verb != "":
		what = verb + " jobs" + sayFilter(d.Filter)
	default:
		what = sayOther(a.Action, &d)
	}
	return a.Principal + " " + what + "."
}

// sayOther tells an action on something that is no job.
func sayOther(action string, d *actionDetail) string {
	switch action {
	case "set_task":
		return "set the defaults of task " + d.Task
	case "set_queue":
		return "set queue " + d.Queue
	case "delete_task":
		return "deleted task " + d.Task
	case "delete_queue":
		return "deleted queue " + d.Queue
	case "pass_lane":
		return fmt.Sprintf("passed the lane %s of queue %s on", d.Lane, d.Queue)
	case "pause", "resume", "set_schedule", "delete_schedule", "run_schedule", "pause_schedule", "resume_schedule":
		verb := map[string]string{"pause": "paused", "resume": "resumed", "set": "set", "delete": "deleted", "run": "ran"}[strings.TrimSuffix(action, "_schedule")]
		if d.Schedule != "" {
			return verb + " schedule " + d.Schedule
		}
		return verb + " queue " + d.Queue
	case "set_endpoint", "delete_endpoint", "pause_endpoint", "resume_endpoint":
		verb, _, _ := strings.Cut(action, "_")
		return map[string]string{"set": "set", "delete": "deleted", "pause": "paused", "resume": "resumed"}[verb] + " endpoint " + d.Endpoint
	case "set_hook":
		return "set hook " + d.Hook
	case "delete_hook":
		return "deleted hook " + d.Hook
	case "send_again":
		return "made another job of a delivery to hook " + d.Hook
	case "load_setup":
		return "loaded a set-up file"
	case "import":
		return fmt.Sprintf("began to import the jobs of store %s, with %s", d.Name, d.Text)
	case "import_setup":
		return fmt.Sprintf("imported settings and schedules: %d were set", len(d.Set))
	case "stop_operation":
		return fmt.Sprintf("stopped operation %d", d.Operation)
	case "undo":
		return fmt.Sprintf("took operation %d back", d.Operation)
	case "close_batch":
		return fmt.Sprintf("closed batch %d", d.Batch)
	case "follow":
		return fmt.Sprintf("followed the label %s as %s", d.Text, d.Name)
	case "unfollow":
		return "no longer follows " + d.Name
	case "make_backup":
		return "began backup " + d.Name
	case "delete_backup":
		return "deleted backup " + d.Name
	case "end_session":
		return "ended a session of " + d.Name
	case "compact":
		return "began to compact the data file"
	case "stop_compact":
		return "stopped compacting the data file"
	case "mark":
		return "noted: " + d.Text
	case "unmark":
		return "deleted the mark: " + d.Text
	case string(api.WantDrain), string(api.WantLeave), string(api.WantRun):
		verb := map[string]string{string(api.WantDrain): "asked worker %s to drain", string(api.WantLeave): "asked worker %s to leave", string(api.WantRun): "asked worker %s to run on"}[action]
		return fmt.Sprintf(verb, cmp.Or(d.Name, d.Worker))
	}
	return "did " + action
}

// sayFilter tells which jobs a filter picks.
func sayFilter(f *api.Selection) string {
	if f == nil {
		return ""
	}
	var parts []string
	add := func(what string, values ...string) {
		if len(values) > 0 && values[0] != "" {
			parts = append(parts, what+" "+strings.Join(values, ", "))
		}
	}
	states := make([]string, len(f.States))
	for i, s := range f.States {
		states[i] = s.String()
	}
	add("state", states...)
	add("queue", f.Queues...)
	add("task", f.Tasks...)
	add("owner", f.Owner)
	add("worker", f.Worker)
	add("key", f.Key)
	add("error", f.Error)
	if f.Cause != 0 {
		parts = append(parts, fmt.Sprintf("cause %d", f.Cause))
	}
	if f.Batch != 0 {
		parts = append(parts, fmt.Sprintf("batch %d", f.Batch))
	}
	if len(parts) == 0 {
		return ""
	}
	return ": " + strings.Join(parts, "; ")
}
