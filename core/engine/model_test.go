package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"humblemule/core/job"
	"humblemule/core/order"
)

var (
	modelCommands = flag.Int("model.commands", modelLength, "how many random commands the model test runs")
	modelSeed     = flag.Uint64("model.seed", 6853, "draws the model test's commands")
)

// shortModel is how many commands it runs for a quick look.
const shortModel = 1000

// The model is what the engine promises, written as plainly as possible: a list
// of jobs and a loop over it. TestModel runs random commands on both and wants
// every answer, state and count to be the same.
type model struct {
	now    time.Time
	nextID int64
	ranks  map[string]int64
	jobs   []*mjob
	parked []*mtake
	// queues that are paused, workers that are drained, and the turns of each
	paused, drained map[string]bool
	turns           map[string]order.Turns
	// most jobs that run in a queue at once
	limits map[string]int
	// when the schedule enqueues its next run
	planned time.Time
	// removals by operations that can perhaps be undone
	removals []mremoval
}

type mremoval struct {
	operation int64
	at        time.Time
}

type mjob struct {
	id                    int64
	task, queue, key      string
	dedupe                string
	enqueuedAt            time.Time
	priority, rank        int64
	state                 job.State
	reason                job.Reason
	round, attempt, tries int
	most                  int
	first                 time.Duration // wait after the first failure
	giveUpAfter           time.Duration
	nextAt, startedAt     time.Time
	runAt                 job.Time
	payload               string
	labels                map[string]string
	lines, told           int // lines of all attempts, and of the running one
	percent               float64
	keep                  *job.Duration
	result                string
	resultUntil           time.Time
	// the live lease
	token      string
	worker     string
	length     time.Duration
	ends       time.Time
	cancelling bool
	// ended attempts by number
	attempts []mattempt
	// removed jobs are there for nobody
	removedAt time.Time
	removed   bool
	removedBy int64 // the operation; 0 where it was deleted by itself
	// releases in a row by one worker
	released   string
	releases   int
	releasedAt time.Time
}

type mattempt struct {
	token   string
	outcome job.Outcome
	lost    bool
}

type mtake struct {
	worker        string
	queues, tasks []string
	limit         int
	ahead         int // of these, how many are beyond the free slots
	weights       map[string]int
	one           int64
	length        time.Duration
	until         time.Time
	got           []int64
	answer        chan answered
}

type answered struct {
	leases []job.Lease
	err    error
}

// find finds a job that was not removed.
func (m *model) find(id int64) *mjob {
	if j := m.ever(id); j != nil && !j.removed {
		return j
	}
	return nil
}

func (m *model) ever(id int64) *mjob {
	if id < 1 || id > int64(len(m.jobs)) {
		return nil
	}
	return m.jobs[id-1]
}

func (m *model) place(j *mjob) {
	if j.nextAt.After(m.now) {
		j.state = job.Scheduled
		return
	}
	j.state, j.nextAt = job.Ready, time.Time{}
	if j.rank == 0 {
		m.ranks[j.queue]++
		j.rank = m.ranks[j.queue]
	}
}

// earlier is the job that a dedupe lets answer for another one; nil for none.
func (m *model) earlier(task, key, dedupe string, other int64) (found *mjob) {
	for _, j := range m.jobs {
		if dedupe == "" || j.removed || j.task != task || j.key != key || j.id == other {
			continue
		}
		switch dedupe {
		case job.Unstarted, job.Unfinished:
			if !j.state.Finished() && (dedupe == job.Unfinished || j.startedAt.IsZero()) {
				found = j
			}
		default:
			d, _ := job.ParseDuration(dedupe)
			if j.state != job.Dead && j.state != job.Cancelled && j.enqueuedAt.After(m.now.Add(-d.Go())) {
				found = j
			}
		}
	}
	return found
}

// enqueue makes a job, or finds the earlier one that answers for it.
func (m *model) enqueue(s job.Spec) *mjob {
	if found := m.earlier(s.Task, s.Key, s.Dedupe, 0); found != nil {
		return found
	}
	m.nextID++
	p := s.Policy()
	j := &mjob{
		dedupe: s.Dedupe, enqueuedAt: m.now,
		id: m.nextID, task: s.Task, queue: cmp.Or(s.Queue, job.DefaultQueue), key: s.Key, priority: job.DefaultPriority, round: 1,
		most: p.MaxAttempts, first: p.Retry.First.Go(), giveUpAfter: p.Retry.GiveUpAfter.Go(),
		labels: map[string]string{}, keep: s.KeepResult,
	}
	if s.Priority != nil {
		j.priority = int64(*s.Priority)
	}
	if s.Delay > 0 {
		j.nextAt = m.now.Add(s.Delay.Go())
		j.runAt = job.At(j.nextAt)
	}
	raw, _ := s.PayloadJSON()
	j.payload = string(raw)
	m.place(j)
	m.jobs = append(m.jobs, j)
	return j
}

// backoff is 2.5 times longer each time, to at most 8 hours; the test draws no
// jitter.
func (j *mjob) backoff() time.Duration {
	d := float64(j.first)
	for range j.tries - 1 {
		d = min(d*2.5, float64(8*time.Hour))
	}
	return time.Duration(d).Truncate(time.Millisecond)
}

func (j *mjob) finish(s job.State, r job.Reason) { j.state, j.reason, j.nextAt = s, r, time.Time{} }

