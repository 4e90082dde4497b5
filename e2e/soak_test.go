package e2e

import (
	"bufio"
	"context"
	"flag"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
	"humblemule.example/worker"
)

var soak = flag.Duration("soak", 12*time.Second, "how long TestSoak kills services and pools")

// A pool of its own process is this test binary, started anew with these in its
// environment.
const (
	poolServer = "E2E_POOL_SERVER"
	poolLedger = "E2E_POOL_LEDGER"
)

// poolProcess runs a pool until it is killed or told to end. What its handlers do they
// write into the ledger.
func poolProcess(server string) error {
	mule, err := client.New(server, client.RetryFor(time.Minute))
	if err != nil {
		return err
	}
	book, err := openLedger(os.Getenv(poolLedger))
	if err != nil {
		return err
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError}))
	pool := worker.New(mule.Source(), worker.Options{Slots: 4, Ahead: 2, Lease: 2 * time.Second, Grace: 10 * time.Second, Log: log})
	worker.Handle(pool, "log.pack", func(ctx context.Context, ms int) (int, error) {
		j := worker.Job(ctx)
		line := told{What: begins, Job: j.ID, Attempt: j.Attempt}
		book.note(line)
		j.Progress(50, "half")
		select {
		case <-time.After(time.Duration(ms) * time.Millisecond):
			line.What, line.Outcome = willSettle, job.OutcomeDone
			book.note(line)
			return ms, nil
		case <-ctx.Done():
			return 0, ctx.Err()
		}
	})
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	end := make(chan os.Signal, 1)
	signal.Notify(end, syscall.SIGTERM)
	go func() {
		<-end
		stop()
	}()
	fmt.Println("listens for signals")
	return pool.Run(ctx)
}

// startPool returns once the pool's process listens for signals: on a busy machine half a
// second is not enough for that, and a SIGTERM that comes earlier ends it as any process.
func startPool(t *testing.T, server, book string) *exec.Cmd {
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), poolServer+"="+server, poolLedger+"="+book)
	cmd.Stderr = os.Stderr
	says, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill() })
	_, err = bufio.NewReader(says).ReadString('\n')
	require.NoError(t, err, "the pool's process ended before it listened for signals")
	return cmd
}

// crew are clients of one process who work until they are told to end, and write down what
// they ask and are told.
type crew struct {
	*client.Client
	book ledger
	mu   sync.Mutex
	ids  []int64 // acknowledged jobs
}

// produce enqueues jobs, one or several at a time.
func (c *crew) produce(ctx context.Context, name string) {
	for n := 0; ctx.Err() == nil; n++ {
		most := 0
		specs := make([]job.Spec, 1+max(rand.IntN(12)-6, 0))
		for i := range specs {
			specs[i] = job.Spec{Task: "log.pack", Key: fmt.Sprintf("%s-%d-%d", name, n, i), Payload: job.JSON(rand.IntN(300)), MaxAttempts: &most, Retry: &job.Retry{First: job.Duration(100 * time.Millisecond), Ceiling: job.Duration(time.Second)}}
			c.book.note(told{What: asksEnqueue, Key: specs[i].Key})
		}
		var jobs []api.Enqueued
		var err error
		if len(specs) > 1 {
			var many api.EnqueuedMany
			many, err = c.EnqueueMany(ctx, specs)
			jobs = many.Jobs
		} else {
			jobs = make([]api.Enqueued, 1)
			jobs[0], err = c.Enqueue(ctx, specs[0])
		}
		for i := 0; err == nil && i < len(jobs); i++ {
			c.book.note(told{What: toldEnqueued, Key: specs[i].Key, Job: jobs[i].ID})
			c.mu.Lock()
			c.ids = append(c.ids, jobs[i].ID)
			c.mu.Unlock()
		}
		time.Sleep(time.Duration(rand.IntN(60)) * time.Millisecond)
	}
}

