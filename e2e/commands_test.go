package e2e

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/internal/harbour"
	"humblemule.example/job"
)

// A service that cannot start says why and what to do, in one line, and changes
// nothing.
func TestServeRefuses(t *testing.T) {
	t.Parallel()
	s := serve(t)
	text := filepath.Join(t.TempDir(), "notes.db")
	require.NoError(t, os.WriteFile(text, []byte(strings.Repeat("this is a text, and no data file ", 100)), 0o600))
	for what, c := range map[string]struct {
		args   []string
		says   string
		status int
	}{
		"the same file":         {[]string{"--data", s.data, "--listen", "127.0.0.1:0"}, "in use by another service", 1},
		"the same address":      {[]string{"--data", filepath.Join(t.TempDir(), "b.db"), "--listen", s.listen}, "choose another port with --listen", 1},
		"another file":          {[]string{"--data", text, "--listen", "127.0.0.1:0"}, "is damaged, or is not a data file of Humble Mule", 1},
		"no folder":             {[]string{"--data", "/nowhere/at/all.db", "--listen", "127.0.0.1:0"}, "create it or choose another file", 1},
		"a folder not writable": {[]string{"--data", "/proc/hmule.db", "--listen", "127.0.0.1:0"}, "--data", 1},
		"all addresses":         {[]string{"--data", text, "--listen", "0.0.0.0:6853"}, "use a loopback address", 2},
		"no address":            {[]string{"--listen", "6853"}, "write it as 127.0.0.1:6853", 2},
		"an unknown flag":       {[]string{"--prot", "1"}, "unknown flag: --prot", 2},
	} {
		_, stderr, status := run(t, "", append([]string{"serve"}, c.args...)...)
		assert.Equal(t, c.status, status, what)
		assert.Contains(t, stderr, c.says, what)
		lines := strings.Split(strings.TrimSpace(stderr), "\n")
		assert.True(t, strings.HasPrefix(lines[len(lines)-1], "hmule: "), "%s: %s", what, stderr)
	}
	_, err := s.mule().About(t.Context())
	require.NoError(t, err, "the first service still answers")
}

