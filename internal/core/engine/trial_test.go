package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/limit"
	"humblemule.example/internal/core/memory"
	"humblemule.example/internal/core/order"
	"humblemule.example/internal/core/store"
	"humblemule.example/job"
)

var (
	modelCommands = flag.Int("model.commands", 0, "how many random commands the model test runs; 0 means as many as fit the run")
	modelSeed     = flag.Uint64("model.seed", 6853, "draws the model test's commands")
)

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
	path, exports := filepath.Join(t.TempDir(), "model.db"), []trialExport(nil)
	synctest.Test(t, func(t *testing.T) {
		r := &trial{T: t, model: newModel(), path: path, random: rand.New(rand.NewPCG(*modelSeed, 0))}
		r.open()
		defer func() { require.NoError(t, r.e.Close()) }()
		r.now = time.Now()
		r.ageing(time.Minute)
		twice := 2
		lasting := job.Spec{Task: "buoy.poll", MaxAttempts: &twice, Retry: &job.Retry{First: job.Duration(9 * time.Second)}}
		r.plan("buoys", 211*time.Second, api.RunsAlso, job.Spec{Task: "buoy.poll", Queue: "archive", Payload: job.JSON("planned")})
		lasting.Queue, lasting.Lane = "berths", "b"
		r.plan("silt", 17*time.Second, api.RunWaits, lasting)
		lasting.Queue, lasting.Lane = "common", ""
		r.plan("tides", 13*time.Second, api.RunSkips, lasting)
		commands := cmp.Or(*modelCommands, rounds(10_000, 1000))
		for n := range commands {
			r.step()
			require.Equal(r, r.now, time.Now(), "commands come at whole milliseconds")
			if n%100 == 0 || n == commands-1 {
				r.compare()
			}
			if n%100 == 0 || n > 500 && n <= 500+rounds(300, 50) {
				r.sameTurns()
				memoryAgrees(r, r.e)
			}
			if n%(commands/4) == commands/8 {
				head, lines := exportOf(r, r.e)
				exports = append(exports, trialExport{head, lines, time.Now()})
			}
			if t.Failed() {
				t.Fatalf("after %d commands of seed %d", n+1, *modelSeed)
			}
		}
		for _, p := range r.parked {
			p.until = time.Time{}
		}
	})
	for i, x := range exports {
		x.imported(t, []string{api.IDsNew, api.IDsKeep}[i%2], 9+i*37)
	}
}

func (r *trial) open() {
	e, err := Open(r.path, Options{Draw: func() float64 { return 0.5 }, Log: slog.New(slog.DiscardHandler)})
	require.NoError(r, err)
	r.e = e
}

func (r *trial) chance(percent int) bool { return r.random.IntN(100) < percent }

func pick[T any](r *trial, all ...T) T { return all[r.random.IntN(len(all))] }

// follow follows a label, or one no longer; what is counted is compared with the rows.
func (r *trial) follow() {
	name := pick(r, "acme", "heron-lines")
	if r.chance(30) {
		if err := r.e.Unfollow(context.Background(), name); err != nil {
			require.ErrorIs(r, err, job.ErrNotFound)
		}
		return
	}
	require.NoError(r, r.e.Follow(context.Background(), name, api.NewFollow{Name: pick(r, "berth", "ship"), Value: pick(r, "3", "heron")}))
}

func (r *trial) step() {
	if r.random.IntN(150) == 0 {
		r.follow()
	}
	switch n := r.random.IntN(100); {
	case n < 26:
		r.enqueueSome()
	case n < 50:
		r.take()
	case n < 72:
		for range 1 + r.random.IntN(3) {
			r.settle()
			r.serve(r.settled())
		}
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
		pick(r, r.pause, r.ask)()
	case n < 96:
		pick(r, r.setQueue, r.setQueue, r.setTask)()
	case n < 97:
		pick(r, r.act, r.act, r.undo)()
		r.serve(r.settled())
		r.until(time.Now().Truncate(time.Millisecond).Add(2 * time.Millisecond)) // it took a while
	case n < 98:
		pick(r, r.endLease, r.passLane, r.runNow)()
	default:
		r.pass(time.Duration(1+r.random.IntN(pick(r, 50, 3000, 60_000))) * time.Millisecond)
	}
	r.serve(r.settled())
}

