package shell_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/internal/shell"
	"humblemule.example/job"
	"humblemule.example/worker"
	"humblemule.example/worker/workertest"
)

func run(ctx context.Context, t *testing.T, command string, s job.Spec) workertest.Outcome {
	pool := worker.New(nil, worker.Options{Log: slog.New(slog.DiscardHandler)})
	shell.Handle(pool, "log.pack", command)
	s.Task = "log.pack"
	return workertest.RunContext(ctx, t, pool, s, workertest.ID(42), workertest.Try(3))
}

// The exit status, and what the command has told, decide what becomes of its job.
func TestOutcomes(t *testing.T) {
	for name, c := range map[string]struct {
		command string
		want    api.Settlement
	}{
		"the payload, and a result": {`printf '{"got":'; cat; echo '}'`, api.Settlement{Outcome: job.OutcomeDone, Result: []byte(`{"got":{"day":"2026-11-23"}}`)}},
		"no result":                 {`echo packed`, api.Settlement{Outcome: job.OutcomeDone, Report: api.Report{Log: []string{"packed"}, LogFrom: 1}}},
		"a line without an end":     {`printf 1`, api.Settlement{Outcome: job.OutcomeDone, Result: []byte("1")}},
		"what runs":                 {`echo "[$HMULE_JOB_ID,$HMULE_ATTEMPT,\"$HMULE_TASK\",\"$HMULE_QUEUE\",\"$TRACEPARENT\"]"`, api.Settlement{Outcome: job.OutcomeDone, Result: []byte(`[42,3,"log.pack","archive","00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"]`)}},
		"a payload nobody reads":    {`exec true`, api.Settlement{Outcome: job.OutcomeDone}},
		"failed":                    {`echo half; echo "no tape" >&2; exit 3`, api.Settlement{Outcome: job.OutcomeFailed, Error: &job.Failure{Type: "command", Message: "exit status 3: no tape"}}},
		"a signal":                  {`kill -9 $$`, api.Settlement{Outcome: job.OutcomeFailed, Error: &job.Failure{Type: "command", Message: "signal: killed"}}},
		"give up":                   {`exit 65`, api.Settlement{Outcome: job.OutcomeGiveUp, Error: &job.Failure{Type: "command", Message: "exit status 65"}}},
		"again in a while":          {`echo "@hmule retry_in 90s"; exit 1`, api.Settlement{Outcome: job.OutcomeFailed, Delay: job.Duration(90 * time.Second), Error: &job.Failure{Type: "command", Message: "exit status 1"}}},
		"skip":                      {`echo "@hmule skip the ship has sailed"`, api.Settlement{Outcome: job.OutcomeSkipped, ReasonText: "the ship has sailed"}},
		"postpone":                  {`echo "@hmule postpone 10m"`, api.Settlement{Outcome: job.OutcomePostponed, Delay: job.Duration(10 * time.Minute), ReasonText: "postponed"}},
		"told": {`echo "@hmule progress 40 charts are drawn"; echo "@hmule label berth 3"; echo '@hmule enqueue {"task":"notice.publish","payload":{"n":12345678901234567890}}'`, api.Settlement{
			Outcome: job.OutcomeDone, Report: api.Report{Progress: &job.Progress{Percent: 40, Note: "charts are drawn"}, Labels: map[string]string{"berth": "3"}},
		}},
		"not found":        {`no-such-program-here 2>/dev/null`, api.Settlement{Outcome: job.OutcomeFailed, Error: &job.Failure{Type: "command", Message: "exit status 127"}}},
		"no program":       {`/etc/passwd 2>/dev/null`, api.Settlement{Outcome: job.OutcomeFailed, Error: &job.Failure{Type: "command", Message: "exit status 126"}}},
		"an ill result":    {`printf '{"half":'`, api.Settlement{Outcome: job.OutcomeDone, Report: api.Report{Log: []string{`{"half":`}, LogFrom: 1}}},
		"a long result":    {`printf '"%s"' "$(head -c 1100000 /dev/zero | tr '\0' x)"`, api.Settlement{Outcome: job.OutcomeDone, Result: api.DropResult(1_100_002, api.ResultTooLong(1_100_002))}},
		"an ill follow-up": {`echo '@hmule enqueue {"tsk":1}'; echo '@hmule enqueue {"task":'`, api.Settlement{Outcome: job.OutcomeDone, RawEnqueue: []json.RawMessage{[]byte(`{"tsk":1}`), []byte(`"{\"task\":"`)}}},
	} {
		got := run(t.Context(), t, c.command, job.Spec{Queue: "archive", Payload: job.JSON(map[string]string{"day": "2026-11-23"}), Traceparent: "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"}).Settlement
		if name == "told" {
			require.Len(t, got.Enqueue, 1)
			assert.Equal(t, `{"n":12345678901234567890}`, string(got.Enqueue[0].Payload))
			got.Enqueue = nil
		}
		if c.want.Report.Empty() {
			got.Report = api.Report{}
		}
		got.RunMS = 0
		assert.Equal(t, c.want, got, name)
	}
}