// A job's whole way by commands: it waits and says why, runs, fails, dies, is
// requeued and done.
func TestCommands(t *testing.T) {
	t.Parallel()
	s := serve(t)
	m := s.mule()
	says := s.says
	refuses := func(want string, status int, args ...string) {
		t.Helper()
		stdout, stderr, got := run(t, s.url, args...)
		assert.Equal(t, status, got, "%v %s", args, stdout)
		assert.Contains(t, stderr, want)
		assert.Equal(t, 1, strings.Count(stderr, "\n"), stderr)
	}
	says("No job matches.", "job", "list")
	says("Job 1 is ○ ready in queue berths.", "enqueue", "manifest.check", `{"manifest":"heron-0291"}`, "--queue", "berths", "--max-attempts", "1", "--owner", "Marsh Agency", "--label", "berth=berth-3", "--key", "heron")
	says("No worker serves queue berths.", "job", "why", "1")
	says("Job 2 is ◷ scheduled in queue common; it starts in ", "enqueue", "tide.predict", "--delay", "1h")
	says("Job 1 already has this key, so nothing was enqueued", "enqueue", "manifest.check", "--key", "heron", "--dedupe", "unfinished")
	says("not due until", "job", "why", "2")
	token := lease(t, m, "w", 1)[0].Token
	says("A worker runs it: try 1 of 1", "job", "why", "1")
	_, err := m.Source().Settle(t.Context(), []api.Settlement{{Token: token, Outcome: job.OutcomeFailed, Error: &job.Failure{Type: "manifest_malformed", Message: "line 4: the weight is not a valid number", Stack: "manifest.go:12 weigh()"}}})
	require.NoError(t, err)
	says("line 4: the weight is not a valid", "job", "why", "1")
	says("▼ dead", "job", "list", "--state", "dead", "--label", "berth=berth-3", "--owner", "Marsh Agency", "--since", "1h")
	said, _, _ := run(t, s.url, "job", "show", "1")
	for _, want := range []string{"manifest_malformed: line 4", "max attempts  1  from the job", "timeout       none  built in", "manifest.go:12 weigh()"} {
		assert.Contains(t, said, want)
	}
	says("line #: the weight is not a valid number", "dead", "list")
	cause, _, _ := run(t, s.url, "dead", "list", "-o", "ids")
	says("manifest.check", "dead", "show", strings.TrimSpace(cause))
	says("Job 3 is ○ ready", "enqueue", "berth.plan", "--lane", "berth-3", "--queue", "quay", "--start-by", "2099-01-01T00:00:00Z")
	says("Job 4 is ‖ held", "enqueue", "berth.plan", "--lane", "berth-3", "--queue", "quay")
	says("Job 3 has lane berth-3 and is ready.", "job", "why", "4")
	says("max_running      not set → 1", "queue", "set", "quay", "turns=owner", "max_running=1", "rate.per_second=100", "lane_on_dead=stop")
	says("lane_on_dead     stop", "queue", "show", "quay")
	says("max_running      1 → not set", "queue", "set", "quay", "--unset", "max_running")
	says("nothing differs", "queue", "set", "quay", "turns=owner")
	refuses("goes on by itself", 1, "lane", "pass", "quay", "berth-3")
	_, err = m.Source().Settle(t.Context(), []api.Settlement{{Token: leaseOf(t, m, "quay").Token, Outcome: job.OutcomeGiveUp}})
	require.NoError(t, err)
	says("stops the lane", "job", "why", "4")
	says("berth-3    3  ▼ dead  berth.plan        1", "lane", "list", "quay")
	says("goes on", "lane", "pass", "quay", "berth-3")
	says("berth.plan", "queue", "starts", "quay")
	_, err = m.Source().Settle(t.Context(), []api.Settlement{{Token: leaseOf(t, m, "quay").Token, Outcome: job.OutcomeDone}})
	require.NoError(t, err)
	says("1 job begins a new round at once", "job", "requeue", "--error", "weight", "--dry-run")
	refuses("There is no terminal to ask on: add --yes", 2, "job", "discard", "--task", "manifest.check")
	refuses("Cancel 2 jobs? There is no terminal to ask on", 2, "job", "cancel", "1", "2")
	says("1 of 1 job discarded", "job", "discard", "--task", "manifest.check", "--note", "an old one", "--yes")
	says("its jobs are back", "operation", "undo", "1")
	says("an old one", "operation", "list")
	says("discard", "action", "list")
	says("Job 1 was discarded.", "job", "discard", "1")
	says("Job 1 is ▼ dead.", "job", "undiscard", "1")
	says("1 job leaves every list and count at once", "queue", "purge", "common", "--dry-run")
	says("1 of 1 job removed", "queue", "purge", "common", "--yes")
	says("its jobs are back", "operation", "undo", "2")
	says("max_attempts     not set → 0", "task", "set", "tide.predict", "max_attempts=0")
	says("priority", "task", "set", "tide.predict", "--replace", `{"priority":6}`)
	says("98 s", "explain", "retry")
	says("at 01:30 on every Monday", "explain", "cron", "30 1 * * mon")
	refuses("no job matches", 1, "dead", "recover", "--owner", "nobody")
	refuses("nothing to change is named", 2, "job", "edit", "1")
	refuses("from its first job", 1, "queue", "purge", "nowhere")
	says("labels           {\"berth\":\"berth-3\"} → {\"berth\":\"berth-4\"}", "job", "edit", "1", "labels.berth=berth-4")
	says("Job 1 is ○ ready, round 2.", "job", "requeue", "--key", "heron", "--payload", `{"manifest":"heron-0291b"}`)
	stdout, _, _ := run(t, s.url, "job", "show", "1", "-o", "json")
	var j job.Job
	require.NoError(t, json.Unmarshal([]byte(stdout), &j))
	assert.JSONEq(t, `{"manifest":"heron-0291b"}`, string(j.Payload))
	assert.Len(t, j.Attempts, 1, "the history stays")
	_, err = m.Source().Settle(t.Context(), []api.Settlement{{Token: lease(t, m, "w", 1)[0].Token, Outcome: job.OutcomeDone}})
	require.NoError(t, err)
	says("● done", "job", "list", "--key", "heron")
	says("you are local, operator", "version")
	says("hmule ", "--version")
	says("Job 2 is ○ ready.", "job", "start", "2")
	says("Job 2 is ⊘ cancelled.", "job", "cancel", "2")
	says("Job 2 is ⊘ cancelled.", "job", "cancel", "2")
	says("berths", "queue", "list")
	says("w ", "worker", "list")
	says("\"percent\": 40", "pool", "--run", "log.pack=printf '%s\\n' '@hmule progress 40 half' '\"packed\"'", "--try", "log.pack", `{"shelf":7}`, "--queue", "common", "-o", "json", "--server", "http://127.0.0.1:1")
	lines := filepath.Join(t.TempDir(), "arrivals.ndjson")
	require.NoError(t, os.WriteFile(lines, []byte("{\"task\":\"log.pack\"}\n\n{\"task\":\"log.pack\"}\n"), 0o600))
	says("2 jobs were enqueued, 5 to 6.", "enqueue", "--lines", lines)
	pages := t.TempDir()
	says("", "man", pages)
	assert.FileExists(t, filepath.Join(pages, "hmule-job-list.1"))
	for _, shell := range []string{"bash", "zsh", "fish", "powershell"} {
		says("hmule", "completion", shell)
	}
	says("berths\n", "__complete", "queue", "show", "ber")
	says("dead,backoff\n", "__complete", "job", "list", "--state", "dead,ba")
	says("Europe/Lisbon\n", "__complete", "explain", "cron", "--zone", "Europe/Lis")
	waited := make(chan int)
	go func() {
		_, _, status := run(t, s.url, "job", "show", "5", "--wait")
		waited <- status
	}()
	_, err = m.Source().Settle(t.Context(), []api.Settlement{{Token: lease(t, m, "w", 1)[0].Token, Outcome: job.OutcomeGiveUp}})
	require.NoError(t, err)
	assert.Equal(t, 1, <-waited, "a job that was waited for and is dead")

	refuses("is already done", 1, "job", "cancel", "1")
	refuses("can be started now", 1, "job", "start", "1")
	refuses("only a finished job can be requeued", 1, "job", "requeue", "6")
	refuses("there is no job 99", 1, "job", "why", "99")
	refuses("not a valid id of a job", 2, "job", "show", "one")
	refuses("the payload is not valid JSON", 2, "enqueue", "tide.predict", "{station}")
	refuses("priority 12 is outside 0 to 9", 1, "enqueue", "tide.predict", "--priority", "12")
	refuses("--delay: \"soon\" is", 2, "enqueue", "tide.predict", "--delay", "soon")
	refuses("use it as: hmule enqueue TASK [PAYLOAD]", 2, "enqueue", "a", "1", "2")
	refuses("the task is missing", 2, "enqueue")
	refuses("--state: \"broken\" is", 2, "job", "list", "--state", "broken")
	refuses("it is table, json or ids", 2, "job", "list", "-o", "xml")
	refuses(`"enqeue" is not a command of hmule (the nearest is enqueue)`, 2, "enqeue")
	refuses(`"lsit" is not a command of hmule job (the nearest is list)`, 2, "job", "lsit")
	refuses("has no ids to write", 2, "explain", "retry", "-o", "ids")
	stdout, stderr, status := run(t, s.url, "enqueue", "Tide", "--priority", "12", "-o", "json")
	assert.Equal(t, 1, status)
	var problem struct {
		Type, Title string
		Errors      []job.FieldError
	}
	require.NoError(t, json.Unmarshal([]byte(stderr), &problem), stderr)
	assert.Equal(t, []any{"urn:humblemule:problem:invalid", "Invalid value", 2, ""}, []any{problem.Type, problem.Title, len(problem.Errors), stdout})
	_, stderr, _ = run(t, s.url, "enqueue", "Tide", "--priority", "12")
	assert.Equal(t, 3, strings.Count(stderr, "hmule: "), "each error in a line of its own: %s", stderr)
	require.NoError(t, s.stop())
	refuses("start one with: hmule serve", 3, "job", "list")
}

