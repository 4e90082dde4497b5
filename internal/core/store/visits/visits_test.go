package visits_test

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/core/engine"
	"humblemule.example/internal/core/store"
	"humblemule.example/internal/core/store/visits"
	"humblemule.example/job"
)

func TestMain(m *testing.M) {
	visits.Begin()
	os.Exit(m.Run())
}

// harbour is an engine that is filled, and used.
type harbour struct {
	*testing.T
	e    *engine.Engine
	path string
	n    int
	away atomic.Int64
}

func (h *harbour) open() {
	var err error
	h.e, err = engine.Open(h.path, engine.Options{Log: slog.New(slog.DiscardHandler), MayCall: func(string) error { return nil }, Wall: func() time.Time { return time.Now().Add(time.Duration(h.away.Load())) }})
	require.NoError(h, err)
}

func (h *harbour) must(err error) {
	h.Helper()
	require.NoError(h, err)
}

// enqueue enqueues n jobs, each as spec makes it.
func (h *harbour) enqueue(n int, spec func(i int) job.Spec) (ids []int64) {
	for n > 0 {
		specs := make([]job.Spec, min(n, 5000))
		for i := range specs {
			h.n++
			specs[i] = spec(h.n)
		}
		jobs, err := h.e.EnqueueMany(context.Background(), specs, func(int) string { return "" })
		h.must(err)
		for _, j := range jobs {
			ids = append(ids, j.ID)
		}
		n -= len(specs)
	}
	return ids
}

func (h *harbour) take(queue string, n int) (all []api.Lease) {
	for len(all) < n {
		a, err := h.e.Lease(context.Background(), api.LeaseRequest{Worker: "crane", Queues: []string{queue}, Limit: min(n-len(all), 500)})
		h.must(err)
		if len(a.Leases) == 0 {
			return all
		}
		all = append(all, a.Leases...)
	}
	return all
}

func (h *harbour) settle(leases []api.Lease, as func(i int) api.Settlement) {
	for part := range slices.Chunk(leases, 500) {
		items := make([]api.Settlement, len(part))
		for i, l := range part {
			items[i] = as(i)
			items[i].Token = l.Token
		}
		_, err := h.e.Settle(context.Background(), items)
		h.must(err)
	}
}

func done(int) api.Settlement { return api.Settlement{Outcome: job.OutcomeDone} }

func died(i int) api.Settlement {
	return api.Settlement{Outcome: job.OutcomeGiveUp, Error: &job.Failure{Type: "silt", Message: fmt.Sprintf("berth %d is too shallow", i)}}
}

func failed(i int) api.Settlement {
	return api.Settlement{Outcome: job.OutcomeFailed, Error: &job.Failure{Type: "silt", Message: fmt.Sprintf("berth %d is shallow", i)}}
}

// fill adds n jobs of every kind that a statement may look for.
func (h *harbour) fill(n int) {
	in := func(queue string, more func(i int, s *job.Spec)) []int64 {
		return h.enqueue(n, func(i int) job.Spec {
			s := job.Spec{Task: "tide.predict", Queue: queue}
			if more != nil {
				more(i, &s)
			}
			return s
		})
	}
	slow := &job.Retry{Curve: job.Fixed, First: job.Duration(300 * time.Hour)}
	for _, k := range []struct {
		queue string
		as    func(int) api.Settlement
	}{{"done", done}, {"dead", died}, {"backoff", failed}} {
		in(k.queue, func(i int, s *job.Spec) { s.Key, s.Retry = fmt.Sprint("key-", i%3), slow })
		h.settle(h.take(k.queue, n), k.as)
	}
	in("ready", nil)
	in("turns", func(i int, s *job.Spec) { s.Owner = fmt.Sprint("owner-", i) })
	in("lanes", func(i int, s *job.Spec) { s.Lane = fmt.Sprint("lane-", i/2) })
	in("ageing", func(i int, s *job.Spec) { p := i % 10; s.Priority = &p })
	in("later", func(_ int, s *job.Spec) {
		s.Delay, s.StartBy = job.Duration(300*time.Hour), job.At(time.Now().Add(700*time.Hour))
	})
	in("keys", func(_ int, s *job.Spec) { s.Key = "one" })
	root := h.enqueue(1, func(int) job.Spec { return job.Spec{Task: "berth.plan", Queue: "tied"} })
	in("tied", func(_ int, s *job.Spec) { s.After = &job.After{Jobs: root} })
	chain := []api.BatchJob{tiedTo("0")}
	for i := range n - 1 {
		chain = append(chain, tiedTo(fmt.Sprint(i+1), fmt.Sprint(i)))
	}
	h.batch(api.NewBatch{Name: "voyage", Owner: "heron", Jobs: chain, Last: &job.Spec{Task: "notice.publish", Queue: "tied"}})
	in("gone", nil)
	h.act(api.ActRequest{Action: api.ActPurge, Filter: &api.Selection{Queues: []string{"gone"}}})
}