// work leases jobs and ends them in every way, or forgets them.
func (c *crew) work(ctx context.Context, name string) {
	outcomes := []job.Outcome{job.OutcomeDone, job.OutcomeDone, job.OutcomeFailed, job.OutcomeReleased, job.OutcomePostponed, job.OutcomeSkipped, job.OutcomeGiveUp, ""}
	for ctx.Err() == nil {
		a, err := c.Source().Lease(ctx, api.LeaseRequest{Worker: name, Queues: []string{"common"}, Limit: 3, Lease: job.Duration(2 * time.Second), Wait: job.Duration(time.Second)})
		if err != nil {
			continue
		}
		var items []api.Settlement
		var lines []told
		for _, l := range a.Leases {
			line := told{What: toldLeased, Job: l.Job.ID, Attempt: l.Job.Attempt, Token: l.Token}
			c.book.note(line)
			s := api.Settlement{Token: l.Token, Outcome: outcomes[rand.IntN(len(outcomes))]}
			switch s.Outcome {
			case "":
				continue // its lease ends
			case job.OutcomeFailed, job.OutcomeGiveUp:
				s.Error = &job.Failure{Message: "the quay is full"}
			case job.OutcomePostponed:
				s.Delay = job.Duration(time.Second)
			}
			line.What, line.Outcome = willSettle, s.Outcome
			c.book.note(line)
			items, lines = append(items, s), append(lines, line)
		}
		if len(items) == 0 {
			continue
		}
		results, err := c.Source().Settle(context.WithoutCancel(ctx), items)
		for i := 0; err == nil && i < len(results); i++ {
			if lines[i].What = toldSettled; results[i].Status == api.StatusOK {
				c.book.note(lines[i])
			}
		}
		time.Sleep(time.Duration(rand.IntN(100)) * time.Millisecond)
	}
}

// operate cancels, requeues and removes jobs at random.
func (c *crew) operate(ctx context.Context) {
	for ctx.Err() == nil {
		time.Sleep(time.Duration(rand.IntN(150)) * time.Millisecond)
		c.mu.Lock()
		known := len(c.ids)
		line := told{}
		if known > 0 {
			line.Job = c.ids[rand.IntN(known)]
		}
		c.mu.Unlock()
		if known == 0 {
			continue
		}
		var j job.Job
		var err error
		switch rand.IntN(5) {
		case 0, 1:
			if j, err = c.CancelJob(ctx, line.Job); j.State == job.Cancelled {
				line.What = toldCancel
			}
		case 2, 3:
			j, err = c.RequeueJob(ctx, line.Job, api.Requeue{})
			line.What = toldRequeued
		default:
			err = c.DiscardJob(ctx, line.Job)
			line.What = toldRemoved
		}
		if line.Round = j.Round; err == nil && line.What != "" {
			c.book.note(line)
		}
	}
}

// Service and pools are killed again and again, in any order, under load of every kind, and
// every ninth answer is lost; in the end what clients were told is held against the tables.
func TestSoak(t *testing.T) {
	t.Parallel()
	s := serve(t)
	path := filepath.Join(t.TempDir(), "ledger")
	book, err := openLedger(path)
	require.NoError(t, err)
	changes := func(r *http.Request) bool { return r.Method != http.MethodGet }
	m, err := client.New(s.url, client.RetryFor(time.Minute), client.HTTPClient(&http.Client{Transport: &loser{next: newHTTP().Transport, picks: changes, one: 9}}))
	require.NoError(t, err)
	c := &crew{Client: m, book: book}
	pools := make([]*exec.Cmd, 3)
	for i := range pools {
		pools[i] = startPool(t, s.url, path)
	}
	busy, enough := context.WithCancel(t.Context())
	working, home := context.WithCancel(t.Context())
	var makers, workers sync.WaitGroup
	for i := range 2 {
		makers.Go(func() { c.produce(busy, fmt.Sprint("producer-", i)) })
		workers.Go(func() { c.work(working, fmt.Sprint("worker-", i)) })
	}
	makers.Go(func() { c.operate(busy) })
	killed := [2]int{}
	for until := time.Now().Add(*soak); time.Now().Before(until); {
		time.Sleep(time.Duration(300+rand.IntN(900)) * time.Millisecond)
		if rand.IntN(3) == 0 {
			killed[0]++
			s.kill()
			time.Sleep(time.Duration(rand.IntN(1500)) * time.Millisecond)
			s.start()
			continue
		}
		killed[1]++
		i := rand.IntN(len(pools))
		pools[i].Process.Kill()
		pools[i].Wait()
		pools[i] = startPool(t, s.url, path)
	}
	enough()
	makers.Wait()
	require.Eventually(t, func() bool {
		q, err := m.Queue(t.Context(), "common")
		return err == nil && q.Counts[job.Ready]+q.Counts[job.Running]+q.Counts[job.Scheduled]+q.Counts[job.Backoff] == 0
	}, 2*time.Minute, 50*time.Millisecond, "all that was enqueued ends")
	home()
	workers.Wait()
	for _, p := range pools {
		p.Process.Signal(syscall.SIGTERM)
		assert.NoError(t, p.Wait(), "a pool that is told to end exits with 0")
	}
	require.NoError(t, s.stop())
	t.Logf("%d jobs acknowledged, the service killed %d times, pools %d times", len(c.ids), killed[0], killed[1])
	a := newAudit(t, path, s.data)
	a.run()
	t.Logf("%d lines of the ledger hold against %d jobs and %d attempts", len(a.lines), len(a.jobs), len(a.attempts))
}

