package config

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var roles = []string{"reader", "worker"}

// What is added to a file is read from it; every fault of a file is told at once,
// with its place, and no part of the file stands in what is told.
func TestTokens(t *testing.T) {
	path := filepath.Join(t.TempDir(), "tokens.yaml")
	hash, other, third := strings.Repeat("ab", 32), strings.Repeat("cd", 32), strings.Repeat("ef", 32)
	require.NoError(t, AddToken(path, Token{Name: "quay", Role: "worker", Hash: hash}, roles))
	require.NoError(t, AddToken(path, Token{Name: "ada@office", Role: "reader", Hash: other}, roles))
	all, err := ReadTokens(path, roles)
	require.NoError(t, err)
	assert.Equal(t, []Token{{Name: "quay", Role: "worker", Hash: hash}, {Name: "ada@office", Role: "reader", Hash: other}}, all)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	assert.ErrorContains(t, AddToken(path, Token{Name: "quay", Role: "reader", Hash: third}, roles), "has quay as worker; a name has one role")
	assert.ErrorContains(t, AddToken(path, Token{Name: "quay", Role: "worker", Hash: hash}, roles), "this sha256 appears twice")
	require.NoError(t, AddToken(path, Token{Name: "quay", Role: "worker", Hash: third}, roles), "a second token, while the first is changed")
	assert.ErrorContains(t, AddToken(path, Token{Name: "quay", Role: "worker", Hash: strings.Repeat("01", 32)}, roles), "has two tokens of quay already")
	assert.ErrorContains(t, AddToken(path, Token{Name: "a b", Role: "reader", Hash: hash}, roles), "is not a valid name of a token")

	write := func(text string) error {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		_, err := ReadTokens(path, roles)
		return err
	}
	err = write("tokens:\n  - name: quay\n    role: captain\n    sha256: 12ab\n  - name: quay\n    role: worker\n    sha256: " + hash + "\n  - role: reader\n")
	for _, want := range []string{`:3:11: "captain" is not a valid role; it is one of reader, worker`, ":4:13: sha256 is 64 hex", ":5:11: the name quay already has another role", ":8:11: token 3 lacks name"} {
		assert.ErrorContains(t, err, path+want)
	}
	err = write("tokens:\n  - name: quay\n    rolle: worker\n    sha256: " + hash + "\n")
	assert.ErrorContains(t, err, path+`:3:5: unknown field "rolle"`)
	assert.NotContains(t, err.Error(), hash)
	assert.ErrorContains(t, write("tokens: [\n"), path+":")
	assert.ErrorContains(t, write(""), "has no token")
	assert.ErrorContains(t, write("tokens:\n"), "has no token")
	_, err = ReadTokens(filepath.Join(t.TempDir(), "none.yaml"), roles)
	assert.ErrorContains(t, err, "cannot be read")
	assert.NotEqual(t, NewToken(), NewToken())
}
