package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// notices are the messages that are there, as told: to whom, and of what.
func (y *yard) notices() (all []string) {
	y.Helper()
	page, err := y.e.Jobs(context.Background(), api.Filter{Queues: []string{job.NoticeQueue}, Order: api.OldestFirst, Limit: api.MaxPage})
	require.NoError(y, err)
	for _, listed := range page.Jobs {
		j := y.job(listed.ID)
		var n api.Notice
		require.NoError(y, json.Unmarshal(j.Payload, &n))
		to := n.Endpoint
		switch {
		case n.Call != nil:
			to = n.Call.URL
		case n.Mail != nil:
			to = n.Mail.To[0]
		}
		var said api.JobEnded
		require.NoError(y, json.Unmarshal(n.Event.Data, &said))
		require.Equal(y, j.Key, n.Event.ID)
		require.Equal(y, fmt.Sprintf("%s-%d-%d-%s", y.e.StoreID(), said.ID, said.Round, said.State), n.Event.ID)
		require.Equal(y, said.Owner, j.Owner)
		all = append(all, fmt.Sprintf("%s: %d is %s", to, said.ID, said.State))
	}
	return all
}

func tells(on ...job.State) job.Notify { return job.Notify{On: on, Endpoint: "customs"} }

// Whoever asks for it is told of an end, in the same transaction, once for each round; nobody is told of the
// end of a message.
func TestNotices(t *testing.T) {
	inYard(t, func(y *yard) {
		y.openToAll()
		require.NoError(t, y.e.SetEndpoint(context.Background(), "customs", api.Endpoint{URL: "https://customs.example/events"}))
		require.NoError(t, y.e.SetEndpoint(context.Background(), "press", api.Endpoint{URL: "https://press.example", Events: []api.EventRule{{On: []job.State{job.Dead}, Tasks: []string{"dues.charge"}}, {On: []job.State{job.Done}, Owners: []string{"heron"}}}}))
		once := 1
		y.enqueue(
			job.Spec{Task: "dues.charge", MaxAttempts: &once, Owner: "marsh", Notify: []job.Notify{tells(job.Dead, job.Done), {On: []job.State{job.Dead}, Call: &job.Call{URL: "https://hooks.example/x"}}}},
			job.Spec{Task: "tide.predict", Notify: []job.Notify{tells(job.Cancelled)}},
			job.Spec{Task: "tide.predict", Owner: "heron", Payload: job.JSON("fine")},
			job.Spec{Task: "tide.predict"},
		)
		_, err := y.e.Cancel(context.Background(), 2)
		require.NoError(t, err)
		y.fails = func(payload string) bool { return payload != `"fine"` }
		y.work()
		assert.ElementsMatch(t, []string{"customs: 2 is cancelled", "customs: 1 is dead", "https://hooks.example/x: 1 is dead", "press: 1 is dead", "press: 3 is done"}, y.notices())
		var said api.JobEnded
		var n api.Notice
		dead := y.job(6)
		require.NoError(t, json.Unmarshal(dead.Payload, &n))
		require.NoError(t, json.Unmarshal(n.Event.Data, &said))
		assert.Equal(t, &job.Failure{Type: "bank", Message: "account 1 is locked"}, said.Error)

		// The service's own slots send them, and their ends tell nobody but are counted.
		leases := y.own(10)
		assert.Len(t, leases, 5)
		assert.Empty(t, y.lease(job.NoticeQueue, 10))
		for _, l := range leases {
			outcome := job.OutcomeDone
			if l.Job.Labels[api.EndpointLabel] == "press" {
				outcome = job.OutcomeGiveUp
			}
			y.settle(l, outcome)
		}
		assert.Len(t, y.notices(), 5)
		customs, err := y.e.Endpoint(context.Background(), "customs")
		require.NoError(t, err)
		press, err := y.e.Endpoint(context.Background(), "press")
		require.NoError(t, err)
		assert.Equal(t, []int64{2, 0, 0, 2}, []int64{customs.Delivered, customs.Failed, press.Delivered, press.Failed})
		assert.NotZero(t, press.FailingSince)

		// A requeue is a new round, and tells again.
		_, err = y.e.Requeue(context.Background(), 1, api.Requeue{})
		require.NoError(t, err)
		y.fails = func(string) bool { return false }
		y.work()
		assert.Contains(t, y.notices(), "customs: 1 is done")
		memoryAgrees(t, y.e)

		// One that takes nothing for days pauses itself; what it misses is counted, until it goes on.
		fail := func() {
			y.enqueue(job.Spec{Task: "dues.charge", MaxAttempts: &once})
			y.fails = func(string) bool { return true }
			y.work()
			for _, l := range y.own(10) {
				y.settle(l, job.OutcomeGiveUp)
			}
		}
		require.NoError(t, y.e.Close())
		y.e, err = Open(y.path, Options{LookEvery: unwatched, Log: silent, MayCall: func(string) error { return nil }, Wall: func() time.Time { return time.Now().Add(4 * 24 * time.Hour) }})
		require.NoError(t, err)
		fail()
		before := len(y.notices())
		fail()
		assert.Len(t, y.notices(), before)
		press, err = y.e.Endpoint(context.Background(), "press")
		require.NoError(t, err)
		assert.Equal(t, "no message was taken for 4 days", press.PausedWhy)
		assert.Equal(t, int64(1), press.Missed)
		found, err := y.e.Check(context.Background())
		require.NoError(t, err)
		assert.Contains(t, fmt.Sprint(found), "Endpoint press has paused itself: no message was taken for 4 days. 1 message was not sent since")
		_, err = y.e.TestEndpoint(context.Background(), "press")
		y.refuses(err, "is paused")
		require.NoError(t, y.e.ResumeEndpoint(context.Background(), "press"))
		told, err := y.e.TestEndpoint(context.Background(), "press")
		require.NoError(t, err)
		assert.Equal(t, []int64{told.Job}, idsOf(y.own(10)))
		memoryAgrees(t, y.e)
	})
}

