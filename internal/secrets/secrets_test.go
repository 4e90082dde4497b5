package secrets

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A secret is given to those alone that it names, and what cannot be read is told, but not its text.
func TestVault(t *testing.T) {
	file := filepath.Join(t.TempDir(), "bank.key")
	require.NoError(t, os.WriteFile(file, []byte("salt marsh\r\n"), 0o600))
	t.Setenv("PILOTS", "north quay")
	t.Setenv("NOTHING", "")
	v := New(map[string]Secret{
		"pilots": {Env: "PILOTS", Hooks: []string{"arrivals"}},
		"bank":   {File: file, Tasks: []string{"dues.charge"}, Hosts: []string{"bank.example"}},
		"empty":  {Env: "NOTHING", Hooks: []string{"arrivals"}},
		"gone":   {File: file + ".not", Hooks: []string{"arrivals"}},
	})
	of := func(b []byte, err error) string {
		if err != nil {
			return "no: " + err.Error()
		}
		return string(b)
	}
	assert.Equal(t, "north quay", of(v.OfHook("pilots", "arrivals")))
	assert.Equal(t, "no: secret pilots is not for hook departures; name it among the hooks of the secret", of(v.OfHook("pilots", "departures")))
	assert.Equal(t, `no: "pilot" is not a secret of this service; the nearest is pilots`, of(v.OfHook("pilot", "arrivals")))
	assert.Equal(t, "salt marsh", of(v.OfCall("bank", "dues.charge", "BANK.example")))
	assert.Equal(t, "no: secret bank is not for host evil.example", of(v.OfCall("bank", "dues.charge", "evil.example")))
	assert.Equal(t, "no: secret bank is not for task buoy.poll; name it among the tasks of the secret", of(v.OfCall("bank", "buoy.poll", "bank.example")))
	assert.Error(t, v.ForHook("bank", "arrivals"))
	assert.NoError(t, v.ForTask("bank", "dues.charge"))
	assert.Equal(t, "no: secret empty cannot be read: the variable NOTHING is empty", of(v.OfHook("empty", "arrivals")))
	assert.NoError(t, v.ForHook("gone", "arrivals"), "whether it can be read is told apart")
	assert.Len(t, v.Unreadable(), 2)
	require.NoError(t, os.WriteFile(file, []byte(strings.Repeat("x", longest+1)), 0o600))
	v.Set(map[string]Secret{"bank": {File: file, Hooks: []string{"arrivals"}}})
	assert.Contains(t, of(v.OfHook("bank", "arrivals")), "is longer than")
	assert.Contains(t, of(v.OfHook("pilots", "arrivals")), "is not a secret", "what is no longer named is gone")
}

func TestCheck(t *testing.T) {
	for fields, s := range map[string]Secret{
		"env hooks":  {},
		"file hooks": {Env: "A", File: "b"},
		"hosts":      {Env: "A", Tasks: []string{"dues.charge"}},
		"hooks[0]":   {Env: "A", Hooks: []string{"No Name"}},
		"":           {Env: "A", Hooks: []string{"arrivals"}},
		"tasks[0]":   {Env: "A", Tasks: []string{"-"}, Hosts: []string{"bank.example"}},
	} {
		var wrong []string
		for _, w := range s.Check() {
			wrong = append(wrong, w.Field)
		}
		assert.Equal(t, fields, strings.Join(wrong, " "))
	}
}