// end ends a live lease.
func (m *model) end(j *mjob, o job.Outcome, delay time.Duration, lost bool) {
	j.attempts = append(j.attempts, mattempt{j.token, o, lost})
	j.token = ""
	if o == job.OutcomePostponed || o == job.OutcomeReleased {
		j.tries--
	}
	if j.cancelling && o != job.OutcomeDone {
		j.finish(job.Cancelled, job.Asked)
		return
	}
	switch o {
	case job.OutcomeDone:
		j.finish(job.Done, "")
		j.result, j.resultUntil = fmt.Sprint(j.id), time.Time{}
		if j.keep != nil {
			j.resultUntil = m.now.Add(j.keep.Go())
		}
	case job.OutcomeSkipped:
		j.finish(job.Skipped, job.ByHandler)
	case job.OutcomeGiveUp:
		j.finish(job.Dead, job.GaveUp)
	case job.OutcomePostponed:
		j.state, j.rank, j.nextAt = job.Scheduled, 0, m.now.Add(delay)
	case job.OutcomeReleased:
		m.release(j)
	case job.OutcomeFailed:
		next := m.now.Add(cmp.Or(delay, j.backoff()))
		switch {
		case j.most > 0 && j.tries >= j.most:
			j.finish(job.Dead, job.AttemptsUsedUp)
		case j.giveUpAfter > 0 && next.After(j.startedAt.Add(j.giveUpAfter)):
			j.finish(job.Dead, job.TooOld)
		default:
			j.state, j.rank, j.nextAt = job.Backoff, 0, next
		}
	}
}

func (m *model) release(j *mjob) {
	if j.released != j.worker || m.now.Sub(j.releasedAt) > 10*time.Second {
		j.released, j.releases, j.releasedAt = j.worker, 0, m.now
	}
	j.releases++
	if j.releases >= 3 {
		j.released, j.releases = "", 0
		j.state, j.nextAt = job.Scheduled, m.now.Add(5*time.Second)
		return
	}
	m.place(j)
}

// full tells whether as many jobs of a queue run as may.
func (m *model) full(queue string) bool {
	running := 0
	for _, j := range m.jobs {
		if j.queue == queue && j.state == job.Running {
			running++
		}
	}
	return m.limits[queue] > 0 && running >= m.limits[queue]
}

// best is the ready job that goes first for a take.
func (m *model) best(t *mtake) *mjob {
	if m.drained[t.worker] {
		return nil
	}
	if t.one != 0 {
		j := m.find(t.one)
		if j == nil || j.state != job.Ready || m.paused[j.queue] || m.full(j.queue) || len(t.got) > 0 {
			return nil
		}
		return j
	}
	firsts := map[string]*mjob{}
	var open []string
	for _, q := range t.queues {
		var first *mjob
		if m.paused[q] || m.full(q) || m.limits[q] > 0 && len(t.got) >= t.limit-t.ahead {
			continue
		}
		for _, j := range m.jobs {
			if j.state != job.Ready || j.removed || j.queue != q || len(t.tasks) > 0 && !slices.Contains(t.tasks, j.task) {
				continue
			}
			if first == nil || j.priority > first.priority || j.priority == first.priority && j.rank < first.rank {
				first = j
			}
		}
		if first != nil {
			open, firsts[q] = append(open, q), first
		}
	}
	switch {
	case len(open) == 0:
		return nil
	case t.weights == nil:
		return firsts[open[0]]
	}
	if m.turns[t.worker] == nil {
		m.turns[t.worker] = order.Turns{}
	}
	return firsts[m.turns[t.worker].Next(open, func(q string) int { return max(t.weights[q], 1) })]
}

// deal leases one job at a time round the takes.
func (m *model) deal(takes []*mtake) {
	for open := slices.Clone(takes); len(open) > 0; {
		open = slices.DeleteFunc(open, func(t *mtake) bool {
			j := m.best(t)
			if j == nil {
				return true
			}
			j.state, j.worker, j.length, j.ends = job.Running, t.worker, t.length, m.now.Add(t.length)
			j.attempt++
			j.tries++
			j.told, j.percent = 0, -1
			if j.startedAt.IsZero() {
				j.startedAt = m.now
			}
			t.got = append(t.got, j.id)
			return len(t.got) == t.limit
		})
	}
}

// settled deals to parked takes and drops those that were served.
func (m *model) settled() (served []*mtake) {
	m.deal(m.parked)
	m.parked = slices.DeleteFunc(m.parked, func(t *mtake) bool {
		if len(t.got) > 0 {
			served = append(served, t)
		}
		return len(t.got) > 0
	})
	return served
}

// next is the next moment at which something happens by itself, until a time.
func (m *model) next(until time.Time) time.Time {
	if m.planned.Before(until) {
		until = m.planned
	}
	for _, j := range m.jobs {
		switch {
		case j.removed:
		case (j.state == job.Scheduled || j.state == job.Backoff) && j.nextAt.Before(until):
			until = j.nextAt
		case j.state == job.Running && j.ends.Before(until):
			until = j.ends
		}
	}
	return until
}

// happen does what happens by itself now: leases end, and jobs are due.
func (m *model) happen() {
	var due []*mjob
	for _, j := range m.jobs {
		if j.removed {
			continue
		}
		if j.state == job.Running && !j.ends.After(m.now) {
			m.end(j, job.OutcomeFailed, 0, true)
		}
		if (j.state == job.Scheduled || j.state == job.Backoff) && !j.nextAt.After(m.now) {
			due = append(due, j)
		}
	}
	slices.SortFunc(due, func(a, b *mjob) int { return cmp.Or(a.nextAt.Compare(b.nextAt), cmp.Compare(a.id, b.id)) })
	for _, j := range due {
		m.place(j)
	}
	for ; !m.planned.After(m.now); m.planned = m.planned.Add(planEvery) {
		m.enqueue(plannedJob)
	}
}

