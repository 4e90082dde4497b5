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
	"job":                         {},
	"internal/core/retry":         {"job"},
	"internal/core/trend":         {"job"},
	"internal/core/store":         {"job"},
	"internal/core/store/faultfs": {},
	"internal/core/store/visits":  {},
	"internal/core/triage":        {"job"},
	"internal/core/cron":          {"job"},
	"internal/core/order":         {"job"},
	"internal/core/limit":         {},
	"internal/core/engine":        {"job", "internal/core/retry", "internal/core/trend", "internal/core/order", "internal/core/limit", "internal/core/triage", "internal/core/cron", "internal/core/store"},
	"config":                      {"job", "internal/core/cron"},
	"client":                      {"job"},
	"worker":                      {"job"},
	"worker/shell":                {"job", "worker"},
	"worker/workertest":           {"job", "worker"},
	"console":                     {},
	"harbour":                     {"job", "worker"},
	"server":                      {"job", "internal/core/retry", "internal/core/cron", "internal/core/engine"},
	"cli/present":                 {"job"},
	"cli":                         {"cli/present", "client", "config", "console", "job", "internal/core/engine", "harbour", "server", "worker", "worker/shell"},
	"cmd/hmule":                   {"cli"},
	"e2e":                         {"client", "job", "server", "worker"},
	"e2e/screenshots":             {"client", "job"},
	"bench":                       {"client", "job", "internal/core/store", "worker"},
}

// outside says which packages from elsewhere must not come into a room: the core
// knows no HTTP, no command line and no screen, and SQL lives in the store.
var outside = map[string][]string{
	"internal/core/":       {"net/http", "net", "github.com/gin-gonic/gin", "github.com/spf13/cobra", "os/exec"},
	"job":                  {"database/sql"},
	"internal/core/engine": {"database/sql", "github.com/mattn/go-sqlite3"},
	"server":               {"database/sql"},
	"worker":               {"net/http", "database/sql"},
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
