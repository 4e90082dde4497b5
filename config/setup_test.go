package config

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule/core/job"
)

func setup(t *testing.T, text string) (job.Setup, []string) {
	path := filepath.Join(t.TempDir(), "hmule.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	s, err := ReadSetup(path)
	if err == nil {
		return s, nil
	}
	return s, strings.Split(strings.ReplaceAll(err.Error(), path+":", ""), "\n")
}

// All that is wrong with a set-up is told at once, each where it stands.
func TestReadSetup(t *testing.T) {
	s, wrong := setup(t, `
queues:
  bulletins:
    rate: {per_second: 1, burst: 2}
    keep: {done: 12h}
  archive:
tasks:
  dues.charge:
    retry: {curve: fixed, first: 1m}
    max_running: 1
`)
	require.Empty(t, wrong)
	assert.Equal(t, 1.0, s.Queues["bulletins"].Rate.PerSecond)
	assert.Equal(t, job.Duration(12*3600e9), s.Queues["bulletins"].Keep[job.Done])
	assert.Contains(t, s.Queues, "archive")
	assert.Equal(t, job.Fixed, s.Tasks["dues.charge"].Retry.Curve)

	_, wrong = setup(t, `queus:
  x: {}
queues:
  Berths: {}
  berths:
    ordr: ageing
    rate: {per_second: 0, brst: 2}
  b2:
    rate: {per_second: 5}
    max_running: many
  b3:
    timeout: soon
  b3: {}
  b4: 7
tasks:
  t: {order: ageing, retry: {factor: 0.5}}
schedules: {}
`)
	for i, want := range []string{
		`1:1: "queus" is no section; the nearest is queues`,
		`4:3: "Berths" is no name`,
		`6:5: berths has no setting "ordr"; the nearest is order`,
		`7:24: rate.per_second 0 is not above 0`,
		`7:27: berths.rate has no setting "brst"; the nearest is burst`,
		`10:18: max_running is a string; a whole number is needed`,
		`12:14: "soon" is no duration`,
		`13:3: b3 stands twice in queues`,
		`14:7: b4 is no mapping of names to values`,
		`16:14: order cannot be set for a task`,
		`16:38: retry.factor 0.5 is outside 1 to 100`,
		`17:1: the section schedules is not built yet`,
	} {
		if assert.Greater(t, len(wrong), i, want) {
			assert.Contains(t, wrong[i], want)
		}
	}
	assert.Len(t, wrong, 12)

	for text, want := range map[string]string{
		"queues:\n\tberths: {}\n":       "2:1: a tab begins the line",
		"queues: {}\n---\nqueues: {}\n": "second document",
		"- a\n":                         "the file is no mapping",
		"queues: {a: {b: [}}":           "1:",
	} {
		_, wrong := setup(t, text)
		if assert.NotEmpty(t, wrong, text) {
			assert.Contains(t, wrong[0], want)
		}
	}
	_, err := ReadSetup(filepath.Join(t.TempDir(), "none.yaml"))
	assert.ErrorContains(t, err, "cannot be read")
}