// What is told wrongly is said in the log, and so is what is written; very long
// lines and other bytes than text do no harm.
func TestOutput(t *testing.T) {
	got := run(t.Context(), t, `echo one; echo "@hmule dance"; echo "@hmule progress much"; echo '@hmule enqueue {"tsk":1}'; printf '\377\n'; head -c 3000000 /dev/zero | tr '\0' x; echo; sleep 0.1; echo bad >&2`, job.Spec{})
	text := strings.Join(got.Log, "\n")
	for _, want := range []string{"one", "not understood: @hmule dance (it is one of progress", "progress needs a number", "unknown field", "\uFFFD", "xxx … (cut)", "bad"} {
		assert.Contains(t, text, want)
	}
	assert.Less(t, len(text), 10_000)
}

// pidFile is a file for the id of a process, and waits until that process is gone.
func pidFile(t *testing.T) (file string, gone func()) {
	file = filepath.Join(t.TempDir(), "pid")
	return file, func() {
		t.Helper()
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		n, err := strconv.Atoi(strings.TrimSpace(string(raw)))
		require.NoError(t, err)
		// One that has ended stays as a zombie until init has time for it.
		assert.Eventually(t, func() bool {
			stat, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", n))
			return syscall.Kill(n, 0) != nil || bytes.Contains(stat, []byte(") Z "))
		}, 10*time.Second, 10*time.Millisecond)
	}
}

// When the attempt has to end, the command and all it has started get SIGTERM, and
// SIGKILL where they do not obey; something it left running does not hold it up.
func TestEnds(t *testing.T) {
	t.Parallel()
	t.Run("by SIGTERM", func(t *testing.T) {
		t.Parallel()
		file, gone := pidFile(t)
		began := time.Now()
		got := run(t.Context(), t, `sleep 60 & echo $! > `+file+`; wait`, job.Spec{Timeout: job.Duration(300 * time.Millisecond)})
		assert.Equal(t, "timeout", got.Error.Type)
		assert.Less(t, time.Since(began), shell.KillAfter)
		gone()
	})
	t.Run("by SIGKILL", func(t *testing.T) {
		t.Parallel()
		file, gone := pidFile(t)
		began := time.Now()
		ctx, cancel := context.WithCancelCause(t.Context())
		time.AfterFunc(300*time.Millisecond, func() { cancel(worker.ErrDraining) })
		got := run(ctx, t, `trap "" TERM; sleep 60 & echo $! > `+file+`; wait; wait`, job.Spec{})
		assert.Equal(t, job.OutcomeReleased, got.Outcome)
		assert.GreaterOrEqual(t, time.Since(began), shell.KillAfter)
		gone()
	})
	t.Run("something left running", func(t *testing.T) {
		t.Parallel()
		began := time.Now()
		got := run(t.Context(), t, `setsid sleep 20 & echo '"left"'`, job.Spec{})
		assert.Equal(t, job.OutcomeDone, got.Outcome)
		assert.Less(t, time.Since(began), 15*time.Second)
		assert.Contains(t, strings.Join(got.Log, "\n"), "keeps its output open")
	})
}

// A command that is run once gets its input and its environment, and says why it has failed; what it leaves
// running holds nobody up, and what outlives its time is ended with all that it has started.
func TestOnce(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, shell.Once(t.Context(), `cat > `+at("in")+`; printf %s "$HMULE_SUBJECT" > `+at("subject"), []byte(`{"berth":3}`), []string{"HMULE_SUBJECT=it's $(date) dead\n"}))
	for name, want := range map[string]string{"in": `{"berth":3}`, "subject": "it's $(date) dead\n"} {
		got, err := os.ReadFile(at(name))
		require.NoError(t, err)
		assert.Equal(t, want, string(got))
	}
	for command, want := range map[string]string{
		"true":        "",
		"exec <&-":    "", // nobody reads the input
		"exit 3":      "exit status 3",
		"kill -9 $$":  "signal: killed",
		"sleep 6 &":   "", // its output stays open
		"no-such-one": "exit status 127: ",
		`echo first >&2; echo "no tape" >&2; echo >&2; exit 1`: "exit status 1: no tape",
		`head -c 3000000 /dev/zero | tr '\0' x >&2; exit 1`:    "exit status 1: xxx",
		`yes | head -n 200000; printf '\377' >&2; exit 1`:      "exit status 1: \uFFFD",
	} {
		began := time.Now()
		err := shell.Once(t.Context(), command, bytes.Repeat([]byte("x"), 1<<20), nil)
		assert.Less(t, time.Since(began), 15*time.Second, command)
		if want == "" {
			assert.NoError(t, err, command)
			continue
		}
		require.ErrorContains(t, err, want, command)
		assert.Less(t, len(err.Error()), 5000, command)
	}
	ctx, cancel := context.WithTimeoutCause(t.Context(), 200*time.Millisecond, os.ErrDeadlineExceeded)
	defer cancel()
	file, gone := pidFile(t)
	began := time.Now()
	assert.ErrorIs(t, shell.Once(ctx, `trap "" TERM; sleep 60 & echo $! > `+file+`; wait; wait`, nil, nil), os.ErrDeadlineExceeded)
	assert.Less(t, time.Since(began), shell.KillAfter+3*time.Second)
	gone()
}