func (h *harbour) act(r api.ActRequest) {
	o, err := h.e.Act(context.Background(), r)
	h.must(err)
	for !o.Over() {
		time.Sleep(100 * time.Millisecond)
		o, err = h.e.Operation(context.Background(), o.ID)
		h.must(err)
	}
}

func (h *harbour) batch(b api.NewBatch) api.Batch {
	made, err := h.e.MakeBatch(context.Background(), b, func(i int) string { return fmt.Sprintf("jobs[%d].", i) })
	h.must(err)
	return made
}

// tiedTo is a job of a batch that waits for others of it.
func tiedTo(ref string, needs ...string) api.BatchJob {
	b := api.BatchJob{Ref: ref, Spec: job.Spec{Task: "manifest.check", Queue: "tied"}}
	if len(needs) > 0 {
		b.After = &job.After{Refs: needs}
	}
	return b
}

// runs has a job run to its end.
func (h *harbour) runs(id int64, s api.Settlement) {
	a, err := h.e.Lease(context.Background(), api.LeaseRequest{Worker: "crane", Job: id, Limit: 1})
	h.must(err)
	require.Len(h, a.Leases, 1)
	s.Token = a.Leases[0].Token
	_, err = h.e.Settle(context.Background(), []api.Settlement{s})
	h.must(err)
}