// More lines than a call takes go in several, of which each is taken in whole or not at all;
// what is told is the truth.
func TestEnqueueLines(t *testing.T) {
	t.Parallel()
	s := serve(t)
	lines := filepath.Join(t.TempDir(), "arrivals.ndjson")
	text := strings.Repeat("{\"task\":\"log.pack\"}\n", 25_000)
	require.NoError(t, os.WriteFile(lines, []byte(text), 0o600))
	stdout, stderr, status := run(t, s.url, "enqueue", "--lines", lines, "-o", "json")
	require.Equal(t, 0, status, stderr)
	var told api.EnqueuedMany
	require.NoError(t, json.Unmarshal([]byte(stdout), &told))
	require.Len(t, told.Jobs, 25_000)
	for i, j := range told.Jobs {
		require.Equal(t, api.Enqueued{ID: int64(i + 1), State: job.Ready, Queue: "common"}, j)
	}
	require.NoError(t, os.WriteFile(lines, []byte(text[:len(text)/25_000*12_000]+"\n{\"tsk\":\"log.pack\"}\n"), 0o600))
	stdout, stderr, status = run(t, s.url, "enqueue", "--lines", lines)
	assert.Equal(t, 1, status)
	assert.Contains(t, stdout, "jobs were enqueued, 25001 to 35000.")
	assert.Contains(t, stderr, "of lines 10001 to 12002 nothing was enqueued")
	assert.Contains(t, stderr, "in line 12002")
	_, stderr, status = run(t, s.url, "enqueue", "--lines", lines+".gone")
	assert.Equal(t, 2, status, stderr)
}