func (r *trial) spec() job.Spec {
	s := job.Spec{Task: pick(r, "tide.predict", "manifest.check", "buoy.poll"), Queue: pick(r, "", "berths", "archive", "bulletins"), Payload: job.JSON(r.random.IntN(1000)), Lane: pick(r, "", "", "", "a", "b"), Owner: pick(r, "", "Marsh", "Gull")}
	if r.chance(5) {
		s.Payload = job.JSON(make([]int, 400)) // a long one, kept beside the row
	}
	if r.chance(40) {
		p := r.random.IntN(10)
		s.Priority = &p
	}
	if r.chance(20) {
		s.Delay = job.Duration(time.Duration(1+r.random.IntN(20_000)) * time.Millisecond)
	}
	if r.chance(10) {
		s.StartBy = job.At(r.now.Add(s.Delay.Go() + time.Duration(1+r.random.IntN(40_000))*time.Millisecond))
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
		require.Equal(r, []any{want.id, want.state, before == r.nextID}, []any{got.ID, got.State, got.Duplicate})
		if !want.removed {
			require.Equal(r, []any{want.queue, job.At(want.nextAt)}, []any{got.Queue, got.NextAt})
		}
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

func (r *trial) request(worker string) (api.LeaseRequest, *mtake) {
	req := api.LeaseRequest{
		Worker: worker, Queues: pick(r, []string{"common"}, []string{"berths", "bulletins"}, []string{"archive", "berths", "common"}, []string{"bulletins", "archive"}),
		Tasks: pick(r, nil, []string{"tide.predict"}, []string{"tide.predict", "manifest.check", "unheard.of"}),
		Limit: 1 + r.random.IntN(5), Lease: job.Duration(time.Duration(1000+r.random.IntN(60_000)) * time.Millisecond),
	}
	want := &mtake{worker: worker, queues: req.Queues, tasks: req.Tasks, limit: req.Limit, length: req.Lease.Go()}
	if r.chance(30) {
		req.Ahead = 1 + r.random.IntN(3)
		want.limit, want.ahead = want.limit+req.Ahead, req.Ahead
	}
	if r.chance(30) {
		req.Share, req.Weights = api.ShareByWeight, map[string]int{req.Queues[len(req.Queues)-1]: 1 + r.random.IntN(4)}
		want.weights = req.Weights
	}
	return req, want
}

// takeNamed asks for one job by its id.
func (r *trial) takeNamed() {
	id := r.anyJob()
	req := api.LeaseRequest{Worker: "w2", Job: id, Limit: 1, Lease: job.Duration(time.Minute)}
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
	case !r.mayStart(j.queue), r.taskFull(j.task):
		require.ErrorContains(r, err, "cannot be taken now")
		return
	}
	require.NoError(r, err)
	r.deal([]*mtake{want})
	r.leased(want, got.Leases)
}

// pause pauses a queue, or resumes one.
func (r *trial) pause() {
	q := pick(r, "common", "berths", "archive", "unplaced")
	do, to := r.e.PauseQueue, true
	if r.chance(65) {
		do, to = r.e.ResumeQueue, false
	}
	err := do(r.ctx("/v1/queues", fmt.Sprint("pause", r.random.Uint64()), to), q)
	if !r.exists(q) {
		require.ErrorContains(r, err, "there is no queue")
		return
	}
	require.NoError(r, err)
	r.paused[q] = to
	r.serve(r.settled())
}

// ask drains a worker, whose parked takes are then answered, or lets it run.
func (r *trial) ask() {
	uid, want := pick(r, "w1", "w2"), api.WantRun
	if r.chance(35) {
		want = api.WantDrain
	}
	_, err := r.e.PutWorker(r.Context(), api.Worker{ID: uid, Queues: []string{"common"}})
	require.NoError(r, err)
	got, err := r.e.AskWorker(r.Context(), uid, want)
	require.NoError(r, err)
	require.Equal(r, want, got.Wanted)
	r.drained[uid] = want == api.WantDrain
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
func (r *trial) report(token string) (told api.Report, knows func(*mjob)) {
	if r.chance(50) {
		return told, func(*mjob) {}
	}
	id, _, _, _ := memory.ParseToken(token)
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
func (r *trial) leased(want *mtake, got []api.Lease) {
	require.Equal(r, want.got, idsOf(got), "jobs leased, in order")
	for _, l := range got {
		j := r.find(l.Job.ID)
		j.token = l.Token
		r.tokens = append(r.tokens, l.Token)
		require.Equal(r, []any{j.task, j.queue, j.attempt, j.tries, j.most, j.round, j.payload}, []any{l.Job.Task, l.Job.Queue, l.Job.Attempt, l.Job.Tries, l.Job.MaxAttempts, l.Job.Round, string(l.Job.Payload)})
		require.Equal(r, job.At(j.ends), l.ExpiresAt)
	}
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

func (r *trial) serve(takes []*mtake) {
	for _, t := range takes {
		got := <-t.answer
		require.NoError(r, got.err)
		r.leased(t, got.leases)
	}
}

// circle takes a job and gives it back, again and again: the third time it waits.
func (r *trial) circle() {
	for range 4 {
		req := api.LeaseRequest{Worker: "w1", Queues: []string{"berths"}, Limit: 1, Lease: job.Duration(time.Minute)}
		want := &mtake{worker: "w1", queues: req.Queues, limit: 1, length: time.Minute}
		got, err := r.e.Lease(r.Context(), req)
		require.NoError(r, err)
		r.deal([]*mtake{want})
		r.leased(want, got.Leases)
		for _, l := range got.Leases {
			r.settleAs(api.Settlement{Token: l.Token, Outcome: job.OutcomeReleased})
		}
		r.serve(r.settled())
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
	s := api.Settlement{Token: r.token(), Outcome: pick(r, job.OutcomeDone, job.OutcomeDone, job.OutcomeFailed, job.OutcomeFailed, job.OutcomeGiveUp, job.OutcomeSkipped, job.OutcomePostponed, job.OutcomeReleased)}
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
		s.Enqueue = []api.FollowUp{{Spec: r.spec()}}
	}
	if id, _, _, _ := memory.ParseToken(s.Token); s.Outcome == job.OutcomeDone {
		s.Result = json.RawMessage(fmt.Sprint(id))
	}
	if r.chance(5) {
		s.Outcome = "finished"
	}
	var knows func(*mjob)
	s.Report, knows = r.report(s.Token)
	id, _, _, _ := memory.ParseToken(s.Token)
	if j := r.find(id); j != nil && j.token == s.Token && s.Outcome != "finished" {
		knows(j)
	}
	r.settleAs(s)
}

func (r *trial) settleAs(s api.Settlement) {
	got, err := r.e.Settle(r.Context(), []api.Settlement{s})
	require.NoError(r, err)
	require.Equal(r, r.wantSettled(s), got[0].Status, "%+v", s)
	id, _, _, _ := memory.ParseToken(s.Token)
	if j := r.find(id); j != nil && got[0].Status == api.StatusOK {
		require.Equal(r, []any{j.state, job.At(j.nextAt)}, []any{got[0].State, got[0].NextAt})
	}
}

func (r *trial) wantSettled(s api.Settlement) api.Status {
	id, _, _, _ := memory.ParseToken(s.Token)
	j := r.ever(id) // what was removed is known until it is swept
	switch {
	case s.Outcome == "finished" && j != nil && !j.removed && j.token == s.Token:
		return api.StatusRefused
	case j == nil, j.removed && r.now.Sub(j.removedAt) >= memory.RestorableFor:
		return api.StatusLost
	case j.token == s.Token:
		r.end(j, s.Outcome, s.Delay.Go(), false)
		for _, follow := range s.Enqueue {
			r.enqueue(follow.Spec)
		}
		return api.StatusOK
	}
	for _, a := range j.attempts {
		if a.token == s.Token && a.outcome == s.Outcome && !a.lost {
			return api.StatusOK
		}
	}
	return api.StatusLost
}

func (r *trial) extend() {
	token := r.token()
	told, knows := r.report(token)
	got, err := r.e.Extend(r.Context(), api.ExtendRequest{Leases: []api.Extension{{Token: token, Report: told}}})
	require.NoError(r, err)
	want := api.ExtendResult{Token: token, Status: api.StatusLost}
	id, _, _, _ := memory.ParseToken(token)
	if j := r.find(id); j != nil && j.token == token {
		j.ends = r.now.Add(j.length)
		knows(j)
		want.Status, want.ExpiresAt = api.StatusOK, job.At(j.ends)
		if j.cancelling {
			want.Status = api.StatusCancelled
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

// plan sets a schedule, a little later than the one before.
func (r *trial) plan(name string, every time.Duration, rule string, spec job.Spec) {
	r.pass(333 * time.Millisecond)
	told, err := r.e.SetSchedule(r.Context(), name, api.Schedule{Every: job.Duration(every), IfStillRunning: rule, Job: spec})
	require.NoError(r, err)
	r.schedules = append(r.schedules, &mschedule{name: name, every: every, rule: rule, spec: spec, next: told.Next[0].UTC.Go().Local()})
}

// runNow asks for a run of a schedule beside its times.
func (r *trial) runNow() {
	s := pick(r, r.schedules...)
	_, err := r.e.RunSchedule(r.Context(), s.name)
	if r.run(s) {
		require.NoError(r, err)
	} else {
		require.ErrorContains(r, err, "is unfinished")
	}
}

func (r *trial) ageing(boost time.Duration) {
	r.makeSo("queue", "bulletins", api.Defaults{Rules: api.Rules{Order: api.OrderAgeing, Boost: job.Duration(boost)}})
}

// setQueue draws what holds for a queue: limits, what lanes and owners mean, and defaults
// of its jobs.
func (r *trial) setQueue() {
	queue := pick(r, "archive", "berths", "bulletins")
	var d api.Defaults
	switch queue {
	case "archive":
		if r.chance(60) {
			most := 1 + r.random.IntN(3)
			d.MaxRunning = &most
		}
		if r.chance(40) {
			burst := 1 + r.random.IntN(3)
			d.Rate = &api.Rate{PerSecond: pick(r, 0.25, 0.5, 5), Burst: &burst}
		}
	case "berths":
		if d.LaneOnBackoff, d.LaneOnDead = pick(r, api.LaneWaits, api.LanePasses), pick(r, api.LanePasses, api.LaneStops, api.LaneStops); r.chance(60) {
			d.Turns, d.OwnerWeights = api.TurnsOwner, map[string]int{"Marsh": 1 + r.random.IntN(3)}
		}
	case "bulletins":
		if r.chance(80) {
			d = r.queues[queue]
		} else {
			d.Order, d.Boost = api.OrderAgeing, job.Duration(pick(r, time.Second, time.Minute))
		}
	}
	old, rules := r.rules(queue), d.Rules.WithDefaults()
	if !old.SameOrder(&rules) && slices.ContainsFunc(r.parked, func(t *mtake) bool { return slices.Contains(t.queues, queue) }) {
		return // in the moment until all have their new places nobody must be served
	}
	r.setDefaults(&d)
	r.makeSo("queue", queue, d)
	r.serve(r.settled())
	if !old.SameOrder(&rules) {
		r.pass(5 * time.Millisecond)
	}
}

func (r *trial) setTask() {
	var d api.Defaults
	r.setDefaults(&d)
	if r.chance(20) {
		d.Queue = pick(r, "common", "archive", "bulletins")
	}
	if r.chance(30) {
		most := 2 + r.random.IntN(4)
		d.MaxRunning = &most
	}
	r.makeSo("task", pick(r, "tide.predict", "manifest.check"), d)
}

func (r *trial) setDefaults(d *api.Defaults) {
	most, priority := 1+r.random.IntN(5), r.random.IntN(10)
	if d.MaxAttempts, d.Priority, d.Retry, d.KeepResult = nil, nil, nil, nil; r.chance(30) {
		d.MaxAttempts = &most
	}
	if r.chance(30) {
		d.Priority = &priority
	}
	if r.chance(30) {
		d.Retry = &job.Retry{First: job.Duration(time.Duration(1+r.random.IntN(5000)) * time.Millisecond), GiveUpAfter: pick(r, 0, job.Duration(10*time.Second))}
	}
	if r.chance(30) {
		keep := pick(r, 0, job.Duration(time.Minute))
		d.KeepResult = &keep
	}
}

// makeSo sets a queue or a task by hand, or by a set-up that says it with all else.
func (r *trial) makeSo(what, name string, d api.Defaults) {
	switch {
	case r.chance(50):
		set := r.e.SetQueue
		if what == "task" {
			set = r.e.SetTask
		}
		require.NoError(r, set(r.Context(), name, d))
	default:
		all := api.Setup{Queues: maps.Clone(r.queues), Tasks: maps.Clone(r.tasks)}
		if what == "task" {
			all.Tasks[name] = d
		} else {
			all.Queues[name] = d
		}
		_, err := r.e.Load(r.Context(), api.SetupRequest{Setup: all, Adopt: true})
		require.NoError(r, err)
	}
	if what == "task" {
		r.tasks[name] = d
	} else {
		r.set(name, d)
	}
}

// endLease takes a running job away from its worker.
func (r *trial) endLease() {
	id, freeLane := r.anyJob(), r.chance(30)
	if running := r.all(func(j *mjob) bool { return j.state == job.Running }); len(running) > 0 && r.chance(80) {
		id = pick(r, running...).id
	}
	got, err := r.e.EndLease(r.Context(), id, freeLane)
	j := r.find(id)
	switch {
	case j == nil:
		require.ErrorContains(r, err, "there is no job")
		return
	case j.state != job.Running:
		require.ErrorContains(r, err, "only a running job")
		return
	}
	require.NoError(r, err)
	r.takeBack(j, freeLane)
	r.replaced(j, got)
}

// passLane lets those go on that wait behind a job that has a lane and does not run.
func (r *trial) passLane() {
	at := mlane{"berths", pick(r, "a", "b")}
	err := r.e.PassLane(r.Context(), at.queue, at.lane)
	switch j := r.find(r.lanes[at]); {
	case !r.exists(at.queue):
		require.ErrorContains(r, err, "there is no queue")
	case j == nil:
		require.ErrorContains(r, err, "nothing waits in lane")
	case j.state != job.Dead && j.state != job.Backoff:
		require.ErrorContains(r, err, "goes on by itself")
	default:
		require.NoError(r, err)
		r.passOn(at)
	}
}

// act does something to all jobs that a filter shows.
func (r *trial) act() {
	req := api.ActRequest{Action: pick(r, api.ActCancel, api.ActRequeue, api.ActDiscard, api.ActPurge), Filter: &api.Selection{Queues: []string{pick(r, "common", "berths", "archive", "bulletins")}}}
	req.Filter.States = map[string][]job.State{
		api.ActCancel: {pick(r, job.Ready, job.Held, job.Scheduled, job.Running, job.Backoff)}, api.ActRequeue: {pick(r, job.Dead, job.Skipped)}, api.ActDiscard: {pick(r, job.Cancelled, job.Dead, job.Done)},
		api.ActPurge: {job.Held, job.Scheduled, job.Ready, job.Backoff},
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
	const takes = 5 * time.Millisecond
	if len(all) > 50 || r.next(r.now.Add(takes)).Before(r.now.Add(takes)) {
		return // more than one slice, or something else happens meanwhile
	}
	o, err := r.e.Act(r.Context(), req)
	if len(all) == 0 {
		require.ErrorContains(r, err, "no job matches")
		return
	}
	require.NoError(r, err)
	refused := 0
	r.now = r.now.Add(time.Millisecond) // what it brings about comes after its beginning
	for _, j := range all {
		switch req.Action {
		case api.ActCancel:
			if j.state == job.Running {
				j.cancelling = true
			} else {
				r.finish(j, job.Cancelled, job.Asked)
			}
		case api.ActRequeue:
			if r.earlier(j.task, j.key, j.dedupe, j.id) != nil {
				refused++
				continue
			}
			r.anew(j)
		default:
			r.model.remove(j, o.ID)
		}
	}
	require.Equal(r, []any{int64(len(all)), "exact", int64(len(all) - refused), int64(refused)}, []any{o.Matched, o.MatchedIs, o.Changed, o.RefusedCount}, "%s of %v", req.Action, *req.Filter)
	if req.Action == api.ActDiscard || req.Action == api.ActPurge {
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
	if r.now.Sub(gone.at) >= memory.RestorableFor {
		require.ErrorContains(r, err, "could be undone until")
		return
	}
	require.NoError(r, err)
	for _, j := range r.jobs {
		if !j.removed || j.removedBy != gone.operation {
			continue
		}
		r.bringBack(j)
	}
	r.happen()
}

func (r *trial) cancel() {
	id := r.anyJob()
	got, err := r.e.Cancel(r.Context(), id)
	j := r.find(id)
	switch {
	case j == nil:
		require.ErrorContains(r, err, "there is no job")
		return
	case j.state == job.Cancelled: // again
		require.NoError(r, err)
		r.same(j, got)
		return
	case j.state.Finished():
		require.ErrorContains(r, err, "already")
		return
	case j.state == job.Running:
		j.cancelling = true
	default:
		r.finish(j, job.Cancelled, job.Asked)
	}
	require.NoError(r, err)
	r.same(j, got)
}

func (r *trial) requeue() {
	id := r.anyJob()
	var how api.Requeue
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
		require.ErrorContains(r, err, "cannot exist beside")
		return
	}
	require.NoError(r, err)
	if r.anew(j); how.Payload != nil {
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
	r.place(j)
	r.replaced(j, got)
}

// replaced compares a job that has a new place, unless it runs by now, in the same
// transaction.
func (r *trial) replaced(j *mjob, got job.Job) {
	served := r.settled()
	if len(served) == 0 {
		r.same(j, got)
	}
	r.serve(served)
}

func (r *trial) patch() {
	id, s := r.anyJob(), r.spec()
	p := job.Patch{Spec: s, Named: pick(r, []string{"priority"}, []string{"priority", "queue"}, []string{"payload"}, []string{"run_at"}, []string{"lane", "owner"}, []string{"max_attempts"}, []string{"key"})}
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
	if p.Named[0] == "run_at" && !j.startBy.IsZero() && p.Spec.RunAt.Go().After(j.startBy) {
		require.ErrorContains(r, err, "start_by")
		return
	}
	require.NoError(r, err)
	if j.state.Finished() {
		j.edit(p)
		r.same(j, got)
		return
	}
	before, priority := mlane{j.queue, j.lane}, j.priority
	to := *j
	to.edit(p)
	if slices.Contains(p.Named, "queue") {
		to.queue = r.queueFor(j.task, s.Queue)
	}
	if before != (mlane{to.queue, to.lane}) {
		j.state = job.Unplaced // out of its order while the lane goes on
		r.leaveLane(j)
		to.rank = 0
	}
	*j = to
	if slices.Contains(p.Named, "priority") {
		j.priority = r.priorityFor(j, s.Priority)
	}
	if j.priority != priority && r.rules(j.queue).Order == api.OrderAgeing {
		j.rank = 0
	}
	r.resolve(j)
	if j.state == job.Backoff {
		if r.left(j); j.giveUpAfter > 0 && j.nextAt.After(j.startedAt.Add(j.giveUpAfter)) {
			r.finish(j, job.Dead, job.TooOld)
		}
		r.same(j, got)
		return
	}
	j.nextAt = time.Time{}
	if j.runAt != 0 {
		j.nextAt = j.runAt.Go().Local()
	}
	r.place(j)
	r.replaced(j, got)
}

// edit lays a patch over a job, all but its queue and its priority.
func (j *mjob) edit(p job.Patch) {
	for _, name := range p.Named {
		switch name {
		case "payload":
			j.payload = string(p.Spec.Payload)
		case "run_at":
			j.runAt = p.Spec.RunAt
		case "lane":
			j.lane = p.Spec.Lane
		case "owner":
			j.owner = p.Spec.Owner
		case "max_attempts":
			j.own.MaxAttempts = p.Spec.MaxAttempts
		}
	}
}

// remove deletes a job, or restores one that was deleted.
func (r *trial) remove() {
	id := r.anyJob()
	j := r.ever(id)
	if j != nil && j.removed {
		_, err := r.e.Undiscard(r.Context(), id)
		if r.now.Sub(j.removedAt) >= memory.RestorableFor {
			require.ErrorContains(r, err, "is not among the removed jobs")
			return
		}
		require.NoError(r, err)
		r.bringBack(j)
		r.happen() // it may be due by now
		return
	}
	_, err := r.e.Discard(r.Context(), id)
	switch {
	case j == nil:
		require.ErrorContains(r, err, "there is no job")
	case !j.state.Finished():
		require.ErrorContains(r, err, "only a finished job")
	default:
		require.NoError(r, err)
		r.model.remove(j, 0)
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
	r.turns, r.served, r.buckets = map[string]order.Turns{}, map[mlevel]int64{}, map[string]*limit.Bucket{}
	for queue := range r.queues {
		r.look(queue)
	}
}

// pass lets time go by.
func (r *trial) pass(d time.Duration) { r.until(r.now.Add(d)) }

// until lets time go by to a whole millisecond; everything that happens by itself happens at
// its moment. A little later all of that is done, and then the next command comes.
func (r *trial) until(end time.Time) {
	const little = 50 * time.Microsecond
	for {
		r.now = r.next(end.Add(1))
		if r.now.After(end) {
			break
		}
		if r.now.Equal(end) {
			end = end.Add(time.Millisecond)
		}
		time.Sleep(time.Until(r.now.Add(little)))
		synctest.Wait()
		r.happen()
		r.serve(r.settled())
		r.parked = slices.DeleteFunc(r.parked, func(t *mtake) bool {
			if t.until.After(r.now) {
				return false
			}
			got := <-t.answer
			require.NoError(r, got.err)
			require.Empty(r, got.leases)
			return true
		})
	}
	r.now = end
	time.Sleep(time.Until(end))
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
	for name := range r.queues {
		counts[name] = noJobs()
	}
	for _, j := range r.jobs {
		if counts[j.queue] == nil {
			counts[j.queue] = noJobs()
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
	queues, err := r.e.Queues(r.Context())
	require.NoError(r, err)
	for name := range r.paused {
		require.Equal(r, r.paused[name], slices.ContainsFunc(queues, func(q api.Queue) bool { return q.Name == name && q.Paused }))
	}
	require.Equal(r, counts, r.e.Counts(r.Context()))
	tablesAgree(r.T, r.e)
	for _, s := range r.schedules {
		got, err := r.e.Schedule(r.Context(), s.name)
		require.NoError(r, err)
		require.Equal(r, []any{s.waiting, s.failed, job.At(s.doneAt)}, []any{got.Waiting, got.FailedInARow, got.LastDoneAt}, "schedule %s", s.name)
	}
	r.sameCauses(pick(r, job.Dead, job.Backoff), counts)
	for key, ids := range keyed {
		slices.Reverse(ids)
		require.Equal(r, ids, r.listed(api.Filter{Key: key}), "jobs with key %s", key)
	}
	queue, state := pick(r, "common", "berths"), pick(r, job.Ready, job.Done, job.Dead, job.Backoff)
	var want []int64
	for _, j := range r.jobs {
		if j.queue == queue && j.state == state && !j.removed {
			want = append(want, j.id)
		}
	}
	require.Equal(r, want, r.listed(api.Filter{Queues: []string{queue}, States: []job.State{state}, Order: api.OldestFirst}))
}

// sameTurns wants the owners who wait to have the places of the model.
func (r *trial) sameTurns() {
	db, err := store.Look(r.path)
	require.NoError(r, err)
	defer db.Close()
	rows, err := db.Query(`SELECT q.name, k.name, t.level, t.owner, t.tag FROM turns t JOIN queues q ON q.id = t.queue JOIN tasks k ON k.id = t.task WHERE t.active = 1`)
	require.NoError(r, err)
	defer rows.Close()
	for rows.Next() {
		var at mturn
		var tag int64
		require.NoError(r, rows.Scan(&at.queue, &at.task, &at.level, &at.owner, &tag))
		require.Equal(r, r.tags[at], tag, "the turn of %v", at)
	}
	require.NoError(r, rows.Err())
}

// sameCauses wants every job that is dead or in backoff to be counted once, under a
// cause, and to be found by it.
func (r *trial) sameCauses(state job.State, counts map[string]map[job.State]int64) {
	causes, err := r.e.Causes(r.Context(), api.CauseFilter{State: state})
	require.NoError(r, err)
	byQueue := map[string]int64{}
	for _, c := range causes {
		found := r.listed(api.Filter{Cause: c.ID, States: []job.State{state}})
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
func (r *trial) listed(f api.Filter) (ids []int64) {
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