// tie has jobs wait for others, and batches run to their end.
func (h *harbour) tie(ctx context.Context) {
	minute := job.Duration(time.Minute)
	one := func(s job.Spec) int64 { return h.enqueue(1, func(int) job.Spec { return s })[0] }
	plain := job.Spec{Task: "berth.plan", Queue: "tied", KeepResult: &minute}
	after := func(rule job.After, ids ...int64) job.Spec {
		rule.Jobs = ids
		return job.Spec{Task: "notice.publish", Queue: "tied", After: &rule}
	}
	x, y, z := one(plain), one(plain), one(job.Spec{Task: "berth.plan", Queue: "tied-" + fmt.Sprint(h.n)})
	later := after(job.After{}, x)
	later.Delay = job.Duration(2 * time.Hour)
	one(later)
	met, cancelled, any := one(after(job.After{}, x, y)), one(after(job.After{IfNot: job.IfNotCancel}, y)), one(after(job.After{When: job.WhenFinished}, y, z))
	gone := one(after(job.After{}, z))
	h.runs(x, api.Settlement{Outcome: job.OutcomeDone, Result: json.RawMessage("1")})
	h.runs(y, died(0))
	for _, id := range []int64{x, met, cancelled} {
		_, err := h.e.Job(ctx, id)
		h.must(err)
	}
	_, err := h.e.Requeue(ctx, cancelled, api.Requeue{IgnoreAfter: true})
	h.must(err)
	_, err = h.e.StartNow(ctx, met)
	h.must(err)
	h.runs(met, done(0))
	q, err := h.e.Job(ctx, z)
	h.must(err)
	h.act(api.ActRequest{Action: api.ActPurge, Filter: &api.Selection{Queues: []string{q.Queue}}})

	b := api.NewBatch{Name: fmt.Sprint("voyage ", h.n), Dedupe: job.Unfinished, Open: true, Jobs: []api.BatchJob{tiedTo("a")}, Last: &job.Spec{Task: "notice.publish", Queue: "tied"}}
	made := h.batch(b)
	require.Equal(h, made.ID, h.batch(b).ID)
	more, err := h.e.AddToBatch(ctx, made.ID, []api.BatchJob{tiedTo("b", "a")}, func(int) string { return "" })
	h.must(err)
	_, err = h.e.CloseBatch(ctx, made.ID)
	h.must(err)
	for _, q := range []api.BatchQuery{{}, {Name: b.Name}, {Owner: "heron", State: api.BatchRunning}, {State: api.BatchStuck}} {
		_, err := h.e.Batches(ctx, q)
		h.must(err)
	}
	_, err = h.e.BatchGraph(ctx, made.ID)
	h.must(err)
	_, err = h.e.Jobs(ctx, api.Filter{Batch: made.ID})
	h.must(err)
	h.runs(made.IDs[0], died(0))
	_, err = h.e.WaitForBatch(ctx, made.ID, 0)
	h.must(err)
	dead, err := h.e.Job(ctx, made.IDs[0])
	h.must(err)
	_, err = h.e.Cause(ctx, dead.Cause)
	h.must(err)
	_, err = h.e.Owner(ctx, "heron")
	h.must(err)
	_, err = h.e.Meter(ctx)
	h.must(err)
	_, err = h.e.Requeue(ctx, made.IDs[0], api.Requeue{})
	h.must(err)
	for _, id := range []int64{made.IDs[0], more.IDs[0], made.Last} {
		h.runs(id, done(0))
	}
	for _, id := range []int64{made.IDs[0], more.IDs[0], made.Last} {
		_, err := h.e.Discard(ctx, id)
		h.must(err)
	}
	time.Sleep(11 * time.Minute)
	for id, want := range map[int64]job.State{any: job.Ready, gone: job.Held} {
		j, err := h.e.Job(ctx, id)
		h.must(err)
		require.Equal(h, want, j.State)
	}
	_, err = h.e.Batch(ctx, made.ID)
	require.ErrorIs(h, err, job.ErrNotFound)
}

// use does a little of everything, the same each time but for what has no name twice.
func (h *harbour) use() {
	ctx := context.Background()
	h.enqueueAll(ctx)
	h.work(ctx)
	h.look(ctx)
	h.operate(ctx)
	h.plan(ctx)
	h.tie(ctx)
	h.hooks(ctx)
	h.calls(ctx)
	h.notices(ctx)
	time.Sleep(30 * time.Minute) // leases end, removals are swept, leftovers go
	synctest.Wait()
	h.take("ready", 1) // which runs over the restart
	h.must(h.e.Close())
	h.open()
	h.take("ready", 1) // by a worker that has not registered since
	time.Sleep(time.Minute)
	synctest.Wait()
}

// calls has calls wait for a host that gives no answer, and go on.
func (h *harbour) calls(ctx context.Context) {
	own := engine.ByService(ctx)
	h.must(h.e.SetTask(ctx, "dues.charge", api.Defaults{Calls: new(api.Calls)}))
	host := fmt.Sprintf("bank-%d.example", h.n)
	h.enqueue(20, func(int) job.Spec {
		return job.Spec{Task: "dues.charge", Queue: "calls", Call: &job.Call{URL: "https://" + host}}
	})
	h.must(h.e.HostSilent(ctx, host, "no route"))
	take := func() []api.Lease {
		a, err := h.e.Lease(own, api.LeaseRequest{Worker: "service", Queues: []string{"common"}, Limit: 5})
		h.must(err)
		return a.Leases
	}
	require.Empty(h, take())
	time.Sleep(20 * time.Second)
	probe := take()
	require.Len(h, probe, 1)
	h.must(h.e.HostAnswers(ctx, host))
	h.settle(probe, done)
	time.Sleep(time.Second)
	h.settle(take(), done)
	_, err := h.e.Job(ctx, probe[0].Job.ID)
	h.must(err)
	h.act(api.ActRequest{Action: api.ActCancel, Filter: &api.Selection{Queues: []string{"calls"}}})
}

