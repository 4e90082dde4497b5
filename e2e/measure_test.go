package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestBench(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	chart := filepath.Join(t.TempDir(), "machine.svg")
	out, said, status := run(t, "", "bench", "life", "start", "backlog", "--span", "500ms", "--rounds", "1", "--backlog", "300", "--dir", dir, "--svg", chart, "-o", "json")
	require.Zero(t, status, said)
	var r struct {
		Cores   int     `json:"cores"`
		Fsync   float64 `json:"fsync_p50_ms"`
		Figures []struct {
			Scenario  string  `json:"scenario"`
			PerSecond float64 `json:"per_second"`
			P50       float64 `json:"p50_ms"`
			P99       float64 `json:"p99_ms"`
			CPU       float64 `json:"cpu_us"`
			Binds     string  `json:"binds"`
		} `json:"figures"`
	}
	require.NoError(t, json.Unmarshal([]byte(out), &r))
	assert.Positive(t, r.Cores)
	assert.Positive(t, r.Fsync)
	require.Len(t, r.Figures, 4+1+1)
	for _, f := range r.Figures {
		assert.Positive(t, f.P50, f.Scenario)
		assert.GreaterOrEqual(t, f.P99, f.P50)
		if f.Scenario != "start" {
			assert.Positive(t, f.PerSecond, f.Scenario)
			assert.Contains(t, []string{"disk", "cpu", "writer", "connections"}, f.Binds)
		}
	}
	assert.Equal(t, 6, strings.Count(said, " of 6  "), "it tells how far it has come:\n%s", said)
	drawn, err := os.ReadFile(chart)
	require.NoError(t, err)
	assert.Contains(t, string(drawn), "life: 100 a call, 8 connections")
	assert.Empty(t, filesIn(t, dir), "its files are gone")

	for want, args := range map[string][]string{
		"the nearest is life":     {"bench", "lief"},
		"--rounds 0 is outside":   {"bench", "--rounds", "0"},
		"--span 1h0m0s is":        {"bench", "--span", "1h"},
		"--backlog -1 is outside": {"bench", "--backlog", "-1"},
		"is not a folder":         {"bench", "--dir", chart},
		"cannot be written":       {"bench", "--svg", filepath.Join(dir, "none", "x.svg")},
	} {
		_, said, status := run(t, "", args...)
		assert.Equal(t, 2, status, args)
		assert.Contains(t, said, want)
	}
}

// A bench that is ended early leaves neither files nor services behind.
func TestBenchEndsEarly(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	bench := exec.Command(hmule, "bench", "enqueue", "--span", "1m", "--dir", dir)
	var said strings.Builder
	bench.Stderr = &said
	require.NoError(t, bench.Start())
	require.Eventually(t, func() bool { return len(filesIn(t, dir)) > 0 }, 10*time.Second, 10*time.Millisecond)
	require.NoError(t, bench.Process.Signal(os.Interrupt))
	assert.Error(t, bench.Wait())
	assert.Contains(t, said.String(), "hmule: interrupted before it was finished")
	assert.Empty(t, filesIn(t, dir))
}

func filesIn(t *testing.T, dir string) (names []string) {
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names
}

func TestLoad(t *testing.T) {
	t.Parallel()
	example, _, status := run(t, "", "load", "--example")
	require.Zero(t, status)
	dir := t.TempDir()
	file := filepath.Join(t.TempDir(), "load.yaml")
	short := strings.NewReplacer("for: 20s", "for: 1s", "of: 600", "of: 200", "fails: 0.02", "fails: 0").Replace(example)
	require.NoError(t, os.WriteFile(file, []byte(short), 0o600))
	out, said, status := run(t, "", "load", file, "--dir", dir, "-o", "json")
	require.Zero(t, status, said)
	assert.Empty(t, filesIn(t, dir))
	var answer struct {
		Seed        uint64 `json:"seed"`
		Arrivals    int64  `json:"arrivals"`
		Fingerprint string `json:"fingerprint"`
		Outcomes    []struct {
			Setting  string           `json:"setting"`
			Jobs     int64            `json:"jobs"`
			Finished map[string]int64 `json:"finished"`
			Fairness float64          `json:"fairness"`
			Groups   []struct {
				Name string `json:"name"`
				Wait struct {
					P50 float64 `json:"p50_ms"`
				} `json:"wait"`
			} `json:"groups"`
		} `json:"outcomes"`
	}
	require.NoError(t, json.Unmarshal([]byte(out), &answer))
	require.Len(t, answer.Outcomes, 2)
	assert.EqualValues(t, 6853, answer.Seed)
	for i, o := range answer.Outcomes {
		assert.Equal(t, answer.Arrivals, o.Jobs)
		assert.Equal(t, answer.Arrivals, o.Finished["done"])
		assert.Positive(t, o.Fairness)
		// Within one outcome, so that a machine that is busy for a moment slows down both.
		p50 := map[string]float64{}
		for _, g := range o.Groups {
			p50[g.Name] = g.Wait.P50
		}
		assert.Equal(t, i == 1, p50["everyday"] < p50["month-end"], "turns are what makes it fair: %s: %v", o.Setting, p50)
	}
	people, _, status := run(t, "", "load", file, "--seed", "1")
	require.Zero(t, status)
	assert.Contains(t, people, "slowed down by others, the worst owner")
	assert.NotContains(t, people, answer.Fingerprint, "another seed brings others")

	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(short, "lognormal: {median: 60ms", "lognormal: {medain: 60ms", 1)), 0o600))
	_, said, status = run(t, "", "load", file)
	assert.Equal(t, 2, status)
	assert.Contains(t, said, `load.yaml:14:28: streams.everyday.run_time.lognormal has no setting "medain"; the nearest is median`)
}
