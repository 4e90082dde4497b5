package e2e

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/harbour"
	"humblemule.example/job"
)

// The examples in the help of every command do what they say on the demo's data, with ids of
// jobs that are in the state the example speaks of.
func TestExamples(t *testing.T) {
	t.Parallel()
	x := openHarbour(t)
	x.tryAll(func(command string) bool { return command != "demo" && !slices.Contains(alone, command) }) // TestDemo opens the demo
}

// Those of commands that need no service take longest.
func TestExamplesAlone(t *testing.T) {
	t.Parallel()
	x := &examples{t: t, dir: t.TempDir()}
	x.tryAll(func(command string) bool { return slices.Contains(alone, command) })
}

var alone = []string{"bench", "load"}

// tryAll tries the examples of some commands.
func (x *examples) tryAll(of func(command string) bool) {
	for _, example := range x.all(of) {
		if !x.t.Run(strings.Fields(example)[1], func(t *testing.T) { x.try(t, example) }) {
			x.t.Logf("the example was: %s", example)
		}
	}
}

// examples tries commands in a folder of their own, against a demo of their own.
type examples struct {
	t      *testing.T
	dir    string
	listen string
	mule   *client.Client
	used   map[int64]bool // jobs that an example was tried on
}

func openHarbour(t *testing.T) *examples {
	x := &examples{t: t, dir: t.TempDir(), listen: freeAddress(t), used: map[int64]bool{}}
	out := &journal{more: make(chan struct{})}
	demo := exec.Command(hmule, "demo", "--fixed", "--stay", "--listen", x.listen)
	demo.Stdout, demo.Stderr = out, out
	require.NoError(t, demo.Start())
	t.Cleanup(func() {
		demo.Process.Kill()
		demo.Wait()
	})
	out.find(t, `All \d+ jobs are in their planned`)
	var err error
	x.mule, err = client.New("http://" + x.listen)
	require.NoError(t, err)
	t.Cleanup(x.mule.Close)
	certificate(t, x.dir)
	for name, text := range map[string]string{
		"hmule.yaml": string(harbour.Setup()), "corrected.json": `{"manifest":"heron-0291b"}`,
		"voyage.yaml":     `{name: voyage 12, jobs: [{ref: flood, task: tide.predict, payload: {station: inner-quay, date: 2026-12-01}}, {task: tide.predict, payload: {station: lock-gate, date: 2026-12-01}, after: {refs: [flood]}}], last: {task: tide.predict, payload: {station: inner-quay, date: 2026-12-02}}}`,
		"arrivals.ndjson": `{"task":"manifest.check","queue":"berths","payload":{"manifest":"tern-0033"}}`,
		"arrival.json":    `{"manifest":"tern-0033","agent":"Okonkwo Lines"}`,
		"pack.sh":         "#!/bin/sh\ncat >/dev/null; echo '\"packed\"'\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(x.dir, name), []byte(text), 0o700))
	}
	for _, command := range []string{
		"hmule setup load hmule.yaml --adopt --may-remove", // and what examples say is there
		"hmule queue set old-queue priority=5", "hmule queue set old-queue --unset priority", "hmule task set old-task priority=5", "hmule task set old-task --unset priority", "hmule schedule set old-schedule every=1h job.task=tide.predict",
		"hmule hook set old-hook task=old-task proof.kind=none", "hmule endpoint set old-endpoint url=http://127.0.0.1:9911/", "hmule endpoint set customs url=http://127.0.0.1:9911/events", "hmule hook test arrivals arrival.json", "hmule queue set berths lane_on_dead=stop", "hmule token new ada --role operator --tokens tokens.yaml",
		"hmule export - | head -c 9000 > tides.jsonl.part",
	} {
		stdout, stderr, status := x.run(t, command)
		require.Zero(t, status, "%s: %s%s", command, stdout, stderr)
	}
	return x
}