// Tasks say whom their jobs tell; what cannot be told is refused by name.
func TestNotifyIsChecked(t *testing.T) {
	inYard(t, func(y *yard) {
		y.openToAll()
		enqueue := func(n ...job.Notify) error {
			_, err := y.e.Enqueue(context.Background(), job.Spec{Task: "tide.predict", Notify: n})
			return err
		}
		y.refuses(enqueue(tells(job.Done)), "notify[0].endpoint there is no endpoint")
		tides := api.Schedule{Every: job.For(time.Hour), Job: job.Spec{Task: "tide.predict", Notify: []job.Notify{tells(job.Done)}}}
		_, err := y.e.SetSchedule(context.Background(), "tides", tides)
		y.refuses(err, "job.notify[0].endpoint there is no endpoint")
		_, err = y.e.Load(context.Background(), api.SetupRequest{Setup: api.Setup{Schedules: map[string]api.Schedule{"tides": tides}}})
		y.refuses(err, "schedules.tides.job.notify[0].endpoint there is no endpoint")
		y.refuses(enqueue(job.Notify{On: []job.State{job.Dead}, Mail: &job.Mail{To: []string{"ada@harbour.example"}}}), "notify[0].mail cannot be sent")
		y.refuses(enqueue(job.Notify{}, job.Notify{On: []job.State{job.Running, job.Done, job.Done}, Endpoint: "a", Call: &job.Call{URL: "ftp://x", Body: job.JSON(1), Method: "GET"}}),
			"notify[0].on is missing", "notify[0].endpoint is missing", "notify[1].on[0] is of no finished job", "notify[1].on[2]", "notify[1].call.body", "notify[1].call.method", "notify[1].call.url", "cannot be combined")
		y.refuses(enqueue(job.Notify{On: []job.State{job.Done}, Mail: &job.Mail{To: []string{"ada", "a@b.example\r\nBcc: c@d.example"}, Subject: "a\nb"}}), "mail.to[0]", "mail.to[1]", "mail.subject")
		_, err = y.e.Enqueue(context.Background(), job.Spec{Task: job.TaskCall})
		y.refuses(err, "begins with hmule.")
		y.refuses(y.e.SetTask(context.Background(), "tide.predict", api.Defaults{Notify: []job.Notify{tells(job.Done)}}), "notify[0].endpoint")
		y.refuses(y.e.SetEndpoint(context.Background(), "customs", api.Endpoint{URL: "file:///x", Secret: "none", Events: []api.EventRule{{On: []job.State{job.Ready}, Queues: []string{"No"}}}}), "url", "secret", "events[0].on[0]", "events[0].queues[0]")

		_, err = y.e.Load(context.Background(), api.SetupRequest{Setup: api.Setup{
			Endpoints: map[string]api.Endpoint{"customs": {URL: "https://customs.example"}}, Tasks: map[string]api.Defaults{"tide.predict": {Notify: []job.Notify{tells(job.Done)}}}}})
		require.NoError(t, err, "one file may define both")
		y.enqueue(job.Spec{Task: "tide.predict"}, job.Spec{Task: "tide.predict", Notify: []job.Notify{tells(job.Dead)}})
		y.fails = func(string) bool { return false }
		y.work()
		assert.Equal(t, []string{"customs: 1 is done"}, y.notices(), "what a job says itself takes the place of what its task says")
		y.refuses(y.e.DeleteEndpoint(context.Background(), "customs"), "task tide.predict names it")
		require.NoError(t, y.e.SetTask(context.Background(), "log.pack", api.Defaults{Notify: []job.Notify{tells(job.Done)}}))
		_, err = y.e.Load(context.Background(), api.SetupRequest{Setup: api.Setup{Empty: true}})
		y.refuses(err, "endpoints.customs is left out, and task log.pack names it")
		require.NoError(t, y.e.SetTask(context.Background(), "log.pack", api.Defaults{}))
		_, err = y.e.Load(context.Background(), api.SetupRequest{Setup: api.Setup{Empty: true}})
		require.NoError(t, err)
		left, err := y.e.Endpoints(context.Background())
		require.NoError(t, err)
		assert.Empty(t, left)
		y.enqueue(job.Spec{Task: "log.pack"})
		assert.False(t, slices.Contains(y.notices(), "customs: 3 is done"))
		memoryAgrees(t, y.e)
	})
}

