package e2e

import (
	"bufio"
	"context"
	"flag"
	"fmt"
	"log/slog"
	"math/rand/v2"
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

	"humblemule/client"
	"humblemule/core/job"
	"humblemule/worker"
)

var soak = flag.Duration("soak", 12*time.Second, "how long TestSoak kills services and pools")

// A pool of its own process is this test binary, started anew with these in its
// environment.
const (
	poolServer = "E2E_POOL_SERVER"
	poolDiary  = "E2E_POOL_DIARY"
)

// poolProcess runs a pool until it is killed or told to end. What its handlers do
// they write into a diary that all pools share, a line at once.
func poolProcess(server string) error {
	mule, err := client.New(server, client.Patience(time.Minute))
	if err != nil {
		return err
	}
	diary, err := os.OpenFile(os.Getenv(poolDiary), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError}))
	pool := worker.New(mule, worker.Options{Slots: 4, Ahead: 2, Lease: 2 * time.Second, Grace: 10 * time.Second, Log: log})
	worker.Handle(pool, "log.pack", func(ctx context.Context, ms int) (int, error) {
		j := worker.Job(ctx)
		line := func(what string) {
			fmt.Fprintf(diary, "%s %d %d %d\n", what, j.ID, j.Attempt, time.Now().UnixMilli())
		}
		line("begin")
		j.Progress(50, "half")
		select {
		case <-time.After(time.Duration(ms) * time.Millisecond):
			line("end")
			return ms, nil
		case <-ctx.Done():
			line("stopped")
			return 0, ctx.Err()
		}
	})
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	told := make(chan os.Signal, 1)
	signal.Notify(told, syscall.SIGTERM)
	go func() {
		<-told
		stop()
	}()
	return pool.Run(ctx)
}

func startPool(t *testing.T, server, diary string) *exec.Cmd {
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), poolServer+"="+server, poolDiary+"="+diary)
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	return cmd
}

// begun is a line of the diary.
type begun struct {
	job     int64
	attempt int
	at      job.Time
}

func readDiary(t *testing.T, path, what string) (all []begun) {
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		var word string
		var b begun
		_, err := fmt.Sscanf(lines.Text(), "%s %d %d %d", &word, &b.job, &b.attempt, &b.at)
		require.NoError(t, err, lines.Text())
		if word == what {
			all = append(all, b)
		}
	}
	return all
}

// Service and pools are killed again and again, in any order, under load: every
// acknowledged job ends exactly once as done, attempts add up, and by the workers'
// own diaries no lease began while another of its job was live.
func TestSoak(t *testing.T) {
	t.Parallel()
	s := serve(t)
	diary := filepath.Join(t.TempDir(), "diary")
	m, err := client.New(s.url, client.Patience(time.Minute))
	require.NoError(t, err)
	pools := make([]*exec.Cmd, 3)
	for i := range pools {
		pools[i] = startPool(t, s.url, diary)
	}
	var ids []int64
	producing, stop := context.WithCancel(t.Context())
	var producer sync.WaitGroup
	producer.Go(func() {
		for producing.Err() == nil {
			most := 0
			j, err := m.Enqueue(producing, job.Spec{Task: "log.pack", Payload: rand.IntN(400), MaxAttempts: &most, Retry: &job.Retry{First: job.Duration(100 * time.Millisecond), Ceiling: job.Duration(time.Second)}})
			if err == nil {
				ids = append(ids, j.ID)
			}
			time.Sleep(time.Duration(rand.IntN(40)) * time.Millisecond)
		}
	})
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
		pools[i] = startPool(t, s.url, diary)
	}
	stop()
	producer.Wait()
	t.Logf("%d jobs acknowledged, the service killed %d times, pools %d times", len(ids), killed[0], killed[1])
	require.NotEmpty(t, ids)

	begins := map[int64][]begun{}
	for _, id := range ids {
		j, err := m.Await(t.Context(), id, time.Minute)
		require.NoError(t, err)
		require.Equal(t, job.Done, j.State, "job %d", id)
	}
	for _, p := range pools {
		p.Process.Signal(syscall.SIGTERM)
		assert.NoError(t, p.Wait(), "a pool that is told to end exits with 0")
	}
	for _, b := range readDiary(t, diary, "begin") {
		begins[b.job] = append(begins[b.job], b)
	}
	for _, id := range ids {
		j, err := m.Job(t.Context(), id)
		require.NoError(t, err)
		done := 0
		for i, a := range j.Attempts {
			require.Equal(t, i+1, a.N, "job %d", id)
			if a.Outcome == job.OutcomeDone {
				done++
			}
			if i > 0 {
				require.GreaterOrEqual(t, a.StartedAt, j.Attempts[i-1].EndedAt, "job %d: two live leases", id)
			}
		}
		require.Equal(t, 1, done, "job %d", id)
		require.Len(t, j.Attempts, j.Attempt, "job %d", id)
		seen := map[int]bool{}
		for _, b := range begins[id] {
			require.False(t, seen[b.attempt], "job %d began attempt %d twice", id, b.attempt)
			seen[b.attempt] = true
			require.LessOrEqual(t, b.attempt, len(j.Attempts))
			if b.attempt > 1 {
				require.GreaterOrEqual(t, b.at, j.Attempts[b.attempt-2].EndedAt, "job %d began attempt %d while the lease before was live", id, b.attempt)
			}
		}
		require.True(t, seen[j.Attempt], "job %d is done by an attempt that never began", id)
	}
}