// notices has ends told.
func (h *harbour) notices(ctx context.Context) {
	name := fmt.Sprint("customs-", h.n)
	h.must(h.e.SetEndpoint(ctx, name, api.Endpoint{URL: "https://customs.example"}))
	h.enqueue(3, func(int) job.Spec {
		return job.Spec{Task: "berth.plan", Queue: "told", Notify: []job.Notify{{On: []job.State{job.Dead}, Endpoint: name}}}
	})
	h.settle(h.take("told", 3), died)
	a, err := h.e.Lease(engine.ByService(ctx), api.LeaseRequest{Worker: "service", Queues: []string{"common"}, Limit: 3})
	h.must(err)
	h.settle(a.Leases, done)
	h.must(h.e.DeleteEndpoint(ctx, name))
}

// hooks has deliveries come, again, and be forgotten.
func (h *harbour) hooks(ctx context.Context) {
	name := fmt.Sprint("hook-", h.n)
	h.must(h.e.SetHook(ctx, name, api.Hook{Task: "berth.plan", Queue: "other", IDFrom: &api.Taken{Pointer: "/id"}, Proof: api.Proof{Kind: api.ProofNone}}))
	deliver := func(body string) {
		_, err := h.e.Receive(ctx, name, engine.Arrived{Header: func(string) string { return "" }, Body: []byte(body)})
		h.must(err)
	}
	deliver(`{"id":1}`)
	deliver(`{"id":1,"n":2}`)
	before := h.away.Load()
	h.away.Store(before + int64(31*24*time.Hour))
	deliver(`{"id":1}`)
	h.away.Store(before)
	all, err := h.e.Deliveries(ctx, name, 0, 10)
	h.must(err)
	_, err = h.e.SendAgain(ctx, name, all[0].Number)
	h.must(err)
	h.must(h.e.NoteRefusals(ctx, map[string]*api.HookCounts{name: {Refused: map[string]int64{api.RefusedBusy: 1}}}))
	h.must(h.e.DeleteHook(ctx, name))
}

func (h *harbour) enqueueAll(ctx context.Context) {
	for _, dedupe := range []string{"unstarted", "unfinished", "1h", "24h"} {
		for _, key := range []string{"one", "key-1", "none", "kept"} {
			_, err := h.e.Enqueue(engine.WithCall(ctx, engine.Call{Path: "/v1/jobs", Key: fmt.Sprint(dedupe, key, h.n), Body: []byte(key)}), job.Spec{Task: "tide.predict", Queue: "ready", Key: key, Dedupe: dedupe})
			h.must(err)
		}
	}
	h.enqueue(50, func(i int) job.Spec {
		return job.Spec{Task: "chart.draw", Queue: "other", Payload: json.RawMessage(`"` + strings.Repeat("x", 5000) + `"`)}
	})
}

