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

// core says what each room of the core may import of the core and of the vocabulary, from
// the ground up: rules without state; the file; what is kept beside it; questions, which
// never wait for the committer; the committer; what all changes of a job go through; the
// rooms that give commands; and the engine, which puts them together.
var core = map[string]string{
	"retry":         "job",
	"trend":         "job",
	"triage":        "job",
	"cron":          "job",
	"order":         "job",
	"limit":         "",
	"store":         "job",
	"store/faultfs": "",
	"store/visits":  "",
	"memory":        "job cron limit order trend triage store",
	"read":          "job order trend store memory",
	"commit":        "job store memory",
	"watch":         "job read commit",
	"place":         "job order store memory commit",
	"upkeep":        "job store memory commit place",
	"command":       "job retry triage store memory read commit place",
	"deal":          "job store memory read commit watch place command",
	"plan":          "job cron store memory read commit place command",
	"bulk":          "job store memory read commit watch command",
	"setup":         "job memory read commit upkeep command plan bulk",
	"engine":        "job store memory read commit watch upkeep command deal plan bulk setup",
}

// house says it of the rooms beside the core; of that they may import what stands before
// their own.
var house = map[string]string{
	"job":               "",
	"config":            "job core/cron",
	"client":            "job",
	"worker":            "job",
	"worker/shell":      "job worker",
	"worker/workertest": "job worker",
	"console":           "",
	"harbour":           "job worker",
	"server":            "job core/retry core/cron core/engine",
	"cli/present":       "job",
	"cli":               "job core/engine config client worker worker/shell console harbour server cli/present",
	"cmd/hmule":         "cli",
	"e2e":               "job client worker server",
	"e2e/screenshots":   "job client",
	"bench":             "job core/store client worker",
}

// storeys gives what each room may import, by their whole paths.
func storeys() map[string][]string {
	all := map[string][]string{}
	for room, may := range house {
		all[room] = strings.Fields(strings.ReplaceAll(may, "core/", "internal/core/"))
	}
	for room, may := range core {
		var below []string
		for _, name := range strings.Fields(may) {
			if name != "job" {
				name = "internal/core/" + name
			}
			below = append(below, name)
		}
		all["internal/core/"+room] = below
	}
	return all
}

// outside says which packages from elsewhere must not come into a room: the core
// knows no HTTP, no command line and no screen, and SQL lives in the store.
var outside = map[string][]string{
	"internal/core/": {"net/http", "net", "github.com/gin-gonic/gin", "github.com/spf13/cobra", "os/exec"},
	"job":            {"database/sql"},
	"server":         {"database/sql"},
	"worker":         {"net/http", "database/sql"},
}

func TestHouse(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	require.NoError(t, err)
	const module = "humblemule/"
	storeys := storeys()
	for list := json.NewDecoder(strings.NewReader(string(out))); list.More(); {
		var room struct {
			ImportPath string
			Imports    []string
		}
		require.NoError(t, list.Decode(&room))
		name := strings.TrimPrefix(room.ImportPath, module)
		if name == "humblemule" {
			continue // this test
		}
		allowed, known := storeys[name]
		assert.True(t, known, "%s has no place in the house; give it one in storeys", name)
		for _, path := range room.Imports {
			if below, ours := strings.CutPrefix(path, module); ours {
				assert.Contains(t, allowed, below, "%s imports %s", name, below)
			}
			if strings.HasPrefix(name, "internal/core/") && !strings.HasPrefix(name, "internal/core/store") {
				assert.NotContains(t, []string{"database/sql", "github.com/mattn/go-sqlite3"}, path, "%s imports %s", name, path)
			}
			for where, never := range outside {
				if name == where || strings.HasSuffix(where, "/") && strings.HasPrefix(name, where) {
					assert.False(t, slices.Contains(never, path), "%s imports %s", name, path)
				}
			}
		}
	}
}