// The service is away for 30 s under load: with leases of 45 s no job runs twice,
// and none loses an attempt.
func TestAway(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m, err := client.New(s.url, client.RetryFor(time.Second))
	require.NoError(t, err)
	var runs sync.Map
	pool := worker.New(m.Source(), worker.Options{Slots: 16, Lease: 45 * time.Second, Log: slog.New(slog.DiscardHandler)})
	worker.Handle(pool, "log.pack", func(ctx context.Context, ms int) (bool, error) {
		n, _ := runs.LoadOrStore(worker.Job(ctx).ID, new(atomic.Int32))
		n.(*atomic.Int32).Add(1)
		select {
		case <-time.After(time.Duration(ms) * time.Millisecond):
			return true, nil
		case <-ctx.Done():
			return false, ctx.Err()
		}
	})
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- pool.Run(ctx) }()
	var specs []job.Spec
	for range 60 {
		specs = append(specs, job.Spec{Task: "log.pack", Payload: job.JSON(100 + rand.IntN(9000))})
	}
	jobs, err := m.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)
	time.Sleep(2 * time.Second)
	s.kill()
	time.Sleep(30 * time.Second)
	s.start()
	for _, known := range jobs.Jobs {
		j, err := m.WaitFor(t.Context(), known.ID, 2*time.Minute)
		require.NoError(t, err)
		assert.Equal(t, []any{job.Done, 1, 1}, []any{j.State, j.Attempt, j.Tries}, "job %d", j.ID)
		n, _ := runs.Load(j.ID)
		assert.Equal(t, int32(1), n.(*atomic.Int32).Load(), "runs of job %d", j.ID)
	}
	cancel()
	require.NoError(t, <-ended)
}

// Three pools are replaced one after the other under load, as a deploy does it:
// no job is lost, none fails, none is tried again.
func TestRollingRestart(t *testing.T) {
	t.Parallel()
	s := serve(t)
	book := filepath.Join(t.TempDir(), "ledger")
	m, err := client.New(s.url)
	require.NoError(t, err)
	pools := make([]*exec.Cmd, 3)
	for i := range pools {
		pools[i] = startPool(t, s.url, book)
	}
	var ids []int64
	producing, stop := context.WithCancel(t.Context())
	var producer sync.WaitGroup
	producer.Go(func() {
		for producing.Err() == nil {
			j, err := m.Enqueue(t.Context(), job.Spec{Task: "log.pack", Payload: job.JSON(rand.IntN(300))})
			assert.NoError(t, err)
			ids = append(ids, j.ID)
			time.Sleep(10 * time.Millisecond)
		}
	})
	for range 2 {
		for i := range pools {
			time.Sleep(500 * time.Millisecond)
			require.NoError(t, pools[i].Process.Signal(syscall.SIGTERM))
			require.NoError(t, pools[i].Wait())
			pools[i] = startPool(t, s.url, book)
		}
	}
	stop()
	producer.Wait()
	for _, id := range ids {
		j, err := m.WaitFor(t.Context(), id, time.Minute)
		require.NoError(t, err)
		require.Equal(t, []any{job.Done, 1}, []any{j.State, j.Tries}, "job %d: %v", id, j.Attempts)
		for _, a := range j.Attempts {
			require.Contains(t, []job.Outcome{job.OutcomeDone, job.OutcomeReleased}, a.Outcome, "job %d", id)
		}
	}
	for _, p := range pools {
		p.Process.Signal(syscall.SIGTERM)
		require.NoError(t, p.Wait())
	}
	all, err := client.Collect(m.Workers(t.Context()))
	require.NoError(t, err)
	assert.Empty(t, all, "those that ended have said good-bye")
	t.Logf("%d jobs over 6 replaced pools", len(ids))
}