func (h *harbour) work(ctx context.Context) {
	for _, version := range []string{"1.0", "1.1"} {
		_, err := h.e.PutWorker(ctx, api.Worker{ID: "crane" + version, Name: fmt.Sprint("crane", h.n), Version: version, Queues: []string{"ready"}})
		h.must(err)
	}
	_, err := h.e.PutWorker(ctx, api.Worker{ID: "crane", Queues: []string{"ready", "turns", "lanes", "ageing", "other"}, Holds: []string{}})
	h.must(err)
	noted, err := h.e.Mark(ctx, "spring tide", 0)
	h.must(err)
	h.must(h.e.Unmark(ctx, noted.ID))
	for _, q := range []api.HistoryQuery{{Times: true}, {By: api.ByTask, Step: job.Duration(time.Hour)}, {Queue: "ready", From: job.At(time.Now().Add(-48 * time.Hour))}} {
		_, err := h.e.History(ctx, q)
		h.must(err)
	}
	for _, queue := range []string{"ready", "turns", "lanes", "ageing", "other"} {
		leases := h.take(queue, 8)
		require.Len(h, leases, 8, queue)
		_, err := h.e.Extend(ctx, api.ExtendRequest{Leases: []api.Extension{{Token: leases[0].Token, Report: api.Report{Log: []string{"moored"}, Labels: map[string]string{"berth": "3"}}, Steps: map[string]api.StepReport{"moor": {Begun: true}}}}})
		h.must(err)
		for i, s := range []api.Settlement{
			{Outcome: job.OutcomeDone, Result: json.RawMessage(`{"berth":3}`), Enqueue: []api.FollowUp{{Spec: job.Spec{Task: "notice.publish", Queue: "other"}}}},
			failed(0), died(0), {Outcome: job.OutcomeSkipped, ReasonText: "it has sailed"}, {Outcome: job.OutcomePostponed, Delay: job.Duration(time.Hour)}, {Outcome: job.OutcomeReleased},
		} {
			s.Token = leases[i].Token
			for range 2 { // the second time it is known
				_, err := h.e.Settle(ctx, []api.Settlement{s})
				h.must(err)
			}
		}
		if queue == "lanes" {
			h.must(h.e.PassLane(ctx, queue, leases[1].Job.Lane)) // which the failed job holds
		}
		_, err = h.e.EndLease(ctx, leases[6].Job.ID, false)
		h.must(err)
	}
	h.steps(ctx)
	h.e.Workers(ctx)
	_, err = h.e.AskWorker(ctx, "crane", api.WantDrain)
	h.must(err)
	_, err = h.e.AskWorker(ctx, "crane", api.WantRun)
	h.must(err)
}

// steps does a job's work in steps, cancels one that runs, and skips one that is too late.
func (h *harbour) steps(ctx context.Context) {
	soon := job.At(time.Now().Add(time.Second))
	keep := job.Duration(time.Minute)
	_, err := h.e.EnqueueMany(ctx, []job.Spec{{Task: "chart.draw", Queue: "steps", KeepResult: &keep}, {Task: "chart.draw", Queue: "steps"}, {Task: "chart.draw", Queue: "late", StartBy: soon}}, func(int) string { return "" })
	h.must(err)
	leases := h.take("steps", 2)
	_, err = h.e.Cancel(ctx, leases[1].Job.ID)
	h.must(err)
	h.settle(leases[1:], failed)
	for _, s := range []map[string]api.StepReport{{"moor": {Begun: true}}, {"moor": {Result: json.RawMessage(`1`)}}, {"load": {Begun: true}}, {"load": {NotDone: true}}} {
		_, err := h.e.Extend(ctx, api.ExtendRequest{Leases: []api.Extension{{Token: leases[0].Token, Steps: s}}})
		h.must(err)
	}
	h.settle(leases[:1], func(int) api.Settlement {
		return api.Settlement{Outcome: job.OutcomeDone, Result: json.RawMessage(`{"berth":3}`)}
	})
	time.Sleep(2 * time.Minute) // the result goes
	p, err := job.ReadPatch(json.RawMessage(`{"labels":{"berth":"3"}}`))
	h.must(err)
	_, err = h.e.Patch(ctx, leases[0].Job.ID, p)
	h.must(err)
	h.must(h.e.Follow(ctx, "third", api.NewFollow{Name: "berth", Value: "3"}))
	_, err = h.e.BeginSession(ctx, "hash", "ada", "127.0.0.1", "a browser")
	h.must(err)
	h.must(h.e.EndSession(ctx, 1, ""))
	h.takeOver(ctx)
	time.Sleep(time.Second) // what is there is counted
	synctest.Wait()
	_, err = h.e.Requeue(ctx, leases[0].Job.ID, api.Requeue{ForgetSteps: true})
	h.must(err)
	h.must(h.e.Unfollow(ctx, "third"))
	synctest.Wait()
}

