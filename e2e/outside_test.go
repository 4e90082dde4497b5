package e2e

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A module of somebody else imports the packages by the two lines that the README tells,
// builds, and does its work; its handlers are tested without a service.
func TestOutside(t *testing.T) {
	t.Parallel()
	s := serve(t)
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/outside")))
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	tool := func(args ...string) string {
		cmd := exec.Command("go", args...)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "GOWORK=off", "GOFLAGS=-mod=mod", "CGO_ENABLED=0")
		var told bytes.Buffer
		cmd.Stderr = &told
		out, err := cmd.Output()
		require.NoError(t, err, "go %v: %s%s", args, out, &told)
		return string(out)
	}
	tool("mod", "edit", "-replace", "humblemule.example="+root)
	sums, err := os.ReadFile(filepath.Join(root, "go.sum")) // those of what the packages import
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.sum"), sums, 0o600))
	tool("build", "-o", "quay", ".")
	out, err := exec.Command(filepath.Join(dir, "quay"), s.url).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, "heron lies at berth 3\ngave_up no berth is named\nnot found\n", string(out))
	tool("test", ".")
	list := tool("list", "-deps", ".")
	assert.NotContains(t, list, "gin", "what a client imports brings no server along")
	assert.NotContains(t, list, "sqlite")
}