// The schedule of the model, each run of which comes whatever became of the last one.
const planEvery = 211 * time.Second

var plannedJob = job.Spec{Task: "buoy.poll", Queue: "archive", Payload: "planned"}

// trial is the engine and its model side by side.
type trial struct {
	*testing.T
	*model
	e      *Engine
	path   string
	random *rand.Rand
	// tokens ever given, live and ended
	tokens []string
	// calls made with an Idempotency-Key, with their answers
	calls []func()
}

func TestModel(t *testing.T) {
	t.Parallel() // it takes long
	path := filepath.Join(t.TempDir(), "model.db")
	synctest.Test(t, func(t *testing.T) {
		r := &trial{T: t, model: &model{ranks: map[string]int64{}, paused: map[string]bool{}, drained: map[string]bool{}, turns: map[string]order.Turns{}, limits: map[string]int{}}, path: path, random: rand.New(rand.NewPCG(*modelSeed, 0))}
		r.open()
		defer func() { require.NoError(t, r.e.Close()) }()
		told, err := r.e.SetSchedule(t.Context(), "buoys", job.Schedule{Every: job.Duration(planEvery), IfStillRunning: job.RunsAlso, Job: plannedJob}, 0)
		require.NoError(t, err)
		r.planned = told.Next[0].UTC.Go()
		commands := *modelCommands
		if testing.Short() {
			commands = min(commands, shortModel)
		}
		for n := range commands {
			r.now = time.Now()
			r.step()
			if n%100 == 0 || n == commands-1 {
				r.compare()
			}
			if n%100 == 0 || n > 2000 && n <= 2300 {
				memoryAgrees(r, r.e)
			}
			if t.Failed() {
				t.Fatalf("after %d commands of seed %d", n+1, *modelSeed)
			}
		}
		for _, p := range r.parked {
			p.until = time.Time{}
		}
	})
}

func (r *trial) open() {
	e, err := Open(r.path, Options{Draw: func() float64 { return 0.5 }, Log: slog.New(slog.DiscardHandler)})
	require.NoError(r, err)
	r.e = e
}

func (r *trial) chance(percent int) bool { return r.random.IntN(100) < percent }

func pick[T any](r *trial, all ...T) T { return all[r.random.IntN(len(all))] }

func (r *trial) step() {
	switch n := r.random.IntN(100); {
	case n < 26:
		r.enqueueSome()
	case n < 50:
		r.take()
	case n < 72:
		r.settle()
	case n < 74:
		r.extend()
	case n < 75:
		r.startNow()
	case n < 76:
		r.patch()
	case n < 78:
		r.remove()
	case n < 81:
		r.cancel()
	case n < 86:
		r.requeue()
	case n < 89:
		r.park()
	case n < 91 && len(r.calls) > 0:
		r.calls[r.random.IntN(len(r.calls))]()
	case n < 92:
		r.restart()
	case n < 93:
		r.circle()
	case n < 94:
		r.pause()
	case n < 95:
		r.ask()
	case n < 96:
		r.limit()
	case n < 97:
		pick(r, r.act, r.act, r.undo)()
	default:
		r.pass(time.Duration(1+r.random.IntN(pick(r, 50, 3000, 60_000))) * time.Millisecond)
	}
	r.served(r.settled())
}

func (r *trial) spec() job.Spec {
	s := job.Spec{Task: pick(r, "tide.predict", "manifest.check", "buoy.poll"), Queue: pick(r, "", "berths", "archive"), Payload: r.random.IntN(1000)}
	if r.chance(5) {
		s.Payload = make([]int, 400) // a long one, kept beside the row
	}
	if r.chance(40) {
		p := r.random.IntN(10)
		s.Priority = &p
	}
	if r.chance(20) {
		s.Delay = job.Duration(time.Duration(1+r.random.IntN(20_000)) * time.Millisecond)
	}
	if r.chance(50) {
		most := 1 + r.random.IntN(4)
		s.MaxAttempts = &most
	}
	if r.chance(50) {
		s.Retry = &job.Retry{First: job.Duration(time.Duration(1+r.random.IntN(5000)) * time.Millisecond)}
		if r.chance(30) {
			s.Retry.GiveUpAfter = job.Duration(time.Duration(1+r.random.IntN(20_000)) * time.Millisecond)
		}
	}
	if r.chance(30) {
		s.Key = pick(r, "a", "b", "c", "d", "e")
		s.Dedupe = pick(r, "", "", job.Unstarted, job.Unfinished, "20s")
	}
	if r.chance(20) {
		keep := pick(r, 0, job.Duration(20*time.Second))
		s.KeepResult = &keep
	}
	return s
}

// ctx gives a call an Idempotency-Key of its own.
func (r *trial) ctx(path, key string, body any) context.Context {
	raw, _ := json.Marshal(body)
	return WithCall(r.Context(), Call{Path: path, Key: key, Body: raw})
}