// The pool of shell commands, as a person uses it: it ends on SIGTERM with what runs
// finished or given back; one job runs in the foreground; wrong flags are told.
func TestShellPool(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule()
	for _, ms := range []string{"0.1", "30"} {
		_, err := m.Enqueue(t.Context(), job.Spec{Task: "log.pack", Payload: job.JSON(ms)})
		require.NoError(t, err)
	}
	log := &journal{more: make(chan struct{})}
	cmd := exec.Command(hmule, "pool", "--slots", "2", "--name", "archive", "--grace", "1s", "--run", `log.pack=echo "@hmule progress 7 threading"; read n; sleep $(echo $n | tr -d '"'); echo '{"packed":true}'`)
	cmd.Env, cmd.Stderr = append(os.Environ(), "HMULE_SERVER="+s.url), log
	require.NoError(t, cmd.Start())
	log.find(t, `msg=done pool=archive job=1`)
	out, _, status := run(t, s.url, "worker", "list")
	assert.Equal(t, 0, status)
	assert.Regexp(t, `archive +active +1 of 2`, out)
	require.Eventually(t, func() bool {
		out, _, _ := run(t, s.url, "job", "show", "2")
		return strings.Contains(out, "7 %  threading")
	}, 10*time.Second, 100*time.Millisecond)
	cmd.Process.Signal(syscall.SIGTERM)
	require.NoError(t, cmd.Wait())
	given, err := m.Job(t.Context(), 2)
	require.NoError(t, err)
	assert.Equal(t, []any{job.Ready, 0}, []any{given.State, given.Tries})

	_, errs, status := run(t, s.url, "pool", "--once", "2", "--run", "log.pack=no-such-program")
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "the command no-such-program is not found")
	out, _, status = run(t, s.url, "pool", "--once", "2", "--run", `log.pack=echo one; echo '"by hand"'`)
	assert.Equal(t, 0, status)
	assert.Contains(t, out, `"by hand"`)
	out, _, _ = run(t, s.url, "job", "log", "2")
	assert.Regexp(t, `(?s)attempt 2\n.*one\n`, out)

	// A follow-up that only the service can refuse leaves the work done once, and kept.
	_, err = m.Enqueue(t.Context(), job.Spec{Task: "log.pack"})
	require.NoError(t, err)
	ran := filepath.Join(t.TempDir(), "ran")
	pack := `log.pack=echo ran >> ` + ran + `; echo '@hmule enqueue {"task":"Notice Publish"}'; echo '{"packed":3}'`
	_, _, _ = run(t, s.url, "pool", "--once", "3", "--run", pack)
	refused, err := m.Job(t.Context(), 3)
	require.NoError(t, err)
	assert.Equal(t, []any{job.Dead, job.OutcomeRefused}, []any{refused.State, refused.Reason})
	out, errs, status = run(t, s.url, "job", "accept", "3", "--enqueue", `[{"task":"notice.publish"}]`)
	assert.Equal(t, 0, status, errs)
	assert.Contains(t, out, "Job 3 is")
	accepted, err := m.Job(t.Context(), 3)
	require.NoError(t, err)
	assert.Equal(t, []any{job.Done, `{"packed":3}`, 1}, []any{accepted.State, string(accepted.Result), accepted.Attempt})
	follow, err := m.Job(t.Context(), 4)
	require.NoError(t, err)
	assert.Equal(t, "notice.publish", follow.Task)
	runs, err := os.ReadFile(ran)
	require.NoError(t, err)
	assert.Equal(t, "ran\n", string(runs), "the work was done once")
	for _, c := range []struct{ flags, want string }{
		{"", "--run is missing"}, {"--run log.pack", "is not TASK=COMMAND"}, {"--run Log=true", "is not TASK=COMMAND"}, {"--run a=true --slots 0", "do not fit"},
		{"--run a=true --slots 4 --max-slots 2", "do not fit"}, {"--run a=true --ahead -2", "--ahead -2 is"}, {"--run a=true --lease soon", "--lease"}, {"--run a=true --once x", "is not a valid id of a job"},
	} {
		_, errs, status := run(t, s.url, append([]string{"pool"}, strings.Fields(c.flags)...)...)
		assert.Equal(t, 2, status, c.flags)
		assert.Contains(t, errs, c.want)
	}
}