// all gives the examples of some commands, in the order of the help; what ends a worker comes
// last of its kind.
func (x *examples) all(some func(command string) bool) (found []string) {
	read := func(command ...string) (text string) {
		text, _, status := run(x.t, "", append(command, "--help")...)
		require.Zero(x.t, status)
		return text
	}
	listed := func(text string) (names []string) {
		for _, line := range regexp.MustCompile(`(?m)^  ([a-z-]+) +[A-Z]`).FindAllStringSubmatch(text, -1) {
			if line[1] != "help" {
				names = append(names, line[1])
			}
		}
		return names
	}
	of := func(text, command string) {
		_, mine, _ := strings.Cut(text, "Examples:\n")
		mine, _, _ = strings.Cut(mine, "\n\n")
		assert.Contains(x.t, mine, "hmule "+command, "%s has no example", command)
		for line := range strings.Lines(mine) {
			found = append(found, strings.TrimSpace(line))
		}
	}
	var last []string
	commands := listed(read())
	require.Subset(x.t, commands, []string{"serve", "pool", "demo", "enqueue", "check", "version", "job", "dead", "queue", "lane", "task", "schedule", "worker", "operation", "action", "setup", "explain", "token", "bench", "load"})
	for _, name := range commands {
		if !some(name) {
			continue
		}
		text := read(name)
		verbs := listed(text)
		if len(verbs) == 0 {
			of(text, name)
		}
		for _, verb := range verbs {
			before := len(found)
			if of(read(name, verb), name+" "+verb); verb == "leave" {
				last = append(last, found[before:]...)
				found = found[:before]
			}
		}
	}
	return append(found, last...)
}

// run runs a line of a shell where the examples are tried.
func (x *examples) run(t *testing.T, line string) (stdout, stderr string, status int) {
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	cmd := x.command(ctx, line)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	require.NotNil(t, cmd.ProcessState, err)
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

func (x *examples) command(ctx context.Context, line string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "bash", "-c", strings.Replace(line, "hmule ", "exec hmule ", 1))
	cmd.Dir = x.dir
	cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(hmule)+":"+os.Getenv("PATH"), "HMULE_SERVER="+x.listen, "TZ=UTC")
	return cmd
}

// servers are the examples that run until they are ended, with what they say once they run.
var servers = map[string]string{"serve": `api=`, "pool --queue": `listens|slots`, "demo": `is open`, "dev": `is ready`}

func (x *examples) try(t *testing.T, example string) {
	line := x.made(t, example)
	for start, says := range servers {
		if strings.HasPrefix(example, "hmule "+start) {
			x.serve(t, line, says)
			return
		}
	}
	if example == "hmule watch" {
		x.watch(t, line)
		return
	}
	stdout, stderr, status := x.run(t, line)
	if status == 2 && strings.Contains(stderr, "add --yes to go on") {
		stdout, stderr, status = x.run(t, line+" --yes")
	}
	if strings.HasPrefix(example, "hmule check") || strings.HasPrefix(example, "hmule status") { // which find that nobody serves the demo's bindery
		assert.Contains(t, stdout, "No worker serves queue bindery")
		status--
	}
	assert.Zero(t, status, "%s\n%s%s", line, stdout, stderr)
	if !strings.Contains(line, " > ") {
		assert.NotEmpty(t, stdout+stderr, line)
	}
}

// watch runs an example in a terminal, until it is ended by a key.
func (x *examples) watch(t *testing.T, line string) {
	cmd := x.command(t.Context(), "script -qec '"+line+"' /dev/null")
	out := &journal{more: make(chan struct{})}
	cmd.Stdout, cmd.Stderr = out, out
	keys, err := cmd.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	defer cmd.Process.Kill()
	out.find(t, "No worker serves queue bindery")
	_, err = keys.Write([]byte("q"))
	require.NoError(t, err)
	assert.NoError(t, cmd.Wait(), out.String())
}

