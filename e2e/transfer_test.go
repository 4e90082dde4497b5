package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/client"
	"humblemule.example/job"
)

// begun starts a command that is ended, or waited for, later.
func begun(t *testing.T, server string, args ...string) (cmd *exec.Cmd, errs *bytes.Buffer) {
	cmd, errs = exec.Command(hmule, args...), new(bytes.Buffer)
	cmd.Env, cmd.Stderr = append(os.Environ(), "HMULE_SERVER="+server), errs
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill() })
	return cmd, errs
}

// longerThan waits until a file is longer than so many bytes.
func longerThan(t *testing.T, path string, bytes int64) {
	require.Eventually(t, func() bool {
		info, err := os.Stat(path)
		return err == nil && info.Size() > bytes
	}, 20*time.Second, 5*time.Millisecond, path)
}

// jobsIn reads the jobs of an export, each as its id and a sum of what is written of it.
func jobsIn(t *testing.T, path string) (all []string) {
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	for line := range strings.Lines(string(text)) {
		if id, is := strings.CutPrefix(line, `{"job":{"id":`); is {
			id, _, _ = strings.Cut(id, ",")
			all = append(all, fmt.Sprintf("%s %x", id, sha256.Sum256([]byte(line))))
		}
	}
	return all
}

// countsOf counts the jobs of a service by their states.
func countsOf(t *testing.T, m *client.Client) map[job.State]int64 {
	stats, err := m.Stats(t.Context(), "")
	require.NoError(t, err)
	maps.DeleteFunc(stats.Counts, func(_ job.State, n int64) bool { return n == 0 })
	return stats.Counts
}

// harbourOf fills a service with jobs in every state, and some that are long.
func harbourOf(t *testing.T, m *client.Client, n int) {
	ctx := t.Context()
	_, err := m.PutQueue(ctx, "berths", api.Defaults{Rules: api.Rules{Turns: api.TurnsOwner}})
	require.NoError(t, err)
	_, err = m.PutSchedule(ctx, "tides", api.Schedule{Cron: "30 3 * * *", Zone: "Europe/Lisbon", Job: job.Spec{Task: "tide.predict"}})
	require.NoError(t, err)
	for part := range slices.Chunk(make([]job.Spec, n), 2000) {
		for i := range part {
			part[i] = job.Spec{Task: "manifest.check", Queue: "berths", Owner: fmt.Sprint("agent-", i%3), Retry: &job.Retry{First: job.For(time.Hour)}, Payload: job.JSON(strings.Repeat("a crate of salt; ", 40))}
		}
		_, err := m.EnqueueMany(ctx, part)
		require.NoError(t, err)
	}
	a, err := m.Source().Lease(ctx, api.LeaseRequest{Worker: "crane", Queues: []string{"berths"}, Limit: 60, Lease: job.Duration(time.Hour)})
	require.NoError(t, err)
	var items []api.Settlement
	for i, l := range a.Leases[:50] {
		s := api.Settlement{Token: l.Token, Outcome: []job.Outcome{job.OutcomeDone, job.OutcomeFailed, job.OutcomeGiveUp}[i%3]}
		if s.Outcome == job.OutcomeDone {
			s.Result = json.RawMessage(`{"crates":3}`)
		} else {
			s.Error = &job.Failure{Type: "salt", Message: fmt.Sprintf("crate %d is wet", i)}
		}
		items = append(items, s)
	}
	_, err = m.Source().Settle(ctx, items)
	require.NoError(t, err)
}

// An export goes on when the service is killed, and by itself or by hand when it is cut off; an
// import that is killed is begun again; and each job is here once, as it was there.
func TestExportAndImport(t *testing.T) {
	t.Parallel()
	const jobs = 2500
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	a, b := serve(t), serve(t)
	harbourOf(t, a.mule(), jobs)

	cmd, errs := begun(t, a.url, "export", at("whole.jsonl"))
	longerThan(t, at("whole.jsonl.part"), 150_000)
	a.kill()
	a.start()
	require.NoError(t, cmd.Wait(), errs)
	whole := jobsIn(t, at("whole.jsonl"))
	require.Equal(t, jobs, len(whole))

	cmd, _ = begun(t, a.url, "export", at("cut.jsonl"))
	longerThan(t, at("cut.jsonl.part"), 150_000)
	require.NoError(t, cmd.Process.Kill())
	require.Error(t, cmd.Wait())
	require.NoFileExists(t, at("cut.jsonl"))
	_, said, status := run(t, b.url, "import", at("cut.jsonl.part"))
	assert.Equal(t, 2, status)
	assert.Regexp(t, `the export was cut off after \d+ jobs; go on with it by hmule export --continue`, said)
	_, said, status = run(t, a.url, "export", at("cut.jsonl"), "--continue")
	require.Zero(t, status, said)
	assert.Equal(t, whole, jobsIn(t, at("cut.jsonl")))

	for range 3 { // killed once each at another place
		cmd, _ := begun(t, b.url, "import", at("cut.jsonl"), "--keep-ids")
		before := countsOf(t, b.mule())
		require.Eventually(t, func() bool { return countsOf(t, b.mule())[job.Ready] > before[job.Ready]+100 }, 20*time.Second, 5*time.Millisecond)
		b.kill()
		cmd.Process.Kill()
		cmd.Wait()
		b.start()
	}
	_, said, status = run(t, b.url, "import", at("cut.jsonl"))
	require.Zero(t, status, said)
	out, said, status := run(t, b.url, "import", at("whole.jsonl"), "-o", "json")
	require.Zero(t, status, said)
	var told api.Imported
	require.NoError(t, json.Unmarshal([]byte(out), &told))
	assert.Zero(t, told.Jobs)
	assert.EqualValues(t, jobs, told.There)
	assert.Equal(t, 2, told.Setup.Same, "the queue and the schedule")

	want := countsOf(t, a.mule())
	assert.EqualValues(t, 10, want[job.Running])
	want[job.Ready] += want[job.Running]
	delete(want, job.Running)
	assert.Equal(t, want, countsOf(t, b.mule()))
	was, err := a.mule().ListJobs(t.Context(), api.Filter{States: []job.State{job.Dead}})
	require.NoError(t, err)
	is, err := b.mule().Job(t.Context(), was.Jobs[0].ID)
	require.NoError(t, err)
	assert.Equal(t, was.Jobs[0].LastError.Message, is.Attempts[0].Error.Message)
	assert.Equal(t, "crane", is.Attempts[0].Worker)
	mine, err := b.mule().Enqueue(t.Context(), job.Spec{Task: "tide.predict"})
	require.NoError(t, err)
	assert.Greater(t, mine.ID, int64(1)<<32)
	causes, _, err := b.mule().ListCauses(t.Context(), api.CauseFilter{}, api.Part{})
	require.NoError(t, err)
	require.Len(t, causes, 1)
	assert.EqualValues(t, want[job.Dead], causes[0].Count)
}