// A batch tells of its end, each time that it ends.
func TestBatchTells(t *testing.T) {
	inYard(t, func(y *yard) {
		y.openToAll()
		require.NoError(t, y.e.SetEndpoint(context.Background(), "customs", api.Endpoint{URL: "https://customs.example/events"}))
		once := 1
		make := func(notify ...job.Notify) (api.Batch, error) {
			return y.e.MakeBatch(context.Background(), api.NewBatch{Name: "voyage", Owner: "heron", Notify: notify, Jobs: []api.BatchJob{{Spec: job.Spec{Task: "tide.predict", MaxAttempts: &once}}, {Spec: job.Spec{Task: "dues.charge", MaxAttempts: &once, Payload: job.JSON("bad")}}}}, func(i int) string { return fmt.Sprintf("jobs[%d].", i) })
		}
		_, err := make(job.Notify{On: []job.State{job.Skipped}, Endpoint: "press"})
		y.refuses(err, "notify[0].on holds skipped")
		_, err = make(job.Notify{On: []job.State{job.Done}, Endpoint: "press"})
		y.refuses(err, "notify[0].endpoint there is no endpoint")
		b, err := make(tells(job.Done, job.Dead))
		require.NoError(t, err)
		y.fails = func(payload string) bool { return payload == `"bad"` }
		y.work()
		failed := y.own(10)
		require.Len(t, failed, 1)
		var n api.Notice
		var said api.BatchEnded
		require.NoError(t, json.Unmarshal(failed[0].Job.Payload, &n))
		require.NoError(t, json.Unmarshal(n.Event.Data, &said))
		assert.Equal(t, []any{"humblemule.batch.failed", b.ID, api.BatchFailed, map[job.State]int64{job.Done: 1, job.Dead: 1}}, []any{n.Event.Type, said.ID, said.State, said.Counts})
		assert.Equal(t, "heron", y.job(failed[0].Job.ID).Owner)

		time.Sleep(time.Second)
		_, err = y.e.Requeue(context.Background(), b.IDs[1], api.Requeue{Payload: job.JSON("good")})
		require.NoError(t, err)
		y.work()
		again := y.own(10)
		require.Len(t, again, 1)
		var second api.Notice
		require.NoError(t, json.Unmarshal(again[0].Job.Payload, &second))
		assert.Equal(t, "humblemule.batch.done", second.Event.Type)
		assert.NotEqual(t, n.Event.ID, second.Event.ID)
		y.refuses(y.e.SetEndpoint(context.Background(), "customs", api.Endpoint{}), "url")
		memoryAgrees(t, y.e)
	})
}

