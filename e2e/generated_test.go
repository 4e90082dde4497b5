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

// Clients that common generators make of openapi.yaml, as they come, enqueue, lease and
// settle a job with types.
func TestGeneratedClients(t *testing.T) {
	t.Parallel()
	s := serve(t)
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	api := filepath.Join(root, "internal/server/openapi.yaml")
	for name, of := range map[string]struct {
		dir   string
		steps [][]string
	}{
		"oapi-codegen": {"go", [][]string{
			{"go", "tool", "oapi-codegen", "-generate", "types,client", "-package", "main", "-o", "wire.gen.go", api},
			{"go", "run", ".", s.url},
		}},
		"openapi-typescript": {"typescript", [][]string{
			{"node", "node_modules/openapi-typescript/bin/cli.js", api, "-o", "schema.d.ts"},
			{"node", "node_modules/typescript/bin/tsc", "--strict", "--module", "nodenext", "--target", "es2022", "--types", "node", "client.ts"},
			{"node", "client.js", s.url},
		}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			require.NoError(t, os.CopyFS(dir, os.DirFS(filepath.Join("testdata/clients", of.dir))))
			require.NoError(t, os.Symlink(filepath.Join(root, "console/node_modules"), filepath.Join(dir, "node_modules")))
			var said, told bytes.Buffer // stdout of the last step, and what a step writes beside it
			for _, step := range of.steps {
				cmd := exec.Command(step[0], step[1:]...)
				cmd.Dir, cmd.Env = dir, append(os.Environ(), "CGO_ENABLED=0")
				said.Reset()
				told.Reset()
				cmd.Stdout, cmd.Stderr = &said, &told
				require.NoError(t, cmd.Run(), "%v: %s%s", step, &said, &told)
			}
			assert.Equal(t, "true 7 ok done priority\n", said.String())
		})
	}
}