func (r *trial) enqueueSome() {
	if r.chance(80) {
		s, key := r.spec(), fmt.Sprint("one", r.random.Uint64())
		got, err := r.e.Enqueue(r.ctx("/v1/jobs", key, s), s)
		require.NoError(r, err)
		before := r.nextID
		want := r.enqueue(s)
		r.same(want, got)
		require.Equal(r, before == r.nextID, got.Duplicate)
		r.again(func() {
			repeated, err := r.e.Enqueue(r.ctx("/v1/jobs", key, s), s)
			if want.removed {
				require.ErrorContains(r, err, "has been removed since")
			} else {
				require.NoError(r, err)
				require.Equal(r, want.id, repeated.ID)
			}
			_, err = r.e.Enqueue(r.ctx("/v1/jobs", key, "another body"), s)
			require.ErrorContains(r, err, "Idempotency-Key")
		})
		return
	}
	specs := make([]job.Spec, 1+r.random.IntN(6))
	for i := range specs {
		specs[i] = r.spec()
	}
	if r.chance(20) { // one wrong: none is taken in
		tooHigh := 10
		specs[len(specs)-1].Priority = &tooHigh
		_, err := r.e.EnqueueMany(r.Context(), specs, func(i int) string { return fmt.Sprintf("line %d: ", i+1) })
		require.ErrorContains(r, err, fmt.Sprintf("line %d: priority", len(specs)))
		return
	}
	got, err := r.e.EnqueueMany(r.Context(), specs, func(int) string { return "" })
	require.NoError(r, err)
	for i, s := range specs {
		before := r.nextID
		want := r.enqueue(s)
		require.Equal(r, []any{want.id, want.state, before == r.nextID}, []any{got[i].ID, got[i].State, got[i].Duplicate})
	}
}

// again remembers a call that may be repeated while its receipt is kept.
func (r *trial) again(call func()) {
	until := time.Now().Add(4 * time.Minute)
	r.calls = append(r.calls, func() {
		if time.Now().Before(until) {
			call()
		}
	})
	if len(r.calls) > 20 {
		r.calls = r.calls[1:]
	}
}

func (r *trial) request(worker string) (job.LeaseRequest, *mtake) {
	req := job.LeaseRequest{
		Worker: worker, Queues: pick(r, []string{"common"}, []string{"berths", "common"}, []string{"archive", "berths", "common"}),
		Tasks: pick(r, nil, []string{"tide.predict"}, []string{"tide.predict", "manifest.check", "unheard.of"}),
		Limit: 1 + r.random.IntN(5), Lease: job.Duration(time.Duration(1000+r.random.IntN(60_000)) * time.Millisecond),
	}
	want := &mtake{worker: worker, queues: req.Queues, tasks: req.Tasks, limit: req.Limit, length: req.Lease.Go()}
	if r.chance(30) {
		req.Ahead = 1 + r.random.IntN(3)
		want.limit, want.ahead = want.limit+req.Ahead, req.Ahead
	}
	if r.chance(30) {
		req.Share, req.Weights = job.ByWeight, map[string]int{"common": 1 + r.random.IntN(4)}
		want.weights = req.Weights
	}
	return req, want
}

// takeNamed asks for one job by its id.
func (r *trial) takeNamed() {
	id := r.anyJob()
	req := job.LeaseRequest{Worker: "w2", Job: id, Limit: 1, Lease: job.Duration(time.Minute)}
	want := &mtake{worker: "w2", one: id, limit: 1, length: time.Minute}
	got, err := r.e.Lease(r.Context(), req)
	j := r.find(id)
	switch {
	case r.drained["w2"]:
	case j == nil:
		require.ErrorContains(r, err, "there is no job")
		return
	case j.state != job.Ready:
		require.ErrorContains(r, err, "only a ready job can be taken by its id")
		return
	case r.paused[j.queue]:
		require.ErrorContains(r, err, "is paused")
		return
	case r.full(j.queue):
		require.ErrorContains(r, err, "cannot be taken now")
		return
	}
	require.NoError(r, err)
	r.deal([]*mtake{want})
	r.leased(want, got.Leases)
}

// pause pauses a queue, or resumes one.
func (r *trial) pause() {
	q := pick(r, "common", "berths", "archive", "nowhere")
	do, to := r.e.PauseQueue, true
	if r.chance(65) {
		do, to = r.e.ResumeQueue, false
	}
	err := do(r.ctx("/v1/queues", fmt.Sprint("pause", r.random.Uint64()), to), q)
	if q == "nowhere" {
		require.ErrorContains(r, err, "there is no queue")
		return
	}
	require.NoError(r, err)
	r.paused[q] = to
	r.served(r.settled())
}

// ask drains a worker, whose parked takes are then answered, or lets it run.
func (r *trial) ask() {
	uid, want := pick(r, "w1", "w2"), job.WantRun
	if r.chance(35) {
		want = job.WantDrain
	}
	_, err := r.e.PutWorker(r.Context(), job.Worker{ID: uid, Queues: []string{"common"}})
	require.NoError(r, err)
	got, err := r.e.AskWorker(r.Context(), uid, want)
	require.NoError(r, err)
	require.Equal(r, want, got.Wanted)
	r.drained[uid] = want == job.WantDrain
	r.parked = slices.DeleteFunc(r.parked, func(t *mtake) bool {
		if !r.drained[t.worker] {
			return false
		}
		got := <-t.answer
		require.NoError(r, got.err)
		require.Empty(r, got.leases)
		return true
	})
}

// report draws what a handler tells of a job, and what is then known of it.
func (r *trial) report(token string) (told job.Report, knows func(*mjob)) {
	if r.chance(50) {
		return told, func(*mjob) {}
	}
	id, _, _, _ := parseToken(token)
	percent := float64(r.random.IntN(101))
	told.Progress = &job.Progress{Percent: percent}
	told.Labels = map[string]string{pick(r, "berth", "ship"): pick(r, "", "3", "heron")}
	told.Log = []string{"moored", "cleared"}
	if j := r.find(id); j != nil && r.chance(30) { // as after an answer that was lost
		told.LogFrom = max(j.told, 1)
	}
	return told, func(j *mjob) {
		j.percent = percent
		j.labels = job.MergeLabels(j.labels, told.Labels)
		before := j.told
		j.told = max(j.told, cmp.Or(told.LogFrom, j.told+1)+1)
		j.lines += j.told - before
	}
}