// takeOver imports jobs of another store, twice.
func (h *harbour) takeOver(ctx context.Context) {
	from := fmt.Sprint("store-", time.Now().UnixMilli())
	_, err := h.e.BeginImport(ctx, api.ImportRequest{Export: api.ExportHead{Format: 1, Store: from, Through: 9}, IDs: api.IDsNew})
	h.must(err)
	for range 2 {
		for id := range int64(3) {
			now := job.At(time.Now())
			j := &job.Job{
				ID: id + 1, Task: "tide.predict", Queue: "imported", State: job.Done, MaxAttempts: 3, Retry: &job.Retry{Curve: job.Fixed, First: job.Duration(time.Second)}, Round: 1, Attempt: 1, Tries: 1,
				EnqueuedAt: now, StartedAt: now, FinishedAt: now, Attempts: []job.Attempt{{Number: 1, Round: 1, Worker: "crane", StartedAt: now, EndedAt: now, Outcome: job.OutcomeDone}},
				Steps: []job.Step{{Name: "moor", State: job.StepDone, Attempt: 1, BegunAt: now, DoneAt: now}},
			}
			told, err := h.e.Import(ctx, from, []api.ExportLine{{Job: j}}, false)
			h.must(err)
			require.Empty(h, told.Refused)
		}
	}
	_, err = h.e.ImportedAs(ctx, from, 2)
	h.must(err)
	for after, more := int64(0), true; more; {
		_, after, _, more, err = h.e.Export(ctx, api.Filter{Queues: []string{"imported", "lanes"}}, after, 1<<40)
		h.must(err)
	}
}

func (h *harbour) look(ctx context.Context) {
	causes, err := h.e.Causes(ctx, api.CauseFilter{})
	h.must(err)
	_, err = h.e.Cause(ctx, causes[0].ID)
	h.must(err)
	h.must(h.e.CauseHistory(ctx, &causes[0]))
	for _, f := range []api.Filter{
		{}, {Order: api.OldestFirst}, {Order: api.NextFirst}, {States: []job.State{job.Ready}}, {Queues: []string{"turns"}}, {Tasks: []string{"chart.draw"}}, {Key: "one"}, {Key: "key-1", States: []job.State{job.Dead}},
		{Owner: "owner-9"}, {Labels: map[string]string{"berth": "3"}}, {Cause: causes[0].ID}, {Error: "too shallow"}, {Error: "berth 7 is"}, {InDoubt: true}, {IDs: []int64{1, 2, 3}}, {Since: job.At(time.Now().Add(-time.Hour))},
	} {
		page, err := h.e.Jobs(ctx, f)
		h.must(err)
		for _, j := range page.Jobs[:min(3, len(page.Jobs))] {
			_, err := h.e.Job(ctx, j.ID)
			h.must(err)
			_, err = h.e.Log(ctx, j.ID, engine.LogQuery{})
			h.must(err)
		}
	}
	_, err = h.e.Queues(ctx)
	h.must(err)
	_, err = h.e.Stats(ctx, "")
	h.must(err)
	_, err = h.e.Check(ctx)
	h.must(err)
	_, err = h.e.Coming(ctx, 700*time.Hour, "", "", 100)
	h.must(err)
	_, err = h.e.Starts(ctx, "ready")
	h.must(err)
	_, err = h.e.Actions(ctx, 0, 1, 100)
	h.must(err)
	_, err = h.e.Operations(ctx, 0, 100)
	h.must(err)
	h.e.Tasks(ctx)
}

// some gives ids of jobs in a state.
func (h *harbour) some(queue string, s job.State, n int) (ids []int64) {
	page, err := h.e.Jobs(context.Background(), api.Filter{Queues: []string{queue}, States: []job.State{s}, Limit: n})
	h.must(err)
	for _, j := range page.Jobs {
		ids = append(ids, j.ID)
	}
	require.Len(h, ids, n)
	return ids
}

