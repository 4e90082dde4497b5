package engine

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

// openToAll opens a yard's engine anew, so that every host may be called.
func (y *yard) openToAll() {
	require.NoError(y, y.e.Close())
	var err error
	y.e, err = Open(y.path, Options{LookEvery: unwatched, Log: silent, MayCall: func(string) error { return nil }, Draw: func() float64 { return 0.5 }})
	require.NoError(y, err)
}

func (y *yard) callsMadeBy(tasks ...string) {
	for _, task := range tasks {
		require.NoError(y, y.e.SetTask(context.Background(), task, api.Defaults{Calls: new(api.Calls)}))
	}
}

func callOf(task, host string) job.Spec {
	return job.Spec{Task: task, Call: &job.Call{URL: "https://" + host + "/"}}
}

// own takes up to n jobs for the service's own slots.
func (y *yard) own(n int) []api.Lease {
	y.Helper()
	a, err := y.e.Lease(ByService(context.Background()), api.LeaseRequest{Worker: "service", Queues: []string{"common"}, Limit: n, Lease: api.MaxLease})
	require.NoError(y, err)
	return a.Leases
}

// The service takes calls, from whatever queue, and nobody else does.
func TestCallsAreTheServices(t *testing.T) {
	inYard(t, func(y *yard) {
		y.openToAll()
		_, err := y.e.Enqueue(context.Background(), callOf("dues.charge", "bank.example"))
		y.refuses(err, "is not for task dues.charge, which workers do")
		y.callsMadeBy("dues.charge", "notice.publish")
		_, err = y.e.Enqueue(context.Background(), job.Spec{Task: "dues.charge"})
		y.refuses(err, "task dues.charge makes calls")
		far := callOf("notice.publish", "press.example")
		far.Queue = "bulletins"
		y.enqueue(callOf("dues.charge", "bank.example"), job.Spec{Task: "tide.predict"}, far)
		assert.Equal(t, []int64{2}, idsOf(y.lease("common", 10)), "a worker of all tasks")
		a, err := y.e.Lease(context.Background(), api.LeaseRequest{Worker: "w", Queues: []string{"common", "bulletins"}, Tasks: []string{"dues.charge", "notice.publish"}, Limit: 10})
		require.NoError(t, err)
		assert.Empty(t, a.Leases, "nor one that names them")
		_, err = y.e.Lease(context.Background(), api.LeaseRequest{Worker: "w", Job: 1, Limit: 1})
		assert.ErrorContains(t, err, "is a call")
		leases := y.own(10)
		assert.ElementsMatch(t, []int64{1, 3}, idsOf(leases))
		assert.JSONEq(t, `{"url":"https://bank.example/"}`, string(leases[slices.Index(idsOf(leases), 1)].Job.Payload))
		queues, tasks := y.e.CallsServed()
		assert.Equal(t, [][]string{{"bulletins", "common"}, {"dues.charge", "notice.publish"}}, [][]string{queues, tasks})

		// One that waits for calls is woken by them, in a queue that is new too.
		woken := make(chan []int64)
		go func() {
			a, err := y.e.Lease(ByService(context.Background()), api.LeaseRequest{Worker: "service", Queues: []string{"common"}, Limit: 1, Wait: api.MaxWait})
			assert.NoError(t, err)
			woken <- idsOf(a.Leases)
		}()
		synctest.Wait()
		y.enqueue(job.Spec{Task: "tide.predict", Queue: "fresh"})
		other := callOf("dues.charge", "bank.example")
		other.Queue = "fresh"
		began := time.Now()
		y.enqueue(other)
		assert.Equal(t, []int64{5}, <-woken)
		assert.Zero(t, time.Since(began))

		// A task changes what it is when nothing of it is under way.
		y.refuses(y.e.SetTask(context.Background(), "dues.charge", api.Defaults{}), "task dues.charge has 2 jobs unfinished that are calls")
		y.refuses(y.e.SetTask(context.Background(), "tide.predict", api.Defaults{Calls: new(api.Calls)}), "unfinished that workers do")
		y.settle(leases[0], job.OutcomeGiveUp)
		y.settle(leases[1], job.OutcomeDone)
		y.work()
		j := y.job(1)
		assert.Equal(t, "bank.example", j.Calls)
		_, err = y.e.Requeue(context.Background(), 1, api.Requeue{Payload: job.JSON(map[string]string{"url": "ftp://bank.example"})})
		y.refuses(err, "is not of http or https")
		_, err = y.e.Requeue(context.Background(), 1, api.Requeue{Payload: job.JSON(map[string]string{"url": "https://other.example/x"})})
		require.NoError(t, err)
		assert.Equal(t, "other.example", y.job(1).Calls)
		_, err = y.e.Patch(context.Background(), 1, job.Patch{Spec: job.Spec{Call: &job.Call{URL: "https://third.example"}}, Named: []string{"call"}})
		require.NoError(t, err)
		assert.Equal(t, "third.example", y.job(1).Calls)
		_, err = y.e.Patch(context.Background(), 1, job.Patch{Named: []string{"call"}})
		y.refuses(err, "is missing")
		y.refuses(y.e.SetHook(context.Background(), "h", api.Hook{Task: "dues.charge", Proof: unproved}), "makes calls")
		_, err = y.e.SetSchedule(context.Background(), "s", api.Schedule{Every: job.Duration(time.Hour), Job: job.Spec{Task: "dues.charge"}})
		y.refuses(err, "job.call is missing")
		memoryAgrees(t, y.e)
	})
}

