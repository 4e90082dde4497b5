package config

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humblemule.example/api"
	"humblemule.example/job"
)

func setup(t *testing.T, text string) (File, []string) {
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
schedules:
  tides:
    cron: 30 3 * * *
    zone: Europe/Lisbon
    job: {task: tide.predict, payload: {cents: 12345678901234567890}}
`)
	require.Empty(t, wrong)
	payload, err := json.Marshal(s.Schedules["tides"].Job.Payload)
	require.NoError(t, err)
	assert.JSONEq(t, `{"cents":12345678901234567890}`, string(payload))
	assert.Contains(t, string(payload), "12345678901234567890")
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
schedules:
  tides: {cron: 61 * * * *, job: {task: tide.predict}}
  buoys: {evry: 20s, job: {tsk: buoy.poll}}
  dues: {cron: "@monthly", zone: Lisbon, job: {task: dues.charge, delay: 5s}}
`)
	for i, want := range []string{
		`1:1: "queus" is not a section; the nearest is queues`,
		`4:3: "Berths" is not a valid name`,
		`6:5: berths has no setting "ordr"; the nearest is order`,
		`7:24: rate.per_second 0 is not above 0`,
		`7:27: berths.rate has no setting "brst"; the nearest is burst`,
		`10:18: max_running is a string; give a whole number`,
		`12:14: "soon" is not a valid duration`,
		`13:3: b3 appears twice in queues`,
		`14:7: b4 is not a mapping of names to values`,
		`16:14: order cannot be set for a task`,
		`16:38: retry.factor 0.5 is outside 1 to 100`,
		`18:17: cron minute, at position 1: 61 is outside 0 to 59`,
		`19:11: buoys has no setting "evry"; the nearest is every`,
		`19:28: buoys.job has no setting "tsk"; the nearest is task`,
		`20:34: zone "Lisbon" is not a valid time zone (the nearest is Europe/Lisbon)`,
		`20:74: job.delay cannot be set in a schedule`,
	} {
		if assert.Greater(t, len(wrong), i, want) {
			assert.Contains(t, wrong[i], want)
		}
	}
	assert.Len(t, wrong, 16, strings.Join(wrong, "\n"))

	for text, want := range map[string]string{
		"queues:\n\tberths: {}\n":       "2:1: a tab begins the line",
		"queues: {}\n---\nqueues: {}\n": "second document",
		"- a\n":                         "the file is not a mapping",
		"queues: {a: {b: [}}":           "1:",
	} {
		_, wrong := setup(t, text)
		if assert.NotEmpty(t, wrong, text) {
			assert.Contains(t, wrong[0], want)
		}
	}
	_, err = ReadSetup(filepath.Join(t.TempDir(), "none.yaml"))
	assert.ErrorContains(t, err, "cannot be read")
}

// What is written once, and used in several places by its alias, or merged, is as if it stood there.
func TestAliases(t *testing.T) {
	got, wrong := setup(t, `
queues:
  berths: &slow
    max_running: 2
    rate: &few {per_second: 5}
  locks: *slow
  gates: {rate: *few, priority: 3}
  piers:
    <<: *slow
    max_running: 7
  docks: {<<: [*slow, {priority: 1, max_running: 9}], priority: 6}
  quays:
    <<: *slow
`)
	require.Empty(t, wrong)
	plain, wrong := setup(t, `
queues:
  berths: {max_running: 2, rate: {per_second: 5}}
  locks: {max_running: 2, rate: {per_second: 5}}
  gates: {rate: {per_second: 5}, priority: 3}
  piers: {max_running: 7, rate: {per_second: 5}}
  docks: {max_running: 2, rate: {per_second: 5}, priority: 6}
  quays: {max_running: 2, rate: {per_second: 5}}
`)
	require.Empty(t, wrong)
	assert.Equal(t, plain, got)
	for text, want := range map[string]string{
		"queues:\n  a: *none\n":                               "2:6: no anchor &none stands before *none",
		"queues:\n  a: &a {rate: *a}\n":                       "2:16: no anchor &a stands before *a",
		"queues:\n  a: &a [1]\n  b: {<<: *a}\n":               "3:7: << takes in mappings, by their aliases",
		"queues:\n  a: &a {ordr: ageing}\n  b: {<<: *a}\n":    `2:10: a has no setting "ordr"; the nearest is order`,
		"schedules: {t: {every: 1h, job: {payload: .nan}}}\n": "1:16: cannot be read",
	} {
		_, wrong := setup(t, text)
		if assert.NotEmpty(t, wrong, text) {
			assert.Contains(t, strings.Join(wrong, "\n"), want, text)
		}
	}
}

