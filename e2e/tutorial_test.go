package e2e

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The steps of the tutorial do what it says, in an empty folder. A command that is left
// running is ended when the next step but one begins, as the tutorial tells.
func TestTutorial(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/tutorial.md")
	require.NoError(t, err)
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	listen := freeAddress(t)
	home := t.TempDir()
	for old, now := range map[string]string{
		"/path/to/humblemule": root, "http://127.0.0.1:6853": "http://" + listen, "export PATH=$PWD/bin:$PATH ": "# ", "hmule serve ": "hmule serve --listen " + listen + " ",
	} {
		require.Contains(t, string(text), old)
		text = []byte(strings.ReplaceAll(string(text), old, now))
	}
	var script strings.Builder
	script.WriteString("set -eu\ntrap 'kill $(jobs -p) 2>/dev/null; wait' EXIT\nserver=; left=\n")
	for _, block := range regexp.MustCompile("(?s)```sh\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		for line := range strings.Lines(block[1]) {
			command, comment, _ := strings.Cut(line, "  # ")
			switch {
			case !strings.Contains(comment, "leave it running"):
				script.WriteString(line)
			case strings.HasPrefix(command, "hmule serve"):
				script.WriteString(command + " & server=$!\nfor i in $(seq 100); do hmule queue list >/dev/null 2>&1 && break; sleep 0.1; done\n")
			default:
				script.WriteString("if [ -n \"$left\" ]; then kill -TERM $left; wait $left || true; fi\n" + command + " & left=$!\n")
			}
		}
	}
	bin := t.TempDir()
	require.NoError(t, os.Symlink(hmule, filepath.Join(bin, "hmule")))
	sums, err := os.ReadFile(filepath.Join(root, "go.sum"))
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(home, "quay", "greeter"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(home, "quay", "greeter", "go.sum"), sums, 0o600))
	ctx, cancel := context.WithTimeout(t.Context(), 4*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "bash", "-c", strings.ReplaceAll(script.String(), "mkdir greeter", "mkdir -p greeter"))
	cache, err := exec.Command("go", "env", "GOMODCACHE", "GOCACHE").Output()
	require.NoError(t, err)
	modules, builds, _ := strings.Cut(strings.TrimSpace(string(cache)), "\n")
	cmd.Env = append(os.Environ(), "HOME="+home, "PATH="+bin+":"+os.Getenv("PATH"), "HMULE_SERVER=http://"+listen, "GOMODCACHE="+modules, "GOCACHE="+builds, "GOFLAGS=-mod=mod", "CGO_ENABLED=0")
	cmd.WaitDelay = 10 * time.Second
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	for _, want := range []string{"No worker serves queue common", `"Hello, Grace"`, `"Hello, Ada"`, "greeting Ada", `Hello, Grace`, `"Hello, Edsger"`, "the payload is not valid JSON", "no berth is free", "Job 4 is ○ ready, round 2.", `"berth 3"`} {
		assert.Contains(t, string(out), want, string(out))
	}
}