// While a host gives no answer its jobs are held, uncounted, but for one at a time that tries it; those for
// others go past them, lanes keep their order, and all go on when it answers, over restarts.
func TestSilentHosts(t *testing.T) {
	inYard(t, func(y *yard) {
		y.openToAll()
		y.callsMadeBy("dues.charge")
		in := func(lane, host string) job.Spec {
			s := callOf("dues.charge", host)
			s.Lane = lane
			return s
		}
		y.enqueue(in("", "down.example"), in("a", "down.example"), in("a", "up.example"), in("", "down.example"), in("", "up.example"))
		require.NoError(t, y.e.HostSilent(context.Background(), "down.example", "no route"))
		assert.Equal(t, []int64{5}, idsOf(y.own(10)), "the job behind in lane a waits for the one that is held")
		assert.Equal(t, []string{"held", "held", "held", "held", "running"}, y.states(1, 2, 3, 4, 5))
		assert.Contains(t, y.why(1), "down.example has given no answer since")
		assert.Contains(t, y.why(3), "ob 2 has lane a")
		y.enqueue(in("", "down.example"))
		assert.Equal(t, []string{"held"}, y.states(6))

		// It is tried by one job, whose failure is not counted.
		time.Sleep(9 * time.Second)
		assert.Empty(t, y.own(10))
		time.Sleep(2 * time.Second)
		probe := y.own(10)
		require.Equal(t, []int64{1}, idsOf(probe))
		require.NoError(t, y.e.HostSilent(context.Background(), "down.example", "still no route"))
		y.settle(probe[0], job.OutcomePostponed)
		time.Sleep(18 * time.Second)
		assert.Empty(t, y.own(10), "the next time comes later")
		assert.Zero(t, y.job(1).Tries)
		y.openToAll()
		time.Sleep(3 * time.Second)
		probe = y.own(10)
		require.Len(t, probe, 1, "a restart forgets nothing")

		// One that can be tried by nobody any more gives way to another.
		_, err := y.e.Cancel(context.Background(), probe[0].Job.ID)
		require.NoError(t, err)
		y.settle(probe[0], job.OutcomeReleased)
		time.Sleep(31 * time.Second)
		probe = y.own(10)
		require.Len(t, probe, 1)
		require.NoError(t, y.e.HostAnswers(context.Background(), "down.example"))
		y.settle(probe[0], job.OutcomeDone)
		time.Sleep(time.Second)
		for leases := y.own(10); len(leases) > 0; leases = y.own(10) {
			for _, l := range leases {
				y.settle(l, job.OutcomeDone)
			}
		}
		for _, id := range []int64{2, 3, 4, 6} {
			assert.Contains(t, []string{"done", "cancelled"}, y.states(id)[0], id)
		}
		memoryAgrees(t, y.e)

		// Somebody may try it at once.
		y.enqueue(in("", "down.example"))
		require.NoError(t, y.e.HostSilent(context.Background(), "down.example", "no route"))
		assert.Empty(t, y.own(10))
		_, err = y.e.StartNow(context.Background(), 7)
		require.NoError(t, err)
		assert.Equal(t, []int64{7}, idsOf(y.own(10)))
	})
}

// Many jobs for a host that gives no answer do not keep one behind them from another.
func TestManySilent(t *testing.T) {
	n := rounds(20_000, 2000)
	inYard(t, func(y *yard) {
		y.openToAll()
		y.callsMadeBy("dues.charge")
		for left := n; left > 0; left -= 1000 {
			y.enqueue(slices.Repeat([]job.Spec{callOf("dues.charge", "down.example")}, 1000)...)
		}
		y.enqueue(callOf("dues.charge", "up.example"))
		require.NoError(t, y.e.HostSilent(context.Background(), "down.example", "no route"))
		a, err := y.e.Lease(ByService(context.Background()), api.LeaseRequest{Worker: "service", Queues: []string{"common"}, Limit: 1, Wait: api.MaxWait})
		require.NoError(t, err)
		require.Equal(t, []int64{int64(n) + 1}, idsOf(a.Leases))
		assert.Equal(t, int64(n), y.count(job.Held))
		require.NoError(t, y.e.HostAnswers(context.Background(), "down.example"))
		time.Sleep(5 * time.Second)
		assert.Equal(t, int64(n), y.count(job.Ready), "and all are let go")
		memoryAgrees(t, y.e)
	})
}