func (h *harbour) operate(ctx context.Context) {
	for _, queue := range []string{"ready", "turns", "lanes"} {
		ids := h.some(queue, job.Ready, 2)
		_, err := h.e.Cancel(ctx, ids[0])
		h.must(err)
		_, err = h.e.Discard(ctx, ids[0])
		h.must(err)
		_, err = h.e.Undiscard(ctx, ids[0])
		h.must(err)
		_, err = h.e.Discard(ctx, ids[0])
		h.must(err)
		p, err := job.ReadPatch(json.RawMessage(`{"priority":7,"labels":{"berth":"3"}}`))
		h.must(err)
		_, err = h.e.Patch(ctx, ids[1], p)
		h.must(err)
	}
	_, err := h.e.StartNow(ctx, h.some("later", job.Scheduled, 1)[0])
	h.must(err)
	_, err = h.e.Requeue(ctx, h.some("dead", job.Dead, 1)[0], api.Requeue{Payload: json.RawMessage(`{"berth":4}`)})
	h.must(err)
	ids := h.some("dead", job.Dead, 20)
	h.act(api.ActRequest{Action: api.ActPatch, IDs: ids, Patch: json.RawMessage(`{"payload":{"berth":4}}`)})
	h.act(api.ActRequest{Action: api.ActRequeue, IDs: ids, PayloadPatch: json.RawMessage(`{"berth":5}`)})
	h.act(api.ActRequest{Action: api.ActDiscard, Filter: &api.Selection{Key: "key-2", Queues: []string{"done"}, States: []job.State{job.Done}}, DryRun: true})
	o, err := h.e.Act(ctx, api.ActRequest{Action: api.ActDiscard, IDs: h.some("done", job.Done, 20)})
	h.must(err)
	_, err = h.e.UndoOperation(ctx, o.ID)
	h.must(err)
	h.must(h.e.PauseQueue(ctx, "ready"))
	h.must(h.e.ResumeQueue(ctx, "ready"))
	for _, turns := range []string{api.TurnsOwner, ""} {
		h.must(h.e.SetQueue(ctx, "other", api.Defaults{Rules: api.Rules{Turns: turns}}))
		synctest.Wait()
	}
	name := fmt.Sprint("once-", h.n)
	h.enqueue(1, func(int) job.Spec { return job.Spec{Task: name, Queue: name} })
	h.act(api.ActRequest{Action: api.ActPurge, Filter: &api.Selection{Queues: []string{name}}})
	time.Sleep(11 * time.Minute)
	h.must(h.e.DeleteTask(ctx, name))
	h.must(h.e.DeleteQueue(ctx, name))
}

func (h *harbour) plan(ctx context.Context) {
	for _, rule := range []string{api.RunSkips, api.RunWaits} {
		_, err := h.e.SetSchedule(ctx, "tides-"+rule, api.Schedule{Every: job.Duration(time.Minute), IfStillRunning: rule, Job: job.Spec{Task: "tide.predict", Queue: "scheduled"}})
		h.must(err)
	}
	for range 4 {
		time.Sleep(time.Minute)
		h.settle(h.take("scheduled", 4), failed)
	}
	for _, rule := range []string{api.RunSkips, api.RunWaits} {
		name := "tides-" + rule
		_, err := h.e.RunSchedule(ctx, name)
		h.must(err)
		_, err = h.e.PauseSchedule(ctx, name)
		h.must(err)
		_, err = h.e.Runs(ctx, name, 0, 50)
		h.must(err)
		_, err = h.e.Schedule(ctx, name)
		h.must(err)
		h.must(h.e.DeleteSchedule(ctx, name))
	}
	_, err := h.e.Load(ctx, api.SetupRequest{Setup: api.Setup{Queues: map[string]api.Defaults{"spare": {}}, Tasks: map[string]api.Defaults{"spare": {}}}})
	h.must(err)
	_, err = h.e.Load(ctx, api.SetupRequest{Setup: api.Setup{Empty: true}})
	h.must(err)
}

// age lets more than a year go by: what is kept for a time goes, what waited is due.
func (h *harbour) age() {
	for _, days := range []time.Duration{15, 60, 400} {
		h.away.Store(int64(days * 24 * time.Hour))
		time.Sleep(50 * time.Minute)
		synctest.Wait()
		for _, dedupe := range []string{"24h", "720h"} {
			_, err := h.e.Enqueue(context.Background(), job.Spec{Task: "tide.predict", Queue: "keys", Key: "key-2", Dedupe: dedupe})
			h.must(err)
		}
	}
}