// The service is away for 30 s under load: with leases of 45 s no job runs twice,
// and none loses an attempt.
func TestAway(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m, err := client.New(s.url, client.Patience(time.Second))
	require.NoError(t, err)
	var runs sync.Map
	pool := worker.New(m, worker.Options{Slots: 16, Lease: 45 * time.Second, Log: slog.New(slog.DiscardHandler)})
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
		specs = append(specs, job.Spec{Task: "log.pack", Payload: 100 + rand.IntN(9000)})
	}
	jobs, err := m.EnqueueMany(t.Context(), specs)
	require.NoError(t, err)
	time.Sleep(2 * time.Second)
	s.kill()
	time.Sleep(30 * time.Second)
	s.start()
	for _, known := range jobs {
		j, err := m.Await(t.Context(), known.ID, 2*time.Minute)
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
	diary := filepath.Join(t.TempDir(), "diary")
	m, err := client.New(s.url)
	require.NoError(t, err)
	pools := make([]*exec.Cmd, 3)
	for i := range pools {
		pools[i] = startPool(t, s.url, diary)
	}
	var ids []int64
	producing, stop := context.WithCancel(t.Context())
	var producer sync.WaitGroup
	producer.Go(func() {
		for producing.Err() == nil {
			j, err := m.Enqueue(t.Context(), job.Spec{Task: "log.pack", Payload: rand.IntN(300)})
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
			pools[i] = startPool(t, s.url, diary)
		}
	}
	stop()
	producer.Wait()
	for _, id := range ids {
		j, err := m.Await(t.Context(), id, time.Minute)
		require.NoError(t, err)
		require.Equal(t, []any{job.Done, 1}, []any{j.State, j.Tries}, "job %d", id)
		for _, a := range j.Attempts {
			require.Contains(t, []job.Outcome{job.OutcomeDone, job.OutcomeReleased}, a.Outcome, "job %d", id)
		}
	}
	for _, p := range pools {
		p.Process.Signal(syscall.SIGTERM)
		require.NoError(t, p.Wait())
	}
	all, err := m.Workers(t.Context())
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
		_, err := m.Enqueue(t.Context(), job.Spec{Task: "log.pack", Payload: ms})
		require.NoError(t, err)
	}
	log := &journal{more: make(chan struct{})}
	cmd := exec.Command(hmule, "pool", "--slots", "2", "--name", "archive", "--grace", "1s", "--run", `log.pack=echo "@hmule progress 7 threading"; read n; sleep $(echo $n | tr -d '"'); echo '{"packed":true}'`)
	cmd.Env, cmd.Stderr = append(os.Environ(), "HMULE_SERVER="+s.url), log
	require.NoError(t, cmd.Start())
	log.find(t, `msg=done pool=archive job=1`)
	out, _, status := run(t, s.url, "workers")
	assert.Equal(t, 0, status)
	assert.Regexp(t, `archive +runs +1 of 2`, out)
	require.Eventually(t, func() bool {
		out, _, _ := run(t, s.url, "job", "2")
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
	out, _, _ = run(t, s.url, "log", "2")
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
	out, errs, status = run(t, s.url, "accept", "3", "--enqueue", `[{"task":"notice.publish"}]`)
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
		{"--run a=true --slots 4 --max-slots 2", "do not fit"}, {"--run a=true --ahead -2", "--ahead -2 is no number"}, {"--run a=true --lease soon", "--lease"}, {"--run a=true --once x", "is no id of a job"},
	} {
		_, errs, status := run(t, s.url, append([]string{"pool"}, strings.Fields(c.flags)...)...)
		assert.Equal(t, 2, status, c.flags)
		assert.Contains(t, errs, c.want)
	}
}
