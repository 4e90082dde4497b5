package house

import (
	"encoding/json"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// storeys says what each room of the house may import of the house: imports
// point downward only.
var storeys = map[string][]string{
	"core/job":           {},
	"core/retry":         {"core/job"},
	"core/trend":         {"core/job"},
	"core/store":         {"core/job"},
	"core/store/faultfs": {},
	"core/store/visits":  {},
	"core/triage":        {"core/job"},
	"core/cron":          {"core/job"},
	"core/order":         {"core/job"},
	"core/limit":         {},
	"core/engine":        {"core/job", "core/retry", "core/trend", "core/order", "core/limit", "core/triage", "core/cron", "core/store"},
	"config":             {"core/job", "core/cron"},
	"client":             {"core/job"},
	"worker":             {"core/job"},
	"worker/shell":       {"core/job", "worker"},
	"worker/workertest":  {"core/job", "worker"},
	"console":            {},
	"harbour":            {"core/job", "worker"},
	"server":             {"core/job", "core/retry", "core/cron", "core/engine"},
	"cli/present":        {"core/job"},
	"cli":                {"cli/present", "client", "config", "console", "core/job", "core/engine", "harbour", "server", "worker", "worker/shell"},
	"cmd/hmule":          {"cli"},
	"e2e":                {"client", "core/job", "server", "worker"},
	"e2e/screenshots":    {"client", "core/job"},
	"bench":              {"client", "core/job", "core/store", "worker"},
}

// outside says which packages from elsewhere must not come into a room: the core
// knows no HTTP, no command line and no screen, and SQL lives in the store.
var outside = map[string][]string{
	"core/":       {"net/http", "net", "github.com/gin-gonic/gin", "github.com/spf13/cobra", "os/exec"},
	"core/job":    {"database/sql"},
	"core/engine": {"database/sql", "github.com/mattn/go-sqlite3"},
	"server":      {"database/sql"},
	"worker":      {"net/http", "database/sql"},
}

func TestHouse(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	require.NoError(t, err)
	const house = "humblemule/"
	for list := json.NewDecoder(strings.NewReader(string(out))); list.More(); {
		var room struct {
			ImportPath string
			Imports    []string
		}
		require.NoError(t, list.Decode(&room))
		name := strings.TrimPrefix(room.ImportPath, house)
		if name == "humblemule" {
			continue // this test
		}
		allowed, known := storeys[name]
		assert.True(t, known, "%s has no place in the house; give it one in storeys", name)
		for _, path := range room.Imports {
			if below, ours := strings.CutPrefix(path, house); ours {
				assert.Contains(t, allowed, below, "%s imports %s", name, below)
			}
			for where, never := range outside {
				if name == where || strings.HasSuffix(where, "/") && strings.HasPrefix(name, where) {
					assert.False(t, slices.Contains(never, path), "%s imports %s", name, path)
				}
			}
		}
	}
}