// steps fills a file with n of everything, and tells what each statement looks at when it
// is used.
func steps(t *testing.T, n int) (most map[string]int) {
	path := filepath.Join(t.TempDir(), "visits.db")
	synctest.Test(t, func(t *testing.T) {
		h := &harbour{T: t, path: path}
		h.open()
		defer func() { require.NoError(t, h.e.Close()) }()
		for queue, r := range map[string]api.Rules{"turns": {Turns: api.TurnsOwner}, "ageing": {Order: api.OrderAgeing}} {
			require.NoError(t, h.e.SetQueue(t.Context(), queue, api.Defaults{Rules: r}))
		}
		h.fill(n)
		h.use() // what it makes itself is there then
		visits.Reset()
		h.use()
		h.age()
		most = visits.Most()
	})
	return most
}

// bounded are statements that look at no more than so many rows, which is more than the
// smaller file has of them.
var bounded = map[string]int{
	"SELECT id, queue, task, state, next_at FROM jobs": 100_000, // what comes, counted by time
	"WHERE removed_by = +? AND removed_by <> 0":        500,     // a slice of what is brought back, or swept
	"SELECT id, ready_at FROM jobs":                    2000,    // of a check's looks at old places
	"FROM attempts a LEFT JOIN jobs j":                 5000,    // of the jobs of a block
	"IN (…)":                                           500,     // a page
}

// rare begin the statements that this test does not come to. They go by a primary key, or
// by the first part of one.
var rare = []string{
	"DELETE FROM attempts WHERE job = +? AND n = +?", // of a job with very many attempts
	"DELETE FROM log_lines WHERE job = +? AND attempt = +?",
	"DELETE FROM policies WHERE id = +?",
	"SELECT version, host, n FROM cause_counts", // of workers that were forgotten
	"DELETE FROM receipts WHERE id <= +?",       // after a day
	"DELETE FROM late_words",                    // of 2048 failures, each in words of its own
	"SELECT part, words FROM failed_words",
	"INSERT INTO failed_words",
	"DELETE FROM failed_words",
	"DELETE FROM turns WHERE (queue, task, level, owner) IN (SELECT queue, task, level, owner FROM turns WHERE active = 0", // of many owners without jobs
	"SELECT tag FROM turns WHERE active = 0",
}

// What a statement repeats for each of its rows.
var (
	list     = regexp.MustCompile(`IN \(\?(, ?\?)*\)`)
	numbered = regexp.MustCompile(`\?\d+( \+ \d+)?`)
	added    = regexp.MustCompile(`(VALUES ` + aRow + `)(, ` + aRow + `)*`)
	cases    = regexp.MustCompile(`( WHEN \? THEN \?)+ END`)
)

const aRow = `\((?:[^()]|\((?:[^()]|\([^()]*\))*\))*\)`

// shape is a statement without them.
func shape(sql string) string {
	sql = numbered.ReplaceAllString(sql, "?")
	return cases.ReplaceAllString(added.ReplaceAllString(list.ReplaceAllString(sql, "IN (…)"), "$1…"), " … END")
}

// byShape puts statements together that differ in the length of a list.
func byShape(all map[string]int) map[string]int {
	shapes := map[string]int{}
	for sql, n := range all {
		shapes[shape(sql)] = max(shapes[shape(sql)], n)
	}
	return shapes
}

// What a statement looks at does not grow with the jobs that are there: each is run on a
// file, and on one that holds nine times as much of everything.
func TestVisits(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes half a minute")
	}
	const some, perRow = 1000, 60
	few, many := byShape(steps(t, some)), byShape(steps(t, 9*some))
	for _, sql := range store.Statements() {
		if sql = shape(sql); many[sql] == 0 {
			assert.True(t, slices.ContainsFunc(rare, func(begins string) bool { return strings.HasPrefix(sql, begins) }), "was not run: %s", sql)
		}
	}
	for sql, now := range many {
		most := 3*few[sql]/2 + 500
		for part, rows := range bounded {
			if strings.Contains(sql, part) {
				most = rows * perRow
			}
		}
		assert.LessOrEqual(t, now, most, "%d steps with a ninth of the jobs: %s", few[sql], sql[max(0, len(sql)-300):])
	}
}