func (r *trial) take() {
	if r.chance(10) {
		r.takeNamed()
		return
	}
	req, want := r.request(pick(r, "w1", "w2"))
	key := fmt.Sprint("take", r.random.Uint64())
	ctx := r.ctx("/v1/leases", key, req)
	got, err := r.e.Lease(ctx, req)
	require.NoError(r, err)
	r.deal([]*mtake{want})
	r.leased(want, got.Leases)
	if len(got.Leases) == 0 {
		return
	}
	r.again(func() { // the leases of then that still live; where none does the take is a new one
		live := map[string]bool{}
		for _, l := range got.Leases {
			if r.ever(l.Job.ID).token == l.Token {
				live[l.Token] = true
			}
		}
		if len(live) == 0 && !r.drained[req.Worker] {
			return
		}
		repeated, err := r.e.Lease(ctx, req)
		require.NoError(r, err)
		require.Len(r, repeated.Leases, len(live))
		for _, l := range repeated.Leases {
			require.True(r, live[l.Token])
		}
	})
}

// leased compares leases with what the model has dealt, and keeps their tokens.
func (r *trial) leased(want *mtake, got []job.Lease) {
	var ids []int64
	for _, l := range got {
		ids = append(ids, l.Job.ID)
		j := r.find(l.Job.ID)
		j.token = l.Token
		r.tokens = append(r.tokens, l.Token)
		require.Equal(r, []any{j.task, j.queue, j.attempt, j.tries, j.most, j.round, j.payload}, []any{l.Job.Task, l.Job.Queue, l.Job.Attempt, l.Job.Tries, l.Job.MaxAttempts, l.Job.Round, string(l.Job.Payload)})
		require.Equal(r, job.At(j.ends), l.ExpiresAt)
	}
	require.Equal(r, want.got, ids, "jobs leased, in order")
}

// park begins a take that finds nothing now and waits.
func (r *trial) park() {
	req, want := r.request(pick(r, "w1", "w2"))
	if len(r.parked) >= 3 || r.drained[req.Worker] {
		return
	}
	// Half a millisecond beside everything else that happens by itself.
	req.Wait = job.Duration(time.Duration(1+r.random.IntN(30_000))*time.Millisecond + 500*time.Microsecond)
	want.until, want.answer = r.now.Add(req.Wait.Go()), make(chan answered, 1)
	e := r.e
	go func() {
		got, err := e.Lease(context.Background(), req)
		want.answer <- answered{got.Leases, err}
	}()
	r.parked = append(r.parked, want)
	synctest.Wait()
}

func (r *trial) served(takes []*mtake) {
	for _, t := range takes {
		got := <-t.answer
		require.NoError(r, got.err)
		r.leased(t, got.leases)
	}
}

// circle takes a job and gives it back, again and again: the third time it waits.
func (r *trial) circle() {
	for range 4 {
		req := job.LeaseRequest{Worker: "w1", Queues: []string{"berths"}, Limit: 1, Lease: job.Duration(time.Minute)}
		want := &mtake{worker: "w1", queues: req.Queues, limit: 1, length: time.Minute}
		got, err := r.e.Lease(r.Context(), req)
		require.NoError(r, err)
		r.deal([]*mtake{want})
		r.leased(want, got.Leases)
		for _, l := range got.Leases {
			r.settleAs(job.Settlement{Token: l.Token, Outcome: job.OutcomeReleased})
		}
		r.served(r.settled())
	}
}

// token chooses a live lease, or one of any that ever were.
func (r *trial) token() string {
	var live []string
	for _, j := range r.jobs {
		if j.token != "" {
			live = append(live, j.token)
		}
	}
	switch {
	case len(live) > 0 && r.chance(85):
		return live[r.random.IntN(len(live))]
	case len(r.tokens) > 0 && r.chance(90):
		return r.tokens[r.random.IntN(len(r.tokens))]
	}
	return pick(r, "1.1.0123456789abcdef", "999999.1.0123456789abcdef")
}

func (r *trial) settle() {
	s := job.Settlement{Token: r.token(), Outcome: pick(r, job.OutcomeDone, job.OutcomeDone, job.OutcomeFailed, job.OutcomeFailed, job.OutcomeGiveUp, job.OutcomeSkipped, job.OutcomePostponed, job.OutcomeReleased)}
	switch s.Outcome {
	case job.OutcomeSkipped:
		s.ReasonText = "the ship has sailed"
	case job.OutcomePostponed:
		s.Delay = job.Duration(time.Duration(1000+r.random.IntN(9000)) * time.Millisecond)
	case job.OutcomeFailed:
		s.Error = &job.Failure{Type: "error", Message: fmt.Sprintf("%s on channel %d", pick(r, "no answer", "noise"), r.random.IntN(90))}
		if r.chance(20) {
			s.Delay = job.Duration(time.Duration(1+r.random.IntN(9000)) * time.Millisecond)
		}
	}
	if r.chance(10) {
		s.Enqueue = []job.Spec{r.spec()}
	}
	if id, _, _, _ := parseToken(s.Token); s.Outcome == job.OutcomeDone {
		s.Result = json.RawMessage(fmt.Sprint(id))
	}
	if r.chance(5) {
		s.Outcome = "finished"
	}
	var knows func(*mjob)
	s.Report, knows = r.report(s.Token)
	id, _, _, _ := parseToken(s.Token)
	if j := r.find(id); j != nil && j.token == s.Token && s.Outcome != "finished" {
		knows(j)
	}
	r.settleAs(s)
}