// Whatever is done to calls and their hosts in whatever order: no more than one job at a time runs to a host
// that gives no answer, those of a lane run in their order, and once all hosts answer every job ends.
func TestCallsAtRandom(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	inYard(t, func(y *yard) {
		y.openToAll()
		y.callsMadeBy("dues.charge", "notice.publish")
		y.rules("turns", api.Rules{Turns: api.TurnsOwner})
		hosts := []string{"a.example", "b.example", "c.example:8443"}
		silentSince := map[string]bool{}
		running := map[string]api.Lease{}
		var last int64
		lanes := map[string][]int64{}
		settle := func(token string, outcome job.Outcome) {
			delete(running, token)
			s := api.Settlement{Token: token, Outcome: outcome}
			if outcome == job.OutcomePostponed {
				s.Delay = job.Duration(time.Second)
			}
			_, err := y.e.Settle(context.Background(), []api.Settlement{s})
			require.NoError(t, err)
		}
		hostOf := func(l api.Lease) string {
			c, err := job.ReadCall(l.Job.Payload)
			require.NoError(t, err)
			return c.Host()
		}
		giveBack := func(host string) {
			for token, l := range running {
				if hostOf(l) == host {
					settle(token, job.OutcomePostponed)
				}
			}
		}
		steps := rounds(500, 150)
		for range steps {
			switch random.IntN(10) {
			case 0, 1, 2:
				s := callOf([]string{"dues.charge", "notice.publish"}[random.IntN(2)], hosts[random.IntN(len(hosts))])
				s.Queue = []string{"common", "turns"}[random.IntN(2)]
				s.Owner = fmt.Sprint(random.IntN(3))
				if random.IntN(2) == 0 {
					s.Lane = fmt.Sprint("lane-", random.IntN(3))
				}
				if random.IntN(4) == 0 {
					s.Delay = job.Duration(random.IntN(20)) * job.Duration(time.Second)
				}
				told, err := y.e.Enqueue(context.Background(), s)
				require.NoError(t, err)
				if last = told.ID; s.Lane != "" && s.Delay == 0 {
					at := s.Queue + " " + s.Lane
					lanes[at] = append(lanes[at], last)
				}
			case 3, 4, 5:
				for _, l := range y.own(1 + random.IntN(5)) {
					running[l.Token] = l
				}
			case 6:
				for token := range running {
					settle(token, []job.Outcome{job.OutcomeDone, job.OutcomeDone, job.OutcomePostponed}[random.IntN(3)])
					break
				}
			case 7:
				host := hosts[random.IntN(len(hosts))]
				require.NoError(t, y.e.HostSilent(context.Background(), host, "no route"))
				silentSince[host] = true
				giveBack(host) // what was under way is no try
			case 8:
				host := hosts[random.IntN(len(hosts))]
				require.NoError(t, y.e.HostAnswers(context.Background(), host))
				delete(silentSince, host)
			default:
				time.Sleep(time.Duration(random.IntN(15_000)) * time.Millisecond)
				if random.IntN(10) == 0 {
					y.openToAll()
					for host := range silentSince { // by whom it was tried is not known any more
						giveBack(host)
					}
				}
			}
			byHost, byLane := map[string]int{}, map[string]int{}
			for _, l := range running {
				byHost[hostOf(l)]++
				if l.Job.Lane != "" {
					byLane[l.Job.Queue+" "+l.Job.Lane]++
				}
			}
			for host := range silentSince {
				if !y.e.Silent(host) { // nobody waited for it when it was to be tried
					delete(silentSince, host)
					continue
				}
				require.LessOrEqual(t, byHost[host], 1, host)
			}
			for lane, n := range byLane {
				require.LessOrEqual(t, n, 1, lane)
			}
		}
		for token := range maps.Clone(running) {
			settle(token, job.OutcomeDone)
		}
		for _, host := range hosts {
			require.NoError(t, y.e.HostAnswers(context.Background(), host))
		}
		for range 60 {
			time.Sleep(time.Second)
			for _, l := range y.own(100) {
				y.settle(l, job.OutcomeDone)
			}
		}
		for id := int64(1); id <= last; id++ {
			require.Equal(t, []string{"done"}, y.states(id), "job %d: %s", id, y.why(id))
		}
		memoryAgrees(t, y.e)
		tablesAgree(y.T, y.e)
	})
}