// A profile names a service and its token; a file with a token that others may read is refused.
func TestProfiles(t *testing.T) {
	s := serve(t)
	dir := t.TempDir()
	profiles := filepath.Join(dir, "profiles.yaml")
	t.Setenv("HMULE_PROFILES", profiles)
	refuses := func(want string, args ...string) {
		t.Helper()
		_, stderr, status := run(t, "", args...)
		assert.Equal(t, 2, status)
		assert.Contains(t, stderr, want)
	}
	refuses("there is no profiles file", "job", "list", "--profile", "harbour")
	secret := filepath.Join(dir, "harbour.token")
	require.NoError(t, os.WriteFile(secret, []byte("xyz\n"), 0o644))
	require.NoError(t, os.WriteFile(profiles, []byte("profiles:\n  harbour: {server: "+s.url+", token_file: "+secret+"}\n  both: {server: x, token: a, token_file: b}\n  open: {server: x, token: a}\n"), 0o644))
	refuses("chmod 600 "+secret, "job", "list", "--profile", "harbour")
	refuses("(the nearest is harbour)", "job", "list", "--profile", "habour")
	refuses("both token and token_file", "job", "list", "--profile", "both")
	refuses("chmod 600 "+profiles, "job", "list", "--profile", "open")
	require.NoError(t, os.Chmod(secret, 0o600))
	stdout, stderr, status := run(t, "", "job", "list", "--profile", "harbour")
	require.Equal(t, 0, status, stderr)
	assert.Contains(t, stdout, "No job matches.")
}

// A set-up file is compared, loaded at the start of the service, on SIGHUP and by a
// command; it owns what it defines.
func TestSetup(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "hmule.yaml")
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }
	write("service: {max_payload: 1KiB}\nqueues:\n  berths: {max_running: 3}\n")
	s := &service{t: t, data: filepath.Join(t.TempDir(), "e2e.db"), listen: freeAddress(t), flags: []string{"--config", file}}
	s.start()
	t.Cleanup(s.kill)
	says := s.says
	says("0 running of at most 3", "queue", "show", "berths")
	says("Nothing differs.", "setup", "diff", file)
	says("max_running      3 → 5", "queue", "set", "berths", "max_running=5")
	says("max_running      5 → 3", "setup", "diff", file)
	says("turns            not set → owner", "queue", "set", "common", "turns=owner")
	write("queues:\n  berths: {max_running: 4}\n  common: {priority: 6}\ntasks:\n  dues.charge: {max_attempts: 6}\n")
	_, stderr, status := run(t, s.url, "setup", "load", file)
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "take it out of the file, or load with adopt")
	says("3 changes loaded, 0 unchanged.", "setup", "load", file, "--adopt")
	write("tasks:\n  dues.charge: {max_attempts: 7}\n")
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool {
		tasks, err := client.Collect(s.mule().Tasks(t.Context()))
		return err == nil && *tasks[0].Defaults.MaxAttempts == 7
	}, 10*time.Second, 20*time.Millisecond)
	_, stderr, status = run(t, s.url, "queue", "show", "berths")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "there is no queue", "it never had a job")
	says("hmule.yaml:", "setup", "show")
	schema, _, _ := run(t, s.url, "setup", "schema")
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(schema))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource("setup.json", doc))
	compiled, err := compiler.Compile("setup.json")
	require.NoError(t, err)
	fits := func(text string) error {
		var v any
		require.NoError(t, yaml.Unmarshal([]byte(text), &v))
		raw, err := json.Marshal(v)
		require.NoError(t, err)
		v, err = jsonschema.UnmarshalJSON(bytes.NewReader(raw))
		require.NoError(t, err)
		return compiled.Validate(v)
	}
	require.NoError(t, fits(string(harbour.Setup())))
	require.Error(t, fits("queues: {berths: {max_runing: 4}}"))
	require.Error(t, fits("queues: {berths: {order: random}}"))
	require.Error(t, fits("queus: {}"))
	write("queues:\n  berths: {max_runing: 4}\n  quay: {order: random}\n")
	_, stderr, status = run(t, s.url, "setup", "load", file)
	assert.Equal(t, 2, status)
	assert.Contains(t, stderr, `2:12: berths has no setting "max_runing"; the nearest is max_running`)
	assert.Contains(t, stderr, `3:17: order "random" is unknown`)
}