// What a service is started with comes from a flag, else a variable, else the file, else
// it is built in; where from is told.
func TestResolve(t *testing.T) {
	for _, s := range serviceSettings {
		t.Setenv(s.variable(), "")
	}
	path := filepath.Join(t.TempDir(), "hmule.yaml")
	file, err := ParseSetup(path, []byte(`
service:
  listen: 127.0.0.1:7001
  data: quay.db
  tokens: /etc/tokens.yaml
  max_payload: 256KiB
retention: {done: 12h, max_done: 1000}
triage:
  - {type: refused, matches: 'by (\w+)', becomes: refused by $1}
`))
	require.NoError(t, err)
	assert.Equal(t, job.Duration(12*3600e9), file.Retention.Done)
	assert.Equal(t, []api.TriageRule{{Type: "refused", Matches: `by (\w+)`, Becomes: "refused by $1"}}, file.Triage)
	t.Setenv("HMULE_DATA", "by-variable.db")
	t.Setenv("HMULE_LISTEN", "127.0.0.1:7002")
	s, err := Resolve(map[string]string{"listen": "127.0.0.1:7003"}, file)
	require.NoError(t, err)
	assert.Equal(t, []any{"127.0.0.1:7003", "by-variable.db", "/etc/tokens.yaml", "", 256 << 10}, []any{s.Listen, s.Data, s.Tokens, s.TLSCert, s.MaxPayload})
	var from []string
	for _, v := range s.Settings {
		from = append(from, v.Name+": "+v.From+" "+strings.Replace(v.Where, path, "FILE", 1))
	}
	assert.Equal(t, []string{"data: variable HMULE_DATA", "listen: flag --listen", "tokens: file FILE:5:11", "tls_cert: built_in ", "tls_key: built_in ", "max_payload: file FILE:6:16", "min_free: built_in ", "max_bodies: built_in ", "memory_limit: built_in ", "keep_older: built_in ", "log_requests: built_in ", "base_path: built_in ", "forwarders: built_in ", "open_hooks: built_in ", "metrics_listen: built_in "}, from)
	t.Setenv("HMULE_DATA", "")
	s, err = Resolve(nil, file)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(filepath.Dir(path), "quay.db"), s.Data, "a path in the file is seen from its folder")
	t.Setenv("HMULE_MAX_PAYLOAD", "much")
	_, err = Resolve(nil, file)
	require.ErrorContains(t, err, `HMULE_MAX_PAYLOAD: "much" is not a valid size`)

	_, wrong := setup(t, `service:
  listn: x
  data: [a]
  max_payload: 9MiB
retention: {done: 1s, deaf: 1d}
triage:
  - {matches: '(', becomes: x}
  - {matche: x}
`)
	for i, want := range []string{
		`2:3: the service has no setting "listn"; the nearest is listen`,
		`3:9: data is not a text`,
		`4:16: 9MiB is outside 1KiB to 8MiB`,
		`5:19: done 1s is shorter than 1m`,
		`5:23: retention has no setting "deaf"; the nearest is dead`,
		`7:15: matches is not a valid pattern`,
		`8:6: triage[1] has no setting "matche"; the nearest is matches`,
	} {
		if assert.Greater(t, len(wrong), i, want) {
			assert.Contains(t, wrong[i], want)
		}
	}
	_, wrong = setup(t, "triage: {matches: x}\n")
	assert.Contains(t, wrong[0], "triage is not a list of rules")
}