func (r *trial) settleAs(s job.Settlement) {
	got, err := r.e.Settle(r.Context(), []job.Settlement{s})
	require.NoError(r, err)
	require.Equal(r, r.wantSettled(s), got[0].Status, "%+v", s)
	id, _, _, _ := parseToken(s.Token)
	if j := r.find(id); j != nil && got[0].Status == job.StatusOK {
		require.Equal(r, []any{j.state, job.At(j.nextAt)}, []any{got[0].State, got[0].NextAt})
	}
}

func (r *trial) wantSettled(s job.Settlement) job.Status {
	id, _, _, _ := parseToken(s.Token)
	j := r.ever(id) // what was removed is known until it is swept
	switch {
	case s.Outcome == "finished" && j != nil && !j.removed && j.token == s.Token:
		return job.StatusRefused
	case j == nil, j.removed && r.now.Sub(j.removedAt) >= restorableFor:
		return job.StatusLost
	case j.token == s.Token:
		r.end(j, s.Outcome, s.Delay.Go(), false)
		for _, follow := range s.Enqueue {
			r.enqueue(follow)
		}
		return job.StatusOK
	}
	for _, a := range j.attempts {
		if a.token == s.Token && a.outcome == s.Outcome && !a.lost {
			return job.StatusOK
		}
	}
	return job.StatusLost
}

func (r *trial) extend() {
	token := r.token()
	told, knows := r.report(token)
	got, err := r.e.Extend(r.Context(), job.ExtendRequest{Leases: []job.Extension{{Token: token, Report: told}}})
	require.NoError(r, err)
	want := job.ExtendResult{Token: token, Status: job.StatusLost}
	id, _, _, _ := parseToken(token)
	if j := r.find(id); j != nil && j.token == token {
		j.ends = r.now.Add(j.length)
		knows(j)
		want.Status, want.ExpiresAt = job.StatusOK, job.At(j.ends)
		if j.cancelling {
			want.Status = job.StatusCancelled
		}
	}
	require.Equal(r, want, got.Results[0])
}

// anyJob draws the id of a job, or one that nobody has; half of the time of one for which
// something is planned.
func (r *trial) anyJob() int64 {
	var planned []int64
	for _, j := range r.jobs {
		if (j.state == job.Scheduled || j.state == job.Backoff) && !j.removed {
			planned = append(planned, j.id)
		}
	}
	if len(planned) > 0 && r.chance(50) {
		return planned[r.random.IntN(len(planned))]
	}
	return 1 + r.random.Int64N(r.nextID+2)
}

// limit bounds how many jobs of a queue run, by a set-up or by hand, or lets all run.
func (r *trial) limit() {
	const queue = "archive"
	most := r.random.IntN(4) // 0: no limit
	d := job.Defaults{}
	if most > 0 {
		d.Rules.MaxRunning = &most
	}
	if r.chance(50) {
		require.NoError(r, r.e.SetQueue(r.Context(), queue, d))
	} else {
		_, err := r.e.Load(r.Context(), job.SetupRequest{Setup: job.Setup{Queues: map[string]job.Defaults{queue: d}}, Adopt: true})
		require.NoError(r, err)
	}
	r.limits[queue] = most
}

// act does something to all jobs that a filter shows.
func (r *trial) act() {
	req := job.ActRequest{Action: pick(r, job.ActCancel, job.ActRequeue, job.ActDiscard, job.ActPurge), Filter: &job.Selection{Queues: []string{pick(r, "common", "berths", "archive")}}}
	req.Filter.States = map[string][]job.State{
		job.ActCancel: {pick(r, job.Ready, job.Scheduled, job.Running, job.Backoff)}, job.ActRequeue: {pick(r, job.Dead, job.Skipped)}, job.ActDiscard: {pick(r, job.Cancelled, job.Dead, job.Done)},
		job.ActPurge: {job.Held, job.Scheduled, job.Ready, job.Backoff},
	}[req.Action]
	if r.chance(50) {
		req.Filter.Tasks = []string{pick(r, "tide.predict", "manifest.check", "buoy.poll")}
	}
	var all []*mjob
	for _, j := range r.jobs {
		if !j.removed && slices.Contains(req.Filter.States, j.state) && req.Filter.Queues[0] == j.queue && (req.Filter.Tasks == nil || req.Filter.Tasks[0] == j.task) {
			all = append(all, j)
		}
	}
	if len(all) > 50 {
		return // more than one slice
	}
	o, err := r.e.Act(r.Context(), req)
	if len(all) == 0 {
		require.ErrorContains(r, err, "no job matches")
		return
	}
	require.NoError(r, err)
	refused := 0
	for _, j := range all {
		switch req.Action {
		case job.ActCancel:
			if j.state == job.Running {
				j.cancelling = true
			} else {
				j.finish(job.Cancelled, job.Asked)
			}
		case job.ActRequeue:
			if r.earlier(j.task, j.key, j.dedupe, j.id) != nil {
				refused++
				continue
			}
			r.anew(j)
			r.place(j)
		default:
			j.removed, j.removedAt, j.removedBy = true, r.now, o.ID
		}
	}
	require.Equal(r, []any{int64(len(all)), "exact", int64(len(all) - refused), int64(refused)}, []any{o.Matched, o.MatchedIs, o.Changed, o.RefusedCount}, "%s of %v", req.Action, *req.Filter)
	if job.Removes(req.Action) {
		r.removals = append(r.removals, mremoval{o.ID, r.now})
	}
}