// An action on many tells each who is told once, with the number, over a restart too; who wants each is told
// of each.
func TestManyAreToldOnce(t *testing.T) {
	inYard(t, func(y *yard) {
		y.openToAll()
		ctx := WithCall(context.Background(), Call{Principal: "ada"})
		require.NoError(t, y.e.SetEndpoint(ctx, "customs", api.Endpoint{URL: "https://customs.example/events"}))
		require.NoError(t, y.e.SetEndpoint(ctx, "press", api.Endpoint{URL: "https://press.example", Events: []api.EventRule{{On: []job.State{job.Cancelled}, Tasks: []string{"log.pack"}}}}))
		const n = 1200
		each := tells(job.Cancelled)
		each.Each = true
		specs := make([]job.Spec, n)
		for i := range specs {
			specs[i] = job.Spec{Task: "log.pack", Owner: fmt.Sprint("agent-", i%2), Delay: job.For(time.Hour), Notify: []job.Notify{tells(job.Cancelled)}}
		}
		specs[7].Notify = []job.Notify{each}
		specs[8].Notify = []job.Notify{{On: []job.State{job.Cancelled}, Call: &job.Call{URL: "https://one.example"}}}
		_, err := y.e.EnqueueMany(ctx, specs, func(int) string { return "" })
		require.NoError(t, err)
		dry, err := y.e.Act(ctx, api.ActRequest{Action: api.ActCancel, Filter: &api.Selection{Tasks: []string{"log.pack"}}, DryRun: true})
		require.NoError(t, err)
		assert.Contains(t, fmt.Sprint(dry.Follows), "At least 4 messages tell of it.")

		o, err := y.e.Act(ctx, api.ActRequest{Action: api.ActCancel, Filter: &api.Selection{Tasks: []string{"log.pack"}}, PerSecond: 2000})
		require.NoError(t, err)
		time.Sleep(200 * time.Millisecond)
		before := y.count(job.Cancelled)
		require.NotZero(t, before)
		require.Less(t, before, int64(n))
		require.NoError(t, y.e.Close())
		y.e, err = Open(y.path, Options{LookEvery: unwatched, Log: silent, MayCall: func(string) error { return nil }})
		require.NoError(t, err)
		y.await(o.ID, api.OpFinished)
		told := map[string]int64{}
		for _, l := range y.own(100) {
			var m api.Notice
			var many api.JobsEnded
			require.NoError(t, json.Unmarshal(l.Job.Payload, &m))
			require.NoError(t, json.Unmarshal(m.Event.Data, &many))
			to := m.Endpoint
			if m.Call != nil {
				to = m.Call.URL
			}
			told[m.Event.Type+" "+to] += max(many.Count, 1)
			if many.Count > 1 {
				assert.Equal(t, []any{o.ID, "ada", job.Cancelled, 100}, []any{many.Operation, many.By, many.State, len(many.Jobs)})
			}
		}
		assert.Equal(t, map[string]int64{"humblemule.jobs.cancelled customs": n - 2, "humblemule.jobs.cancelled press": n, "humblemule.jobs.cancelled https://one.example": 1, "humblemule.job.cancelled customs": 1}, told)
		memoryAgrees(t, y.e)
	})
}

// What the same people are told by mail within a minute is one mail, whatever restarts lie between; it names
// so many ends, and how many more there are.
func TestMailIsGathered(t *testing.T) {
	inYard(t, func(y *yard) {
		y.watched(0)
		once := 1
		die := func(n int, owner string) {
			specs := make([]job.Spec, n)
			for i := range specs {
				specs[i] = job.Spec{Task: "dues.charge", Owner: owner, MaxAttempts: &once, Notify: []job.Notify{{On: []job.State{job.Dead}, Mail: &job.Mail{To: []string{"ada@harbour.example"}}}}}
			}
			_, err := y.e.EnqueueMany(context.Background(), specs, func(int) string { return "" })
			require.NoError(t, err)
			y.work()
		}
		letters := func() (all []string) {
			for _, l := range y.own(100) {
				var n api.Notice
				require.NoError(t, json.Unmarshal(l.Job.Payload, &n))
				all = append(all, fmt.Sprintf("%s: %d and %d more", y.job(l.Job.ID).Owner, 1+len(n.More), n.Beyond))
				y.settle(l, job.OutcomeDone)
			}
			slices.Sort(all)
			return all
		}
		die(1, "heron")
		die(2, "heron")
		die(1, "marsh")
		y.watched(0)
		die(60, "heron")
		memoryAgrees(t, y.e)
		assert.Empty(t, letters())
		time.Sleep(61 * time.Second)
		assert.Equal(t, []string{"heron: 50 and 13 more", "marsh: 1 and 0 more"}, letters())
		die(1, "heron")
		time.Sleep(61 * time.Second)
		assert.Equal(t, []string{"heron: 1 and 0 more"}, letters())
		memoryAgrees(t, y.e)
	})
}