// What a load of the harbour's own file leaves differs from it in nothing, at once, after
// some work, and after a restart that loads it again, which is not a valid action.
func TestHarbourSetup(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "hmule.yaml")
	require.NoError(t, os.WriteFile(file, harbour.Setup(), 0o600))
	// What only the service's own file says is there from the start.
	own := filepath.Join(filepath.Dir(file), "own.yaml")
	require.NoError(t, os.WriteFile(own, []byte("secrets: {pilots: {env: SALTMARROW_PILOTS_KEY, hooks: [arrivals]}}\ncalls: {allow: [127.0.0.1]}\nmail: {server: \"127.0.0.1:9\", from: jobs@harbour.example, tls: none}\n"), 0o600))
	s := &service{t: t, data: filepath.Join(t.TempDir(), "e2e.db"), listen: freeAddress(t), flags: []string{"--config", own}, env: []string{"SALTMARROW_PILOTS_KEY=" + pilotsKey}}
	s.start()
	t.Cleanup(s.kill)
	s.says("14 changes loaded, 0 unchanged.", "setup", "load", file)
	s.says("Nothing differs.", "setup", "diff", file)
	s.says("Job 1 was enqueued.", "schedule", "run", "tides")
	s.says("paused", "schedule", "pause", "buoys")
	require.NoError(t, s.stop())
	s.flags = []string{"--config", file}
	s.start()
	s.says("Nothing differs.", "setup", "diff", file)
	said, _, _ := run(t, s.url, "check", "--config", file)
	assert.Contains(t, said, "the service is set as the file defines")
	buoys, err := s.mule().Schedule(t.Context(), "buoys")
	require.NoError(t, err)
	assert.True(t, *buoys.Paused, "a load leaves alone what the file does not say")
	actions, err := client.First(10, s.mule().Actions(t.Context(), 0))
	require.NoError(t, err)
	assert.Equal(t, "pause_schedule", actions[0].Action)
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, stderr, status := run(t, s.url, "setup", "load", file)
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "if you mean that, say empty: true")
	require.NoError(t, os.WriteFile(file, []byte("empty: true\n"), 0o600))
	s.says("is removed: the file no longer names it", "setup", "load", file)
	s.says("There is no schedule yet", "schedule", "list")
	s.says("tide.predict", "job", "show", "1")
}