// Two imports of one export at once take each job in once; what is wrong in it is told line by line,
// and spoils nothing else.
func TestImportOfWrongLines(t *testing.T) {
	t.Parallel()
	const jobs = 1500
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	a, b := serve(t), serve(t)
	harbourOf(t, a.mule(), jobs)
	_, err := b.mule().Enqueue(t.Context(), job.Spec{Task: "tide.predict", Queue: "own"})
	require.NoError(t, err)
	_, said, status := run(t, a.url, "export", at("whole.jsonl"))
	require.Zero(t, status, said)
	_, said, status = run(t, a.url, "export", at("whole.jsonl"))
	assert.Equal(t, 2, status)
	assert.Contains(t, said, "exists already; an export replaces no file")

	text, err := os.ReadFile(at("whole.jsonl"))
	require.NoError(t, err)
	lines := strings.SplitAfter(string(text), "\n")
	about, err := a.mule().About(t.Context())
	require.NoError(t, err)
	write := func(name string, change func(line int, text string) string) string {
		var all strings.Builder
		for i, line := range lines {
			all.WriteString(change(i+1, line))
		}
		require.NoError(t, os.WriteFile(at(name), []byte(all.String()), 0o600))
		return at(name)
	}
	for want, file := range map[string]string{
		"this is not an export": write("other.jsonl", func(line int, text string) string { return `{"job": 7}` + "\n" }),
		"its last line says 1500: some are missing": write("gap.jsonl", func(line int, text string) string {
			if line > 700 && line < 800 {
				return ""
			}
			return text
		}),
		"line 40 is not valid JSON": write("torn.jsonl", func(line int, text string) string {
			if line == 40 {
				return text[:len(text)/2] + "\n"
			}
			return text
		}),
		"import it with a newer one": write("newer.jsonl", func(line int, text string) string { return strings.Replace(text, `"format":1`, `"format":9`, 1) }),
		"ids cannot be kept, since":  at("whole.jsonl"),
		"no such file or directory":  at("nowhere.jsonl"),
		"is not the id of a store":   write("nobody.jsonl", func(line int, text string) string { return strings.Replace(text, about.Store, "", 1) }),
	} {
		_, said, status := run(t, b.url, "import", file, "--keep-ids")
		assert.NotZero(t, status, want)
		assert.Contains(t, said, want)
	}

	bad := write("bad.jsonl", func(line int, text string) string {
		switch line {
		case 70:
			return strings.Replace(text, `"priority":4`, `"priority":44`, 1)
		case 71:
			return strings.Replace(text, `"max_attempts"`, `"most_attempts"`, 1)
		case 72:
			return strings.Replace(text, `"state":"ready"`, `"state":"done"`, 1)
		}
		return text
	})
	out, said, status := run(t, b.url, "import", bad)
	assert.Equal(t, 1, status)
	assert.Contains(t, said, "3 lines were refused; mend the export and import it again")
	assert.Regexp(t, `Line 70, job \d+: job.priority 44 is outside 0 to 9`, out)
	assert.Regexp(t, `Line 71: job.most_attempts is not a known field`, out)
	assert.Regexp(t, `Line 72, job \d+: job.finished_at does not go with the state, which is done`, out)

	ids := at("ids.csv")
	first, firstSaid := begun(t, b.url, "import", at("whole.jsonl"), "--ids-to", ids)
	second, secondSaid := begun(t, b.url, "import", at("whole.jsonl"))
	require.NoError(t, first.Wait(), firstSaid)
	require.NoError(t, second.Wait(), secondSaid)
	counts := countsOf(t, b.mule())
	n := int64(-1) // its own
	for _, of := range counts {
		n += of
	}
	assert.EqualValues(t, jobs, n)
	table, err := os.ReadFile(ids)
	require.NoError(t, err)
	rows := strings.Split(strings.TrimSpace(string(table)), "\r\n")
	require.Len(t, rows, 1+jobs)
	assert.Equal(t, "from,to", rows[0])
	var from, to int64
	_, err = fmt.Sscanf(rows[1], "%d,%d", &from, &to)
	require.NoError(t, err)
	is, err := b.mule().ImportedAs(t.Context(), about.Store, from)
	require.NoError(t, err)
	assert.Equal(t, to, is.Job)
	j, err := b.mule().Job(t.Context(), to)
	require.NoError(t, err)
	assert.Equal(t, &job.ImportedFrom{Store: about.Store, Job: from}, j.ImportedFrom)
	_, err = b.mule().ImportedAs(t.Context(), about.Store, 1<<40)
	assert.ErrorIs(t, err, job.ErrNotFound)
}