// undo takes back what an operation has removed, where it still can.
func (r *trial) undo() {
	if len(r.removals) == 0 {
		return
	}
	i := r.random.IntN(len(r.removals))
	gone := r.removals[i]
	r.removals = slices.Delete(r.removals, i, i+1)
	_, err := r.e.UndoOperation(r.Context(), gone.operation)
	if r.now.Sub(gone.at) >= restorableFor {
		require.ErrorContains(r, err, "could be undone until")
		return
	}
	require.NoError(r, err)
	for _, j := range r.jobs {
		if !j.removed || j.removedBy != gone.operation {
			continue
		}
		if j.removed = false; !j.state.Finished() && j.state != job.Backoff {
			r.place(j)
		}
	}
	r.happen() // what was due meanwhile
}

// anew gives a finished job a new round.
func (r *trial) anew(j *mjob) {
	j.round++
	j.tries, j.reason, j.startedAt, j.cancelling, j.rank = 0, "", time.Time{}, false, 0
	j.runAt, j.result = 0, ""
}

func (r *trial) cancel() {
	id := r.anyJob()
	got, err := r.e.Cancel(r.Context(), id)
	j := r.find(id)
	switch {
	case j == nil:
		require.ErrorContains(r, err, "there is no job")
		return
	case j.state.Finished():
		require.ErrorContains(r, err, "already")
		return
	case j.state == job.Running:
		j.cancelling = true
	default:
		j.finish(job.Cancelled, job.Asked)
	}
	require.NoError(r, err)
	r.same(j, got)
}

func (r *trial) requeue() {
	id := r.anyJob()
	var how Requeuing
	if r.chance(30) {
		how.Payload = json.RawMessage(`{"corrected":12345678901234567890}`)
	}
	got, err := r.e.Requeue(r.Context(), id, how)
	j := r.find(id)
	switch {
	case j == nil:
		require.ErrorContains(r, err, "there is no job")
		return
	case !j.state.Finished():
		require.ErrorContains(r, err, "only a finished job")
		return
	case r.earlier(j.task, j.key, j.dedupe, j.id) != nil:
		require.ErrorContains(r, err, "may not stand beside")
		return
	}
	require.NoError(r, err)
	r.anew(j)
	if how.Payload != nil {
		j.payload = string(how.Payload)
	}
	r.replaced(j, got)
}

func (r *trial) startNow() {
	id := r.anyJob()
	got, err := r.e.StartNow(r.Context(), id)
	j := r.find(id)
	switch {
	case j == nil:
		require.ErrorContains(r, err, "there is no job")
		return
	case j.state != job.Scheduled && j.state != job.Backoff:
		require.ErrorContains(r, err, "can be started now")
		return
	}
	require.NoError(r, err)
	j.rank, j.nextAt = 0, time.Time{}
	r.replaced(j, got)
}

// replaced places a job as the engine has, and compares it unless it runs by now,
// in the same transaction.
func (r *trial) replaced(j *mjob, got job.Job) {
	r.place(j)
	served := r.settled()
	if len(served) == 0 {
		r.same(j, got)
	}
	r.served(served)
}

func (r *trial) patch() {
	id, s := r.anyJob(), r.spec()
	p := job.Patch{Spec: s, Named: pick(r, []string{"priority"}, []string{"priority", "queue"}, []string{"payload"}, []string{"run_at"}, []string{"key"})}
	if r.chance(50) {
		p.Spec.RunAt = job.At(r.now.Add(time.Duration(1+r.random.IntN(20_000)) * time.Millisecond))
	}
	got, err := r.e.Patch(r.Context(), id, p)
	j := r.find(id)
	switch {
	case j == nil:
		require.ErrorContains(r, err, "there is no job")
		return
	case j.state == job.Running:
		require.ErrorContains(r, err, "is running")
		return
	case p.Named[0] == "key", j.state.Finished() && p.Named[0] != "payload", j.state == job.Backoff && p.Named[0] == "run_at":
		require.ErrorContains(r, err, "cannot be changed")
		return
	}
	require.NoError(r, err)
	for _, name := range p.Named {
		switch name {
		case "priority":
			j.priority = job.DefaultPriority
			if s.Priority != nil {
				j.priority = int64(*s.Priority)
			}
		case "queue":
			if to := cmp.Or(s.Queue, job.DefaultQueue); to != j.queue {
				j.queue, j.rank = to, 0
			}
		case "payload":
			raw, _ := s.PayloadJSON()
			j.payload = string(raw)
		case "run_at":
			j.runAt = p.Spec.RunAt
		}
	}
	if j.state.Finished() || j.state == job.Backoff {
		r.same(j, got)
		return
	}
	j.nextAt = time.Time{}
	if j.runAt != 0 {
		j.nextAt = j.runAt.Go().Local()
	}
	r.replaced(j, got)
}

// remove deletes a job, or restores one that was deleted.
func (r *trial) remove() {
	id := r.anyJob()
	j := r.ever(id)
	if j != nil && j.removed {
		_, err := r.e.Restore(r.Context(), id)
		if r.now.Sub(j.removedAt) >= restorableFor {
			require.ErrorContains(r, err, "no removed job")
			return
		}
		require.NoError(r, err)
		j.removed = false
		return
	}
	_, err := r.e.Delete(r.Context(), id)
	switch {
	case j == nil:
		require.ErrorContains(r, err, "there is no job")
	case !j.state.Finished():
		require.ErrorContains(r, err, "only a finished job")
	default:
		require.NoError(r, err)
		j.removed, j.removedAt, j.removedBy = true, r.now, 0
	}
}