// A check lists all that is wrong, in files and in the service, and changes nothing.
func TestCheck(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	s := serve(t)
	_, err := s.mule().Enqueue(t.Context(), job.Spec{Task: "log.bind", Queue: "bindery"})
	require.NoError(t, err)
	check := func(status int, args ...string) string {
		t.Helper()
		stdout, stderr, got := run(t, s.url, append([]string{"check"}, args...)...)
		require.Equal(t, status, got, stdout+stderr)
		return stdout
	}
	said := check(1, "--config", write("hmule.yaml", "tasks:\n  log.bind: {queue: bindry}\n"), "--data", s.data, "--tokens", write("tokens.yaml", "tokens: []\n"))
	for _, want := range []string{
		"defines 0 queues, 1 task and 0 schedules", "tokens.yaml has no token", "a service has it open", "are free", "it answers, with 1 queue", "of this machine agree",
		"No worker serves queue bindery: 1 job is ready and waiting.", "waits in queue bindry, which nothing defines (the nearest is bindery)", "differs from the file in task log.bind", "3 wrong.",
	} {
		assert.Contains(t, said, want)
	}
	said = check(1, "--config", write("bad.yaml", "queus: {}\nqueues:\n  a: {order: x}\n"), "--data", write("other.db", "no database at all, but longer than a header of one hundred bytes, "+strings.Repeat("x", 100)))
	assert.Contains(t, said, "bad.yaml:1:1:")
	assert.Contains(t, said, "bad.yaml:3:14:")
	assert.Contains(t, said, "is not a data file of Humble Mule")
	_, err = s.mule().CancelJob(t.Context(), 1)
	require.NoError(t, err)
	assert.Contains(t, check(0, "--data", filepath.Join(dir, "new.db")), "Nothing is wrong.")
	for _, pier := range []string{"north", "east", "south", "west", "mole"} {
		_, err = s.mule().Enqueue(t.Context(), job.Spec{Task: "log.bind", Queue: pier})
		require.NoError(t, err)
	}
	_, err = s.mule().PutSchedule(t.Context(), "tides", api.Schedule{Every: job.Duration(time.Hour), Job: job.Spec{Task: "tide.predict", Queue: "norht"}})
	require.NoError(t, err)
	open := write("open.yaml", "tokens:\n  - {name: quay, role: worker, sha256: "+strings.Repeat("ab", 32)+"}\n")
	require.NoError(t, os.Chmod(open, 0o666))
	said = check(1, "--tokens", open)
	for _, want := range []string{"serves queue north", "serves queue east", "serves queue south", "serves queue west", "serves queue mole", "Schedule tides names queue norht, which does not exist and which no worker serves (the nearest is north)", "other users can write the tokens file", "7 wrong."} {
		assert.Contains(t, said, want)
	}
	assert.NoFileExists(t, filepath.Join(dir, "new.db"))
}

// The day of known outcomes comes out as planned.
func TestFixedDemo(t *testing.T) {
	t.Parallel()
	stdout, stderr, status := run(t, "", "demo", "--fixed", "--listen", freeAddress(t))
	require.Equal(t, 0, status, stdout+stderr)
	assert.Contains(t, stdout, "All 98 jobs are in their planned states.")
}

// The demo shows within a minute a job in every state that can be reached, and ends with its terminal.
func TestDemo(t *testing.T) {
	t.Parallel()
	listen := freeAddress(t)
	demo := exec.Command(hmule, "demo", "--listen", listen)
	out := &journal{more: make(chan struct{})}
	demo.Stdout, demo.Stderr = out, out
	require.NoError(t, demo.Start())
	defer demo.Process.Kill()
	out.find(t, "Saltmarrow Harbour is open")
	m, err := client.New(listen, client.HTTPClient(newHTTP()))
	require.NoError(t, err)
	seen := map[job.State]bool{}
	require.Eventually(t, func() bool {
		stats, err := m.Stats(t.Context(), "")
		for state, n := range stats.Counts {
			seen[state] = seen[state] || n > 0
		}
		for _, move := range stats.Moves {
			seen[move.To] = true
		}
		return err == nil && len(seen) == len(job.States()) && seen[job.Dead] && seen[job.Backoff] && seen[job.Skipped] && seen[job.Cancelled] &&
			seen[job.Scheduled] && seen[job.Ready] && seen[job.Running] && seen[job.Done]
	}, time.Minute, 100*time.Millisecond, "seen %v", seen)
	goes := syscall.SIGHUP
	if signal.Ignored(goes) { // these tests are to outlive their terminal, and so is the demo
		goes = syscall.SIGTERM
	}
	require.NoError(t, demo.Process.Signal(goes))
	require.NoError(t, demo.Wait(), out)
}