// serve runs an example that goes on until it is asked to end.
func (x *examples) serve(t *testing.T, line, says string) {
	cmd := x.command(t.Context(), line)
	out := &journal{more: make(chan struct{})}
	cmd.Stdout, cmd.Stderr = out, out
	require.NoError(t, cmd.Start())
	defer cmd.Process.Kill()
	out.find(t, says)
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	assert.NoError(t, cmd.Wait(), "%s\n%s", line, out)
}

// made puts what is there into an example: the id of a job in the state that the example speaks
// of, of a cause, of an operation, an address that is free, and less time where it measures.
func (x *examples) made(t *testing.T, example string) string {
	line, _, _ := strings.Cut(example, "    #")
	words := strings.Fields(line)
	verb := strings.Join(words[1:min(3, len(words))], " ")
	id := func(n int64) {
		line = regexp.MustCompile(`\b(42|4821|7)\b`).ReplaceAllString(line, strconv.FormatInt(n, 10))
	}
	switch {
	case verb == "backup get" || verb == "backup delete":
		b, err := x.mule.MakeBackup(t.Context())
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			b, err = x.mule.Backup(t.Context(), b.Name)
			return err == nil && b.Over()
		}, time.Minute, 50*time.Millisecond)
		line = regexp.MustCompile(`(backup|scheduled)-\d{8}T\d{6}Z\.db`).ReplaceAllString(line, b.Name)
		line = strings.Replace(line, "jobs-monday.db", "jobs-tuesday.db", 1)
	case strings.Contains(line, "--once 42"):
		receipt, err := x.mule.Enqueue(t.Context(), job.Spec{Task: "log.pack", Queue: "spare"}) // which no pool of the demo serves
		require.NoError(t, err)
		id(receipt.ID)
	case strings.Contains(line, " 4821"):
		x.dies(t, job.Spec{Task: "tide.predict", Payload: job.JSON(harbour.Day{Station: "inner-quay", Date: "2026-12-01", GaugeSilent: 1})})
		id(x.cause(t))
	case verb == "operation stop":
		x.dies(t, job.Spec{Task: "tide.predict"})
		o, err := x.mule.ActOnJobs(t.Context(), api.ActRequest{Action: api.ActRequeue, Filter: &api.Selection{Tasks: []string{"tide.predict"}, States: []job.State{job.Dead}}, PerSecond: 0.01})
		require.NoError(t, err)
		id(o.ID)
	case verb == "operation undo":
		x.dies(t, job.Spec{Task: "tide.predict"})
		id(x.operation(t, fmt.Sprintf("job discard --cause %d --yes", x.cause(t))))
	case verb == "operation show":
		id(x.operation(t, "job requeue --task manifest.check --state dead --yes"))
	case verb == "job undiscard":
		n := x.job(t, job.Dead)
		require.NoError(t, x.mule.DiscardJob(t.Context(), n))
		id(n)
	case verb == "job accept":
		id(x.refused(t))
	case strings.Contains(line, " 42"):
		state, named := map[string]job.State{"job start": job.Backoff, "job cancel": job.Scheduled, "job requeue": job.Dead, "job edit": job.Scheduled, "job discard": job.Dead, "job end-lease": job.Running}[verb]
		if !named {
			state = job.Done
		}
		id(x.job(t, state))
	case strings.Contains(line, "--after 41,42"):
		line = strings.Replace(line, "41,42", fmt.Sprintf("%d,%d", x.job(t, job.Done), x.job(t, job.Done)), 1)
	case strings.HasPrefix(verb, "batch ") && strings.Contains(line, " 41"):
		line = strings.Replace(line, " 41", fmt.Sprint(" ", x.batch(t, verb)), 1)
	case verb == "lane pass":
		x.dies(t, job.Spec{Task: "manifest.check", Queue: "berths", Lane: "berth-3", Payload: job.JSON(map[string]string{"manifest": "no-such-ship"})})
	case strings.Contains(line, "--task dues.charge"):
		x.dies(t, job.Spec{Task: "dues.charge", Payload: job.JSON("no ship")})
	}
	return strings.NewReplacer("0.0.0.0:6853", freeAddress(t), "serve --data", "serve --listen "+freeAddress(t)+" --data", "hmule demo", "hmule demo --listen "+freeAddress(t), "hmule dev", "hmule dev --listen "+freeAddress(t),
		"/var/lib/hmule", ". --span 100ms --rounds 1 --backlog 100", "--rounds 5", "--span 100ms --rounds 1", "load --example > load.yaml", `load --example | sed 's/for: .*/for: 1s/; s/of: 600/of: 20/; s/fails: .*/fails: 0/' > load.yaml`).Replace(line)
}