// restart closes the engine and opens its file anew: every live lease has its
// full length again.
func (r *trial) restart() {
	require.NoError(r, r.e.Close())
	for _, t := range r.parked {
		require.Error(r, (<-t.answer).err)
	}
	r.parked = nil
	r.open()
	for _, j := range r.jobs {
		j.ends = r.now.Add(j.length)
		j.released, j.releases = "", 0
		j.percent = -1 // not stored while it runs
	}
	r.turns = map[string]order.Turns{}
}

// pass lets time go by; everything that happens by itself happens at its moment.
func (r *trial) pass(d time.Duration) {
	end := time.Now().Add(d)
	for {
		at := r.next(end)
		for _, t := range r.parked {
			if t.until.Before(at) {
				at = t.until
			}
		}
		time.Sleep(time.Until(at))
		synctest.Wait()
		r.now = time.Now()
		r.happen()
		r.served(r.settled())
		r.parked = slices.DeleteFunc(r.parked, func(t *mtake) bool {
			if t.until.After(r.now) {
				return false
			}
			got := <-t.answer
			require.NoError(r, got.err)
			require.Empty(r, got.leases)
			return true
		})
		if !at.Before(end) {
			return
		}
	}
}

func (r *trial) same(want *mjob, got job.Job) {
	require.Equal(r,
		[]any{want.id, want.task, want.queue, want.state, want.reason, want.round, want.attempt, want.tries, job.At(want.nextAt), want.payload, want.cancelling},
		[]any{got.ID, got.Task, got.Queue, got.State, got.Reason, got.Round, got.Attempt, got.Tries, got.NextAt, string(got.Payload), got.CancelAskedAt != 0},
		"job %d", want.id)
}

// compare wants every job, every list and every count to be the model's.
func (r *trial) compare() {
	counts := map[string]map[job.State]int64{}
	keyed := map[string][]int64{}
	for _, j := range r.jobs {
		if counts[j.queue] == nil {
			counts[j.queue] = everyState()
		}
		if j.removed {
			continue
		}
		counts[j.queue][j.state]++
		if j.key != "" {
			keyed[j.key] = append(keyed[j.key], j.id)
		}
		if j.id > r.nextID-100 || r.chance(4) {
			got, err := r.e.Job(r.Context(), j.id)
			require.NoError(r, err)
			r.same(j, got)
			kept := min(len(j.attempts), 100)
			if j.state == job.Running {
				kept++
			}
			require.Len(r, got.Attempts, kept)
			r.sameReports(j, got)
		}
	}
	for name := range r.paused {
		require.Equal(r, r.paused[name], r.e.view.pauseOf(name).at != 0)
	}
	require.Equal(r, counts, r.e.Counts())
	r.sameCauses(pick(r, job.Dead, job.Backoff), counts)
	for key, ids := range keyed {
		slices.Reverse(ids)
		require.Equal(r, ids, r.listed(job.Filter{Key: key}), "jobs with key %s", key)
	}
	queue, state := pick(r, "common", "berths"), pick(r, job.Ready, job.Done, job.Dead, job.Backoff)
	var want []int64
	for _, j := range r.jobs {
		if j.queue == queue && j.state == state && !j.removed {
			want = append(want, j.id)
		}
	}
	require.Equal(r, want, r.listed(job.Filter{Queues: []string{queue}, States: []job.State{state}, Order: job.OldestFirst}))
}

// sameCauses wants every job that is dead or in backoff to be counted once, under a
// cause, and to be found by it.
func (r *trial) sameCauses(state job.State, counts map[string]map[job.State]int64) {
	causes, err := r.e.Causes(r.Context(), job.CauseFilter{State: state})
	require.NoError(r, err)
	byQueue := map[string]int64{}
	for _, c := range causes {
		found := r.listed(job.Filter{Cause: c.ID, States: []job.State{state}})
		require.Len(r, found, int(c.Count), "%s jobs of the cause %s", state, c.Template)
		for _, b := range c.By {
			byQueue[b.Queue] += b.Count
		}
	}
	for queue, n := range counts {
		require.Equal(r, n[state], byQueue[queue], "%s jobs of queue %s under causes", state, queue)
	}
}

// sameReports wants what handlers told of a job, and its result, to be kept as long
// as they should be.
func (r *trial) sameReports(j *mjob, got job.Job) {
	require.Equal(r, len(j.labels), len(got.Labels), "labels of job %d", j.id)
	for name, value := range j.labels {
		require.Equal(r, value, got.Labels[name])
	}
	if j.state == job.Running {
		require.Equal(r, j.percent >= 0, got.Progress != nil, "job %d", j.id)
		if got.Progress != nil {
			require.Equal(r, j.percent, got.Progress.Percent)
		}
	}
	if len(j.attempts) <= 100 {
		log, err := r.e.Log(r.Context(), j.id, LogQuery{})
		require.NoError(r, err)
		require.Len(r, log.Lines, j.lines, "lines of job %d", j.id)
	}
	want := j.result
	if !j.resultUntil.IsZero() && !r.now.Before(j.resultUntil) {
		want = ""
	}
	if j.state == job.Done {
		require.Equal(r, want, string(got.Result), "result of job %d", j.id)
	}
}

// listed reads a list page by page.
func (r *trial) listed(f job.Filter) (ids []int64) {
	f.Limit = 23
	for {
		page, err := r.e.Jobs(r.Context(), f)
		require.NoError(r, err)
		for _, j := range page.Jobs {
			ids = append(ids, j.ID)
		}
		if f.Cursor = page.NextCursor; f.Cursor == "" {
			return ids
		}
	}
}