// One command starts service, workers and schedules; when a file changes the workers start anew, and
// nothing is left when it ends.
func TestDev(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o700))
	}
	write("pack.sh", "#!/bin/sh\ncat >/dev/null; echo '\"first\"'\n")
	write("hmule.yaml", "schedules:\n  packs: {every: 1s, job: {task: log.pack, queue: archive}}\n")
	write("worker.sh", "#!/bin/sh\necho \"$HMULE_SERVER\" > ../seen; exec sleep 600\n")
	at := freeAddress(t)
	log := &journal{more: make(chan struct{})}
	cmd := exec.Command(hmule, "dev", "--run", "log.pack=./pack.sh", "--worker", "./worker.sh", "--watch", ".", "--config", "hmule.yaml", "--listen", at)
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, log, log
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill() })
	log.find(t, "Humble Mule is ready")
	m, err := client.New("http://" + at)
	require.NoError(t, err)
	defer m.Close()
	result := func() string {
		e, err := m.Enqueue(t.Context(), job.Spec{Task: "log.pack"})
		require.NoError(t, err)
		j, err := m.WaitFor(t.Context(), e.ID, time.Minute)
		require.NoError(t, err)
		text, err := client.Result[string](j)
		require.NoError(t, err)
		return text
	}
	assert.Equal(t, "first", result())
	require.Eventually(t, func() bool { // its schedule, in a queue of its own
		page, err := m.ListJobs(t.Context(), api.Filter{Queues: []string{"archive"}, States: []job.State{job.Done}})
		return err == nil && len(page.Jobs) > 0
	}, 20*time.Second, 50*time.Millisecond)
	write("pack.sh", "#!/bin/sh\ncat >/dev/null; echo '\"second\"'\n")
	log.find(t, `has changed: the workers start anew(?s:.*)pool starts`)
	assert.Equal(t, "second", result())
	seen, err := os.ReadFile(filepath.Join(filepath.Dir(dir), "seen"))
	require.NoError(t, err)
	assert.Equal(t, "http://"+at+"\n", string(seen), "a worker of one's own runs too")
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	require.NoError(t, cmd.Wait())
	for want, args := range map[string][]string{
		"nothing would run the jobs":              {"dev"},
		"is not a folder":                         {"dev", "--run", "log.pack=cat", "--watch", "/no/where"},
		"the command no-such-pack is not found":   {"dev", "--run", "log.pack=no-such-pack"},
		"the command no-such-worker is not found": {"dev", "--worker", "no-such-worker"},
	} {
		_, errs, status := run(t, "", args...)
		assert.Equal(t, 2, status, args)
		assert.Contains(t, errs, want)
	}
}

// A list of nothing says so, as text and as JSON, and what to do next is a command that there is.
func TestListsOfNothing(t *testing.T) {
	t.Parallel()
	s := serve(t)
	manual, err := os.ReadFile("../docs/reference/commands.md")
	require.NoError(t, err)
	lists := regexp.MustCompile(`(?m)^## hmule (\w+) list$`).FindAllSubmatch(manual, -1)
	require.Greater(t, len(lists), 15)
	for _, found := range lists {
		noun := string(found[1])
		args := []string{noun, "list"}
		if noun == "lane" || noun == "token" {
			continue // of a queue, and of a file: they are not there
		}
		said, errs, status := run(t, s.url, args...)
		assert.Zero(t, status, "%s: %s", noun, errs)
		assert.Regexp(t, `^(No|There|Nobody|Nothing|The|Alert)\b`, said, noun)
		for _, hint := range regexp.MustCompile(`(?m)^(hmule (\w+)(?: (\w+))?.*)$`).FindAllStringSubmatch(said, -1) {
			help, errs, status := run(t, s.url, append(slices.DeleteFunc(hint[2:4], func(w string) bool { return w == "" }), "--help")...)
			assert.Zero(t, status, "%s: %s", hint[0], errs)
			assert.Contains(t, help, "hmule "+hint[2], hint[0])
		}
		text, errs, status := run(t, s.url, append(args, "-o", "json")...)
		require.Zero(t, status, "%s: %s", noun, errs)
		var whole map[string]any
		require.NoError(t, json.Unmarshal([]byte(text), &whole), noun)
		for name, value := range whole {
			assert.NotNil(t, value, "%s: %s is a list, also where it is empty", noun, name)
		}
	}
}