// batch makes a batch for a verb: one that ends, one of which a job dies, or one that waits.
func (x *examples) batch(t *testing.T, verb string) int64 {
	b, spec := client.NewBatch("voyage"), job.Spec{Task: "tide.predict", Payload: job.JSON(harbour.Day{Station: "inner-quay", Date: "2026-12-01"})}
	switch verb {
	case "batch requeue", "batch discard":
		spec = job.Spec{Task: "manifest.check", Payload: job.JSON(map[string]string{"manifest": "no-such-ship"})}
	case "batch cancel", "batch close":
		spec.Delay = job.For(time.Hour)
		b.Open()
	}
	b.Add(spec)
	made, err := x.mule.Start(t.Context(), b)
	require.NoError(t, err)
	if spec.Delay == 0 {
		_, err = x.mule.WaitForBatch(t.Context(), made.ID, time.Minute)
		require.NoError(t, err)
	}
	return made.ID
}

// job gives a job in a state that no example was tried on.
func (x *examples) job(t *testing.T, state job.State) int64 {
	for j, err := range x.mule.Jobs(t.Context(), api.Filter{States: []job.State{state}}) {
		require.NoError(t, err)
		if !x.used[j.ID] {
			x.used[j.ID] = true
			return j.ID
		}
	}
	require.Fail(t, "no job is left", state)
	return 0
}

func (x *examples) cause(t *testing.T) int64 {
	for c, err := range x.mule.Causes(t.Context(), api.CauseFilter{}) {
		require.NoError(t, err)
		if c.By[0].Queue == "common" { // which the demo serves
			return c.ID
		}
	}
	require.Fail(t, "no cause is left")
	return 0
}

// operation gives the operation that a command begins.
func (x *examples) operation(t *testing.T, command string) int64 {
	stdout, stderr, status := x.run(t, "hmule "+command)
	require.Zero(t, status, "%s: %s%s", command, stdout, stderr)
	for o, err := range x.mule.Operations(t.Context()) {
		require.NoError(t, err)
		return o.ID
	}
	require.Fail(t, "no operation began", command)
	return 0
}

// refused gives a job whose outcome was refused.
func (x *examples) refused(t *testing.T) int64 {
	receipt, err := x.mule.Enqueue(t.Context(), job.Spec{Task: "log.pack", Queue: "spare"})
	require.NoError(t, err)
	_, stderr, status := x.run(t, fmt.Sprintf(`hmule pool --once %d --run log.pack='echo "@hmule enqueue {\"task\":\"No Name\"}"'`, receipt.ID))
	require.Equal(t, 1, status, stderr)
	return receipt.ID
}

// dies enqueues a job and waits until it is dead.
func (x *examples) dies(t *testing.T, s job.Spec) {
	s.MaxAttempts = new(1)
	receipt, err := x.mule.Enqueue(t.Context(), s)
	require.NoError(t, err)
	j, err := x.mule.WaitFor(t.Context(), receipt.ID, 20*time.Second)
	require.NoError(t, err)
	require.Equal(t, job.Dead, j.State)
}
